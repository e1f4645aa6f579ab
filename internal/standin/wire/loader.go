package wire

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"hash"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/host"
	"jarlid/internal/link/loader"
	"jarlid/internal/standin/scenario"
)

// ServeOwnLoader talks to one computer over the loader's line.
func (p *Ends) ServeOwnLoader(ctx context.Context, conn loader.Stream) {
	// It has one line: another connection takes it over, when the order that is being carried out has ended.
	p.Mu.Lock()
	if p.loaderLine != nil {
		p.loaderLine.Close()
	}
	p.loaderLine = conn
	p.Mu.Unlock()
	select {
	case p.loaderTurn <- struct{}{}:
		defer func() { <-p.loaderTurn }()
	case <-ctx.Done():
		return
	}
	if _, err := conn.Write([]byte(p.Spec.Loader.Noise)); err != nil {
		return
	}
	side := &loaderSide{p: p}
	defer side.drop()
	// the cable, or another program's words
	_ = loader.Serve(&wornLine{conn, p}, side, int(p.Spec.Loader.Payload))
}

// wornLine is a serial line that faults happen to: bytes of the next message are lost, doubled or
// changed, or nothing comes through.
type wornLine struct {
	loader.Stream
	p *Ends
}

// Read takes what the computer sends.
func (w *wornLine) Read(b []byte) (int, error) {
	n, err := w.Stream.Read(b[:max(len(b)-1, 1)]) // room for a byte that comes twice
	if n < 1 {
		return n, err
	}
	at := n / 2
	switch {
	case w.p.Faulty("line-loses"):
		return copy(b[at:], b[at+1:n]) + at, err
	case w.p.Faulty("line-doubles") && n < len(b):
		copy(b[at+1:n+1], b[at:n])
		return n + 1, err
	case w.p.Faulty("line-garbles"):
		b[at] ^= 0x55
	case w.p.Faulty("line-silent"):
		return w.Read(b)
	}
	return n, err
}

// loaderSide is the phone behind the loader's protocol.
type loaderSide struct {
	p *Ends
	// What is being written, its file, how much has come, and the digest of that.
	w    partial
	part *os.File
	came int64
	sum  hash.Hash
	feed chan []byte   // to who digests it, beside the receiving
	fed  chan struct{} // closed when all of it is digested
}

// partial is a write that has not ended: it lasts until another is begun.
type partial struct {
	Partition string `json:"partition"`
	Size      int64  `json:"size"`
	Table     bool   `json:"table"`
}

func (s *loaderSide) partFile() string { return filepath.Join(s.p.Options.Dir, "loader-part") }
func (s *loaderSide) wishFile() string { return filepath.Join(s.p.Options.Dir, "loader-part.json") }

// Identity is what the loader says in its hello.
func (s *loaderSide) Identity() loader.Fields {
	p := s.p
	screen := "Maker's loader. Nothing is written."
	if !p.Unlocked() {
		screen = "Maker's loader. Locked."
	}
	return loader.Fields{
		"product": p.Spec.Product,
		"serial":  p.State.Serial,
		"loader":  p.Spec.Loader.Version,
		"screen":  screen,
	}
}

// Facts are what it tells of the phone.
func (s *loaderSide) Facts() loader.Fields {
	p := s.p
	p.Mu.Lock()
	defer p.Mu.Unlock()
	yes := map[bool]string{true: "yes", false: "no"}
	return loader.Fields{
		"unlocked": yes[p.State.Unlocked],
		"verifies": yes[!p.State.Unlocked],
		"battery":  strconv.Itoa(p.State.Percent),
		"slots":    "0",
	}
}

// tableFile keeps a table that was written.
func (s *loaderSide) tableFile() string { return filepath.Join(s.p.Options.Dir, "loader-table") }

// Table is what the model file has, or what was written.
func (s *loaderSide) Table() []parttable.Partition {
	if b, err := os.ReadFile(s.tableFile()); err == nil {
		if list, err := parttable.Parse(b); err == nil {
			return list
		}
	}
	var list []parttable.Partition
	for n, p := range s.p.Spec.Partitions {
		own := p.Name != "loader" // a loader neither gives itself out nor takes another
		kind := p.Type
		if kind == "" {
			kind = "raw"
		}
		list = append(list, parttable.Partition{Number: n, Name: s.p.Spec.Outside(p.Name),
			Size: int64(p.Size), Type: kind, Readable: own && p.Name != "userdata", Writable: own})
	}
	return list
}

