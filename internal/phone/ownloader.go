package phone

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/core/place"
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
func openLoader(ctx context.Context, p *Phone, a Address, _ func()) (Wire, error) {
	conn, err := p.dial(ctx, "tcp", a.Place)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	return newOwnLoader(ctx, conn, a)
}

func newOwnLoader(ctx context.Context, s loader.Stream, a Address) (Wire, error) {
	c, err := loader.Connect(ctx, s, "jarlid")
	if err != nil {
		s.Close()
		if errors.Is(err, link.ErrSilent) && (a.Scheme == serialScheme || a.Scheme == cableScheme) {
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

// loaderFacts are the loader's facts that have a name of ours; the rest are shown as they are.
var loaderFacts = map[string]func(c *card.Card, v string){
	"unlocked":           func(c *card.Card, v string) { learnYes(c, card.FactUnlocked, v) },
	"verifies":           func(c *card.Card, v string) { learnYes(c, card.FactVerifies, v) },
	"battery":            func(c *card.Card, v string) { learnNumber(c, card.FactPercent, v) },
	"battery.millivolts": func(c *card.Card, v string) { learnNumber(c, card.FactMillivolts, v) },
	"slots":              func(c *card.Card, v string) { learnNumber(c, card.FactSlots, v) },
}

func learnRead(c *card.Card, f card.Which, v string) {
	c.Set(f, card.Fact{Value: v, Evidence: card.Read, Mode: card.Loader, At: now()})
}

func learnYes(c *card.Card, f card.Which, v string) {
	if yes, ok := card.ParseYes(v); ok {
		learnRead(c, f, map[bool]string{true: "yes", false: "no"}[yes])
	}
}

func learnNumber(c *card.Card, f card.Which, v string) {
	if n, err := strconv.Atoi(v); err == nil && n >= 0 {
		learnRead(c, f, strconv.Itoa(n))
	}
}

// Facts reads what the loader reports: who it is, how the phone is, and the table of partitions.
func (l *ownLoader) Facts(ctx context.Context, s *Session) error {
	for name, f := range map[string]card.Plain{
		"product": card.FactProduct,
		"serial":  card.FactSerial,
		"loader":  card.FactBootloader,
		"screen":  card.FactScreen,
	} {
		if v := strings.TrimSpace(usb.Text(l.c.Told[name])); v != "" {
			learnRead(s.Card, f, v)
		}
	}
	told, err := l.c.Facts(ctx)
	if err != nil {
		return err
	}
	for name, v := range told {
		if learn := loaderFacts[name]; learn != nil {
			learn(s.Card, v)
		}
	}
	return l.readTable(ctx, s)
}

func (l *ownLoader) readTable(ctx context.Context, s *Session) (err error) {
	if l.table, err = l.c.Table(ctx); err != nil {
		return err
	}
	c := s.Card
	s.spelt, s.sizes = nil, map[card.Partition]int64{} // it may be another table
	for _, p := range l.table {
		at, ok := s.told(p.Name)
		if !ok {
			continue
		}
		s.sizes[at] = p.Size
		learnRead(c, card.FactSize.Of(at), strconv.FormatInt(p.Size, 10))
		learnRead(c, card.FactNumber.Of(at), strconv.Itoa(p.Number))
		if p.Type != "" {
			learnRead(c, card.FactType.Of(at), p.Type)
		}
	}
	if len(l.table) > 0 && !c.Get(card.FactSlots).Known() { // all there are are in the table
		learnRead(c, card.FactSlots, map[bool]string{true: "2", false: "0"}[place.HasPairs(c)])
	}
	return nil
}

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
		if Pause(ctx, pollEvery) != nil {
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
func (l *ownLoader) Table(ctx context.Context) ([]parttable.Partition, error) { return l.c.Table(ctx) }

// WriteTable writes another table, and gives its SHA-256, in hex.
func (l *ownLoader) WriteTable(ctx context.Context, b []byte) (digest string, err error) {
	return l.c.Write(ctx, loader.TablePartition, bytes.NewReader(b), int64(len(b)), true, func(int64) {})
}
