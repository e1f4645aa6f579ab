package fastboot

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"time"

	"jarlid/internal/link"
)

// Packets of the protocol over UDP: an identifier, flags, a sequence number in
// two big-endian bytes, then data ("UDP Protocol v1" in the README).
const (
	udpError    = 0
	udpQuery    = 1
	udpInit     = 2
	udpFastboot = 3

	udpContinued = 1 // flag: the data goes on in the next packet
	udpHeader    = 4
	udpVersion   = 1

	// udpPacket is the longest packet this side takes, header included, in
	// bytes; the smaller of both sides' counts. udpLeast is what every phone
	// takes, and the bound until sizes are negotiated.
	udpPacket = 8192
	udpLeast  = 512

	// udpResend is after how long without an answer a packet is sent again, and
	// udpPatience how long at least this goes on; a phone that writes may be deaf
	// that long. The first packet is tried udpFirst times only.
	udpResend   = 500 * time.Millisecond
	udpPatience = time.Minute
	udpFirst    = 4
)

// UDP is the computer's end of the protocol over UDP. Every packet is answered
// by exactly one packet with the same number, and sent again until it is.
type UDP struct {
	conn   net.Conn
	seq    uint16
	size   int
	buf    []byte
	resend time.Duration
}

// NewUDP begins a session with the phone at the other end of conn.
func NewUDP(ctx context.Context, conn net.Conn) (*UDP, error) {
	u := &UDP{conn: conn, size: udpLeast, buf: make([]byte, 1<<16), resend: udpResend}
	if err := u.begin(ctx); err != nil {
		return nil, err
	}
	return u, nil
}

func (u *UDP) begin(ctx context.Context) error {
	_, data, err := u.exchange(ctx, udpQuery, 0, nil, udpFirst*u.resend, true)
	if err != nil {
		return err
	}
	if len(data) < 2 {
		return udpRule("answered the first packet with %d bytes, a sequence number has 2", len(data))
	}
	u.seq = binary.BigEndian.Uint16(data)
	be := binary.BigEndian
	hello := be.AppendUint16(be.AppendUint16(nil, udpVersion), udpPacket)
	_, data, err = u.exchange(ctx, udpInit, 0, hello, udpPatience, false)
	if err != nil {
		return err
	}
	if len(data) < 4 {
		return udpRule("began the session with %d bytes, version and packet size have 4", len(data))
	}
	version, size := be.Uint16(data), int(be.Uint16(data[2:]))
	if version < 1 || size < udpLeast {
		return udpRule("offers version %d and packets of %d bytes; at least 1 and %d are needed", version,
			size, udpLeast)
	}
	u.size = min(size, udpPacket)
	return nil
}

func udpRule(format string, args ...any) error {
	return &link.ProtocolError{Protocol: "fastboot over UDP", What: fmt.Sprintf(format, args...)}
}

// exchange sends one packet until its answer is there. The answer's data is
// valid until the next call.
func (u *UDP) exchange(ctx context.Context, id, flags byte, data []byte, patience time.Duration,
	anySeq bool) (more bool, answer []byte, err error) {
	p := make([]byte, udpHeader, udpHeader+len(data))
	p[0], p[1] = id, flags
	binary.BigEndian.PutUint16(p[2:], u.seq)
	p = append(p, data...)
	stop := context.AfterFunc(ctx, func() { u.conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	for end := time.Now().Add(patience); time.Now().Before(end) && ctx.Err() == nil; {
		// An error in sending is a packet that was lost: on a network that is just
		// coming up the next one arrives.
		_, sendErr := u.conn.Write(p)
		until := time.Now().Add(u.resend)
		for {
			u.conn.SetReadDeadline(until)
			if ctx.Err() != nil {
				break
			}
			n, err := u.conn.Read(u.buf)
			if err != nil {
				var ne net.Error
				if errors.As(err, &ne) && ne.Timeout() {
					break
				}
				// Nobody listens there yet: not faster than the clock.
				if sendErr == nil {
					sendErr = err
				}
				if !sleep(ctx, time.Until(until)) {
					break
				}
				break
			}
			b := u.buf[:n]
			if n < udpHeader || !anySeq && binary.BigEndian.Uint16(b[2:]) != u.seq {
				continue // not the answer: an old one that took another way
			}
			if b[0] == udpError {
				return false, nil, udpRule("reports an error: %q", printable(b[udpHeader:]))
			}
			if b[0] != id {
				continue
			}
			if !anySeq {
				u.seq++
			}
			return b[1]&udpContinued != 0, b[udpHeader:], nil
		}
	}
	if err := ctx.Err(); err != nil {
		return false, nil, link.Lost("waiting for an answer", err)
	}
	return false, nil, link.Lost("waiting for an answer", fmt.Errorf("none came in %s", patience))
}

// sleep waits; false when ctx ended first.
func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func printable(b []byte) string {
	if len(b) > MaxResponse {
		b = b[:MaxResponse]
	}
	return string(b)
}

// WritePacket sends p, in as many packets as it takes.
func (u *UDP) WritePacket(ctx context.Context, p []byte) error {
	for first := true; first || len(p) > 0; first = false {
		n := min(len(p), u.size-udpHeader)
		flags := byte(0)
		if n < len(p) {
			flags = udpContinued
		}
		_, data, err := u.exchange(ctx, udpFastboot, flags, p[:n], u.patience(ctx), false)
		if err != nil {
			return err
		}
		if len(data) > 0 {
			return udpRule("answered data with %d bytes of its own, where the protocol has none", len(data))
		}
		p = p[n:]
	}
	return nil
}

// patience is the longer of the protocol's minute and the caller's limit.
func (u *UDP) patience(ctx context.Context) time.Duration {
	if d, ok := ctx.Deadline(); ok {
		return max(time.Until(d), 0)
	}
	return udpPatience
}

// ReadData reads one packet.
func (u *UDP) ReadData(ctx context.Context, p []byte) (int, error) { return u.ReadPacket(ctx, p) }

// ReadPacket asks for a packet and puts its pieces together.
func (u *UDP) ReadPacket(ctx context.Context, p []byte) (int, error) {
	got := 0
	for {
		more, data, err := u.exchange(ctx, udpFastboot, 0, nil, u.patience(ctx), false)
		if err != nil {
			return 0, err
		}
		if len(data) > len(p)-got {
			return 0, udpRule("sent more than the %d bytes that are allowed", len(p))
		}
		got += copy(p[got:], data)
		if got == 0 && !more {
			if !sleep(ctx, 20*time.Millisecond) { // it has nothing yet; it should have kept silent
				return 0, link.Lost("waiting for an answer", ctx.Err())
			}
			continue
		}
		if !more {
			return got, nil
		}
	}
}

// Close ends this end; the phone learns of it with the next session.
func (u *UDP) Close() error { return u.conn.Close() }
