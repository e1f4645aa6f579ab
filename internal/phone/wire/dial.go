package wire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
)

const (
	// ConnectLimit is how long a phone may take to be reached, and answerLimit how long until its
	// first answers have come, in a look at the bench: some bootloaders think for five seconds.
	ConnectLimit = 4 * time.Second
	answerLimit  = 12 * time.Second
	// helloLimit is that of a manufacturer's loader: its hello is sent four times, three seconds apart.
	helloLimit = 15 * time.Second
	// cableLimit is that of a cable: rights come late, and a phone that an earlier program left
	// in the middle of a message is brought round in three tries of five seconds.
	cableLimit = 35 * time.Second
	PollEvery  = 150 * time.Millisecond
)

// Open connects to the phone in whatever mode it is in. offered, when not nil,
// shows this computer's key to a phone that does not know it, is called then, and
// the owner's answer is awaited until ctx ends.
// Errors: *NotHereError, *adb.NotAuthorisedError, *link.ProtocolError.
func (p *Phone) Open(ctx context.Context, offered func()) (Conn, error) {
	at := p.Addresses()
	if err := p.Twice(at); err != nil {
		return nil, err
	}
	if offered == nil {
		limit := ConnectLimit
		for _, a := range at {
			if s, ok := SchemeOf(a.Scheme); ok {
				limit = max(limit, s.Limit)
			}
		}
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, limit)
		defer cancel()
	}
	type result struct {
		w   Conn
		err error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	results := make(chan result, len(at))
	for _, a := range at {
		go func() {
			w, err := p.ConnectTo(ctx, a, offered)
			results <- result{w, err}
		}()
	}
	var last error
	for left := len(at) - 1; left >= 0; left-- {
		r := <-results
		if r.err == nil {
			// Another address that answers too belongs to another mode of the same
			// phone and cannot: let it go.
			go func() {
				for range left {
					if o := <-results; o.w != nil {
						o.w.Close()
					}
				}
			}()
			return r.w, nil
		}
		if last == nil || tells(r.err) {
			last = r.err
		}
	}
	var lost *link.LostError
	var swallowed *fastboot.SwallowedError
	if errors.As(last, &lost) && !errors.As(last, &swallowed) || last == nil {
		return nil, &NotHereError{Name: p.Name, Text: fmt.Sprintf("%s does not answer at %s", p.Name,
			AddressWords(at))}
	}
	return nil, last
}

// twice: two devices that could be the phone are never chosen from.
func (p *Phone) Twice(at []Address) *finding.StopError {
	var ports []string
	for _, a := range at {
		if a.Scheme == CableScheme {
			ports = append(ports, a.String())
		}
	}
	if len(ports) < 2 {
		return nil
	}
	return finding.Stopped(finding.SeveralPhones, p.Name, fmt.Sprintf("%s could be any of these: %s", p.Name,
		strings.Join(ports, ", ")),
		"name the one that is meant by its socket, such as --on "+ports[0])
}

// tells reports whether an error says more than that nothing answers.
func tells(err error) bool {
	var rule *link.ProtocolError
	var stop *finding.StopError
	var swallowed *fastboot.SwallowedError
	return NotAuthorised(err) != nil || errors.As(err, &rule) || errors.As(err, &stop) ||
		errors.As(err, &swallowed)
}

// dial reaches an address; a way that leads nowhere is given up before an answer would be.
func (p *Phone) dial(ctx context.Context, network, place string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, ConnectLimit)
	defer cancel()
	return p.Dial.DialContext(ctx, network, place)
}

// AddressWords names the places that were tried, for a person.
func AddressWords(at []Address) string {
	var list []string
	for _, a := range at {
		list = append(list, a.String())
	}
	if len(list) == 0 {
		return "any address"
	}
	return strings.Join(list, " and ")
}

// ConnectTo connects to one address; offered is as in Open.
func (p *Phone) ConnectTo(ctx context.Context, a Address, offered func()) (Conn, error) {
	s, ok := SchemeOf(a.Scheme)
	if !ok {
		return nil, &AddressError{a.String(), AddressForms()}
	}
	return s.open(ctx, p, a, offered)
}

// A phone that dropped the connection is looked for again before it is said that it does not
// answer, so many times and that far apart: one whose cable fell out is listed again after a second
// or two.
const (
	MoreLooks  = 2
	SecondLook = time.Second
)

// Pause waits, or until ctx ends, and gives ctx's error then.
func Pause(ctx context.Context, d time.Duration) error { return PauseOr(ctx, d, nil) }

// PauseOr is a Pause that ends when something is told, too.
func PauseOr(ctx context.Context, d time.Duration, told <-chan struct{}) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-told:
		return nil
	case <-t.C:
		return nil
	}
}
