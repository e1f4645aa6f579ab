package loader_test

import (
	"bytes"
	"errors"
	"net"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/loader"
	"jarlid/internal/standin/standintest"
)

// spoiler harms one message, the nth that is written to it: each end writes a message at once.
type spoiler struct {
	net.Conn
	n    *int
	harm func(b []byte) [][]byte // what goes over the line in its place; nil: the line is cut
}

func (s *spoiler) Write(b []byte) (int, error) {
	*s.n--
	parts := [][]byte{b}
	if *s.n == 0 {
		if parts = s.harm(b); parts == nil {
			return 0, s.Conn.Close()
		}
	}
	for _, p := range parts {
		if _, err := s.Conn.Write(p); err != nil {
			return 0, err
		}
	}
	return len(b), nil
}

// harms are what happens to a message on a serial line; what is cut goes on over another line.
var harms = map[string]func(b []byte) [][]byte{
	"lost whole":     func([]byte) [][]byte { return [][]byte{} },
	"a byte is lost": func(b []byte) [][]byte { return [][]byte{b[:len(b)/2], b[len(b)/2+1:]} },
	"a byte twice":   func(b []byte) [][]byte { return [][]byte{b[:len(b)/2+1], b[len(b)/2:]} },
	"a byte is other": func(b []byte) [][]byte {
		c := bytes.Clone(b)
		c[len(c)/2] ^= 0x10
		return [][]byte{c}
	},
	"its sum is other": func(b []byte) [][]byte { c := bytes.Clone(b); c[len(c)-1] ^= 1; return [][]byte{c} },
	"comes twice":      func(b []byte) [][]byte { return [][]byte{b, b} },
	"its mark is lost": func(b []byte) [][]byte { return [][]byte{b[2:]} },
	"noise before it":  func(b []byte) [][]byte { return [][]byte{[]byte("\xa7\x4c\x06\x00boot> \r\n"), b} },
	"the line is cut":  func([]byte) [][]byte { return nil },
}

// TestEveryMessage: whatever happens to any one message, either way, an image arrives whole, is written
// once, and is read back as it was.
func TestEveryMessage(t *testing.T) {
	image := bytes.Repeat([]byte("sandpiper, stint "), 1200) // five pieces
	// one writes and reads the image with its nth message harmed, and reports whether there were so many.
	one := func(t *testing.T, n int, answers bool, harm func([]byte) [][]byte) (reached bool) {
		synctest.Test(t, func(t *testing.T) {
			wire := &standintest.Net{}
			l, err := wire.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatalf("wire.Listen('tcp', '127.0.0.1:0'): %v", err)
			}
			p := &phone{holds: map[string][]byte{}}
			left := n
			ends := map[bool]*int{true: &left, false: new(int)}
			go func() {
				for {
					conn, err := l.Accept()
					if err != nil {
						return
					}
					loader.Serve(&spoiler{conn, ends[answers], harm}, p, 4096) // one line at a time
				}
			}()
			var out bytes.Buffer
			try := func() error {
				conn, err := wire.DialContext(t.Context(), "tcp", l.Addr().String())
				if err != nil {
					return err
				}
				k, err := loader.Connect(t.Context(), &spoiler{conn, ends[!answers], harm}, "test")
				if err != nil {
					return err
				}
				defer k.Close()
				out.Reset()
				if p.writes == 0 {
					if _, err := k.Write(t.Context(), "recovery", bytes.NewReader(image), int64(len(image)),
						false, func(int64) {}); err != nil {
						return err
					}
				}
				_, err = k.Read(t.Context(), "recovery", 0, int64(len(image)), &out)
				return err
			}
			err = try()
			times := 1
			var lost *link.LostError
			if errors.As(err, &lost) && harm(make([]byte, 40)) == nil {
				times = 2 // it may have been cut between the writing and the word about it
				time.Sleep(time.Minute)
				err = try() // another line
			}
			if err != nil || p.writes < 1 || p.writes > times || !bytes.Equal(p.holds["recovery"], image) ||
				!bytes.Equal(out.Bytes(), image) {
				t.Errorf("message %d, answers %v: written %d times, %d bytes read: %v", n, answers, p.writes,
					out.Len(), err)
			}
			reached = left <= 0
			l.Close()
			wire.Cut()
		})
		return reached
	}
	for name, harm := range harms {
		t.Run(name, func(t *testing.T) {
			most := 0
			for _, answers := range []bool{false, true} {
				for n := 1; one(t, n, answers, harm) && !t.Failed(); n++ {
					most = max(most, n)
				}
			}
			if most < 14 { // hello, begin, five pieces each way, end
				t.Errorf("no more than %d messages were harmed", most)
			}
		})
	}
}
