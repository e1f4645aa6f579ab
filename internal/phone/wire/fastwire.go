package wire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
)

// fastWire is a wire that speaks fastboot.
type fastWire struct {
	p    *Phone
	c    *fastboot.Client
	at   Address
	mode card.Mode
}

func openTCP(ctx context.Context, p *Phone, a Address, _ func()) (Conn, error) {
	conn, err := p.dial(ctx, "tcp", a.Place)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	t, err := fastboot.NewTCP(ctx, conn)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return newLoader(ctx, p, fastboot.New(t), a)
}

func openUDP(ctx context.Context, p *Phone, a Address, _ func()) (Conn, error) {
	conn, err := p.dial(ctx, "udp", a.Place)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	t, err := fastboot.NewUDP(ctx, conn)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return newLoader(ctx, p, fastboot.New(t), a)
}

func newLoader(ctx context.Context, p *Phone, c *fastboot.Client, a Address) (Conn, error) {
	l := &fastWire{p: p, c: c, at: a, mode: card.Bootloader}
	v, _, err := l.c.GetVar(ctx, "is-userspace")
	if err != nil {
		l.Close()
		return nil, err
	}
	if yes, ok := card.ParseYes(v); ok && yes {
		l.mode = card.Fastbootd
	}
	return l, nil
}

func (l *fastWire) Mode() card.Mode  { return l.mode }
func (l *fastWire) Address() Address { return l.at }
func (l *fastWire) Close() error     { return l.c.Close() }

// Variables asks for all variables. A bootloader that hangs at that question, or hangs up, is reached
// again and asked one by one from then on.
func (l *fastWire) Variables(ctx context.Context) (map[string]string, error) {
	if l.p.trail.oneByOne.Load() {
		return map[string]string{}, nil
	}
	listed, err := l.c.Variables(ctx)
	var lost *link.LostError
	if !errors.As(err, &lost) || ctx.Err() != nil {
		return listed, err
	}
	l.Close()
	actx, cancel := context.WithTimeout(ctx, answerLimit)
	defer cancel()
	w, again := l.p.ConnectTo(actx, l.at, nil)
	if o, ok := w.(*fastWire); again == nil && ok {
		l.c = o.c
		l.p.trail.oneByOne.Store(true)
		return map[string]string{}, nil
	}
	return nil, err
}

// Variable asks for one; unknown says that the phone refuses it as one it does not know.
func (l *fastWire) Variable(ctx context.Context, name string) (value string, unknown bool, err error) {
	return l.c.Ask(ctx, name)
}

func (l *fastWire) Restart(ctx context.Context, to card.Mode) error {
	if to.Def().ByKeys {
		return &link.RefusedError{Command: "restart", Message: "its keys lead into a maker's loader"}
	}
	if to == card.Sideload {
		return &link.RefusedError{Command: "reboot-sideload", Message: "a bootloader has no such restart"}
	}
	return l.c.Reboot(ctx, restartTargets[to])
}

// hangUpLimit is how long a bootloader may hold its connection after a restart.
const hangUpLimit = 5 * time.Second

// Gone: over fastboot nothing comes any more; the next packet is the end.
func (l *fastWire) Gone(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, hangUpLimit)
	defer cancel()
	l.c.Gone(ctx)
}

func words(a fastboot.Answer) []string { return append(a.Lines, a.Text) }

func (l *fastWire) Write(ctx context.Context, partition string, r io.ReaderAt, size, limit int64,
	moved func(int64)) (answers []string, err error) {
	write := func() error {
		a, err := l.c.Flash(ctx, partition)
		answers = append(answers, words(a)...)
		return l.tooLong(err)
	}
	if limit <= 0 || size <= limit {
		if err := l.download(ctx, size, io.NewSectionReader(r, 0, size), moved); err != nil {
			return answers, err
		}
		return answers, write()
	}
	next, err := partsOf(r, size, limit)
	if err != nil {
		return answers, err
	}
	done := int64(0)
	for n := 0; ; n++ {
		part, to, err := next(n)
		if errors.Is(err, io.EOF) {
			return answers, nil
		}
		if err != nil {
			return answers, err
		}
		if err := l.sendPart(ctx, part, r, func(n int64) {
			moved(done + int64(float64(to-done)*float64(n)/float64(part.Size())))
		}); err != nil {
			return answers, err
		}
		done = to
		if err := write(); err != nil {
			return answers, err
		}
	}
}

