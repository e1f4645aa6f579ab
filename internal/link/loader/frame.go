// Package loader speaks Jar Lid's own open loader protocol, which docs/loader-protocol.md specifies:
// framed messages over any stream of bytes, to the loader of a phone that has no fastboot, or to a
// bridge in front of one.
package loader

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/image/parttable"
)

// Version is that of the protocol this package speaks, the only one so far.
const Version = 1

// The parts of a frame, in bytes (docs/loader-protocol.md, "Frames").
const (
	headSize = 12 // mark 2, kind 1, flags 1, number 4, length 4
	sumSize  = 4
	// mostPayload is the largest payload of a frame, in bytes. A longer one is refused before memory
	// is taken for it.
	mostPayload = 1 << 20
	// leastPayload is what every loader takes.
	leastPayload = 512
	// maxSkip is how many bytes that are no frame are passed over before a line counts as one that
	// speaks something else.
	maxSkip = 1 << 20
)

// mark begins a frame.
var mark = [2]byte{0xa7, 0x4c}

// Kind is what a message is.
type Kind byte

// The messages of the computer; those with the highest bit are the loader's.
const (
	Hello   Kind = 0x01
	Facts   Kind = 0x02
	Table   Kind = 0x03
	Read    Kind = 0x04
	Begin   Kind = 0x05
	Data    Kind = 0x06
	End     Kind = 0x07
	Erase   Kind = 0x08
	Leave   Kind = 0x09
	Ping    Kind = 0x0a
	Done    Kind = 0x81 // an order was carried out
	Failed  Kind = 0x82 // it was not
	Working Kind = 0x83 // it is being carried out
	Piece   Kind = 0x84 // bytes that were asked for
)

var kindNames = map[Kind]string{Hello: "hello", Facts: "facts", Table: "table", Read: "read", Begin: "begin",
	Data: "data", End: "end", Erase: "erase", Leave: "leave", Ping: "ping",
	Done: "done", Failed: "failed", Working: "working", Piece: "piece"}

// String names a kind.
func (k Kind) String() string {
	if n, ok := kindNames[k]; ok {
		return n
	}
	return fmt.Sprintf("message 0x%02x", byte(k))
}

// Frame is one message.
type Frame struct {
	Kind    Kind
	Number  uint32 // of the order; an answer has that of what it answers
	Payload []byte
}

// castagnoli is CRC-32C (RFC 3720, B.4).
var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Append writes a frame behind b.
func (f Frame) Append(b []byte) []byte {
	at := len(b)
	b = slices.Grow(b, headSize+len(f.Payload)+sumSize)
	b = append(b, mark[0], mark[1], byte(f.Kind), 0)
	b = binary.LittleEndian.AppendUint32(b, f.Number)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(f.Payload)))
	b = append(b, f.Payload...)
	return binary.LittleEndian.AppendUint32(b, crc32.Checksum(b[at+len(mark):], castagnoli))
}

// Reader reads frames out of a stream. What is no frame is passed over: noise before the hello, a
// frame whose sum does not fit.
type Reader struct {
	r    io.Reader
	mem  []byte // where it is read to
	buf  []byte // read and not used: a piece of mem
	most int
	// bounds the wait for the rest of a frame; nil: whoever reads does
	limit   interface{ SetReadDeadline(time.Time) error }
	Skipped int64 // bytes that were passed over
}

// restLimit is how long the rest of a frame may stay away. On a line that has lost it, what comes next
// would be taken for it.
const restLimit = time.Second

// NewReader reads from r; most is the largest payload that is taken, 0 for MostPayload.
func NewReader(r io.Reader, most int) *Reader {
	if most <= 0 || most > mostPayload {
		most = mostPayload
	}
	return &Reader{r: r, most: most}
}

// ErrNoise says that a megabyte came that holds no frame: something else is at the other end.
var ErrNoise = errors.New("what comes over the line is no message of a loader")

