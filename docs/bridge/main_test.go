package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net"
	"testing"

	"jarlid/internal/core/image/parttable"
	"jarlid/internal/link/loader"
)

// phone is behind the loader that the bridge forwards to.
type phone struct{ got, held []byte }

func (p *phone) Identity() loader.Fields { return loader.Fields{"product": "kn7001"} }
func (p *phone) Facts() loader.Fields    { return loader.Fields{"unlocked": "yes"} }
func (p *phone) Table() []parttable.Partition {
	return []parttable.Partition{{Number: 1, Name: "recovery", Size: 1 << 20, Readable: true, Writable: true}}
}
func (p *phone) ReadAt(_ string, b []byte, off int64) error {
	copy(b, p.held[off:])
	return nil
}
func (p *phone) Begin(string, int64, bool, bool) (int64, string, error) {
	p.got = nil
	return 0, "", nil
}
func (p *phone) Data(_ int64, b []byte) error { p.got = append(p.got, b...); return nil }
func (p *phone) End(_ string, working func(int, string)) (string, error) {
	working(10, "writing")
	p.held = p.got
	sum := sha256.Sum256(p.got)
	return hex.EncodeToString(sum[:]), nil
}
func (p *phone) Erase(string, func(int, string)) error { return loader.Refuse("locked", "never") }
func (p *phone) Leave(string) error                    { return nil }

// TestBridge: what Jar Lid's own client does reaches the loader through the example, and back.
func TestBridge(t *testing.T) {
	listen := func(do func(net.Conn)) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatalf("net.Listen('tcp', '127.0.0.1:0'): %v", err)
		}
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				do(conn)
			}
		}()
		return l.Addr().String()
	}
	p := &phone{}
	far := listen(func(c net.Conn) { c.Write([]byte("noise\r\n")); loader.Serve(c, p, 64<<10) })
	near := listen(func(c net.Conn) { serve(c, far) })
	conn, err := net.Dial("tcp", near)
	if err != nil {
		t.Fatalf("net.Dial('tcp', near): %v", err)
	}
	defer conn.Close()
	c, err := loader.Connect(t.Context(), conn, "test")
	if err != nil || c.Told["product"] != "kn7001" {
		t.Fatalf("loader.Connect(conn, 'test'): %v %v; unwanted: err != nil || c.Told['product'] != 'kn7001'",
			c, err)
	}
	image := bytes.Repeat([]byte("knot"), 100_000)
	sum := sha256.Sum256(image)
	if got, err := c.Write(t.Context(), "recovery", bytes.NewReader(image), int64(len(image)), false,
		func(int64) {}); err != nil || got != hex.EncodeToString(sum[:]) {
		t.Fatalf("c.Write('recovery', bytes.NewReader(image), int64(len(image)), false, ...): got %v, %v",
			got, err)
	}
	var out bytes.Buffer
	if _, err := c.Read(t.Context(), "recovery", 0, int64(len(image)), &out); err != nil ||
		!bytes.Equal(out.Bytes(), image) {
		t.Errorf("%d bytes, %v", out.Len(), err)
	}
	if err := c.Erase(t.Context(), "recovery"); err == nil {
		t.Error("a refusal is lost on the way")
	}
}
