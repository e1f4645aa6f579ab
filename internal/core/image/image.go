// Package image holds what the format packages below it share: the typed error
// every parser returns, and reads that never go beyond the end of a file.
package image

import (
	"errors"
	"fmt"
	"io"
	"syscall"
)

// Error says that the bytes of a file break the rules of their format.
type Error struct {
	Format string // the format's name in words: "boot image", "update payload"
	Offset int64  // where in the file, in bytes from its start; -1 when no one place is wrong
	What   string // what is wrong there, as a sentence without a full stop
	Short  bool   // the file ends before its own header says it should: a cut-short download
	Err    error  // the cause, where there is one
}

// Error gives the format, the place and the reason in one line.
func (e *Error) Error() string {
	s := e.Format + ": " + e.What
	if e.Offset >= 0 {
		s = fmt.Sprintf("%s: at byte %d: %s", e.Format, e.Offset, e.What)
	}
	if e.Err != nil {
		s += ": " + e.Err.Error()
	}
	return s
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// Errorf makes an Error at offset; arguments as for fmt.Sprintf.
func Errorf(format string, offset int64, msg string, args ...any) *Error {
	return &Error{Format: format, Offset: offset, What: fmt.Sprintf(msg, args...)}
}

// Truncated makes an Error for a file that needs want bytes from offset on but
// has only have.
func Truncated(format string, offset, want, have int64) *Error {
	return &Error{Format: format, Offset: offset, Short: true,
		What: fmt.Sprintf("%s here, the file has %d", map[bool]string{true: "1 byte belongs",
			false: fmt.Sprintf("%d bytes belong", want)}[want == 1], max(have, 0))}
}

// IsShort reports whether err says that a file is cut short.
func IsShort(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Short
}

// ByComputer tells of an error the computer gave: a full disk, a drive that fails, a file
// somebody took away. It says nothing of the bytes that were read.
func ByComputer(err error) bool {
	var system syscall.Errno
	return errors.As(err, &system)
}

// AboutNoDamage tells of errors that say why something can't be had although nothing is wrong with
// it: those of the computer, and those that have a method AboutNoDamage.
func AboutNoDamage(err error) bool {
	var said interface {
		error
		AboutNoDamage()
	}
	return ByComputer(err) || errors.As(err, &said)
}

// ReadAt reads exactly n bytes at offset off of a file of the given size. The
// range is checked against size before memory is taken, so a hostile length
// costs nothing. Errors are *Error with the format's name.
func ReadAt(format string, r io.ReaderAt, size, off, n int64) ([]byte, error) {
	if off < 0 || n < 0 {
		return nil, Errorf(format, off, "a length of %d is not possible", n)
	}
	if off > size || n > size-off {
		return nil, Truncated(format, off, n, size-off)
	}
	b := make([]byte, n)
	got, err := r.ReadAt(b, off)
	if int64(got) == n {
		return b, nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return nil, Truncated(format, off, n, int64(got))
	}
	return nil, &Error{Format: format, Offset: off, What: "cannot be read", Err: err}
}

// Align rounds n up to a multiple of unit. The result is -1 when it does not
// fit in an int64.
func Align(n, unit int64) int64 {
	if unit <= 1 {
		return n
	}
	if n > (1<<63-1)-(unit-1) {
		return -1
	}
	return (n + unit - 1) / unit * unit
}
