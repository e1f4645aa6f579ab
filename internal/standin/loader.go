package standin

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
	"slices"
	"strconv"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/host"
	"jarlid/internal/link/loader"
	"jarlid/internal/standin/scenario"
)

// loaderSpec is a manufacturer's loader, instead of fastboot.
type loaderSpec struct {
	Version string `yaml:"version"`
	Payload size   `yaml:"payload"` // the largest a message has
	Noise   string `yaml:"noise"`   // what is on the line before anything is said
}

// Keys of a phone with a loader: its own are others than its twin's.
const (
	keyLoader  = "volume-down+side+power"
	keyRescue  = "volume-up+side+power"
	keyYes     = "volume-up"
	keyNo      = "volume-down"
	batteryOut = "battery-out"
	batteryIn  = "battery-in"
)

var loaderKeys = []string{keyLoader, keyRescue, keyYes, keyNo, batteryOut, batteryIn}

// loaderKey is one of the keys of a phone with a loader; done is false for others.
func (p *Phone) loaderKey(what string) (done bool, err error) {
	if !slices.Contains(loaderKeys, what) && what != keyPower {
		return false, nil
	}
	p.mu.Lock()
	mode, out, asks := p.st.Mode, p.noBattery, p.asksLoader
	p.asksLoader = false
	p.mu.Unlock()
	set := func(at *bool, v bool) {
		p.mu.Lock()
		*at = v
		p.mu.Unlock()
	}
	switch {
	case what == batteryOut:
		set(&p.noBattery, true)
		p.move("off", 0)
	case what == batteryIn:
		set(&p.noBattery, false)
	case out:
		return true, errors.New("the phone stays dark: its battery is out")
	case what == keyLoader:
		if mode != card.None {
			return true, errors.New("the keys count while the phone is off: take its battery out and put " +
				"it back")
		}
		set(&p.asksLoader, true)
		p.show("Loader? Volume up: yes. Volume down: no, start as usual.")
	case what == keyYes && asks:
		p.move(string(card.Loader), time.Duration(p.spec.Delays.Restart))
	case what == keyNo && asks:
		p.move("start", time.Duration(p.spec.Delays.Restart))
	case what == keyRescue:
		if mode != card.None {
			return true, errors.New("the keys count while the phone is off: take its battery out and put " +
				"it back")
		}
		p.move(string(card.Recovery), time.Duration(p.spec.Delays.Restart))
	case what == keyPower:
		if mode == card.None {
			p.move(string(card.System), time.Duration(p.spec.Delays.Restart))
		}
	default:
		return true, errors.New("nothing happens")
	}
	return true, nil
}

// serveOwnLoader talks to one computer over the loader's line.
func (p *Phone) serveOwnLoader(ctx context.Context, conn loader.Stream) {
	// It has one line: another connection takes it over, when the order that is being carried out has ended.
	p.mu.Lock()
	if p.loaderLine != nil {
		p.loaderLine.Close()
	}
	p.loaderLine = conn
	p.mu.Unlock()
	select {
	case p.loaderTurn <- struct{}{}:
		defer func() { <-p.loaderTurn }()
	case <-ctx.Done():
		return
	}
	if _, err := conn.Write([]byte(p.spec.Loader.Noise)); err != nil {
		return
	}
	side := &loaderSide{p: p}
	defer side.drop()
	// the cable, or another program's words
	_ = loader.Serve(&wornLine{conn, p}, side, int(p.spec.Loader.Payload))
}

// wornLine is a serial line that faults happen to: bytes of the next message are lost, doubled or
// changed, or nothing comes through.
type wornLine struct {
	loader.Stream
	p *Phone
}

// Read takes what the computer sends.
func (w *wornLine) Read(b []byte) (int, error) {
	n, err := w.Stream.Read(b[:max(len(b)-1, 1)]) // room for a byte that comes twice
	if n < 1 {
		return n, err
	}
	at := n / 2
	switch {
	case w.p.faulty("line-loses"):
		return copy(b[at:], b[at+1:n]) + at, err
	case w.p.faulty("line-doubles") && n < len(b):
		copy(b[at+1:n+1], b[at:n])
		return n + 1, err
	case w.p.faulty("line-garbles"):
		b[at] ^= 0x55
	case w.p.faulty("line-silent"):
		return w.Read(b)
	}
	return n, err
}

