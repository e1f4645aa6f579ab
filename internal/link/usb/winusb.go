package usb

import (
	"context"
	"errors"
	"sync"
)

// Handle is an interface of a device as the system's WinUSB gives it: its functions, one for one, as
// they are used here. What is behind it on Windows is the system; in a test it is anything.
type Handle interface {
	// Start begins a transfer with a pipe, overlapped: a read into b or a write of b.
	Start(pipe byte, b []byte) (Transfer, error)
	// Abort ends what is under way on a pipe (WinUsb_AbortPipe).
	Abort(pipe byte) error
	// Reset clears a pipe's halt (WinUsb_ResetPipe).
	Reset(pipe byte) error
	// Most is the largest transfer a pipe takes, in bytes (the policy MAXIMUM_TRANSFER_SIZE).
	Most(pipe byte) int
	Close() error
}

// Transfer is one that is under way.
type Transfer interface {
	// Done is closed when it has ended.
	Done() <-chan struct{}
	// Result gives how many bytes it moved, once it has ended. Errors: ErrGone, ErrStalled, ErrAborted.
	Result() (int, error)
}

// ErrAborted says that a transfer was ended by Abort.
var ErrAborted = errors.New("the transfer was ended")

// handlePipe is a pipe over a handle.
type handlePipe struct {
	h       Handle
	i       Interface
	in, out sync.Mutex // one transfer of a direction at a time
	rest    []byte     // came in when a read was given up
	shut    chan struct{}
	close   sync.Once
}

// OverHandle makes a pipe of an interface that is open.
func OverHandle(h Handle, i Interface) Pipe {
	return &handlePipe{h: h, i: i, shut: make(chan struct{})}
}

func (p *handlePipe) Packet() int { return p.i.Packet }

// mostPiece bounds what is handed to the system at once, in bytes: more is no faster.
const mostPiece = 1 << 20

// piece is the largest piece of a transfer, in whole packets.
func (p *handlePipe) piece(pipe byte) int {
	most := min(p.h.Most(pipe), mostPiece)
	return max(most-most%p.i.Packet, p.i.Packet)
}

// move does one transfer in pieces. A piece of a read that is not full ends it: a packet came that is
// not.
func (p *handlePipe) move(ctx context.Context, pipe byte, b []byte) (int, error) {
	most, done := p.piece(pipe), 0
	for first := true; first || done < len(b); first = false {
		part := b[done:min(done+most, len(b))]
		n, err := p.one(ctx, pipe, part)
		done += n
		if err != nil {
			return done, err
		}
		if n < len(part) {
			if pipe&endpointIn == 0 {
				return done, ErrGone
			}
			return done, nil
		}
	}
	return done, nil
}

// one does a piece.
func (p *handlePipe) one(ctx context.Context, pipe byte, b []byte) (int, error) {
	select {
	case <-p.shut:
		return 0, ErrGone
	default:
	}
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	t, err := p.h.Start(pipe, b)
	if err != nil {
		return 0, err
	}
	select {
	case <-t.Done():
		return t.Result()
	case <-ctx.Done():
		err = ctx.Err()
	case <-p.shut:
		err = ErrGone
	}
	aborted := p.h.Abort(pipe)
	select {
	case <-t.Done():
	default:
		if aborted != nil { // it can't be ended: the memory it moves stays the system's
			return 0, ErrGone
		}
		<-t.Done()
	}
	n, rerr := t.Result()
	if rerr == nil || errors.Is(rerr, ErrAborted) {
		return n, err
	}
	return n, rerr
}

func (p *handlePipe) Read(ctx context.Context, b []byte) (int, error) {
	p.in.Lock()
	defer p.in.Unlock()
	if len(p.rest) > 0 {
		n := copy(b, p.rest)
		p.rest = p.rest[n:]
		return n, nil
	}
	n, err := p.move(ctx, p.i.In, b)
	if err != nil && n > 0 && !errors.Is(err, ErrGone) {
		p.rest = append([]byte(nil), b[:n]...)
		n = 0
	}
	return n, err
}

func (p *handlePipe) Write(ctx context.Context, b []byte) (int, error) {
	p.out.Lock()
	defer p.out.Unlock()
	return p.move(ctx, p.i.Out, b)
}

func (p *handlePipe) ClearHalt() error {
	p.in.Lock()
	p.rest = nil
	p.in.Unlock()
	for _, pipe := range []byte{p.i.In, p.i.Out} {
		if err := p.h.Reset(pipe); err != nil {
			return err
		}
	}
	return nil
}

// Reset starts the pipes again; WinUSB has nothing that resets a device.
func (p *handlePipe) Reset() error {
	for _, pipe := range []byte{p.i.In, p.i.Out} {
		if err := p.h.Abort(pipe); err != nil {
			return err
		}
	}
	return p.ClearHalt()
}

func (p *handlePipe) Close() error {
	err := error(nil)
	p.close.Do(func() {
		close(p.shut)
		p.in.Lock() // what is under way has ended
		p.out.Lock()
		err = p.h.Close()
		p.out.Unlock()
		p.in.Unlock()
	})
	return err
}
