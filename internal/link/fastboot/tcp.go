package fastboot

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"

	"jarlid/internal/link"
)

// DefaultPort is the TCP and UDP port the protocol names.
const DefaultPort = 5554

// handshakeTCP is what both sides send first: "FB" and the protocol version in
// two decimal digits.
const handshakeTCP = "FB01"

// Transport carries the protocol's packets, whatever lies below.
type Transport interface {
	// WritePacket sends one packet. Data of a download may be cut into packets
	// in any way.
	WritePacket(ctx context.Context, p []byte) error
	// ReadPacket reads one packet whole into p. A packet longer than p is a
	// *link.ProtocolError.
	ReadPacket(ctx context.Context, p []byte) (int, error)
	// ReadData reads some of the data that was announced; p is no longer than what is left
	// of it.
	ReadData(ctx context.Context, p []byte) (int, error)
	Close() error
}

// TCP is the protocol over TCP: after a handshake each packet has an 8-byte
// big-endian length before it. It serves both ends of the wire.
type TCP struct{ conn link.Stream }

// NewTCP shakes hands over conn; both ends do the same.
func NewTCP(ctx context.Context, conn link.Stream) (*TCP, error) {
	done := link.Watch(ctx, conn)
	var got [4]byte
	_, err := conn.Write([]byte(handshakeTCP))
	if err == nil {
		_, err = io.ReadFull(conn, got[:])
	}
	if err = done(err); err != nil {
		return nil, link.Lost("the handshake", err)
	}
	if got[0] != 'F' || got[1] != 'B' || !digit(got[2]) || !digit(got[3]) || string(got[2:]) == "00" {
		return nil, &link.ProtocolError{Protocol: "fastboot",
			What: fmt.Sprintf("answered the handshake with %q", got[:])}
	}
	// A phone of a later version speaks the lower one of the two.
	return &TCP{conn: conn}, nil
}

func digit(b byte) bool { return b >= '0' && b <= '9' }

// WritePacket sends the length and the packet.
func (t *TCP) WritePacket(ctx context.Context, p []byte) error {
	done := link.Watch(ctx, t.conn)
	var h [8]byte
	binary.BigEndian.PutUint64(h[:], uint64(len(p)))
	bufs := net.Buffers{h[:], p}
	_, err := bufs.WriteTo(t.conn)
	return done(err)
}

// ReadPacket reads one packet.
func (t *TCP) ReadPacket(ctx context.Context, p []byte) (int, error) {
	done := link.Watch(ctx, t.conn)
	var h [8]byte
	if _, err := io.ReadFull(t.conn, h[:]); err != nil {
		return 0, done(cut(err))
	}
	n := binary.BigEndian.Uint64(h[:])
	if n > uint64(len(p)) {
		_ = done(nil)
		return 0, &link.ProtocolError{Protocol: "fastboot",
			What: fmt.Sprintf("sent a packet of %d bytes where at most %d are allowed", n, len(p))}
	}
	_, err := io.ReadFull(t.conn, p[:n])
	return int(n), done(cut(err))
}

// ReadData reads one packet: data comes in packets of the phone's choice.
func (t *TCP) ReadData(ctx context.Context, p []byte) (int, error) { return t.ReadPacket(ctx, p) }

// cut names an end within a frame for what it is.
func cut(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// Close closes the connection.
func (t *TCP) Close() error { return t.conn.Close() }
