package lift

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"strings"
	"sync"
	"testing"

	"jarlid/internal/core/image/payload"
)

// TestSafe: names that lead out of the folder, on any system, are refused.
func TestSafe(t *testing.T) {
	for name, want := range map[string]string{"a.img": "a.img", "a/b": "a/b", `a\b`: "a/b", "../a": "",
		"a/../../b": "", "a/../b": "b", "/a": "", `\a`: "",
		`c:\a`: "", "": "", ".": "", "a//b": "a/b", "a\x00b": "", "..a": "..a"} {
		got, err := safe(name)
		var unsafe *UnsafeNameError
		if got != want || (err == nil) != (want != "") || err != nil && !errors.As(err, &unsafe) {
			t.Errorf("%q: %q, %v; want %q", name, got, err, want)
		}
	}
}

// memory is an Out that remembers what was written and what was left a hole.
type memory struct {
	mu    sync.Mutex
	b     []byte
	wrote int
}

func (m *memory) grow(n int64) {
	if n > int64(len(m.b)) {
		m.b = append(m.b, make([]byte, n-int64(len(m.b)))...)
	}
}

func (m *memory) WriteAt(p []byte, off int64) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.grow(off + int64(len(p)))
	m.wrote += len(p)
	return copy(m.b[off:], p), nil
}

func (m *memory) ReadAt(p []byte, off int64) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return bytes.NewReader(m.b).ReadAt(p, off)
}

func (m *memory) Zero(off, n int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.grow(off + n)
	clear(m.b[off : off+n])
	return nil
}

func (m *memory) SetSize(n int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.grow(n)
	m.b = m.b[:n]
	return nil
}

// broken ends with an error after its text.
type broken struct{ io.Reader }

func (b broken) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// TestCopy: zeros become holes, the digest is of all bytes, limits and early
// ends are noticed.
func TestCopy(t *testing.T) {
	src := append(append(bytes.Repeat([]byte("x"), piece), make([]byte, 2*piece)...), "end"...)
	m := &memory{}
	got, err := copyTo(t.Context(), m, bytes.NewReader(src), -1, 1<<30, func(int64) {})
	if want := sha256.Sum256(src); err != nil || !bytes.Equal(got, want[:]) || !bytes.Equal(m.b, src) ||
		m.wrote != piece+3 {
		t.Errorf("%d bytes, %d of them written, %v", len(m.b), m.wrote, err)
	}
	var large *TooLargeError
	if _, err := copyTo(t.Context(), &memory{}, bytes.NewReader(src), -1, piece, func(int64) {}); !errors.As(
		err, &large) || large.Limit != piece {
		t.Errorf("over the limit: %v", err)
	}
	for name, r := range map[string]io.Reader{"shorter than stated": strings.NewReader("abc"),
		"broken": broken{strings.NewReader("abcd")}} {
		if _, err := copyTo(t.Context(), &memory{}, r, 4, 1<<30, func(int64) {}); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := copyTo(ctx, &memory{}, bytes.NewReader(src), -1, 1<<30, func(int64) {}); !errors.Is(err,
		context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
}

// TestPartition: a partition comes out the same from parallel operations and
// from the digest alone; a manifest that states another digest is noticed.
func TestPartition(t *testing.T) {
	data := bytes.Repeat([]byte("saltmarsh at low tide "), 400000)
	var b bytes.Buffer
	if err := payload.Write(&b, 1, []payload.Source{{Name: "system", Data: data}}); err != nil {
		t.Fatalf("payload.Write(&b, 1, ...): %v", err)
	}
	r := bytes.NewReader(b.Bytes())
	p, err := payload.Parse(r, int64(b.Len()))
	if err != nil {
		t.Fatalf("payload.Parse(r, int64(b.Len())): %v", err)
	}
	part := &p.Partitions[0]
	m := &memory{}
	one, err1 := partition(t.Context(), p, part, r, m, func(int64) {})
	two, err2 := Digest(t.Context(), p, part, r, func(int64) {})
	if err1 != nil || err2 != nil || !bytes.Equal(one, two) || !bytes.Equal(m.b[:len(data)], data) {
		t.Errorf("%x and %x: %v, %v", one, two, err1, err2)
	}
	part.Hash = bytes.Clone(part.Hash)
	part.Hash[0] ^= 1
	var wrong *DigestError
	if _, err := partition(t.Context(), p, part, r, &memory{}, func(int64) {}); !errors.As(err, &wrong) {
		t.Errorf("another digest stated: %v", err)
	}
	part.Ops[0], part.Ops[1] = part.Ops[1], part.Ops[0]
	part.Hash[0] ^= 1
	if got, err := partition(t.Context(), p, part, r, &memory{}, func(int64) {}); err != nil ||
		!bytes.Equal(got, one) {
		t.Errorf("operations out of order: %x, %v", got, err)
	}
	if got, err := Digest(t.Context(), p, part, r, func(int64) {}); err != nil || !bytes.Equal(got, one) {
		t.Errorf("the digest of operations out of order: %x, %v", got, err)
	}
	// Zeros over all of it first: what is written later counts, however many do it at once.
	whole := payload.Operation{Type: payload.Zero, Dst: []payload.Extent{{Start: 0,
		Blocks: part.Size / p.BlockSize}}}
	part.Ops = append([]payload.Operation{whole}, part.Ops...)
	m = &memory{}
	one, err1 = partition(t.Context(), p, part, r, m, func(int64) {})
	two, err2 = Digest(t.Context(), p, part, r, func(int64) {})
	want := sha256.Sum256(m.b[:part.Size])
	if err1 != nil || err2 != nil || !bytes.Equal(one, two) || !bytes.Equal(one, want[:]) ||
		!bytes.Equal(m.b[:len(data)], data) {
		t.Errorf("zeros before the data: %x and %x: %v, %v", one, two, err1, err2)
	}
	// Over a block at last: it is what is there, and the manifest's digest is of other bytes.
	part.Ops = append(part.Ops, payload.Operation{Type: payload.Zero, Dst: []payload.Extent{{Start: 1,
		Blocks: 1}}})
	part.Hash = nil
	m = &memory{}
	one, err1 = partition(t.Context(), p, part, r, m, func(int64) {})
	two, err2 = Digest(t.Context(), p, part, r, func(int64) {})
	changed := bytes.Clone(m.b[:part.Size])
	clear(changed[p.BlockSize : 2*p.BlockSize])
	want = sha256.Sum256(changed)
	if err1 != nil || err2 != nil || !bytes.Equal(one, two) || !bytes.Equal(one, want[:]) ||
		!bytes.Equal(m.b[:part.Size], changed) {
		t.Errorf("zeros after the data: %x and %x: %v, %v", one, two, err1, err2)
	}
}