// find finds a partition by its name or number.
func (s *loaderSide) find(word string) (parttable.Partition, error) {
	for _, p := range s.Table() {
		if p.Name == word || strconv.Itoa(p.Number) == word {
			p.Name = s.p.Spec.Inside(p.Name)
			if !s.p.Store.Has(p.Name) {
				return p, loader.Refuse("storage", "the table names %s, and the storage has no such place",
					p.Name)
			}
			return p, nil
		}
	}
	return parttable.Partition{}, loader.Refuse("no-partition", "no partition %s in the table", word)
}

// ReadAt reads a partition.
func (s *loaderSide) ReadAt(word string, b []byte, off int64) error {
	if word == loader.TablePartition {
		t := parttable.Encode(s.Table())
		if off < 0 || off+int64(len(b)) > int64(len(t)) {
			return loader.Refuse("too-large", "the table has %d bytes", len(t))
		}
		copy(b, t[off:])
		return nil
	}
	part, err := s.find(word)
	if err != nil {
		return err
	}
	if !part.Readable {
		return loader.Refuse("not-allowed", "%s is not given out", part.Name)
	}
	if off < 0 || off > part.Size || int64(len(b)) > part.Size-off {
		return loader.Refuse("too-large", "%s has %d bytes", part.Name, part.Size)
	}
	v, err := s.p.Store.Open(part.Name)
	if err != nil {
		return loader.Refuse("storage", "%v", err)
	}
	defer v.Close()
	if _, err := v.ReadAt(b, off); err != nil && !errors.Is(err, io.EOF) {
		return loader.Refuse("storage", "%v", err)
	}
	return nil
}

// Begin prepares a write.
func (s *loaderSide) Begin(word string, size int64, table, anew bool) (have int64, digest string, err error) {
	if s.p.Faulty("refuse") {
		return 0, "", loader.Refuse("storage", "the fault was ordered")
	}
	if !s.p.Unlocked() && table {
		s.p.Show("Refused: this phone is locked.")
		return 0, "", loader.Refuse("locked", "the loader is locked, and its table stays as it is")
	}
	w := partial{word, size, table}
	if word == loader.TablePartition {
		if !table {
			return 0, "", loader.Refuse("table", "the table is changed only by an order of its own")
		}
		if size > 64<<10 {
			return 0, "", loader.Refuse("too-large", "a table of %d bytes", size)
		}
	} else {
		part, err := s.find(word)
		switch {
		case err != nil:
			return 0, "", err
		case !part.Writable:
			return 0, "", loader.Refuse("not-allowed", "%s is not written", part.Name)
		case size > part.Size:
			return 0, "", loader.Refuse("too-large", "%s has %d bytes, the image %d", part.Name, part.Size,
				size)
		}
		w.Partition = part.Name
	}
	var old partial
	s.drop()
	if b, err := os.ReadFile(s.wishFile()); !anew && err == nil && json.Unmarshal(b, &old) == nil &&
		old == w {
		if n, err := s.take(w); err == nil && n <= size {
			if n > 0 {
				s.p.Show("Going on at %d of %d bytes.", n, size)
			}
			return n, hex.EncodeToString(s.sum.Sum(nil)), nil
		}
		s.drop()
	}
	b, err := json.Marshal(w)
	if err == nil {
		err = errors.Join(os.WriteFile(s.partFile(), nil, 0o600), host.WriteWhole(s.wishFile(), b, 0o600))
	}
	if err == nil {
		_, err = s.take(w)
	}
	if err != nil {
		return 0, "", loader.Refuse("storage", "%v", err)
	}
	s.p.Show("Receiving %s: 0 %%", w.Partition)
	return 0, "", nil
}

// take opens what has come of a write, and digests it: what comes next is digested on the way.
func (s *loaderSide) take(w partial) (n int64, err error) {
	f, err := os.OpenFile(s.partFile(), os.O_RDWR, 0o600)
	if err != nil {
		return 0, err
	}
	s.w, s.part, s.sum = w, f, sha256.New()
	s.came, err = io.Copy(s.sum, f)
	feed, fed, sum := make(chan []byte, 16), make(chan struct{}), s.sum
	s.feed, s.fed = feed, fed
	go func() {
		defer close(fed)
		for b := range feed {
			sum.Write(b)
		}
	}()
	return s.came, err
}

// drop lets go of it; the file stays for another day.
func (s *loaderSide) drop() {
	if s.part != nil {
		_ = s.part.Close() // each piece was written
		s.part = nil
		close(s.feed)
		<-s.fed
	}
}

