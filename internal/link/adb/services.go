package adb

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/link"
)

// Output is what a command in the phone's shell printed.
type Output struct {
	Stdout, Stderr []byte
	Code           int // exit code; -1 when the phone's shell does not tell
}

const (
	// The packet ids of the shell protocol (shell_v2 in SERVICES.TXT).
	shellStdout = 1
	shellStderr = 2
	shellExit   = 3

	// maxOutput is how much a shell command may print, in bytes.
	maxOutput = 16 << 20
)

// SplitsStreams reports whether the phone's shell keeps its streams apart and tells an exit code.
func (c *Conn) SplitsStreams() bool { return c.Peer.Has("shell_v2") }

// Shell runs a command in the phone's shell: with exit code and separate streams where the phone can,
// otherwise as plain text. quiet is the longest the phone may be silent; past it the cause of the error is
// link.ErrSilent.
func (c *Conn) Shell(ctx context.Context, command string, quiet time.Duration) (Output, error) {
	service := "shell:" + command
	if c.SplitsStreams() {
		service = "shell,v2,raw:" + command
	}
	octx, cancel := context.WithTimeout(ctx, quiet)
	s, err := c.Open(octx, service)
	cancel()
	if err != nil {
		return Output{}, quieted(ctx, err)
	}
	defer s.Close()
	r := &patient{ctx: ctx, s: s, quiet: quiet}
	if c.SplitsStreams() {
		return shellV2(r, command)
	}
	b, err := io.ReadAll(io.LimitReader(r, maxOutput+1))
	if err == nil && len(b) > maxOutput {
		err = &link.ProtocolError{Protocol: "ADB", What: fmt.Sprintf("printed more than %d bytes for %q",
			maxOutput, command)}
	}
	return Output{Stdout: b, Code: -1}, link.Lost(service, err)
}

// patient reads from a stream whose other side may be silent for quiet at most, however long it takes in all.
type patient struct {
	ctx   context.Context
	s     *Stream
	quiet time.Duration
}

// Read reads what comes next.
func (p *patient) Read(b []byte) (int, error) {
	ctx, cancel := context.WithTimeout(p.ctx, p.quiet)
	defer cancel()
	n, err := p.s.With(ctx).Read(b)
	return n, quieted(p.ctx, err)
}

// quieted puts link.ErrSilent in place of a limit that passed, unless it was the caller's own.
func quieted(ctx context.Context, err error) error {
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return &link.LostError{During: "a command in its shell", Err: link.ErrSilent}
	}
	return err
}

func shellV2(s io.Reader, command string) (Output, error) {
	out := Output{Code: -1}
	var h [5]byte
	for {
		_, err := io.ReadFull(s, h[:])
		if errors.Is(err, io.EOF) {
			return out, &link.LostError{During: command,
				Err: errors.New("its shell ended without an exit code")}
		}
		if err != nil {
			return out, link.Lost(command, err)
		}
		n := int64(binary.LittleEndian.Uint32(h[1:]))
		if n > maxOutput || int64(len(out.Stdout)+len(out.Stderr))+n > maxOutput {
			return out, &link.ProtocolError{Protocol: "ADB",
				What: fmt.Sprintf("printed more than %d bytes for %q", maxOutput, command)}
		}
		var b bytes.Buffer
		if _, err := io.CopyN(&b, s, n); err != nil {
			return out, link.Lost(command, cut(err))
		}
		switch h[0] {
		case shellStdout:
			out.Stdout = append(out.Stdout, b.Bytes()...)
		case shellStderr:
			out.Stderr = append(out.Stderr, b.Bytes()...)
		case shellExit:
			if b.Len() > 0 {
				out.Code = int(b.Bytes()[0])
			}
			return out, nil
		}
	}
}

// ShellPacket writes one packet of the shell protocol; the phone's side.
func ShellPacket(w io.Writer, id byte, p []byte) error {
	b := binary.LittleEndian.AppendUint32([]byte{id}, uint32(len(p)))
	_, err := w.Write(append(b, p...))
	return err
}

// Reboot asks the phone to restart: "" is the system. Errors: *link.LeftError of a phone that goes away
// before it answers, as some do that take the command.
func (c *Conn) Reboot(ctx context.Context, target string) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	s, err := c.Open(ctx, "reboot:"+target)
	if err != nil {
		return link.Left(err)
	}
	defer s.Close()
	// Phones answer with nothing, a text, or by going away.
	b, err := io.ReadAll(io.LimitReader(s.With(ctx), 4096))
	if text := strings.TrimSpace(string(b)); err == nil && text != "" {
		return &link.RefusedError{Command: "reboot:" + target, Message: text}
	}
	return nil
}

