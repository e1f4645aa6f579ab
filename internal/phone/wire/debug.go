package wire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// debug is a wire that speaks ADB. In sideload mode it takes packages; in the others
// it has a shell and gives out files.
type debug struct {
	c    *adb.Conn
	at   Address
	mode card.Mode
}

// menu is a debug wire in the modes with a shell.
type menu struct{ debug }

// sideload is one in sideload mode.
type sideload struct{ debug }

func openADB(ctx context.Context, p *Phone, a Address, offered func()) (Conn, error) {
	key, err := p.Key()
	if err != nil {
		return nil, err
	}
	conn, err := p.dial(ctx, "tcp", a.Place)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	c, err := adb.Connect(ctx, conn, adb.Options{Key: key, Offer: offered != nil, Offered: offered})
	if err != nil {
		conn.Close()
		return nil, err
	}
	return newDebug(c, a, key)
}

func newDebug(c *adb.Conn, a Address, key *adb.Key) (Conn, error) {
	d := debug{c: c, at: a}
	switch c.Peer.Kind {
	case "device":
		d.mode = card.System
	case "recovery":
		d.mode = card.Recovery
	case "sideload":
		d.mode = card.Sideload
		return &sideload{d}, nil
	case "rescue":
		c.Close()
		return nil, finding.Stopped(finding.NotInThisMode, "",
			"the phone is in its recovery's rescue mode, which takes the maker's own packages only",
			"go back to the recovery's menu on the phone, or bring it into another mode by its keys")
	case "unauthorized":
		c.Close()
		return nil, &adb.NotAuthorisedError{Fingerprint: key.Fingerprint()}
	default:
		c.Close()
		return nil, &link.ProtocolError{Protocol: "ADB",
			What: fmt.Sprintf("says it is in a mode %q, which Jar Lid does not know", c.Peer.Kind)}
	}
	return &menu{d}, nil
}

func (d *debug) Mode() card.Mode  { return d.mode }
func (d *debug) Address() Address { return d.at }
func (d *debug) Close() error     { return d.c.Close() }

// Greeting gives the properties of the greeting.
func (d *debug) Greeting() map[string]string { return d.c.Peer.Props }

func (d *debug) Restart(ctx context.Context, to card.Mode) error {
	if to.Def().ByKeys {
		return &link.RefusedError{Command: "restart", Message: "its keys lead into a maker's loader"}
	}
	return d.c.Reboot(ctx, restartTargets[to])
}

// vanishLimit is how long a phone may stay after it took a restart.
const vanishLimit = 20 * time.Second

func (d *debug) Gone(ctx context.Context) { d.ended(ctx, vanishLimit) }

// ended waits for the end of the connection.
func (d *debug) ended(ctx context.Context, limit time.Duration) {
	t := time.NewTimer(limit)
	defer t.Stop()
	select {
	case <-d.c.Done():
	case <-t.C:
	case <-ctx.Done():
	}
}

func (m *menu) Shell(ctx context.Context, line string, quiet time.Duration) (adb.Output, error) {
	return m.c.Shell(ctx, line, quiet)
}

func (m *menu) SplitsStreams() bool { return m.c.SplitsStreams() }

func (m *menu) Sync(ctx context.Context) (*adb.Sync, error) { return m.c.Sync(ctx) }

// TellsErrors says that the file service tells why it gives nothing; older ones don't.
func (m *menu) TellsErrors() bool { return m.c.Peer.Has("stat_v2") }

// closeLimit is how long a sideload session may stay open when all was said.
const closeLimit = 5 * time.Second

// Gone waits for the end of the session.
func (d *sideload) Gone(ctx context.Context) { d.ended(ctx, closeLimit) }

func (d *sideload) Sideload(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
	served func(off, n int64)) (adb.Closing, error) {
	return d.c.Sideload(ctx, r, size, quiet, served)
}

func (d *sideload) SideloadWhole(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
	sent func(off, n int64)) error {
	return d.c.SideloadWhole(ctx, r, size, quiet, sent)
}

// NotAuthorised tells of a phone that does not know this computer's key; nil of
// other errors.
func NotAuthorised(err error) *adb.NotAuthorisedError {
	var denied *adb.NotAuthorisedError
	if errors.As(err, &denied) {
		return denied
	}
	return nil
}
