package serial

import (
	"io"
	"os"
	"sync"
	"time"

	"jarlid/internal/link"
)

// fetched is a line whose bytes are fetched whether or not somebody reads, as a system's driver does. So
// a driver that does not come back from a read, as some of cheap adapters do, holds nobody up.
type fetched struct {
	stream io.ReadWriteCloser
	limit  *link.Deadline
	came   chan []byte // closed when nothing more comes
	err    error       // why, once that is closed
	rest   []byte
	over   chan struct{}
	once   sync.Once
}

const (
	// fetchMost is the most that is fetched at once, in bytes, and fetchAhead how often that is done before
	// somebody reads.
	fetchMost  = 64 << 10
	fetchAhead = 16
)

// Fetched gives a line deadlines. The line is closed with it.
func Fetched(line io.ReadWriteCloser) Stream {
	l := &fetched{stream: line, limit: link.NewDeadline(), came: make(chan []byte, fetchAhead),
		over: make(chan struct{})}
	go l.fetch()
	return l
}

func (l *fetched) fetch() {
	defer close(l.came)
	b := make([]byte, fetchMost)
	for {
		n, err := l.stream.Read(b)
		if n > 0 {
			select {
			case l.came <- append([]byte(nil), b[:n]...):
			case <-l.over:
				err = os.ErrClosed
			}
		}
		if err != nil {
			l.err = err
			return
		}
	}
}

// SetReadDeadline bounds reads that are under way too.
func (l *fetched) SetReadDeadline(t time.Time) error {
	l.limit.Set(t)
	return nil
}

// Read waits for bytes, until the deadline. Errors: os.ErrDeadlineExceeded, and the line's.
func (l *fetched) Read(b []byte) (int, error) {
	if len(l.rest) == 0 {
		more := true
		select {
		case l.rest, more = <-l.came: // what is there comes before any deadline
		default:
			ctx, done := l.limit.Context()
			defer done()
			select {
			case l.rest, more = <-l.came:
			case <-ctx.Done():
				return 0, os.ErrDeadlineExceeded
			}
		}
		if !more {
			return 0, l.err
		}
	}
	n := copy(b, l.rest)
	l.rest = l.rest[n:]
	return n, nil
}

// Write sends bytes.
func (l *fetched) Write(b []byte) (int, error) { return l.stream.Write(b) }

// Close lets the line go.
func (l *fetched) Close() error {
	l.once.Do(func() { close(l.over) })
	return l.stream.Close()
}
