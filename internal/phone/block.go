package phone

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

const (
	// pieceSize is how many bytes of a partition are held in the recovery's memory at once.
	pieceSize = 8 << 20
	pieceName = "/tmp/jarlid-piece"
	// blockSize is the unit offsets are counted in when a partition is written.
	blockSize = 4096
)

// Shell gives the phone's shell. Where this mode has none each command is a *LackError.
func (s *Session) Shell() *shell.Shell {
	c, err := can[wire.Sheller](s, "run a command in a shell")
	if err != nil {
		return shell.New(noShell{err})
	}
	return shell.New(c)
}

// noShell is where a shell lacks.
type noShell struct{ err error }

// Shell is an error.
func (n noShell) Shell(context.Context, string, time.Duration) (adb.Output, error) {
	return adb.Output{}, n.err
}

// SplitsStreams is of no matter.
func (noShell) SplitsStreams() bool { return true }

// learnBlocks reads which partitions a recovery with a root shell has, and their sizes; a loader's table is
// read already. Elsewhere it does nothing. Where they can't be listed they stay unknown.
func (s *Session) learnBlocks(ctx context.Context) error {
	if s.blocks != nil || s.sizes != nil || !s.RootRecovery() {
		return nil
	}
	list, err := s.Shell().Blocks(ctx)
	if err != nil && !shell.Unknown(err) {
		return err
	}
	s.blocks, s.spelt = map[card.Partition]devices{}, map[string]string{}
	if err != nil {
		s.Obs.Say(say.Note, "the partitions of %s can't be listed: %v", s.Name, err)
		return nil
	}
	for _, d := range list {
		p, ok := s.told(d.Name)
		if !ok {
			continue
		}
		b := s.blocks[p]
		if d.Mapped {
			b.mapped = &d.Device
		} else {
			b.plain = &d.Device
		}
		s.blocks[p] = b
	}
	return nil
}

// Sizes gives the partitions there are with their sizes in bytes, 0 where that is unknown: those of a
// recovery with a root shell, or of a loader's table.
func (s *Session) Sizes(ctx context.Context) (map[card.Partition]int64, error) {
	if s.sizes != nil {
		return s.sizes, nil
	}
	if err := s.learnBlocks(ctx); err != nil {
		return nil, err
	}
	sizes := map[card.Partition]int64{}
	for p, b := range s.blocks {
		for _, d := range []*shell.Device{b.plain, b.mapped} {
			if d == nil || d.Target != "" {
				continue
			}
			sizes[p] = d.Size
			if d.Size > 0 {
				s.learn(card.FactSize.Of(p), fmt.Sprint(d.Size))
			}
			if d.Mapped {
				s.learn(card.FactLogical.Of(p), "yes")
			}
		}
	}
	return sizes, nil
}

// learnDevices reads which partitions there are and how large. Those asked for are not there when they are
// not among them. Logical ones may be there without being mapped.
func (s *Session) learnDevices(ctx context.Context, parts ...card.Partition) error {
	sizes, err := s.Sizes(ctx)
	if err != nil {
		return err
	}
	for _, p := range parts {
		size, ok := sizes[p]
		switch {
		case !ok && len(sizes) > 0 && !place.Logical(s.Card, p.Base):
			s.learn(card.FactSize.Of(p), card.Nothing)
		case ok && size == 0 && s.blocks != nil: // what the kernel's files do not tell
			if d, err := s.Block(ctx, p); err == nil {
				s.learn(card.FactSize.Of(p), fmt.Sprint(d.Size))
			} else if !shell.Unknown(err) && !errors.Is(err, wire.ErrNoPartition) {
				return err
			}
		}
	}
	return nil
}

// Block finds the block device of a partition in a recovery with a root shell: the mapped one first where the
// partition is a logical one. Errors: ErrNoPartition; *link.RefusedError where its name leads to no block
// device or its size is unknown.
func (s *Session) Block(ctx context.Context, p card.Partition) (shell.Device, error) {
	logical, known := s.Card.Yes(card.FactLogical.Of(p))
	if logical || !known && place.Logical(s.Card, p.Base) {
		return s.firstBlock(ctx, p, true, false)
	}
	return s.firstBlock(ctx, p, false, true)
}

