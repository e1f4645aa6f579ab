package loader_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/core/image/parttable"
	"jarlid/internal/link"
	"jarlid/internal/link/loader"
	"jarlid/internal/standin/standintest"
)

// TestVectors: a frame is the bytes that the document gives, both ways.
func TestVectors(t *testing.T) {
	doc, err := os.ReadFile("../../../docs/loader-protocol.md")
	if err != nil {
		t.Fatalf("os.ReadFile('../../../docs/loader-protocol.md'): %v", err)
	}
	count := 0
	for line := range strings.Lines(string(doc)) {
		text := strings.TrimSpace(line)
		if !strings.HasPrefix(line, "    a74c") {
			continue
		}
		raw, err := hex.DecodeString(text)
		if err != nil {
			t.Fatalf("hex.DecodeString(text): %q: %v; want no error", line, err)
		}
		f, err := loader.NewReader(bytes.NewReader(raw), 0).Next()
		if err != nil {
			t.Errorf("loader.NewReader(bytes.NewReader(raw), 0).Next(): %q: %v; want no error", line, err)
			continue
		}
		if again := f.Append(nil); !bytes.Equal(again, raw) {
			t.Errorf("%x becomes %x", raw, again)
		}
		count++
	}
	if count != 9 {
		t.Errorf("the document has %d frames", count)
	}
}

// TestReader: what is no frame is passed over: noise, half a frame, one that was changed, one whose
// length can't be; a megabyte of it is an error.
func TestReader(t *testing.T) {
	good := loader.Frame{Kind: loader.Ping, Number: 9, Payload: []byte("x")}.Append(nil)
	flipped := bytes.Clone(good)
	flipped[12] ^= 1
	long := bytes.Clone(good)
	long[11] = 0xff
	for name, before := range map[string][]byte{
		"nothing":        nil,
		"noise":          []byte("login: \r\n\xa7"),
		"half of one":    good[:9],
		"a changed one":  flipped,
		"one too long":   long,
		"marks":          bytes.Repeat([]byte{0xa7, 0x4c}, 9),
		"a byte lost":    append(bytes.Clone(good[:5]), good[6:]...),
		"a byte doubled": append(append(bytes.Clone(good[:5]), good[4]), good[5:]...),
		"other flags":    append(append(bytes.Clone(good[:3]), 1), good[4:]...),
	} {
		f, err := loader.NewReader(
			bytes.NewReader(append(bytes.Clone(before), append(good, make([]byte, 300)...)...)), 64).Next()
		if err != nil || f.Number != 9 || string(f.Payload) != "x" {
			t.Errorf("behind %s: %+v, %v", name, f, err)
		}
	}
	if _, err := loader.NewReader(bytes.NewReader(make([]byte, 3<<20)), 0).Next(); !errors.Is(err,
		loader.ErrNoise) {
		t.Errorf("zeros: %v", err)
	}
	if _, err := loader.NewReader(bytes.NewReader(good[:len(good)-1]), 0).Next(); !errors.Is(err, io.EOF) {
		t.Errorf("the end within: %v", err)
	}
}

func FuzzReader(f *testing.F) {
	f.Add([]byte("\xa7\x4c\x0a\x00\x07\x00\x00\x00\x00\x00\x00\x00\xda\x9f\x1e\xcc"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := loader.NewReader(bytes.NewReader(b), 4096)
		for {
			got, err := r.Next()
			if err != nil {
				return
			}
			if !bytes.Contains(b, got.Append(nil)) {
				t.Fatalf("a frame that is not there: %+v", got)
			}
		}
	})
}

func FuzzFields(f *testing.F) {
	f.Add([]byte("product=kn7001\nserial=S\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if fields, err := loader.ParseFields(b); err == nil {
			if again, err := loader.ParseFields(fields.Encode()); err != nil || len(again) != len(fields) {
				t.Fatalf("loader.ParseFields(fields.Encode()): %v %v; unwanted: err != nil || len(again) "+
					"!= len(fields)", again, err)
			}
			if legible := loader.Legible(b); !maps.Equal(legible, fields) {
				t.Fatalf("%v is legible as %v", fields, legible)
			}
		}
		if f := loader.Legible(b); len(f) > 0 {
			if _, err := loader.ParseFields(f.Encode()); err != nil {
				t.Fatalf("loader.ParseFields(f.Encode()): %v: %v; want no error", f, err)
			}
		}
	})
}

