// Package fastboot speaks the fastboot protocol with a bootloader, as
// published in the platform's system/core/fastboot/README.md.
package fastboot

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/spell"
	"jarlid/internal/link"
)

const (
	// MaxCommand is the longest command, MaxResponse the longest answer, in
	// bytes.
	MaxCommand  = 4096
	MaxResponse = 256

	// maxLines is how many INFO and TEXT packets one answer may have. The
	// longest variable lists have some hundreds.
	maxLines = 20000

	// dataChunk is how much of a download is sent as one packet, in bytes.
	dataChunk = 1 << 20
)

// Limits on how long a phone may be silent. Writing and erasing are silent
// for minutes on real phones.
const (
	LimitQuick = 10 * time.Second
	LimitData  = 60 * time.Second
	LimitWrite = 10 * time.Minute
)

// Answer is what a phone said to a command it accepted.
type Answer struct {
	Text  string   // what stood behind OKAY
	Lines []string // INFO packets, one each, and TEXT joined to lines
}

// Client speaks with one phone. It is not for concurrent use.
type Client struct {
	t    Transport
	text strings.Builder
	// Info is called for every INFO line while a command runs; may be nil.
	Info func(line string)
	dead error
}

// New makes a client over an open transport.
func New(t Transport) *Client { return &Client{t: t} }

// Close closes the transport.
func (c *Client) Close() error { return c.t.Close() }

// Command sends a command and waits for its end. quiet is how long the phone
// may say nothing; every INFO starts it again. Errors: *link.RefusedError when
// the phone said FAIL, *link.ProtocolError, *link.LostError.
func (c *Client) Command(ctx context.Context, cmd string, quiet time.Duration) (Answer, error) {
	a, size, err := c.run(ctx, cmd, quiet, false)
	if err == nil && size >= 0 {
		err = c.broken("offered data where none was asked for")
	}
	return a, err
}

func (c *Client) broken(format string, args ...any) error {
	c.dead = &link.ProtocolError{Protocol: "fastboot", What: fmt.Sprintf(format, args...)}
	return c.dead
}

func (c *Client) lost(during string, err error) error {
	c.dead = link.Lost(during, err)
	return c.dead
}

// run sends cmd and reads until OKAY, FAIL or DATA; size is -1 without DATA.
func (c *Client) run(ctx context.Context, cmd string, quiet time.Duration, data bool) (Answer, int64, error) {
	if c.dead != nil {
		return Answer{}, -1, c.dead
	}
	if len(cmd) > MaxCommand {
		return Answer{}, -1, fmt.Errorf("the command %.40q... is longer than the protocol's %d bytes", cmd,
			MaxCommand)
	}
	wctx, cancel := context.WithTimeout(ctx, LimitData)
	err := c.t.WritePacket(wctx, []byte(cmd))
	cancel()
	if err != nil {
		return Answer{}, -1, c.lost(cmd, err)
	}
	return c.answer(ctx, cmd, quiet, data)
}

func (c *Client) answer(ctx context.Context, cmd string, quiet time.Duration, data bool) (Answer,
	int64, error) {
	var a Answer
	c.text.Reset()
	buf := make([]byte, MaxResponse)
	for lines := 0; ; lines++ {
		if lines > maxLines {
			return a, -1, c.broken("sent more than %d lines in answer to %q", maxLines, cmd)
		}
		rctx, cancel := context.WithTimeout(ctx, quiet)
		n, err := c.t.ReadPacket(rctx, buf)
		cancel()
		if err != nil {
			return a, -1, c.lost(cmd, err)
		}
		if n < 4 {
			return a, -1, c.broken("answered %q with %q, which is none of the protocol's words", cmd, buf[:n])
		}
		// Some end their texts as C does.
		word, rest := string(buf[:4]), strings.TrimRight(string(buf[4:n]), "\x00")
		switch word {
		case "INFO":
			a.Lines = append(a.Lines, rest)
			if c.Info != nil {
				c.Info(rest)
			}
		case "TEXT":
			// Pieces of running text; a line may come in many.
			if c.text.Len() < 1<<20 {
				c.text.WriteString(rest)
			}
		case "OKAY", "FAIL":
			if s := strings.TrimRight(c.text.String(), "\n"); s != "" {
				a.Lines = append(a.Lines, strings.Split(s, "\n")...)
			}
			a.Text = rest
			if word == "FAIL" {
				return a, -1, &link.RefusedError{Command: cmd, Message: strings.TrimSpace(a.Text)}
			}
			return a, -1, nil
		case "DATA":
			size, err := strconv.ParseUint(rest, 16, 32)
			if err != nil || len(rest) < 8 {
				return a, -1, c.broken("announced %q bytes of data", rest)
			}
			if !data {
				return a, -1, c.broken("asked for data where none was offered (%q)", cmd)
			}
			return a, int64(size), nil
		default:
			return a, -1, c.broken("answered %q with %q, which is none of the protocol's words", cmd, buf[:n])
		}
	}
}

