package adb

import (
	"context"
	"io"
	"os"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/link"
)

// cable is a stream that is no network connection: a pair of pipes with a deadline, as the
// two endpoints of a cable are.
type cable struct {
	in  *io.PipeReader
	out *io.PipeWriter
}

func (c cable) Read(b []byte) (int, error)  { return c.in.Read(b) }
func (c cable) Write(b []byte) (int, error) { return c.out.Write(b) }
func (c cable) Close() error                { c.in.Close(); return c.out.Close() }

func (c cable) SetDeadline(t time.Time) error {
	if !t.IsZero() && !t.After(time.Now()) {
		c.in.CloseWithError(os.ErrDeadlineExceeded)
		c.out.CloseWithError(os.ErrDeadlineExceeded)
	}
	return nil
}

// TestAnyStream: ADB goes over anything that carries bytes both ways and ends at a time.
func TestAnyStream(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r1, w1 := io.Pipe()
		r2, w2 := io.Pipe()
		near, far := cable{r1, w2}, cable{r2, w1}
		var _ link.Stream = near
		phone := &Device{Version: VersionNoSum, MaxPayload: MaxPayload,
			Serve: func(service string, s *Stream) bool {
				go func() {
					if s.Accept() == nil {
						io.WriteString(s, "asked for "+service)
					}
					s.Close()
				}()
				return true
			}}
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		go phone.Accept(ctx, far)
		c, err := Connect(ctx, near, Options{})
		if err != nil {
			t.Fatalf("Connect(near, ...): %v", err)
		}
		s, err := c.Open(ctx, "reboot:bootloader")
		if err != nil {
			t.Fatalf("c.Open('reboot:bootloader'): %v", err)
		}
		if b, err := io.ReadAll(s); err != nil || string(b) != "asked for reboot:bootloader" {
			t.Errorf("io.ReadAll(s): %q, %v; unwanted: err != nil || string(b) != 'asked for "+
				"reboot:bootloader'", b, err)
		}
		c.Close()
		far.Close()
	})
}
