package link

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"syscall"
	"testing"
)

// TestLostWords: what a system says of a lost wire reaches a person in words.
func TestLostWords(t *testing.T) {
	op := func(err error) error {
		return &net.OpError{Op: "read", Net: "tcp", Err: os.NewSyscallError("read", err)}
	}
	for _, c := range []struct {
		err  error
		want string
	}{
		{op(syscall.ECONNRESET), "closed at the other end"},
		{op(syscall.EPIPE), "closed at the other end"},
		{io.ErrUnexpectedEOF, "closed at the other end"},
		{net.ErrClosed, "closed at the other end"},
		{op(syscall.ECONNREFUSED), "nothing listens there"},
		{op(syscall.EHOSTUNREACH), "no way leads there"},
		{&net.OpError{Op: "dial", Err: &net.DNSError{Name: "brook", IsNotFound: true}}, "the name brook"},
		{op(syscall.ESHUTDOWN), "was the cable pulled?"},
		{os.NewSyscallError("ioctl", syscall.ENODEV), "was the cable pulled?"},
		{context.DeadlineExceeded, "silent for too long"},
		{errors.New("the cable was pulled"), "the cable was pulled"},
	} {
		got := Lost("a look", c.err).Error()
		if !strings.Contains(got, c.want) || strings.Contains(got, "tcp") || strings.Contains(got, "EOF") {
			t.Errorf("%v is told as %q", c.err, got)
		}
	}
}