// phone is one behind a loader.
type phone struct {
	mu     sync.Mutex
	holds  map[string][]byte
	wish   string
	part   string
	got    []byte
	writes int
}

func (p *phone) Identity() loader.Fields { return loader.Fields{"product": "kn7001", "serial": "S"} }
func (p *phone) Facts() loader.Fields    { return loader.Fields{"unlocked": "yes"} }
func (p *phone) Table() []parttable.Partition {
	return []parttable.Partition{{Number: 4, Name: "recovery", Size: 1 << 20, Type: "raw", Readable: true,
		Writable: true}}
}

func (p *phone) ReadAt(name string, b []byte, off int64) error {
	h := p.holds[name]
	if h == nil || off+int64(len(b)) > int64(len(h)) {
		return loader.Refuse("no-partition", "there is no partition %s", name)
	}
	copy(b, h[off:])
	return nil
}

func (p *phone) Begin(name string, size int64, table, anew bool) (int64, string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if table {
		return 0, "", loader.Refuse("table", "never")
	}
	if w := fmt.Sprint(name, size); anew || w != p.wish {
		p.wish, p.part, p.got = w, name, nil
	}
	return int64(len(p.got)), digest(p.got), nil
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func (p *phone) Data(off int64, b []byte) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if off != int64(len(p.got)) {
		return loader.Refuse("order", "the next is %d", len(p.got))
	}
	p.got = append(p.got, b...)
	return nil
}

func (p *phone) End(want string, working func(int, string)) (string, error) {
	if digest(p.got) != want {
		p.wish, p.got = "", nil
		return "", loader.Refuse("digest", "what came is another image")
	}
	working(50, "writing")
	time.Sleep(20 * time.Second)
	working(-1, "still writing")
	p.mu.Lock()
	defer p.mu.Unlock()
	p.writes++
	p.holds[p.part] = p.got
	got := digest(p.got)
	p.wish, p.got = "", nil
	return got, nil
}

func (p *phone) Erase(string, func(int, string)) error { return loader.Refuse("locked", "never") }
func (p *phone) Leave(string) error                    { return nil }

// worn is a line that loses, doubles and changes bytes: each so-many-th of what is read from it.
type worn struct {
	net.Conn
	every, count int
	how          int
}

func (w *worn) Read(b []byte) (int, error) {
	one := make([]byte, len(b)/2+1)
	n, err := w.Conn.Read(one)
	out := b[:0]
	for _, c := range one[:n] {
		w.count++
		if w.every > 0 && w.count%w.every == 0 {
			switch w.how {
			case 0:
				continue
			case 1:
				out = append(out, c)
			case 2:
				c ^= 0x20
			}
		}
		out = append(out, c)
	}
	return len(out), err
}