// Data takes what comes next.
func (s *loaderSide) Data(off int64, b []byte) error {
	switch {
	case s.part == nil:
		return loader.Refuse("order", "nothing was begun")
	case off != s.came || off+int64(len(b)) > s.w.Size:
		return loader.Refuse("order", "byte %d is the next", s.came)
	case s.p.Faulty("full"):
		return loader.Refuse("storage", "the storage takes nothing")
	}
	if _, err := s.part.WriteAt(b, off); err != nil {
		return loader.Refuse("storage", "%v", err)
	}
	s.feed <- bytes.Clone(b)
	s.came += int64(len(b))
	return nil
}

// End writes what came.
func (s *loaderSide) End(want string, working func(int, string)) (string, error) {
	if s.part == nil {
		return "", loader.Refuse("order", "nothing was begun")
	}
	s.drop()
	w, digest := s.w, hex.EncodeToString(s.sum.Sum(nil))
	if s.came != w.Size || digest != want {
		s.forget()
		return "", loader.Refuse("digest", "what came is not what was announced")
	}
	f, err := os.Open(s.partFile())
	if err != nil {
		return "", loader.Refuse("storage", "%v", err)
	}
	defer f.Close()
	working(50, "writing "+w.Partition)
	if w.Table {
		b, err := io.ReadAll(f)
		if err != nil {
			return "", loader.Refuse("storage", "%v", err)
		}
		list, err := parttable.Parse(b)
		if err != nil {
			return "", loader.Refuse("format", "%v", err)
		}
		if err := host.WriteWhole(s.tableFile(), parttable.Encode(list), 0o600); err != nil {
			return "", loader.Refuse("storage", "%v", err)
		}
		s.p.Show("The table of partitions is another one now.")
	} else {
		if !s.makers(w.Partition, w.Size, digest) {
			// in red; an unlocked one goes on
			s.p.Show("Verification failed: %s is not the maker's.", w.Partition)
			if !s.p.Unlocked() {
				s.forget()
				return "", loader.Refuse("not-signed", "%s is not signed by this phone's maker", w.Partition)
			}
		}
		// What was added to the files of what was there is gone with it.
		v, err := s.p.Store.Open(w.Partition)
		if err == nil {
			err = s.p.Store.Forget(w.Partition)
		}
		if err == nil {
			_, err = io.CopyBuffer(io.NewOffsetWriter(v, 0), struct{ io.Reader }{f}, make([]byte, 1<<20))
			err = errors.Join(err, v.Close())
		}
		if err != nil {
			return "", loader.Refuse("storage", "%v", err)
		}
		s.p.Show("%s: 100 %%", w.Partition)
	}
	s.p.Options.Log("wrote " + strconv.FormatInt(w.Size, 10) + " bytes to " + w.Partition)
	s.forget()
	return digest, nil
}

func (s *loaderSide) forget() {
	_ = os.Remove(s.wishFile()) // or is begun again
	_ = os.Remove(s.partFile())
}

// manufacturers reports whether an image is the one the phone was sold with.
func (s *loaderSide) makers(partition string, size int64, digest string) bool {
	set, err := scenario.Images(scenario.Stock, s.p.Spec.Phone(s.p.Model))
	sum := sha256.Sum256(set[partition])
	return err == nil && int64(len(set[partition])) == size && hex.EncodeToString(sum[:]) == digest
}

// Erase erases a partition.
func (s *loaderSide) Erase(word string, working func(int, string)) error {
	if !s.p.Unlocked() {
		return loader.Refuse("locked", "the loader is locked and erases nothing")
	}
	part, err := s.find(word)
	if err != nil {
		return err
	}
	if !part.Writable {
		return loader.Refuse("not-allowed", "%s is not erased", part.Name)
	}
	working(-1, "erasing "+part.Name)
	if err := s.p.Store.Erase(part.Name); err != nil {
		return loader.Refuse("storage", "%v", err)
	}
	s.p.Options.Log("erased " + part.Name)
	return nil
}

// Leave ends the loader.
func (s *loaderSide) Leave(to string) error {
	d := time.Duration(s.p.Spec.Delays.Restart)
	switch to {
	case "system":
		s.p.Move(string(card.System), d)
	case "off":
		s.p.Move("off", d)
	case "loader":
		s.p.Move(string(card.Loader), d)
	default:
		return loader.Refuse("format", "nothing is called %q", to)
	}
	return nil
}
