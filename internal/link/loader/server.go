package loader

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"strconv"
	"time"

	"jarlid/internal/core/image/parttable"
)

// Phone is what is behind a loader: its own words, its partitions, and what it does.
type Phone interface {
	// Identity is what the hello tells: product, serial and more.
	Identity() Fields
	Facts() Fields
	Table() []parttable.Partition
	// ReadAt reads a partition.
	ReadAt(partition string, b []byte, off int64) error
	// Begin prepares a write, and tells how many bytes of an image for that place and of that size came
	// before, and their SHA-256 in hex; again drops them.
	Begin(partition string, size int64, table, anew bool) (have int64, digest string, err error)
	Data(off int64, b []byte) error
	// End writes what came, if that has this SHA-256. working is told while it lasts.
	End(digest string, working func(percent int, text string)) (written string, err error)
	Erase(partition string, working func(percent int, text string)) error
	Leave(to string) error
}

// Refusal is an order that is not carried out.
type Refusal struct{ Code, Text string }

// Error is its text.
func (r *Refusal) Error() string { return r.Text }

// Refuse makes one. The codes are those of docs/loader-protocol.md.
func Refuse(code, format string, args ...any) error {
	return &Refusal{code, fmt.Sprintf(format, args...)}
}

// Serve answers a computer until the stream ends. most is the largest payload that is taken.
func Serve(s io.ReadWriter, p Phone, most int) error {
	v := &server{s: s, p: p, r: NewReader(s, most), most: most}
	v.r.limit, _ = s.(interface{ SetReadDeadline(time.Time) error })
	for {
		f, err := v.r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := v.answer(f); err != nil {
			return err
		}
	}
}

type server struct {
	s       io.ReadWriter
	p       Phone
	r       *Reader
	most    int
	hello   bool
	last    uint32 // the number of the order that was answered last
	outcome []byte // and the answer, for the same order again
}

// answer carries an order out once: the same number again has the same answer.
func (v *server) answer(f Frame) error {
	if f.Kind&0x80 != 0 {
		return nil // an answer is for a computer
	}
	if v.outcome != nil && f.Number == v.last && f.Kind != Hello {
		_, err := v.s.Write(v.outcome)
		return err
	}
	kind, payload, err := v.carryOut(f)
	var r *Refusal
	if errors.As(err, &r) {
		kind, payload = Failed, Fields{"code": r.Code, "text": r.Text}.Encode()
	} else if err != nil {
		return err
	}
	v.last, v.outcome = f.Number, Frame{kind, f.Number, payload}.Append(nil)
	_, err = v.s.Write(v.outcome)
	return err
}

func (v *server) carryOut(f Frame) (Kind, []byte, error) {
	working := func(percent int, text string) {
		w := Fields{"text": text}
		if percent >= 0 {
			w["percent"] = strconv.Itoa(percent)
		}
		// that it is lost shows itself at the answer
		_, _ = v.s.Write(Frame{Working, f.Number, w.Encode()}.Append(nil))
	}
	if !v.hello && f.Kind != Hello {
		return 0, nil, Refuse("hello", "say hello first")
	}
	switch f.Kind {
	case Data:
		if len(f.Payload) < dataHead {
			return 0, nil, Refuse("format", "a piece without its place")
		}
		return Done, nil, v.p.Data(int64(binary.LittleEndian.Uint64(f.Payload)), f.Payload[dataHead:])
	case Table:
		return Done, parttable.Encode(v.p.Table()), nil
	}
	w, err := ParseFields(f.Payload)
	if err != nil {
		return 0, nil, Refuse("format", "%v", err)
	}
	number := func(name string) (int64, error) {
		n, err := strconv.ParseInt(w[name], 10, 64)
		if err != nil || n < 0 {
			return 0, Refuse("format", "%s is %q", name, w[name])
		}
		return n, nil
	}
	switch f.Kind {
	case Hello:
		least, lerr := strconv.Atoi(w["least"])
		most, merr := strconv.Atoi(w["most"])
		if lerr != nil || merr != nil || least > Version || most < 1 {
			return 0, nil, Refuse("version", "this loader speaks version %d", Version)
		}
		v.hello = true
		told := Fields{"version": strconv.Itoa(min(most, Version)), "payload": strconv.Itoa(v.most)}
		maps.Copy(told, v.p.Identity())
		return Done, told.Encode(), nil
	case Facts:
		return Done, v.p.Facts().Encode(), nil
	case Read:
		off, err := number("offset")
		n, nerr := number("length")
		if err = errors.Join(err, nerr); err != nil {
			return 0, nil, Refuse("format", "%v", err)
		}
		if n > int64(v.most-dataHead) {
			return 0, nil, Refuse("too-large", "more than a message holds was asked for")
		}
		b := make([]byte, dataHead+n)
		binary.LittleEndian.PutUint64(b, uint64(off))
		if err := v.p.ReadAt(w["partition"], b[dataHead:], off); err != nil {
			return 0, nil, err
		}
		if _, err := v.s.Write(Frame{Piece, f.Number, b}.Append(nil)); err != nil {
			return 0, nil, err
		}
		return Done, nil, nil
	case Begin:
		size, err := number("size")
		if err != nil {
			return 0, nil, err
		}
		have, digest, err := v.p.Begin(w["partition"], size, w["table"] == "yes", w["anew"] == "yes")
		told := Fields{"have": strconv.FormatInt(have, 10)}
		if have > 0 {
			told["sha256"] = digest
		}
		return Done, told.Encode(), err
	case End:
		digest, err := v.p.End(w["sha256"], working)
		return Done, Fields{"sha256": digest}.Encode(), err
	case Erase:
		return Done, nil, v.p.Erase(w["partition"], working)
	case Leave:
		return Done, nil, v.p.Leave(w["to"])
	case Ping:
		return Done, nil, nil
	}
	return 0, nil, Refuse("unknown", "this loader does not know %s", f.Kind)
}