// TestClient: hello, facts, table, reading, writing; over a good line, and over ones that lose, double
// and change bytes each way. An order is carried out once, and what arrives is what was sent.
func TestClient(t *testing.T) {
	image := bytes.Repeat([]byte("knots and waders "), 3000)
	for name, c := range map[string]struct{ every, how int }{
		"good":              {},
		"bytes are lost":    {9000, 0},
		"bytes are doubled": {7001, 1},
		"bytes are changed": {20011, 2},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				n := &standintest.Net{}
				l, err := n.Listen("tcp", "127.0.0.1:0")
				if err != nil {
					t.Fatalf("n.Listen('tcp', '127.0.0.1:0'): %v", err)
				}
				p := &phone{holds: map[string][]byte{"recovery": bytes.Clone(image)}}
				go func() {
					for {
						conn, err := l.Accept()
						if err != nil {
							return
						}
						go func() {
							conn.Write([]byte("loader 2.1 ready\r\n> "))
							_ = loader.Serve(&worn{Conn: conn, every: c.every, how: c.how}, p, 4096)
						}()
					}
				}()
				conn, err := n.DialContext(t.Context(), "tcp", l.Addr().String())
				if err != nil {
					t.Fatalf("n.DialContext('tcp', l.Addr().String()): %v", err)
				}
				k, err := loader.Connect(t.Context(), &worn{Conn: conn, every: c.every, how: c.how}, "test")
				if err != nil {
					t.Fatalf("loader.Connect(..., 'test'): %v", err)
				}
				var told []string
				k.Progress = func(n int, text string) { told = append(told, fmt.Sprint(n, text)) }
				if f, err := k.Facts(t.Context()); err != nil || f["unlocked"] != "yes" ||
					k.Told["product"] != "kn7001" {
					t.Errorf("k.Facts(): %v %v %v", f, k.Told, err)
				}
				if list, err := k.Table(t.Context()); err != nil || len(list) != 1 || list[0].Number != 4 {
					t.Errorf("k.Table(): %v %v; unwanted: err != nil || len(list) != 1 || "+
						"list[0].Number != 4", list, err)
				}
				var out bytes.Buffer
				if n, err := k.Read(t.Context(), "recovery", 0, int64(len(image)), &out); err != nil ||
					n != int64(len(image)) || !bytes.Equal(out.Bytes(), image) {
					t.Errorf("read %d: %v", n, err)
				}
				if got, err := k.Write(t.Context(), "recovery", bytes.NewReader(image), int64(len(image)),
					false, func(int64) {}); err != nil || got != digest(image) ||
					!bytes.Equal(p.holds["recovery"], image) || p.writes != 1 {
					t.Errorf("written %d times: %v", p.writes, err)
				}
				if len(told) < 2 || told[0] != "50writing" {
					t.Errorf("loader.Connect(..., 'test'): %q; unwanted: len(told) < 2 || told[0] != "+
						"'50writing'", told)
				}
				var no *loader.RefusedError
				var refused *link.RefusedError
				if err := k.Erase(t.Context(), "recovery"); !errors.As(err, &no) || no.Code != "locked" ||
					!errors.As(err, &refused) || refused.Message != "never" {
					t.Errorf("k.Erase('recovery'): %v", err)
				}
				if _, err := k.Write(t.Context(), "@table", bytes.NewReader(nil), 0, true,
					func(int64) {}); !errors.As(err, &no) || no.Code != "table" {
					t.Errorf("k.Write('@table', bytes.NewReader(nil), 0, true, ...): %v; unwanted: "+
						"!errors.As(err, &no) || no.Code != 'table'", err)
				}
				k.Close()
				l.Close()
				n.Cut()
			})
		})
	}
}

// TestResume: a write that was interrupted goes on where it was, on another line.
func TestResume(t *testing.T) {
	image := bytes.Repeat([]byte("0123456789abcdef"), 4096)
	synctest.Test(t, func(t *testing.T) {
		n := &standintest.Net{}
		l, _ := n.Listen("tcp", "127.0.0.1:0")
		p := &phone{holds: map[string][]byte{}}
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				_ = loader.Serve(conn, p, 4096) // one line at a time
			}
		}()
		connect := func() *loader.Client {
			conn, err := n.DialContext(t.Context(), "tcp", l.Addr().String())
			if err != nil {
				t.Fatalf("n.DialContext('tcp', l.Addr().String()): %v", err)
			}
			k, err := loader.Connect(t.Context(), conn, "test")
			if err != nil {
				t.Fatalf("loader.Connect(conn, 'test'): %v", err)
			}
			return k
		}
		k := connect()
		ctx, cancel := context.WithCancel(t.Context())
		_, err := k.Write(ctx, "recovery", bytes.NewReader(image), int64(len(image)), false, func(at int64) {
			if at > 30000 {
				cancel()
			}
		})
		if !errors.Is(err, context.Canceled) {
			t.Fatalf("k.Write('recovery', bytes.NewReader(image), int64(len(image)), false, ...): %v", err)
		}
		k.Close()
		k = connect()
		first := int64(-1)
		_, err = k.Write(t.Context(), "recovery", bytes.NewReader(image), int64(len(image)), false,
			func(at int64) {
				if first < 0 {
					first = at
				}
			})
		if err != nil || first < 30000 || !bytes.Equal(p.holds["recovery"], image) {
			t.Errorf("it went on at %d: %v", first, err)
		}
		// What is there of one image is not taken for the beginning of another of its size.
		if have, _, err := p.Begin("recovery", int64(len(image)), false, false); err != nil || have != 0 {
			t.Fatalf("p.Begin('recovery', int64(len(image)), false, false): got %v, %v", have, err)
		}
		if err := p.Data(0, image[:20000]); err != nil {
			t.Fatalf("p.Data(0, image[:20000]): %v", err)
		}
		other := bytes.Repeat([]byte("fedcba9876543210"), 4096)
		first = -1
		_, err = k.Write(t.Context(), "recovery", bytes.NewReader(other), int64(len(other)), false,
			func(at int64) {
				if first < 0 {
					first = at
				}
			})
		if err != nil || first != 0 || !bytes.Equal(p.holds["recovery"], other) {
			t.Errorf("another image goes on at %d: %v", first, err)
		}
		k.Close()
		l.Close()
		n.Cut()
	})
}