// firstBlock tries the mapped device or the plain one in the given order.
func (s *Session) firstBlock(ctx context.Context, p card.Partition, order ...bool) (d shell.Device,
	err error) {
	for _, mapped := range order {
		if d, err = s.blockOf(ctx, p, mapped); !errors.Is(err, wire.ErrNoPartition) {
			return d, err
		}
	}
	return d, err
}

func (s *Session) blockOf(ctx context.Context, p card.Partition, mapped bool) (shell.Device, error) {
	if err := s.learnBlocks(ctx); err != nil {
		return shell.Device{}, err
	}
	if len(s.blocks) == 0 {
		return shell.Device{}, &link.RefusedError{Command: "find " + p.String(),
			Message: "the recovery does not list its partitions"}
	}
	b := s.blocks[p]
	d := b.plain
	if mapped {
		d = b.mapped
	}
	if d == nil {
		return shell.Device{}, fmt.Errorf("%s: %w", p, wire.ErrNoPartition)
	}
	return s.Shell().Sized(ctx, *d)
}

// WritePartition writes r to a partition that is not logical, through the recovery's root shell, from its
// first byte on; wrote is told how many bytes are there. Each piece makes sure of the device again.
func (s *Session) WritePartition(ctx context.Context, p card.Partition, r io.Reader,
	wrote func(int64)) error {
	dev, err := s.blockOf(ctx, p, false)
	if err != nil {
		return err
	}
	defer func() { _ = s.Shell().Remove(context.WithoutCancel(ctx), pieceName) }() // it is in memory
	done := int64(0)
	for {
		n, err := s.writePiece(ctx, dev, done, io.LimitReader(r, pieceSize))
		done += n
		if err != nil {
			return err
		}
		wrote(done)
		if n < pieceSize {
			return nil
		}
	}
}

func (s *Session) writePiece(ctx context.Context, dev shell.Device, off int64, r io.Reader) (int64, error) {
	count := &counting{r: r}
	if err := s.Push(ctx, pieceName, 0o100600, time.Unix(0, 0), count, nil); err != nil || count.n == 0 {
		return 0, err
	}
	return count.n, s.Shell().Write(ctx, pieceName, dev, off/blockSize)
}

// Push writes a file of the phone.
func (s *Session) Push(ctx context.Context, to string, mode uint32, when time.Time, r io.Reader,
	moved func(int64)) error {
	y, err := s.Sync(ctx)
	if err != nil {
		return err
	}
	defer y.Close()
	return y.Send(ctx, to, mode, when, r, moved)
}

type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// readDevice sends a device's bytes to w; got is told how many there are. Before that it makes sure of the
// device, by the shell and, in the session that reads, by what the file service says it is.
func (s *Session) readDevice(ctx context.Context, dev shell.Device, w io.Writer, got func(int64)) error {
	if err := s.Shell().DropCaches(ctx, dev); err != nil {
		return err
	}
	if err := s.Shell().Same(ctx, dev); err != nil {
		return err
	}
	y, err := s.Sync(ctx)
	if err != nil {
		return err
	}
	defer y.Close()
	st, err := y.Stat(ctx, dev.Path)
	if err != nil {
		return err
	}
	if kind := st.Mode & 0o170000; kind != 0o060000 && kind != 0o120000 { // a device, or a link to one
		return &link.RefusedError{Command: "read " + dev.Path, Message: "it is no block device"}
	}
	n, err := y.Receive(ctx, dev.Path, w, got)
	if err == nil && n != dev.Size {
		err = &link.RefusedError{Command: "read " + dev.Path,
			Message: fmt.Sprintf("it gave %d of %d bytes", n, dev.Size)}
	}
	return err
}

// deviceReader reads a device through the shell, a block at a time.
type deviceReader struct {
	ctx  context.Context
	s    *Session
	dev  shell.Device
	turn chan struct{} // one reads at a time; it waits for the phone, so it is no mutex
	kept []block       // what was read last, the newest first
}