// GetVar asks for a variable. A phone that does not know it refuses or gives
// an empty text; ok is false for both.
func (c *Client) GetVar(ctx context.Context, name string) (value string, ok bool, err error) {
	value, _, err = c.Ask(ctx, name)
	return value, value != "", err
}

// Ask asks for a variable; unknown says that the phone refuses it as one it does not know, and not only now.
func (c *Client) Ask(ctx context.Context, name string) (value string, unknown bool, err error) {
	a, err := c.Command(ctx, "getvar:"+name, LimitQuick)
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		return "", strings.Contains(strings.ToLower(refused.Message), "unknown"), nil
	}
	if err != nil {
		return "", false, err
	}
	v := strings.TrimSpace(a.Text)
	if noValue(v) {
		v = ""
	}
	return v, false, nil
}

// Download sends size bytes of r to the phone's memory, where the next
// command finds them. sent is called with the bytes sent so far; may be nil.
func (c *Client) Download(ctx context.Context, size int64, r io.Reader, sent func(int64)) error {
	if size <= 0 || size > 1<<32-1 {
		return fmt.Errorf("%d bytes cannot be sent as one download", size)
	}
	cmd := fmt.Sprintf("download:%08x", size)
	_, room, err := c.run(ctx, cmd, LimitWrite, true)
	if err != nil {
		return err
	}
	if room < 0 {
		return c.broken("took %q without waiting for the data", cmd)
	}
	if room != size {
		return c.broken("is ready for %s of data, %d were announced", spell.Counted(room, "byte"), size)
	}
	chunk := int64(dataChunk)
	if _, ok := c.t.(*USB); ok {
		chunk = usbChunk
	}
	buf := make([]byte, min(chunk, size))
	for done := int64(0); done < size; {
		p := buf[:min(int64(len(buf)), size-done)]
		if _, err := io.ReadFull(r, p); err != nil {
			// The phone now waits for bytes that never come; this connection
			// can't be used any more.
			c.abandon(ctx, size-done)
			c.dead = fmt.Errorf("the file could not be read while it was sent: %w", err)
			return c.dead
		}
		wctx, cancel := context.WithTimeout(ctx, LimitData)
		err := c.t.WritePacket(wctx, p)
		cancel()
		if err != nil {
			return c.lost("the transfer", err)
		}
		done += int64(len(p))
		if sent != nil {
			sent(done)
		}
	}
	_, size, err = c.answer(ctx, cmd, LimitWrite, false)
	if err == nil && size >= 0 {
		err = c.broken("asked for the data twice")
	}
	return err
}

// Flash writes what was downloaded to a partition; the answer is the phone's
// word.
func (c *Client) Flash(ctx context.Context, partition string) (Answer, error) {
	return c.Command(ctx, "flash:"+partition, LimitWrite)
}

// Erase erases a partition.
func (c *Client) Erase(ctx context.Context, partition string) (Answer, error) {
	return c.Command(ctx, "erase:"+partition, LimitWrite)
}

// SetActive chooses the slot that starts next.
func (c *Client) SetActive(ctx context.Context, slot string) (Answer, error) {
	a, err := c.Command(ctx, "set_active:"+slot, LimitWrite)
	var refused *link.RefusedError
	if errors.As(err, &refused) && !strings.HasPrefix(slot, "_") {
		// The first bootloaders with slots know them by their suffixes.
		if again, aerr := c.Command(ctx, "set_active:_"+slot, LimitWrite); !errors.As(aerr, &refused) {
			return again, aerr
		}
	}
	return a, err
}