// TestOdd: who answers nothing, or something else.
func TestOdd(t *testing.T) {
	answer := func(f loader.Fields) func(net.Conn) {
		return func(c net.Conn) {
			q, err := loader.NewReader(c, 0).Next()
			if err == nil {
				c.Write(loader.Frame{Kind: loader.Done, Number: q.Number, Payload: f.Encode()}.Append(nil))
			}
			io.Copy(io.Discard, c)
		}
	}
	for name, c := range map[string]struct {
		far  func(net.Conn)
		rule bool
	}{
		"silence":  {func(c net.Conn) { io.Copy(io.Discard, c) }, false},
		"hangs up": {func(c net.Conn) { c.Close() }, false},
		"another protocol": {func(c net.Conn) {
			c.Write(bytes.Repeat([]byte("FAIL"), 1<<19))
			io.Copy(io.Discard, c)
		}, true},
		"another version":        {answer(loader.Fields{"version": "7", "payload": "4096"}), true},
		"a payload of no size":   {answer(loader.Fields{"version": "1", "payload": "7"}), true},
		"fields that can't be":   {answer(loader.Fields{"A B": "7"}), true},
		"says nothing in answer": {func(c net.Conn) { answer(nil)(c) }, true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				n := &standintest.Net{}
				l, _ := n.Listen("tcp", "127.0.0.1:0")
				go func() {
					if conn, err := l.Accept(); err == nil {
						c.far(conn)
					}
				}()
				conn, err := n.DialContext(t.Context(), "tcp", l.Addr().String())
				if err != nil {
					t.Fatalf("n.DialContext('tcp', l.Addr().String()): %v", err)
				}
				_, err = loader.Connect(t.Context(), conn, "test")
				var rule *link.ProtocolError
				var lost *link.LostError
				if errors.As(err, &rule) != c.rule || errors.As(err, &lost) == c.rule {
					t.Errorf("loader.Connect(conn, 'test'): %v; unwanted: errors.As(err, &rule) != c.rule "+
						"|| errors.As(err, &lost) == c.rule", err)
				}
				conn.Close()
				l.Close()
				n.Cut()
			})
		})
	}
}

// TestTerse: a loader that refuses to tell of itself is one all the same, one line that can't be read takes
// no other with it, and what an answer has that nobody asked for is left.
func TestTerse(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := &standintest.Net{}
		l, _ := n.Listen("tcp", "127.0.0.1:0")
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			for r := loader.NewReader(c, 0); ; {
				q, err := r.Next()
				if err != nil {
					return
				}
				a := map[loader.Kind]string{
					loader.Hello: "version=1\npayload=512\nscreen=\xff\xfe!\r\nproduct=kn7001\r\n",
					loader.Erase: "\x00",
					loader.Data:  "",
				}
				text, done := a[q.Kind]
				kind := loader.Done
				if !done {
					kind, text = loader.Failed, "code=storage\r\ntext=it is \x1b[31mfull\nmore"
				}
				c.Write(loader.Frame{Kind: kind, Number: q.Number, Payload: []byte(text)}.Append(nil))
			}
		}()
		conn, err := n.DialContext(t.Context(), "tcp", l.Addr().String())
		if err != nil {
			t.Fatalf("n.DialContext('tcp', l.Addr().String()): %v", err)
		}
		c, err := loader.Connect(t.Context(), conn, "test")
		if err != nil || c.Told["product"] != "kn7001" || c.Told["screen"] != "" {
			t.Fatalf("loader.Connect(conn, 'test'): %v %v", c, err)
		}
		if facts, err := c.Facts(t.Context()); err != nil || len(facts) != 0 {
			t.Errorf("c.Facts(): %v %v; unwanted: err != nil || len(facts) != 0", facts, err)
		}
		if table, err := c.Table(t.Context()); err != nil || len(table) != 0 {
			t.Errorf("c.Table(): %v %v; unwanted: err != nil || len(table) != 0", table, err)
		}
		if err := c.Ping(t.Context()); err != nil {
			t.Errorf("it is there: %v", err)
		}
		if err := c.Erase(t.Context(), "cache"); err != nil {
			t.Errorf("c.Erase('cache'): %v", err)
		}
		var refused *loader.RefusedError
		if err := c.Leave(t.Context(), "system"); !errors.As(err, &refused) || refused.Code != "storage" ||
			refused.Text != "it does not say why" {
			t.Errorf("c.Leave('system'): %v", err)
		}
		c.Close()
		l.Close()
		n.Cut()
	})
}

