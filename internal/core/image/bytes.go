package image

import (
	"bytes"
	"io"
)

// Zeros is a piece of zeros to compare with and to write.
var Zeros [64 << 10]byte

// IsZero reports whether b is nothing but zeros.
func IsZero(b []byte) bool {
	for len(b) > len(Zeros) {
		if !bytes.Equal(b[:len(Zeros)], Zeros[:]) {
			return false
		}
		b = b[len(Zeros):]
	}
	return bytes.Equal(b, Zeros[:len(b)])
}

// Fill reads until b is full. The error is the reader's own: io.EOF at its
// end, and unlike with io.ReadFull another one when the stream was interrupted.
func Fill(r io.Reader, b []byte) (n int, err error) {
	for n < len(b) && err == nil {
		var k int
		k, err = r.Read(b[n:])
		n += k
	}
	return n, err
}