// partsOf cuts an image into parts, or takes those that were cut for others who send it too.
func partsOf(r io.ReaderAt, size, limit int64) (next func(n int) (*sparse.Part, int64, error), err error) {
	if shared, ok := r.(interface {
		Part(n int, limit int64) (*sparse.Part, int64, error)
	}); ok {
		return func(n int) (*sparse.Part, int64, error) { return shared.Part(n, limit) }, nil
	}
	cut, err := sparse.Cut(r, size, limit)
	if err != nil {
		return nil, err
	}
	return func(int) (*sparse.Part, int64, error) {
		part, err := cut.Next()
		return part, min(cut.Placed(), size), err
	}, nil
}

// download sends to the phone's memory. On a cable the job's ledger keeps how far it is: a
// bootloader does not notice when this program is killed.
func (l *fastWire) download(ctx context.Context, size int64, r io.Reader, moved func(int64)) error {
	if l.at.Scheme != CableScheme {
		return l.c.Download(ctx, size, r, moved)
	}
	l.p.note(size, 0)
	err := l.c.Download(ctx, size, r, func(n int64) {
		l.p.note(size, n)
		if moved != nil {
			moved(n)
		}
	})
	var refused *link.RefusedError
	if err == nil || errors.As(err, &refused) {
		l.p.note(0, 0)
	}
	return err
}

// tooLong is the finding of a command that was refused and is longer than the 64 bytes every
// bootloader takes in one packet.
func (l *fastWire) tooLong(err error) error {
	var refused *link.RefusedError
	if l.at.Scheme != CableScheme || !errors.As(err, &refused) ||
		len(refused.Command) <= fastboot.SafeCommand {
		return err
	}
	return finding.Stopped(finding.CommandUnknown, l.p.Name,
		fmt.Sprintf("the bootloader refused a command of %d bytes (%.40s...), and many take at most %d "+
			"over a cable: %s",
			len(refused.Command), refused.Command, fastboot.SafeCommand, refused.Message),
		"do it in userspace fastboot or in the recovery, or reach the phone over its network")
}

func (l *fastWire) sendPart(ctx context.Context, part *sparse.Part, r io.ReaderAt, moved func(int64)) error {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(part.WriteTo(pw, r)) }()
	defer pr.Close()
	return l.download(ctx, part.Size(), pr, moved)
}

func (l *fastWire) Erase(ctx context.Context, partition string) ([]string, error) {
	a, err := l.c.Erase(ctx, partition)
	return words(a), l.tooLong(err)
}

func (l *fastWire) Fetch(ctx context.Context, partition string, off, n, whole int64, w io.Writer) (
	int64, error) {
	got, err := l.c.Fetch(ctx, partition, off, n, whole, w)
	return got, l.tooLong(err)
}

func (l *fastWire) Command(ctx context.Context, text string, quiet time.Duration) ([]string, error) {
	a, err := l.c.Command(ctx, text, quiet)
	return words(a), l.tooLong(err)
}

func (l *fastWire) SetActive(ctx context.Context, slot string) ([]string, error) {
	a, err := l.c.SetActive(ctx, slot)
	return words(a), err
}

func (l *fastWire) Start(ctx context.Context, r io.Reader, size int64, moved func(int64)) ([]string, error) {
	if err := l.download(ctx, size, r, moved); err != nil {
		return nil, err
	}
	a, err := l.c.Boot(ctx)
	return words(a), err
}
