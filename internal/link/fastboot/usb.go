package fastboot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/usb"
)

// SafeCommand is the longest command every bootloader takes over USB, in bytes: the protocol's
// first limit, and the size of the buffer many keep for one.
const SafeCommand = 64

// usbChunk is how much of a download is one transfer, in bytes: what a program that is killed
// leaves nobody to know of is at most one of these.
const usbChunk = 256 << 10

// continued is how long the rest of an answer may take that filled its packet: on a bus of 12
// Mbit/s an answer is longer than a packet, and nothing marks its end.
const continued = 100 * time.Millisecond

// USB is the protocol over a cable: a command is one packet, an answer one, data the announced
// number of bytes. Packets without bytes are never sent: behind a command or data a bootloader
// would take one for an empty command, and every answer would come one late.
type USB struct {
	c    *usb.Channel
	next []byte // an answer that came with the one before
}

// NewUSB takes what an earlier client left unread in the phone, and is ready then.
func NewUSB(ctx context.Context, p usb.Pipe) (*USB, error) {
	t := &USB{c: usb.NewChannel(p)}
	if err := t.c.Drain(ctx); err != nil {
		return nil, link.Lost("a look for earlier answers", err)
	}
	return t, nil
}

// WritePacket sends a command, or some of the data, as one transfer.
func (t *USB) WritePacket(ctx context.Context, p []byte) error {
	if len(p) == 0 {
		return nil
	}
	_, err := t.c.Write(ctx, p)
	return err
}

// ReadPacket reads one answer.
func (t *USB) ReadPacket(ctx context.Context, p []byte) (int, error) {
	if len(t.next) > 0 {
		n := copy(p, t.next)
		t.next = nil
		return n, nil
	}
	size := t.c.Packet()
	buf := make([]byte, size, MaxResponse+2*size)
	n, err := t.some(ctx, buf)
	if err != nil {
		return 0, err
	}
	buf = buf[:n]
	for n == size && size < MaxResponse && len(buf) <= MaxResponse {
		more := make([]byte, size)
		cctx, cancel := context.WithTimeout(ctx, continued)
		n, err = t.some(cctx, more)
		cancel()
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			break // it was as long as its packet
		}
		if err != nil {
			return 0, err
		}
		if begins(more[:n]) {
			t.next = more[:n]
			break
		}
		buf = append(buf, more[:n]...)
	}
	if len(buf) > len(p) {
		return 0, &link.ProtocolError{Protocol: "fastboot",
			What: fmt.Sprintf("sent a packet of %d bytes where at most %d are allowed", len(buf), len(p))}
	}
	return copy(p, buf), nil
}

// begins reports whether an answer begins here.
func begins(p []byte) bool {
	for _, word := range []string{"OKAY", "FAIL", "DATA", "INFO", "TEXT"} {
		if bytes.HasPrefix(p, []byte(word)) {
			return true
		}
	}
	return false
}

// ReadData reads some of the announced data.
func (t *USB) ReadData(ctx context.Context, p []byte) (int, error) { return t.some(ctx, p) }

// some reads a transfer that has bytes: those without, between two messages, mean nothing.
func (t *USB) some(ctx context.Context, p []byte) (int, error) {
	for empty := 0; ; empty++ {
		n, err := t.c.Read(ctx, p)
		if n > 0 || err != nil {
			return n, err
		}
		if empty > maxLines {
			return 0, &link.ProtocolError{Protocol: "fastboot",
				What: "sends packets without bytes and nothing else"}
		}
	}
}

// Close lets the interface go.
func (t *USB) Close() error { return t.c.Close() }