// fill reads until n bytes are there.
func (r *Reader) fill(n int) error {
	for len(r.buf) < n {
		if cap(r.buf) < n || len(r.buf) == 0 {
			if len(r.mem) < n {
				r.mem = make([]byte, max(2*n, 64<<10))
			}
			r.buf = r.mem[:copy(r.mem, r.buf)]
		}
		if r.limit != nil && n > len(mark) {
			_ = r.limit.SetReadDeadline(time.Now().Add(restLimit)) // a stream that has none goes without
		}
		k, err := r.r.Read(r.buf[len(r.buf):cap(r.buf)])
		r.buf = r.buf[:len(r.buf)+k]
		if err != nil && len(r.buf) < n {
			return err
		}
	}
	return nil
}

func (r *Reader) skip(n int) {
	r.buf = r.buf[n:]
	r.Skipped += int64(n)
}

// late reports whether a read ended because its time was over.
func late(err error) bool {
	var t interface{ Timeout() bool }
	return errors.As(err, &t) && t.Timeout()
}

// Next gives the next frame. Its payload is the reader's until the next call. A frame whose rest does not
// come in time is none: what has come of it may hold the next. Errors: those of the stream, and ErrNoise.
func (r *Reader) Next() (Frame, error) {
	noise := r.Skipped
	for {
		if r.Skipped-noise > maxSkip {
			return Frame{}, ErrNoise
		}
		if r.limit != nil {
			_ = r.limit.SetReadDeadline(time.Time{})
		}
		if err := r.fill(len(mark)); err != nil {
			return Frame{}, err
		}
		if r.buf[0] != mark[0] || r.buf[1] != mark[1] {
			at := bytes.IndexByte(r.buf[1:], mark[0])
			if at < 0 {
				at = len(r.buf) - 1
			}
			r.skip(at + 1)
			continue
		}
		err := r.fill(headSize)
		if late(err) {
			r.skip(len(mark))
			continue
		}
		if err != nil {
			return Frame{}, err
		}
		n := binary.LittleEndian.Uint32(r.buf[8:])
		if n > uint32(r.most) || r.buf[3] != 0 {
			r.skip(len(mark)) // no frame, or one nobody may send
			continue
		}
		all := headSize + int(n) + sumSize
		if err = r.fill(all); late(err) {
			r.skip(len(mark))
			continue
		}
		if err != nil {
			return Frame{}, err
		}
		if crc32.Checksum(r.buf[len(mark):all-sumSize], castagnoli) != binary.LittleEndian.Uint32(
			r.buf[all-sumSize:]) {
			r.skip(len(mark)) // a byte was lost, doubled or changed: the next frame may begin within
			continue
		}
		f := Frame{Kind: Kind(r.buf[2]), Number: binary.LittleEndian.Uint32(r.buf[4:]),
			Payload: r.buf[headSize : headSize+int(n) : headSize+int(n)]}
		r.buf = r.buf[all:]
		return f, nil
	}
}

// Fields are the words of a message: names and values.
type Fields map[string]string

// maxFields bounds how many a message has.
const maxFields = 64 << 10

// Encode writes fields as lines NAME=VALUE, sorted by name.
func (f Fields) Encode() []byte {
	var b strings.Builder
	for _, n := range slices.Sorted(maps.Keys(f)) {
		b.WriteString(n + "=" + f[n] + "\n")
	}
	return []byte(b.String())
}

// ParseFields reads lines NAME=VALUE: names of small letters, digits, dots and hyphens, values of UTF-8
// without control letters. A name that comes twice is an error.
func ParseFields(b []byte) (Fields, error) {
	f := Fields{}
	err := parttable.Lines(b, maxFields, func(line string) error {
		n, v, ok := strings.Cut(line, "=")
		if !ok || !isName(n) {
			return fmt.Errorf("the line %q is no NAME=VALUE", line)
		}
		if _, twice := f[n]; twice {
			return fmt.Errorf("%s comes twice", n)
		}
		f[n] = v
		return nil
	})
	return f, err
}

// Legible reads what can be read of fields that are for a person, or of use where they are there: a line
// that is none, or has a control letter or bytes that are no text, takes nothing but itself away.
func Legible(b []byte) Fields {
	f := Fields{}
	for line := range bytes.Lines(b[:min(len(b), maxFields)]) {
		if one, err := ParseFields(append(bytes.TrimRight(line, "\r\n"), '\n')); err == nil {
			for n, v := range one {
				if _, twice := f[n]; !twice {
					f[n] = v
				}
			}
		}
	}
	return f
}

func isName(s string) bool {
	return s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyz0123456789.-_") == ""
}
