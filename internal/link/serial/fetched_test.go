package serial

import (
	"errors"
	"io"
	"os"
	"testing"
	"testing/synctest"
	"time"
)

// stuck is a line whose driver gives some bytes and does not come back from the next read until it is
// closed.
type stuck struct {
	first  []byte
	closed chan struct{}
}

func (s *stuck) Read(b []byte) (int, error) {
	if n := copy(b, s.first); n > 0 {
		s.first = s.first[n:]
		return n, nil
	}
	<-s.closed
	return 0, io.ErrUnexpectedEOF
}

func (s *stuck) Write(b []byte) (int, error) { return len(b), nil }
func (s *stuck) Close() error                { close(s.closed); return nil }

// TestFetched: what has come is given out whatever the deadline, a driver that does not come back holds
// nobody up, a deadline counts for a read that is under way, and a closed line says why nothing comes.
func TestFetched(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := Fetched(&stuck{first: []byte("knot"), closed: make(chan struct{})})
		synctest.Wait()
		read := func(n int) (string, error) {
			b := make([]byte, n)
			n, err := l.Read(b)
			return string(b[:n]), err
		}
		l.SetReadDeadline(time.Now().Add(-time.Second))
		for _, want := range []string{"kno", "t"} {
			if got, err := read(3); got != want || err != nil {
				t.Errorf("read(3): %q, %v; unwanted: got != want || err != nil", got, err)
			}
		}
		if _, err := read(3); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("read(3): %v", err)
		}
		l.SetReadDeadline(time.Time{})
		time.AfterFunc(time.Minute, func() { l.SetReadDeadline(time.Now().Add(time.Second)) })
		began := time.Now()
		if _, err := read(3); !errors.Is(err, os.ErrDeadlineExceeded) || time.Since(began) != 61*time.Second {
			t.Errorf("read(3): got %v, %v", err, time.Since(began))
		}
		l.SetReadDeadline(time.Time{})
		time.AfterFunc(time.Minute, func() { l.Close() })
		if _, err := read(3); !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Errorf("read(3): %v", err)
		}
	})
}
