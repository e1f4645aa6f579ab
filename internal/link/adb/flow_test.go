package adb

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// silent makes sure that the client sends nothing for a while.
func (w *wire) silent(d time.Duration) {
	w.c.SetReadDeadline(time.Now().Add(d))
	if n, err := w.c.Read(make([]byte, 1)); err == nil {
		w.t.Errorf("the client sent %d bytes where it had to wait", n)
	}
	w.c.SetReadDeadline(time.Now().Add(10 * time.Second))
}

// TestFlow: a client sends the next piece only when the one before it was
// acknowledged, and none larger than the phone takes; what belongs to another stream in
// between does not confuse it.
func TestFlow(t *testing.T) {
	for name, max := range map[string]uint32{"old": 4096, "new": 64 << 10} {
		t.Run(name, func(t *testing.T) {
			body := bytes.Repeat([]byte("count "), 40000)
			got := bytes.Buffer{}
			version := uint32(newVersion)
			if name == "old" {
				version = oldVersion
			}
			c, err := dial(t, Options{}, func(w *wire) {
				w.sums = name == "old"
				w.get("CNXN")
				w.put("CNXN", version, max, "device::")
				id, _, service := w.get("OPEN")
				if service != "sync:\x00" {
					t.Errorf("%q; unwanted: service != 'sync:\\x00'", service)
				}
				w.put("OKAY", 7, id, "")
				for {
					from, to, data := w.get("WRTE")
					if from != id || to != 7 || len(data) > int(max) || len(data) == 0 {
						t.Errorf("a piece of %d bytes from %d to %d", len(data), from, to)
						return
					}
					got.WriteString(data)
					if got.Len() < 5*int(max) { // not each time: it would take long
						w.silent(5 * time.Millisecond)
						w.put("OKAY", 99, 98, "") // of a stream nobody opened
						w.put("WRTE", 99, 98, "nothing")
						if kind, _, _ := w.get("CLSE"); kind != 0 && kind != 98 {
							t.Errorf("CLSE of %d", kind)
						}
					}
					w.put("OKAY", 7, id, "")
					if strings.Contains(data, "DONE") ||
						bytes.HasSuffix(got.Bytes(), []byte{'D', 'O', 'N', 'E', 1, 0, 0, 0}) {
						break
					}
				}
				w.put("WRTE", 7, id, "OKAY\x00\x00\x00\x00")
				w.get("OKAY")
			})
			if err != nil {
				t.Fatalf("dial(...): %v", err)
			}
			y, err := c.Sync(t.Context())
			if err == nil {
				err = y.Send(t.Context(), "/sdcard/x", 0o100644, time.Unix(1, 0), bytes.NewReader(body), nil)
			}
			if err != nil {
				t.Fatalf("c.Sync(): %v", err)
			}
			if n := bytes.Count(got.Bytes(), []byte("count ")); n < 39900 {
				// some are cut by the packets' heads
				t.Errorf("%d of 40000 arrived whole", n)
			}
		})
	}
}

// TestAsked: both ends of this package; the owner says no, then yes, and is not
// asked again.
func TestAsked(t *testing.T) {
	k, err := LoadKey(filepath.Join("testdata", "key.pem"), "me@here")
	if err != nil {
		t.Fatalf("LoadKey(..., 'me@here'): %v", err)
	}
	var known []string
	answers, asked := []bool{false, true}, 0
	d := &Device{Version: VersionNoSum, MaxPayload: MaxPayload, Banner: Banner{Kind: "device"},
		Knows: func() []string { return known },
		Ask: func(_ context.Context, public string) bool {
			yes := answers[asked]
			asked++
			if yes {
				known = append(known, strings.TrimRight(public, "\x00"))
			}
			return yes
		},
		Serve: func(string, *Stream) bool { return false }}
	connect := func() error {
		a, b := net.Pipe()
		go func() {
			c, err := d.Accept(t.Context(), b)
			if err != nil {
				b.Close()
				return
			}
			<-c.Done()
		}()
		c, err := Connect(t.Context(), a, Options{Key: k, Offer: true})
		if err == nil {
			c.Close()
		}
		return err
	}
	var denied *NotAuthorisedError
	if err := connect(); !errors.As(err, &denied) {
		t.Errorf("the owner said no: %v", err)
	}
	for range 2 {
		if err := connect(); err != nil {
			t.Errorf("the owner said yes: %v", err)
		}
	}
	if asked != 2 {
		t.Errorf("asked %d times", asked)
	}
}

// TestTwice: a phone that confirms an opening twice, and messages with the numbers of a stream
// that is not this one, neither hang the client nor end its stream.
func TestTwice(t *testing.T) {
	c, err := dial(t, Options{}, func(w *wire) {
		w.get("CNXN")
		w.put("CNXN", newVersion, 4096, "device::")
		for range 2 {
			id, _, _ := w.get("OPEN")
			w.put("OKAY", 7, id, "")
			w.put("OKAY", 7, id, "")
			w.put("CLSE", 8, id, "")      // another stream's end
			w.put("WRTE", 8, id, "never") // and its data, which is answered by its end
			if _, to, _ := w.get("CLSE"); to != 8 {
				t.Errorf("the foreign stream %d is closed", to)
			}
			w.put("WRTE", 7, id, "well")
			w.get("OKAY")
			w.put("CLSE", 7, id, "")
			w.get("CLSE")
		}
	})
	if err != nil {
		t.Fatalf("dial(...): %v", err)
	}
	for range 2 {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		s, err := c.Open(ctx, "shell:x")
		if err != nil {
			t.Fatalf("c.Open('shell:x'): %v", err)
		}
		b, err := io.ReadAll(s.With(ctx))
		if string(b) != "well" || err != nil {
			t.Errorf("io.ReadAll(s.With(ctx)): %q, %v; unwanted: string(b) != 'well' || err != nil", b, err)
		}
		s.Close()
		cancel()
	}
}
