package fastboot

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/link"
)

// wire is a bootloader written by hand, byte by byte.
type wire struct {
	t    *testing.T
	c    net.Conn
	step int // bytes written at a time; 0: all at once
}

func (w *wire) raw(b []byte) {
	step := w.step
	if step == 0 {
		step = len(b)
	}
	for at := 0; at < len(b); at += step {
		if _, err := w.c.Write(b[at:min(at+step, len(b))]); err != nil {
			return
		}
	}
}

func (w *wire) put(s ...string) {
	for _, p := range s {
		w.raw(append(binary.BigEndian.AppendUint64(nil, uint64(len(p))), p...))
	}
}

func (w *wire) get() string {
	var h [8]byte
	if _, err := io.ReadFull(w.c, h[:]); err != nil {
		return "gone"
	}
	b := make([]byte, binary.BigEndian.Uint64(h[:]))
	io.ReadFull(w.c, b)
	return string(b)
}

func (w *wire) want(s string) {
	if got := w.get(); got != s {
		w.t.Errorf("the client sent %q, want %q", got, s)
	}
}

func dial(t *testing.T, hello string, step int, script func(w *wire)) (*Client, error) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatalf("net.Listen('tcp', '127.0.0.1:0'): %v", err)
	}
	var wg sync.WaitGroup
	wg.Go(func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(10 * time.Second))
		w := &wire{t, c, step}
		var h [4]byte
		if _, err := io.ReadFull(c, h[:]); err != nil || string(h[:]) != "FB01" {
			t.Errorf("the client began with %q", h)
		}
		w.raw([]byte(hello))
		if script != nil {
			script(w)
		}
	})
	t.Cleanup(func() { l.Close(); wg.Wait() })
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	tcp, err := dialTCP(ctx, l.Addr().String())
	if err != nil {
		return nil, err
	}
	t.Cleanup(func() { tcp.Close() })
	return New(tcp), nil
}

// TestAnswers: every legal shape of an answer, in any portions.
func TestAnswers(t *testing.T) {
	for _, step := range []int{0, 1, 5} {
		c, err := dial(t, "FB02", step, func(w *wire) {
			w.want("getvar:version")
			w.put("OKAY0.4")
			w.want("getvar:nothing")
			w.put("FAILunknown variable")
			w.want("getvar:silent")
			w.put("OKAY")
			w.want("oem lines")
			w.put("INFOone", "TEXTtwo ", "TEXThalves\nthree\n", "INFO", "OKAYend")
			w.want("download:00000005")
			w.put("INFOwait", "DATA00000005")
			w.want("hello")
			w.put("OKAY")
			w.want("flash:boot")
			w.put("FAIL")
		})
		if err != nil {
			t.Fatalf("dial('FB02', step, ...): %v", err)
		}
		ctx := t.Context()
		if v, ok, err := c.GetVar(ctx, "version"); v != "0.4" || !ok || err != nil {
			t.Errorf("version %q, %v, %v", v, ok, err)
		}
		for _, name := range []string{"nothing", "silent"} {
			if v, ok, err := c.GetVar(ctx, name); v != "" || ok || err != nil {
				t.Errorf("c.GetVar(%v): %s: %q, %v, %v; unwanted: v != '' || ok || err != nil", name, name,
					v, ok, err)
			}
		}
		a, err := c.Command(ctx, "oem lines", time.Second)
		if want := (Answer{Text: "end", Lines: []string{"one", "", "two halves", "three"}}); err != nil ||
			!reflect.DeepEqual(a, want) {
			t.Errorf("c.Command('oem lines', time.Second): %+v, %v; unwanted: err != nil || "+
				"!reflect.DeepEqual(a, want)", a, err)
		}
		if err := c.Download(ctx, 5, strings.NewReader("hello"), nil); err != nil {
			t.Errorf("c.Download(5, strings.NewReader('hello')): %v", err)
		}
		var refused *link.RefusedError
		if _, err := c.Flash(ctx, "boot"); !errors.As(err, &refused) || refused.Command != "flash:boot" {
			t.Errorf("a FAIL without a text: %v", err)
		}
	}
}

