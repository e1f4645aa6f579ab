package phone

import (
	"context"
	"fmt"
	"io"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/core/place"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone/wire"
)

// LackError says that the phone can't do something over this wire in this mode.
type LackError struct {
	What  string    // in words: "be written"
	Mode  card.Mode // the phone is in
	Image card.Mode // it takes images in
	// Unread says that it is a recovery with a shell, and unknown whether that is root's.
	Unread bool
}

// Error says what is lacking.
func (e *LackError) Error() string {
	if e.Mode == card.None {
		return "the phone does not answer, so it can't " + e.What
	}
	return fmt.Sprintf("in this mode (%s) the phone can't %s", ModeName(e.Mode), e.What)
}

// Finding is the error as a finding.
func (e *LackError) Finding() finding.Finding {
	if e.Unread {
		return finding.Finding{Name: finding.NotInThisMode, Severity: finding.Stop, About: ModeName(e.Mode),
			Text:  e.Error() + "; whether its shell is root's is unknown: it did not report its user",
			Final: true, Remedy: "jarlid card reads it again; otherwise use another recovery"}
	}
	if e.Mode == card.None {
		return finding.Finding{Name: finding.NotInThisMode, Severity: finding.Stop, About: ModeName(e.Mode),
			Text: e.Error(), Final: true, Remedy: "find out why: jarlid bench --why"}
	}
	return finding.Finding{Name: finding.NotInThisMode, Severity: finding.Stop, About: ModeName(e.Mode),
		Text: e.Error(), Final: true,
		Remedy: "bring it into another mode: jarlid go recovery, or jarlid go " + string(e.Image)}
}

// ModeName gives a mode's name, also of a phone nobody sees.
func ModeName(m card.Mode) string {
	if m == card.None {
		return "not known"
	}
	return string(m)
}

// Lacks is the error of something this mode can't do, in words such as "be written".
func (s *Session) Lacks(what string) *LackError {
	return &LackError{What: what, Mode: s.Mode(), Image: place.ImageMode(s.Card, s.Model()),
		Unread: s.HasShell() && s.Mode() == card.Recovery && !s.Card.Get(card.FactRoot).Known()}
}

// can gives a capability of the wire.
func can[T any](s *Session, what string) (T, error) {
	c, ok := s.wire.(T)
	if !ok {
		return c, s.Lacks(what)
	}
	return c, nil
}

// HasShell, HasLoader, HasFiles and Fetches tell what the session can do.
func (s *Session) HasShell() bool { _, ok := s.wire.(wire.Sheller); return ok }

// HasLoader reports whether the phone takes images and commands of a bootloader.
func (s *Session) HasLoader() bool { _, ok := s.wire.(wire.Writer); return ok }

// HasFiles reports whether the phone's files can be read.
func (s *Session) HasFiles() bool { _, ok := s.wire.(wire.Syncer); return ok }

// Fetches reports whether partitions can be read without a shell.
func (s *Session) Fetches() bool {
	_, ok := s.wire.(wire.Fetcher)
	return ok && s.Mode().Def().Reads
}

// RootRecovery reports whether a recovery with a root shell is at the other end.
func (s *Session) RootRecovery() bool {
	return s.HasShell() && s.Mode() == card.Recovery && s.Card.Value(card.FactRoot) == "yes"
}

// Write writes an image to a partition, in parts when it is larger than the phone
// takes at once.
func (s *Session) Write(ctx context.Context, partition string, r io.ReaderAt, size int64, moved func(int64)) (
	[]string, error) {
	w, err := can[wire.Writer](s, "be sent images")
	if err != nil {
		return nil, err
	}
	limit, _ := s.Card.Number(card.FactDownload)
	return w.Write(ctx, s.spell(partition), r, size, limit, moved)
}

// Erase erases a partition.
func (s *Session) Erase(ctx context.Context, partition string) ([]string, error) {
	e, err := can[wire.Eraser](s, "erase partitions by command")
	if err != nil {
		return nil, err
	}
	return e.Erase(ctx, s.spell(partition))
}

// Command sends a command of the bootloader.
func (s *Session) Command(ctx context.Context, text string, quiet time.Duration) ([]string, error) {
	c, err := can[wire.Commander](s, "take commands of a bootloader")
	if err != nil {
		return nil, err
	}
	return c.Command(ctx, text, quiet)
}

// Start starts an image without writing it.
func (s *Session) Start(ctx context.Context, r io.Reader, size int64, moved func(int64)) ([]string, error) {
	c, err := can[wire.Starter](s, "start an image without writing it")
	if err != nil {
		return nil, err
	}
	return c.Start(ctx, r, size, moved)
}

// SetActive chooses the slot that starts next.
func (s *Session) SetActive(ctx context.Context, slot string) ([]string, error) {
	c, err := can[wire.Slotter](s, "be told which slot starts next")
	if err != nil {
		return nil, err
	}
	return c.SetActive(ctx, slot)
}

// Table reads the loader's table of partitions.
func (s *Session) Table(ctx context.Context) ([]parttable.Partition, error) {
	c, err := can[wire.Tabler](s, "give out a table of partitions")
	if err != nil {
		return nil, err
	}
	return c.Table(ctx)
}

// WriteTable writes another one, and gives its SHA-256, in hex.
func (s *Session) WriteTable(ctx context.Context, b []byte) (digest string, err error) {
	c, err := can[wire.Tabler](s, "take a table of partitions")
	if err != nil {
		return "", err
	}
	return c.WriteTable(ctx, b)
}

// Sync opens a service that reads and writes the phone's files.
func (s *Session) Sync(ctx context.Context) (*adb.Sync, error) {
	c, err := can[wire.Syncer](s, "give out files")
	if err != nil {
		return nil, err
	}
	return c.Sync(ctx)
}

// Installer gives what packages are sent by.
func (s *Session) Installer() (wire.Installer, error) { return can[wire.Installer](s, "take packages") }

// Fetch gives out what a partition holds.
func (s *Session) Fetch(ctx context.Context, partition string, off, n, whole int64, w io.Writer) (
	int64, error) {
	c, err := can[wire.Fetcher](s, "give out partitions")
	if err != nil {
		return 0, err
	}
	return c.Fetch(ctx, s.spell(partition), off, n, whole, w)
}

// Restart sends the phone into a mode. *link.RefusedError where that is done by hand.
func (s *Session) Restart(ctx context.Context, to card.Mode) error {
	if s.wire == nil {
		return &link.RefusedError{Command: "restart",
			Message: "the phone can't be reached, so a person brings it there"}
	}
	return s.wire.Restart(ctx, to)
}

// Gone waits until the phone has gone away after a restart, so that it is not taken
// for having come back already, and drops the wire.
func (s *Session) Gone(ctx context.Context) {
	if s.wire != nil {
		s.wire.Gone(ctx)
	}
	s.Drop()
}