// Boot starts what was downloaded without writing it. A phone that goes away
// before it answers has taken the command.
func (c *Client) Boot(ctx context.Context) (Answer, error) {
	a, err := c.Command(ctx, "boot", LimitWrite)
	var left *link.LeftError
	if errors.As(link.Left(err), &left) {
		return a, nil
	}
	return a, err
}

// maxFetch bounds what a phone may give out at once, in bytes.
const maxFetch = 1 << 30

// Fetch reads n bytes from off on of a partition of whole bytes, from a phone
// whose userspace fastboot gives it out ("fetch" in the README), writing them to w. A phone
// that announces another number is against the rules.
func (c *Client) Fetch(ctx context.Context, partition string, off, n, whole int64, w io.Writer) (
	int64, error) {
	cmd := "fetch:" + partition
	if n < whole {
		cmd += fmt.Sprintf(":0x%08x:0x%08x", off, n)
	}
	_, size, err := c.run(ctx, cmd, LimitWrite, true)
	if err != nil {
		return 0, err
	}
	if size < 0 {
		return 0, c.broken("answered %q without data", cmd)
	}
	if size != n || n > maxFetch {
		return 0, c.broken("announced %d bytes of %s where %d were asked for", size, partition, n)
	}
	buf := make([]byte, 4*dataChunk) // phones choose how they cut it
	for done := int64(0); done < size; {
		rctx, cancel := context.WithTimeout(ctx, LimitData)
		n, err := c.t.ReadData(rctx, buf[:min(int64(len(buf)), size-done)])
		cancel()
		if err != nil {
			return done, c.lost("the transfer", err)
		}
		if done += int64(n); done > size {
			return done, c.broken("sent more than the %d bytes it announced", size)
		}
		if _, err := w.Write(buf[:n]); err != nil {
			c.dead = err
			c.t.Close()
			return done, err
		}
	}
	_, again, err := c.answer(ctx, cmd, LimitWrite, false)
	if err == nil && again >= 0 {
		err = c.broken("offered the data twice")
	}
	return size, err
}

// withArgument are the variables whose names have a part behind a colon.
var withArgument = []string{"partition-size", "partition-type", "has-slot", "is-logical", "slot-successful",
	"slot-unbootable", "slot-retry-count",
	"slot-suffix", "slot-priority", "logical-block-size", "partition-offset"}

// noValue reports whether a value is a way of saying that there is none.
func noValue(value string) bool { return strings.EqualFold(value, "unknown") }

// Variables asks for all variables a phone lists. One that lists none gives an
// empty map.
func (c *Client) Variables(ctx context.Context) (map[string]string, error) {
	a, err := c.Command(ctx, "getvar:all", LimitQuick)
	var refused *link.RefusedError
	if err != nil && !errors.As(err, &refused) {
		return nil, err
	}
	vars := map[string]string{}
	for _, line := range a.Lines {
		name, value, ok := strings.Cut(strings.TrimSpace(line), ":")
		name = strings.ToLower(name) // the protocol's names are; bootloaders write them in any case
		if slices.Contains(withArgument, name) {
			arg, v, both := strings.Cut(value, ":")
			name, value, ok = name+":"+strings.TrimSpace(arg), v, both
		}
		if value = strings.TrimSpace(value); ok && name != "" && !noValue(value) {
			vars[name] = value
		}
	}
	return vars, nil
}

// Reboot restarts the phone: target "" is the system, others are "bootloader",
// "recovery", "fastboot". Errors: *link.LeftError of a phone that goes away before it answers, as some do
// that take the command.
func (c *Client) Reboot(ctx context.Context, target string) error {
	cmd := "reboot"
	if target != "" {
		cmd += "-" + target
	}
	_, err := c.Command(ctx, cmd, LimitQuick)
	return link.Left(err)
}

// Gone waits until the connection has ended, as it does when the phone
// restarts; no command may follow.
func (c *Client) Gone(ctx context.Context) {
	buf := make([]byte, MaxResponse)
	for {
		if _, err := c.t.ReadPacket(ctx, buf); err != nil {
			return
		}
	}
}