// SideloadBlock is the unit in which a phone asks for a package, in bytes.
const SideloadBlock = 64 << 10

// Closing is how a sideload session ended.
type Closing string

// The ways a session ends: the phone's two words, or none.
const (
	ClosedDone Closing = "done"    // DONEDONE
	ClosedFail Closing = "fail"    // FAILFAIL
	ClosedMute Closing = "dropped" // the link closed without a word
)

// Sideload serves the size bytes of r to a phone in sideload mode, which asks
// for blocks in any order and as often as it likes. served is called for each
// block with its offset and length, in bytes; may be nil. quiet is how long
// the phone may ask for nothing: installing is silent for minutes.
func (c *Conn) Sideload(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
	served func(off, n int64)) (Closing, error) {
	service := fmt.Sprintf("sideload-host:%d:%d", size, SideloadBlock)
	octx, cancel := context.WithTimeout(ctx, time.Minute)
	s, err := c.Open(octx, service)
	cancel()
	if err != nil {
		return ClosedMute, err
	}
	defer s.Close()
	blocks := (size + SideloadBlock - 1) / SideloadBlock
	buf := make([]byte, SideloadBlock)
	for {
		var ask [8]byte
		qctx, cancel := context.WithTimeout(ctx, quiet)
		_, err := io.ReadFull(s.With(qctx), ask[:])
		cancel()
		if err != nil {
			return ClosedMute, sideloadEnd(service, err)
		}
		switch string(ask[:]) {
		case "DONEDONE":
			return ClosedDone, nil
		case "FAILFAIL":
			return ClosedFail, nil
		}
		n, err := strconv.ParseInt(strings.TrimSpace(strings.TrimRight(string(ask[:]), "\x00")), 10, 64)
		if err != nil || n < 0 || n >= blocks {
			return ClosedMute, &link.ProtocolError{Protocol: "ADB",
				What: fmt.Sprintf("asked for block %q of a package of %d blocks", ask[:], blocks)}
		}
		off := n * SideloadBlock
		p := buf[:min(SideloadBlock, size-off)]
		if got, err := r.ReadAt(p, off); got < len(p) {
			return ClosedMute, fmt.Errorf("the package could not be read at byte %d while it was sent: %w",
				off+int64(got), err)
		}
		wctx, cancel := context.WithTimeout(ctx, quiet)
		_, err = s.With(wctx).Write(p)
		cancel()
		if err != nil {
			return ClosedMute, sideloadEnd(service, err)
		}
		if served != nil {
			served(off, int64(len(p)))
		}
	}
}

// SideloadWhole sends a package as phones of before 2014 take it: the whole file
// at once ("sideload:SIZE"), acknowledged when it has arrived. What becomes of it the
// phone does not say.
func (c *Conn) SideloadWhole(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
	sent func(off, n int64)) error {
	service := fmt.Sprintf("sideload:%d", size)
	octx, cancel := context.WithTimeout(ctx, time.Minute)
	s, err := c.Open(octx, service)
	cancel()
	if err != nil {
		return err
	}
	defer s.Close()
	buf := make([]byte, SideloadBlock)
	for off := int64(0); off < size; {
		p := buf[:min(SideloadBlock, size-off)]
		if got, err := r.ReadAt(p, off); got < len(p) {
			return fmt.Errorf("the package could not be read at byte %d while it was sent: %w",
				off+int64(got), err)
		}
		wctx, cancel := context.WithTimeout(ctx, quiet)
		_, err := s.With(wctx).Write(p)
		cancel()
		if err != nil {
			return link.Lost(service, err)
		}
		if sent != nil {
			sent(off, int64(len(p)))
		}
		off += int64(len(p))
	}
	var word [4]byte
	qctx, cancel := context.WithTimeout(ctx, quiet)
	defer cancel()
	if _, err := io.ReadFull(s.With(qctx), word[:]); err != nil {
		return link.Lost(service, cut(err))
	}
	if string(word[:]) != "OKAY" {
		b, _ := io.ReadAll(io.LimitReader(s, 256))
		return &link.RefusedError{Command: service, Message: strings.TrimSpace(string(word[:]) + string(b))}
	}
	return nil
}

// sideloadEnd tells a session that closed, which is a way to end, from one
// that broke.
func sideloadEnd(service string, err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrClosedPipe) {
		return nil
	}
	return link.Lost(service, err)
}