// TestBadPhones: what is against the protocol ends in a typed error, and the
// client says nothing more.
func TestBadPhones(t *testing.T) {
	var rule *link.ProtocolError
	var lost *link.LostError
	for name, c := range map[string]struct {
		script func(w *wire)
		target any
	}{
		"a word of its own": {func(w *wire) { w.put("WAIT") }, &rule},
		"too short":         {func(w *wire) { w.put("OK") }, &rule},
		"too long":          {func(w *wire) { w.put("INFO" + strings.Repeat("x", 300)) }, &rule},
		"huge":              {func(w *wire) { w.raw([]byte("\xff\xff\xff\xff\xff\xff\xff\xff")) }, &rule},
		"more than offered": {func(w *wire) { w.put("DATA00000006") }, &rule},
		"less than offered": {func(w *wire) { w.put("DATA00000004") }, &rule},
		"no number":         {func(w *wire) { w.put("DATAxyz") }, &rule},
		"endless lines": {func(w *wire) {
			for range 30000 {
				w.put("INFOagain")
			}
		}, &rule},
		"cut in a header": {func(w *wire) { w.raw([]byte{0, 0, 0}) }, &lost},
		"cut in a packet": {func(w *wire) {
			w.raw([]byte("\x00\x00\x00\x00\x00\x00\x00\x08OKAY"))
		}, &lost},
		"okay without data": {func(w *wire) { w.put("OKAY") }, &rule},
		"data a second time": {func(w *wire) {
			w.put("DATA00000005")
			w.get()
			w.put("DATA00000005")
		}, &rule},
	} {
		client, err := dial(t, "FB01", 0, func(w *wire) { w.get(); c.script(w) })
		if err != nil {
			t.Fatalf("dial('FB01', 0, ...): %v", err)
		}
		err = client.Download(t.Context(), 5, strings.NewReader("hello"), nil)
		if err == nil || !errors.As(err, c.target) {
			t.Errorf("%s: the error is %T %v, want %T", name, err, err, c.target)
		}
		if _, _, again := client.GetVar(t.Context(), "x"); again == nil {
			t.Errorf("%s: the client goes on", name)
		}
	}
	if _, err := dial(t, "HTTP", 0, nil); !errors.As(err, &rule) {
		t.Errorf("a handshake of something else: %v", err)
	}
	c, err := dial(t, "FB01", 0, func(w *wire) { w.get(); w.get() })
	if err != nil {
		t.Fatalf("dial('FB01', 0, ...): %v", err)
	}
	if _, err := c.Command(t.Context(), "reboot", 50*time.Millisecond); !errors.As(err, &lost) ||
		!strings.Contains(err.Error(), "silent") {
		t.Errorf("silence: %v", err)
	}
	// Silence shorter than the limit is none; every line starts it again.
	c, err = dial(t, "FB01", 0, func(w *wire) {
		w.get()
		for range 4 {
			time.Sleep(60 * time.Millisecond)
			w.put("INFOstill writing")
		}
		w.put("OKAY")
	})
	if err != nil {
		t.Fatalf("dial('FB01', 0, ...): %v", err)
	}
	if _, err := c.Command(t.Context(), "flash:system", 2*time.Second); err != nil {
		t.Errorf("c.Command('flash:system', 2*time.Second): %v", err)
	}
}

func FuzzAnswer(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x00\x00\x00\x00\x04OKAY"))
	f.Add([]byte("\x00\x00\x00\x00\x00\x00\x00\x05INFOx\x00\x00\x00\x00\x00\x00\x00\x0cDATA00000010"))
	f.Fuzz(func(t *testing.T, b []byte) {
		a, far := net.Pipe()
		go io.Copy(io.Discard, far)
		go func() {
			io.Copy(far, io.MultiReader(strings.NewReader("FB01"), bytes.NewReader(b)))
			far.Close()
		}()
		tcp, err := NewTCP(t.Context(), a)
		if err != nil {
			a.Close()
			return
		}
		New(tcp).Command(t.Context(), "x", 50*time.Millisecond)
		a.Close()
	})
}

// dialTCP connects to a phone at host:port and shakes hands.
func dialTCP(ctx context.Context, address string) (*TCP, error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	t, err := NewTCP(ctx, conn)
	if err != nil {
		conn.Close()
	}
	return t, err
}

// TestOddVariables: names in any case, texts that end as C's do, values that say that there is
// none, and words of people's terminals that are never on the wire.
func TestOddVariables(t *testing.T) {
	c, err := dial(t, "FB01", 0, func(w *wire) {
		w.want("getvar:all")
		w.put("INFOProduct: dunlin\x00", "INFOSLOT-COUNT: 0x2", "INFOPartition-Size:Boot_a: 0x2000\x00\x00",
			"INFOvariant: unknown", "INFO(bootloader) serialno: X",
			"TEXTunlocked: y", "TEXTes\n\x00", "OKAY\x00")
		w.want("getvar:hw-revision")
		w.put("OKAYunknown")
		w.want("getvar:serialno")
		w.put("OKAYWL-DU-0007\x00")
	})
	if err != nil {
		t.Fatalf("dial('FB01', 0, ...): %v", err)
	}
	vars, err := c.Variables(t.Context())
	want := map[string]string{
		"product":               "dunlin",
		"slot-count":            "0x2",
		"partition-size:Boot_a": "0x2000",
		"unlocked":              "yes",
		"(bootloader) serialno": "X",
	}
	if err != nil || !reflect.DeepEqual(vars, want) {
		t.Errorf("c.Variables(): %v, %v; unwanted: err != nil || !reflect.DeepEqual(vars, want)", vars, err)
	}
	if v, ok, err := c.GetVar(t.Context(), "hw-revision"); v != "" || ok || err != nil {
		t.Errorf("c.GetVar('hw-revision'): %q %v %v; unwanted: v != '' || ok || err != nil", v, ok, err)
	}
	if v, _, err := c.GetVar(t.Context(), "serialno"); v != "WL-DU-0007" || err != nil {
		t.Errorf("c.GetVar('serialno'): %q %v; unwanted: v != 'WL-DU-0007' || err != nil", v, err)
	}
}

// TestSetActive: a bootloader that knows slots by their suffixes is asked so too; one that refuses
// both is heard with its first answer.
func TestSetActive(t *testing.T) {
	c, err := dial(t, "FB01", 0, func(w *wire) {
		w.want("set_active:b")
		w.put("FAILno such slot")
		w.want("set_active:_b")
		w.put("OKAY")
		w.want("set_active:b")
		w.put("FAILlocked")
		w.want("set_active:_b")
		w.put("FAILno such slot")
	})
	if err != nil {
		t.Fatalf("dial('FB01', 0, ...): %v", err)
	}
	if _, err := c.SetActive(t.Context(), "b"); err != nil {
		t.Errorf("c.SetActive('b'): %v", err)
	}
	var refused *link.RefusedError
	if _, err := c.SetActive(t.Context(), "b"); !errors.As(err, &refused) || refused.Message != "locked" {
		t.Errorf("c.SetActive('b'): %v; unwanted: !errors.As(err, &refused) || refused.Message != 'locked'",
			err)
	}
}
