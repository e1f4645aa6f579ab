package phone

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/say"
)

// devicePath is where recoveries have the partitions by their names.
const (
	devicePath = "/dev/block/by-name/"
	mapperPath = "/dev/block/mapper/"
)

const (
	// pieceSize is how many bytes of a partition are held in the recovery's memory
	// at once.
	pieceSize = 8 << 20
	pieceName = "/tmp/jarlid-piece"
	// blockSize is the unit offsets are counted in when a partition is written.
	blockSize = 4096
	// pieceLimit is how long copying a piece may take on the slowest storage.
	pieceLimit = 2 * time.Minute
)

// Device gives the path of a partition as the recovery has it: logical ones are
// mapped elsewhere. How it spells the name is looked up where nobody has yet.
func (s *Session) Device(ctx context.Context, p card.Partition, logical bool) (string, error) {
	if err := s.learnNames(ctx); err != nil {
		return "", err
	}
	if logical {
		return mapperPath + s.Spelling(p), nil
	}
	return devicePath + s.Spelling(p), nil
}

// WritePartition writes r to a partition that is not logical, through the recovery's root shell, from its
// first byte on; wrote is told how many bytes are there.
func (s *Session) WritePartition(ctx context.Context, p card.Partition, r io.Reader,
	wrote func(int64)) error {
	dev, err := s.Device(ctx, p, false)
	if err != nil {
		return err
	}
	defer func() { _, _ = s.Text(context.WithoutCancel(ctx), "rm -f "+pieceName) }() // it is in memory
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

func (s *Session) writePiece(ctx context.Context, dev string, off int64, r io.Reader) (int64, error) {
	count := &counting{r: r}
	if err := s.Push(ctx, pieceName, 0o100600, time.Unix(0, 0), count, nil); err != nil || count.n == 0 {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, pieceLimit)
	defer cancel()
	return count.n, s.Do(ctx, fmt.Sprintf("dd if=%s of=%s bs=%d seek=%d conv=notrunc && sync", pieceName, dev,
		blockSize, off/blockSize), "write "+dev)
}

// Push writes a file of the phone over a sync service of its own.
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

// ReadDevice sends a partition's bytes to w; got is told how many there are.
func (s *Session) ReadDevice(ctx context.Context, dev string, w io.Writer, got func(int64)) (int64, error) {
	y, err := s.Sync(ctx)
	if err != nil {
		return 0, err
	}
	defer y.Close()
	return y.Receive(ctx, dev, w, got)
}

// Devices lists the phone's partitions in its recovery with their sizes: the
// names below /dev/block/by-name and the logical ones.
func (s *Session) Devices(ctx context.Context) (map[card.Partition]int64, error) {
	sizes := map[card.Partition]int64{}
	for _, dir := range []string{devicePath, mapperPath} {
		text, err := s.Text(ctx, "for f in $(ls "+dir+" 2>/dev/null); do echo $f $(blockdev --getsize64 "+dir+
			"$f 2>/dev/null); done")
		if err != nil {
			return nil, err
		}
		for line := range strings.SplitSeq(text, "\n") {
			var name string
			var n int64
			if _, err := fmt.Sscanf(line, "%s %d", &name, &n); err == nil && n > 0 &&
				!strings.ContainsAny(name, "/'\"$`;&|") {
				p, ok := s.told(name)
				if !ok {
					continue
				}
				sizes[p] = n
				s.learn(card.FactSize.Of(p), fmt.Sprint(n))
				if dir != devicePath {
					s.learn(card.FactLogical.Of(p), "yes")
				}
			}
		}
	}
	return sizes, nil
}

// learnDevices reads which partitions there are and how large, in a recovery with
// a root shell; a loader's table is read already. Those asked for are not there when they are
// not among them; elsewhere it does nothing. Logical ones may be there without being mapped.
func (s *Session) learnDevices(ctx context.Context, parts ...card.Partition) error {
	if s.sizes == nil {
		if !s.RootRecovery() {
			return nil
		}
		var err error
		if s.sizes, err = s.Devices(ctx); err != nil {
			return err
		}
	}
	for _, p := range parts {
		if _, ok := s.sizes[p]; !ok && len(s.sizes) > 0 && !place.Logical(s.Card, p.Base) {
			s.learn(card.FactSize.Of(p), card.Nothing)
		}
	}
	return nil
}

// deviceReader reads a device through the shell, a block at a time.
type deviceReader struct {
	ctx  context.Context
	s    *Session
	dev  string
	size int64
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
		if at < 0 || at >= d.size {
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
	ctx, cancel := context.WithTimeout(d.ctx, shellLimit)
	defer cancel()
	out, err := d.s.Shell(ctx, fmt.Sprintf("dd if=%s bs=%d skip=%d count=1 2>/dev/null", d.dev, readerBlock,
		start/readerBlock))
	if err != nil {
		return nil, err
	}
	if want := min(readerBlock, d.size-start); int64(len(out.Stdout)) != want {
		return nil, fmt.Errorf("%s gave %d bytes at %d, %d were asked for", d.dev, len(out.Stdout),
			start, want)
	}
	d.kept = append([]block{{start, out.Stdout}}, d.kept[:min(len(d.kept), readerKept-1)]...)
	return out.Stdout, nil
}

// openPartition opens a partition for reading through the shell; as openDevice.
func (s *Session) openPartition(ctx context.Context, p card.Partition, logical bool) (*deviceReader, error) {
	dev, err := s.Device(ctx, p, logical)
	if err != nil {
		return nil, err
	}
	return s.openDevice(ctx, dev)
}

// openDevice opens a device for reading through the shell. One that is not there
// is ErrNoPartition.
func (s *Session) openDevice(ctx context.Context, dev string) (*deviceReader, error) {
	text, err := s.Text(ctx, "[ -e "+dev+" ] && echo it-is-there; blockdev --getsize64 "+dev+" 2>/dev/null")
	if err != nil {
		return nil, err
	}
	size, there := strings.CutPrefix(text, "it-is-there")
	if !there {
		return nil, fmt.Errorf("%s: %w", dev, ErrNoPartition)
	}
	var n int64
	if _, err := fmt.Sscanf(strings.TrimSpace(size), "%d", &n); err != nil || n <= 0 {
		return nil, &link.RefusedError{Command: "read " + dev,
			Message: "the recovery does not tell how large it is"}
	}
	return &deviceReader{ctx: ctx, s: s, dev: dev, size: n, turn: make(chan struct{}, 1)}, nil
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
