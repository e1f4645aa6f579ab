package bench

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/spell"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
)

// host is what this computer gives a session.
func (b *Bench) host() *wire.Host {
	return &wire.Host{Home: b.Home, Models: b.Models, Dial: b.dial, Key: b.Key, Lock: b.lock,
		Holder: b.holder,
		Cable:  b.cable, Ports: b.ports, Known: b.known, Common: b.common, Other: b.other, SameAs: b.sameAs}
}

// Phones gives every listed phone, and those on a cable that nobody listed.
func (b *Bench) Phones() ([]*phone.Phone, error) {
	entries, err := b.Entries()
	if err != nil {
		return nil, err
	}
	var list []*phone.Phone
	for _, e := range entries {
		p := b.phone(e)
		p.Listed = true
		list = append(list, p)
	}
	return b.unlisted(list), nil
}

func (b *Bench) phone(e Entry) *phone.Phone {
	var at []wire.Address
	for _, s := range e.At {
		if a, err := wire.ParseAddress(s); err == nil {
			at = append(at, a)
		}
	}
	return phone.New(b.host(), e.Name, e.Serial, b.Models.Find(e.Model), at...)
}

// Look asks every listed phone, at the same time, whether it is here; absent
// are the names of those that do not answer. A phone another jarlid works on is
// here, and was not asked; one that answered and could not be read is here too.
func (b *Bench) Look(ctx context.Context) (here []phone.Seen, absent []string, err error) {
	list, err := b.Phones()
	if err != nil {
		return nil, nil, err
	}
	seen := make([]*phone.Seen, len(list))
	var wg sync.WaitGroup
	for i, p := range list {
		wg.Go(func() {
			s, err := p.Look(ctx)
			var away *wire.NotHereError
			if err != nil && !errors.As(err, &away) { // something was there
				s = &phone.Seen{Phone: p, Card: &card.Card{}, Failed: err}
			}
			seen[i] = s
		})
	}
	wg.Wait()
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	for i, s := range seen {
		if s == nil {
			absent = append(absent, list[i].Name)
		} else {
			here = append(here, *s)
		}
	}
	return here, absent, nil
}

// Pick gives the phone that is meant: by name, serial number or address, or the only one
// here, which is asked. Errors: *phone.NotHereError, *phone.AddressError, or the finding
// several-phones.
func (b *Bench) Pick(ctx context.Context, on string) (*phone.Phone, error) {
	if on != "" {
		list, err := b.Meant(on)
		if err != nil {
			return nil, err
		}
		if len(list) > 1 {
			return nil, several(list)
		}
		return list[0], nil
	}
	here, absent, err := b.Look(ctx)
	for n := 0; n < wire.MoreLooks && err == nil && len(here) == 0 && len(absent) > 0 &&
		wire.Pause(ctx, wire.SecondLook) == nil; n++ {
		here, absent, err = b.Look(ctx)
	}
	if err != nil {
		return nil, err
	}
	switch len(here) {
	case 1:
		return here[0].Phone, nil
	case 0:
		text := "no phone is here"
		if len(absent) > 0 {
			text = "none of the listed phones answers: " + strings.Join(absent, ", ")
		}
		return nil, &wire.NotHereError{Text: text}
	}
	found := make([]*phone.Phone, len(here))
	for i := range here {
		found[i] = here[i].Phone
	}
	return nil, several(found)
}

// Meant gives the phones that --on may mean without asking them: the one at the
// addresses, those of that name or else of that serial number, without a word all that
// are listed.
func (b *Bench) Meant(on string) ([]*phone.Phone, error) {
	if wire.IsAddress(on) {
		p, err := b.byAddress(on)
		return []*phone.Phone{p}, err
	}
	list, err := b.Phones()
	if err != nil || on == "" {
		return list, err
	}
	for _, match := range []func(*phone.Phone) bool{
		func(p *phone.Phone) bool { return p.Name == on },
		func(p *phone.Phone) bool {
			return p.Serial == on || p.Serial != "" && slices.Contains(b.known(p.Serial), on)
		},
	} {
		if found := slices.DeleteFunc(slices.Clone(list), func(p *phone.Phone) bool {
			return !match(p)
		}); len(found) > 0 {
			return found, nil
		}
	}
	b.metMu.Lock()
	p := b.met[on]
	b.metMu.Unlock()
	if p != nil { // it is off its cable just now
		return []*phone.Phone{p}, nil
	}
	return nil, &wire.NotHereError{Name: on,
		Text: fmt.Sprintf("no phone on the bench is called %q or has that serial number; the bench has: %s%s",
			on, orNothing(names(list)), spell.DidYouMean(on, names(list)))}
}

// Unseen gives the one phone that may be meant without asking it, so that a person can
// bring it into a mode by hand; nil when it can't be told which is meant.
func (b *Bench) Unseen(on string) (*phone.Phone, error) {
	list, err := b.Meant(on)
	if err != nil || len(list) != 1 {
		return nil, err
	}
	return list[0], nil
}

func names(list []*phone.Phone) []string {
	var out []string
	for _, p := range list {
		out = append(out, p.Name)
	}
	return out
}

func orNothing(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

func several(list []*phone.Phone) error {
	return finding.Stopped(finding.SeveralPhones, "", "several phones are here: "+
		strings.Join(names(list), ", "), "name one with --on")
}

// byAddress takes addresses from the command line, separated by commas. A
// listed phone with one of them is that phone.
func (b *Bench) byAddress(on string) (*phone.Phone, error) {
	var at []wire.Address
	for s := range strings.SplitSeq(on, ",") {
		a, err := wire.ParseAddress(strings.TrimSpace(s))
		if err != nil {
			return nil, err
		}
		at = append(at, b.socketOf(a))
	}
	list, err := b.Phones()
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		if slices.ContainsFunc(p.At, func(a wire.Address) bool { return slices.Contains(at, a) }) {
			return p, nil
		}
	}
	if p := b.inSocket(list, at); p != nil {
		return p, nil
	}
	name := strings.NewReplacer(":", "-", "[", "", "]", "").Replace(at[len(at)-1].Place)
	return phone.New(b.host(), name, "", nil, at...), nil
}

// Known gives a phone by a name and a model, for a saved card: it is nowhere.
func (b *Bench) Known(name, model string) *phone.Phone {
	return phone.New(b.host(), name, "", b.Models.Find(model))
}