// loaderSide is the phone behind the loader's protocol.
type loaderSide struct {
	p *Phone
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

func (s *loaderSide) partFile() string { return filepath.Join(s.p.o.Dir, "loader-part") }
func (s *loaderSide) wishFile() string { return filepath.Join(s.p.o.Dir, "loader-part.json") }

// Identity is what the loader says in its hello.
func (s *loaderSide) Identity() loader.Fields {
	p := s.p
	screen := "Maker's loader. Nothing is written."
	if !p.unlocked() {
		screen = "Maker's loader. Locked."
	}
	return loader.Fields{
		"product": p.spec.Product,
		"serial":  p.st.Serial,
		"loader":  p.spec.Loader.Version,
		"screen":  screen,
	}
}

// Facts are what it tells of the phone.
func (s *loaderSide) Facts() loader.Fields {
	p := s.p
	p.mu.Lock()
	defer p.mu.Unlock()
	yes := map[bool]string{true: "yes", false: "no"}
	return loader.Fields{
		"unlocked": yes[p.st.Unlocked],
		"verifies": yes[!p.st.Unlocked],
		"battery":  strconv.Itoa(p.st.Percent),
		"slots":    "0",
	}
}

// tableFile keeps a table that was written.
func (s *loaderSide) tableFile() string { return filepath.Join(s.p.o.Dir, "loader-table") }

// Table is what the model file has, or what was written.
func (s *loaderSide) Table() []parttable.Partition {
	if b, err := os.ReadFile(s.tableFile()); err == nil {
		if list, err := parttable.Parse(b); err == nil {
			return list
		}
	}
	var list []parttable.Partition
	for n, p := range s.p.spec.Partitions {
		own := p.Name != "loader" // a loader neither gives itself out nor takes another
		kind := p.Type
		if kind == "" {
			kind = "raw"
		}
		list = append(list, parttable.Partition{Number: n, Name: s.p.spec.outside(p.Name),
			Size: int64(p.Size), Type: kind, Readable: own && p.Name != "userdata", Writable: own})
	}
	return list
}

// find finds a partition by its name or number.
func (s *loaderSide) find(word string) (parttable.Partition, error) {
	for _, p := range s.Table() {
		if p.Name == word || strconv.Itoa(p.Number) == word {
			p.Name = s.p.spec.inside(p.Name)
			if !s.p.store.Has(p.Name) {
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
	v, err := s.p.store.Open(part.Name)
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
	if s.p.faulty("refuse") {
		return 0, "", loader.Refuse("storage", "the fault was ordered")
	}
	if !s.p.unlocked() && table {
		s.p.show("Refused: this phone is locked.")
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
				s.p.show("Going on at %d of %d bytes.", n, size)
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
	s.p.show("Receiving %s: 0 %%", w.Partition)
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
	case s.p.faulty("full"):
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
		s.p.show("The table of partitions is another one now.")
	} else {
		if !s.makers(w.Partition, w.Size, digest) {
			// in red; an unlocked one goes on
			s.p.show("Verification failed: %s is not the maker's.", w.Partition)
			if !s.p.unlocked() {
				s.forget()
				return "", loader.Refuse("not-signed", "%s is not signed by this phone's maker", w.Partition)
			}
		}
		v, err := s.p.store.Open(w.Partition)
		if err == nil {
			_, err = io.CopyBuffer(io.NewOffsetWriter(v, 0), struct{ io.Reader }{f}, make([]byte, 1<<20))
			err = errors.Join(err, v.Close())
		}
		if err != nil {
			return "", loader.Refuse("storage", "%v", err)
		}
		s.p.show("%s: 100 %%", w.Partition)
	}
	s.p.o.Log("wrote " + strconv.FormatInt(w.Size, 10) + " bytes to " + w.Partition)
	s.forget()
	return digest, nil
}

func (s *loaderSide) forget() {
	_ = os.Remove(s.wishFile()) // or is begun again
	_ = os.Remove(s.partFile())
}

// manufacturers reports whether an image is the one the phone was sold with.
func (s *loaderSide) makers(partition string, size int64, digest string) bool {
	set, err := scenario.Images(scenario.Stock, s.p.spec.phone(s.p.model))
	sum := sha256.Sum256(set[partition])
	return err == nil && int64(len(set[partition])) == size && hex.EncodeToString(sum[:]) == digest
}

// Erase erases a partition.
func (s *loaderSide) Erase(word string, working func(int, string)) error {
	if !s.p.unlocked() {
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
	if err := s.p.store.Erase(part.Name); err != nil {
		return loader.Refuse("storage", "%v", err)
	}
	s.p.o.Log("erased " + part.Name)
	return nil
}

// Leave ends the loader.
func (s *loaderSide) Leave(to string) error {
	d := time.Duration(s.p.spec.Delays.Restart)
	switch to {
	case "system":
		s.p.move(string(card.System), d)
	case "off":
		s.p.move("off", d)
	case "loader":
		s.p.move(string(card.Loader), d)
	default:
		return loader.Refuse("format", "nothing is called %q", to)
	}
	return nil
}
