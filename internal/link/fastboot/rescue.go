package fastboot

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jarlid/internal/link"
)

const (
	// firstAnswer is how long a bootloader may take for the first answer of a session on a
	// cable; one that takes commands for data never gives it.
	firstAnswer = 8 * time.Second
	// afterPacket is how long a packet that may have been the last is given to be answered.
	afterPacket = 4 * time.Millisecond
)

// SwallowedError says that a bootloader takes what it is sent for the rest of a transfer that
// was interrupted.
type SwallowedError struct{ Err error }

// Error says what to do.
func (e *SwallowedError) Error() string {
	return "the bootloader answers nothing: it may be waiting for the rest of a transfer that broke off; " +
		"pull the cable, start the bootloader anew with its keys, and run the command again"
}

// Unwrap gives the cause.
func (e *SwallowedError) Unwrap() error { return e.Err }

// Sync makes sure that a bootloader on a cable answers. One that was left waiting by a program
// that ended in a download takes the first command for data: it is filled up with zeros to what
// was announced, and what it then has in its memory is left there and written nowhere. announced
// and taken are what is known of such a download, in bytes; 0, 0 for nothing. It reports whether
// that was done. Errors: *SwallowedError, and those of Command.
func (c *Client) Sync(ctx context.Context, announced, taken int64) (filled bool, err error) {
	const probe = "getvar:version"
	_, err = c.Command(ctx, probe, firstAnswer)
	var refused *link.RefusedError
	switch {
	case err == nil || errors.As(err, &refused):
		return false, nil
	case !errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil:
		return false, err
	case announced <= 0:
		return false, &SwallowedError{err}
	}
	c.dead = nil
	left := announced - taken - int64(len(probe))
	if err := c.fill(ctx, left); err != nil {
		return false, &SwallowedError{err}
	}
	if _, err = c.Command(ctx, probe, firstAnswer); err != nil && !errors.As(err, &refused) {
		return false, &SwallowedError{err}
	}
	return true, nil
}

// fill sends zeros until the bootloader answers. It may have taken up to a piece of usbChunk
// bytes more than is known, in whole packets: so the part of a packet goes first, then what it
// wants in any case, then packet by packet.
func (c *Client) fill(ctx context.Context, left int64) error {
	u, ok := c.t.(*USB)
	if !ok || left <= 0 {
		return fmt.Errorf("there is nothing to fill up")
	}
	packet := int64(u.c.Packet())
	zeros := make([]byte, dataChunk)
	send := func(n int64) error {
		wctx, cancel := context.WithTimeout(ctx, LimitData)
		defer cancel()
		return u.WritePacket(wctx, zeros[:n])
	}
	if part := left % packet; part > 0 {
		if err := send(part); err != nil {
			return err
		}
		left -= part
	}
	for left > usbChunk {
		n := min(left-usbChunk, dataChunk)
		if err := send(n); err != nil {
			return err
		}
		left -= n
	}
	rctx, cancel := context.WithCancel(ctx)
	defer cancel()
	answered := make(chan error, 1)
	go func() {
		_, err := u.ReadPacket(rctx, make([]byte, MaxResponse))
		answered <- err
	}()
	for wait := afterPacket; ; left -= packet {
		if left <= 0 {
			wait = LimitQuick // all it can have wanted is there
		}
		select {
		case err := <-answered:
			return err
		case <-time.After(wait):
		}
		err := context.DeadlineExceeded
		if left > 0 {
			if err = send(min(packet, left)); err == nil {
				continue
			}
		}
		cancel()
		if <-answered == nil {
			return nil // it came in the last moment
		}
		return err
	}
}

// abandon ends a download whose bytes can't be had any more: on a cable nothing else tells the
// bootloader that no more is to come.
func (c *Client) abandon(ctx context.Context, left int64) {
	u, ok := c.t.(*USB)
	if !ok {
		c.t.Close()
		return
	}
	zeros := make([]byte, dataChunk)
	for left > 0 {
		wctx, cancel := context.WithTimeout(ctx, LimitData)
		err := u.WritePacket(wctx, zeros[:min(left, dataChunk)])
		cancel()
		if err != nil {
			return
		}
		left -= min(left, dataChunk)
	}
	_, _, _ = c.answer(ctx, "the rest of a download", LimitWrite, false) // what it says changes nothing
	c.t.Close()
}