// narrow is a line on which messages that are longer than it holds never arrive whole: the driver of one
// without a word for "wait" drops the rest.
type narrow struct {
	net.Conn
	holds int
	keeps int // what its driver says of itself; 0: nothing
}

func (n *narrow) Write(b []byte) (int, error) {
	if len(b) <= n.holds {
		return n.Conn.Write(b)
	}
	if _, err := n.Conn.Write(b[:n.holds]); err != nil {
		return 0, err
	}
	return len(b), nil
}

// known is one that says what it keeps.
type known struct{ *narrow }

func (k known) Keeps() int { return k.keeps }

// TestNarrow: a line that loses large messages has smaller ones, each way; one that says what it keeps is
// never asked for more; one that lets none through is given up in time.
func TestNarrow(t *testing.T) {
	image := bytes.Repeat([]byte("0123456789abcdef"), 4096)
	for name, c := range map[string]struct {
		out, in, keeps int
		works          bool
		within         time.Duration
	}{
		"both ways":    {out: 3000, in: 3000, works: true, within: 2 * time.Minute},
		"what is sent": {out: 700, in: 1 << 20, works: true, within: 2 * time.Minute},
		"what is read": {out: 1 << 20, in: 700, works: true, within: 2 * time.Minute},
		// no wait but the phone's own
		"what is read, as said": {out: 1 << 20, in: 2048, keeps: 2048, works: true, within: 25 * time.Second},
		"nothing large at all":  {out: 300, in: 1 << 20, within: 2 * time.Minute},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				wire := &standintest.Net{}
				l, err := wire.Listen("tcp", "127.0.0.1:0")
				if err != nil {
					t.Fatalf("wire.Listen('tcp', '127.0.0.1:0'): %v", err)
				}
				p := &phone{holds: map[string][]byte{}}
				go func() {
					if conn, err := l.Accept(); err == nil {
						_ = loader.Serve(&narrow{Conn: conn, holds: c.in}, p, 32<<10)
					}
				}()
				conn, err := wire.DialContext(t.Context(), "tcp", l.Addr().String())
				if err != nil {
					t.Fatalf("wire.DialContext('tcp', l.Addr().String()): %v", err)
				}
				var s loader.Stream = &narrow{Conn: conn, holds: c.out}
				if c.keeps > 0 {
					s = known{&narrow{Conn: conn, holds: c.out, keeps: c.keeps}}
				}
				began := time.Now()
				k, err := loader.Connect(t.Context(), s, "test")
				if err != nil {
					t.Fatalf("loader.Connect(s, 'test'): %v", err)
				}
				_, err = k.Write(t.Context(), "recovery", bytes.NewReader(image), int64(len(image)), false,
					func(int64) {})
				var out bytes.Buffer
				if err == nil {
					_, err = k.Read(t.Context(), "recovery", 0, int64(len(image)), &out)
				}
				if took := time.Since(began); took > c.within {
					t.Errorf("it took %v", took)
				}
				var lost *link.LostError
				if c.works && (err != nil || p.writes != 1 || !bytes.Equal(out.Bytes(), image)) ||
					!c.works && !errors.As(err, &lost) {
					t.Errorf("written %d times, %d bytes read: %v", p.writes, out.Len(), err)
				}
				k.Close()
				l.Close()
				wire.Cut()
			})
		})
	}
}