// block is a piece of a device and where it begins.
type block struct {
	at   int64
	data []byte
}

const (
	// readerBlock is how much is read with one command, in bytes.
	readerBlock = 1 << 20
	// readerKept is how many blocks are kept: a file system is read here and there.
	readerKept = 8
)

// ReadAt reads from the device.
func (d *deviceReader) ReadAt(p []byte, off int64) (int, error) {
	d.turn <- struct{}{}
	defer func() { <-d.turn }()
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at < 0 || at >= d.dev.Size {
			return done, io.EOF
		}
		b, err := d.block(at - at%readerBlock)
		if err != nil {
			return done, err
		}
		done += copy(p[done:], b[at%readerBlock:])
	}
	return done, nil
}

// block gives the block that begins at start.
func (d *deviceReader) block(start int64) ([]byte, error) {
	if i := slices.IndexFunc(d.kept, func(b block) bool { return b.at == start }); i >= 0 {
		b := d.kept[i]
		copy(d.kept[1:i+1], d.kept[:i])
		d.kept[0] = b
		return b.data, nil
	}
	b, err := d.s.Shell().ReadBlock(d.ctx, d.dev, readerBlock, start/readerBlock)
	if err != nil {
		return nil, err
	}
	if want := min(readerBlock, d.dev.Size-start); int64(len(b)) != want {
		return nil, fmt.Errorf("%s gave %d bytes at %d, %d were asked for", d.dev.Path, len(b), start, want)
	}
	d.kept = append([]block{{start, b}}, d.kept[:min(len(d.kept), readerKept-1)]...)
	return b, nil
}

// openDevice opens a device for reading through the shell.
func (s *Session) openDevice(ctx context.Context, dev shell.Device) *deviceReader {
	return &deviceReader{ctx: ctx, s: s, dev: dev, turn: make(chan struct{}, 1)}
}

// ReadBlock reads the first n bytes of a partition through a root shell; nil when the phone has no such
// partition or does not let it be read.
func (s *Session) ReadBlock(ctx context.Context, partition string, n int) ([]byte, error) {
	return s.readAt(ctx, partition, 0, n)
}

// readAt reads n bytes at a multiple of n.
func (s *Session) readAt(ctx context.Context, partition string, off int64, n int) ([]byte, error) {
	dev, err := s.blockOf(ctx, card.Part(partition), false)
	if errors.Is(err, wire.ErrNoPartition) || shell.Unknown(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return s.readDeviceAt(ctx, dev, off, n)
}

// readDeviceAt reads n bytes at a multiple of n; nil where that can't be read.
func (s *Session) readDeviceAt(ctx context.Context, dev shell.Device, off int64, n int) ([]byte, error) {
	b, err := s.Shell().ReadBlock(ctx, dev, n, off/int64(n))
	if shell.Unknown(err) || err == nil && len(b) != n {
		return nil, nil
	}
	return b, err
}

// DigestOf gives the SHA-256 that the phone works out of a partition; "" where it has no such tool.
func (s *Session) DigestOf(ctx context.Context, p card.Partition) (string, error) {
	dev, err := s.Block(ctx, p)
	if err != nil {
		return "", err
	}
	if err := s.Shell().DropCaches(ctx, dev); err != nil {
		return "", err
	}
	return s.Shell().DeviceDigest(ctx, dev)
}

// SaveTo writes what a partition holds to a new file, flushed to the disk.
func (s *Session) SaveTo(ctx context.Context, p card.Partition, path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	size, _ := s.Card.Number(card.FactSize.Of(p))
	m := say.NewMeter(s.Obs, say.Read, p.String(), size)
	out := files.NewOut(f)
	err = s.ReadWhole(ctx, p, out, m.Set)
	m.End()
	if err == nil {
		err = out.Finish()
	}
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}

// Spelling gives a partition's name, which is in small letters in the card, as this wire has it. Of one
// that is there on slots the name without them is spelt as those with them are.
func (s *Session) Spelling(p card.Partition) string { return s.spell(p.String()) }
