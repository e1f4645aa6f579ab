package e2e

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/bench"
)

// TestWhy gives each cause for which a phone is not here, one after the other.
func TestWhy(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		cause := func(code int, args ...string) (c struct{ Cause, Fingerprint, Mode string }) {
			t.Helper()
			var r struct {
				Causes []struct{ Cause, Fingerprint, Mode string }
			}
			l.result(code, &r, append([]string{"bench", "--why"}, args...)...)
			if len(r.Causes) == 0 {
				t.Fatal("no cause")
			}
			return r.Causes[0]
		}
		l.want(4, []string{"no phone is listed"}, "bench", "--why")
		l.standin("dunlin")
		if c := cause(0); c.Cause != "here" || c.Mode != "bootloader" {
			t.Errorf("a phone that is here: %+v", c)
		}
		l.want(0, nil, "standin", "press", "dunlin", "start")
		l.until("bench shows not authorised", func() bool {
			_, out := l.run("bench")
			return strings.Contains(out, "not authorised")
		})
		if c := cause(4); c.Cause != "not-authorised" || len(c.Fingerprint) != 47 {
			t.Errorf("a phone that does not know this computer: %+v", c)
		}
		l.want(0, nil, "standin", "press", "dunlin", "power-long")
		l.until("the phone is off", func() bool {
			_, out := l.run("bench", "--why")
			return strings.Contains(out, "absent")
		})
		if c := cause(4); c.Cause != "absent" {
			t.Errorf("a phone that is off: %+v", c)
		}
		b := must(bench.Open(bench.Options{Home: l.home, Locks: filepath.Join(l.dir, "locks"), Dial: l.net}))
		entries := must(b.Entries())
		if len(entries) != 1 {
			t.Fatalf("%d phones are listed", len(entries))
		}
		// Something that takes the connection and says nothing, something that speaks
		// another protocol.
		serve := func(hello string) string {
			s := must(l.net.Listen("tcp", "127.0.0.1:0"))
			t.Cleanup(func() { s.Close() })
			go func() {
				for {
					c, err := s.Accept()
					if err != nil {
						return
					}
					c.Write([]byte(hello))
					t.Cleanup(func() { c.Close() })
				}
			}()
			return "tcp:" + s.Addr().String()
		}
		if c := cause(4, "--on", serve("")); c.Cause != "offline" {
			t.Errorf("silence: %+v", c)
		}
		if c := cause(4, "--on", serve("HTTP/1.1 400 Bad Request\r\n\r\n")); c.Cause != "wrong-protocol" {
			t.Errorf("another service: %+v", c)
		}
		twin := entries[0]
		twin.Name = "twin"
		if err := b.Register(twin); err != nil {
			t.Fatalf("b.Register(twin): %v", err)
		}
		l.want(0, nil, "standin", "press", "dunlin", "volume-down+power")
		l.untilMode("dunlin", "bootloader")
		if out := l.want(4, []string{"same-serial"}, "bench", "--why"); !strings.Contains(out, "good") {
			t.Errorf("one of the two is here: %s", out)
		}
		// A job holds the lock while it waits for hands.
		if err := b.Unregister(twin); err != nil {
			t.Fatalf("b.Unregister(twin): %v", err)
		}
		p := must(b.Pick(t.Context(), "dunlin"))
		unlock := must(p.Lock(p.LockNames()...))
		if c := cause(4); c.Cause != "busy" {
			t.Errorf("a phone another jarlid works on: %+v", c)
		}
		unlock()
	})
}

// TestWatch shows a phone that comes and goes.
func TestWatch(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		lines := make(chan string, 100)
		watch := l.begin(false, "", func(s string) { lines <- s }, "bench", "--watch", "--json")
		wait := func(what string) {
			t.Helper()
			for limit := time.After(20 * time.Second); ; {
				select {
				case s := <-lines:
					if strings.Contains(s, what) {
						return
					}
				case <-limit:
					t.Fatalf("it never showed %s", what)
				}
			}
		}
		wait(`"mode":"bootloader"`)
		l.want(0, nil, "standin", "press", "dunlin", "power-long")
		wait(`"absent":["dunlin"]`)
		l.want(0, nil, "standin", "press", "dunlin", "volume-down+power")
		wait(`"mode":"bootloader"`)
		watch.interrupt <- struct{}{}
		<-watch.done
	})
}
