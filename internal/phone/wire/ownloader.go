package wire

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/link"
	"jarlid/internal/link/loader"
	"jarlid/internal/link/usb"
)

// ownLoader is a wire that speaks the open loader protocol, to a manufacturer's own loader or a bridge.
type ownLoader struct {
	c     *loader.Client
	at    Address
	table []parttable.Partition // once it was read
}

// openLoader connects over the network.
func openLoader(ctx context.Context, p *Phone, a Address, _ func()) (Conn, error) {
	conn, err := p.dial(ctx, "tcp", a.Place)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	return newOwnLoader(ctx, conn, a)
}

func newOwnLoader(ctx context.Context, s loader.Stream, a Address) (Conn, error) {
	c, err := loader.Connect(ctx, s, "jarlid")
	if err != nil {
		s.Close()
		if errors.Is(err, link.ErrSilent) && (a.Scheme == serialScheme || a.Scheme == CableScheme) {
			return nil, finding.Stopped(finding.LineSilent, a.String(), "the line "+a.String()+
				" is there, and nothing answers on it",
				"look at the phone's screen: its loader has to be shown there, and confirmed; then pull "+
					"the cable and put it back")
		}
		return nil, err
	}
	return &ownLoader{c: c, at: a}, nil
}

func (l *ownLoader) Mode() card.Mode  { return card.Loader }
func (l *ownLoader) Address() Address { return l.at }
func (l *ownLoader) Close() error     { return l.c.Close() }

// Hello gives what the loader said of the phone at first.
func (l *ownLoader) Hello() map[string]string { return l.c.Told }

// Told asks for the rest.
func (l *ownLoader) Told(ctx context.Context) (map[string]string, error) { return l.c.Facts(ctx) }

// line finds a partition in the table, by name or number.
func (l *ownLoader) line(partition string) (parttable.Partition, error) {
	for _, p := range l.table {
		if p.Name == partition || strconv.Itoa(p.Number) == partition {
			return p, nil
		}
	}
	return parttable.Partition{}, fmt.Errorf("%s: %w", partition, ErrNoPartition)
}

// Restart leaves the loader. Into the recovery no loader goes by itself: keys do.
func (l *ownLoader) Restart(ctx context.Context, to card.Mode) error {
	switch to {
	case card.System:
		return link.Left(l.c.Leave(ctx, "system"))
	case card.Loader:
		return link.Left(l.c.Leave(ctx, "loader"))
	}
	return &link.RefusedError{Command: "leave", Message: "a loader brings the phone into its system or " +
		"switches it off; into the recovery lead its keys"}
}

// Gone: the line ends when the phone leaves its loader.
func (l *ownLoader) Gone(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, hangUpLimit)
	defer cancel()
	for ctx.Err() == nil {
		if l.c.Ping(ctx) != nil {
			return
		}
		if Pause(ctx, PollEvery) != nil {
			return
		}
	}
}

// Write writes an image, from where an attempt that was interrupted got to.
func (l *ownLoader) Write(ctx context.Context, partition string, r io.ReaderAt, size, _ int64,
	moved func(int64)) ([]string, error) {
	var said []string
	l.c.Progress = func(_ int, text string) { said = append(said, usb.Text(text)) }
	defer func() { l.c.Progress = nil }()
	_, err := l.c.Write(ctx, partition, r, size, false, moved)
	return said, err
}

// Erase erases a partition.
func (l *ownLoader) Erase(ctx context.Context, partition string) ([]string, error) {
	return nil, l.c.Erase(ctx, partition)
}

// Fetch gives out what a partition holds, where the loader reads it.
func (l *ownLoader) Fetch(ctx context.Context, partition string, off, n, _ int64, w io.Writer) (
	int64, error) {
	p, err := l.line(partition)
	if err != nil {
		return 0, err
	}
	if !p.Readable {
		return 0, &link.RefusedError{Command: "read " + partition,
			Message: "this loader does not give it out"}
	}
	return l.c.Read(ctx, partition, off, n, w)
}

// Table reads the table again.
func (l *ownLoader) Table(ctx context.Context) (table []parttable.Partition, err error) {
	l.table, err = l.c.Table(ctx)
	return l.table, err
}

// WriteTable writes another table, and gives its SHA-256, in hex.
func (l *ownLoader) WriteTable(ctx context.Context, b []byte) (digest string, err error) {
	return l.c.Write(ctx, loader.TablePartition, bytes.NewReader(b), int64(len(b)), true, func(int64) {})
}
