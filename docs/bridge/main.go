// Command bridge is an example of a program that stands between Jar Lid and a phone's own loader. It
// speaks the loader protocol (../loader-protocol.md) to Jar Lid. Where a real one would speak its
// manufacturer's words, this one forwards each order to a Jar Lid stand-in, which understands the same ones:
// what must be written again for a real loader is the function translate, and nothing else.
//
//	jarlid standin run knot --at practice/knot           # says its address, loader:127.0.0.1:PORT
//	go run ./docs/bridge 127.0.0.1:4911 127.0.0.1:PORT
//	jarlid card --on loader:127.0.0.1:4911
package main

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"log"
	"net"
	"os"
	"time"
)

// frame is one message: what it is, the number of the order, and its payload.
type frame struct {
	kind    byte
	number  uint32
	payload []byte
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// line is a connection with room for the largest frame.
type line struct {
	net.Conn
	r *bufio.Reader
}

func newLine(c net.Conn) line { return line{c, bufio.NewReaderSize(c, 2<<20)} }

// peek waits for n bytes, for a second at most where they are the rest of a frame.
func (l line) peek(n int) ([]byte, error) {
	l.SetReadDeadline(time.Time{})
	if n > 1 {
		l.SetReadDeadline(time.Now().Add(time.Second))
	}
	return l.r.Peek(n)
}

// read passes over what is no frame, and gives the next one.
func read(l line) (f frame, err error) {
	for {
		if _, err := l.peek(1); err != nil {
			return f, err
		}
		head, err := l.peek(12)
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			return f, err
		}
		if len(head) < 12 { // its rest stays away
			head = make([]byte, 12)
		}
		n := int(binary.LittleEndian.Uint32(head[8:]))
		if head[0] == 0xa7 && head[1] == 0x4c && head[3] == 0 && n <= 1<<20 {
			all, err := l.peek(12 + n + 4)
			if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
				return f, err
			}
			if err == nil && crc32.Checksum(all[2:12+n], castagnoli) == binary.LittleEndian.Uint32(
				all[12+n:]) {
				f = frame{all[2], binary.LittleEndian.Uint32(all[4:]), append([]byte(nil), all[12:12+n]...)}
				_, err = l.r.Discard(len(all))
				return f, err
			}
		}
		if _, err := l.r.Discard(1); err != nil {
			return f, err
		}
	}
}

// write sends a frame.
func write(w io.Writer, f frame) error {
	b := []byte{0xa7, 0x4c, f.kind, 0}
	b = binary.LittleEndian.AppendUint32(b, f.number)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(f.payload)))
	b = append(b, f.payload...)
	_, err := w.Write(binary.LittleEndian.AppendUint32(b, crc32.Checksum(b[2:], castagnoli)))
	return err
}

// farSide is the loader. A real bridge has a serial line here.
type farSide struct{ line }

// translate carries one order out at the loader, and gives each answer to say: any number of "working"
// (0x83) and pieces (0x84), then one "done" (0x81) or "failed" (0x82).
func (l *farSide) translate(f frame, say func(frame) error) error {
	if err := write(l, f); err != nil {
		return err
	}
	for {
		a, err := read(l.line)
		if err != nil {
			return say(frame{0x82, f.number,
				[]byte("code=storage\ntext=the loader does not answer the bridge\n")})
		}
		if err := say(a); err != nil || a.kind == 0x81 || a.kind == 0x82 {
			return err
		}
	}
}

// serve talks to one computer.
func serve(computer net.Conn, far string) error {
	defer computer.Close()
	conn, err := net.Dial("tcp", far)
	if err != nil {
		return err
	}
	defer conn.Close()
	l, near := &farSide{newLine(conn)}, newLine(computer)
	for {
		f, err := read(near)
		if err != nil {
			return err
		}
		if err := l.translate(f, func(a frame) error { return write(near, a) }); err != nil {
			return err
		}
	}
}

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "bridge LISTEN LOADER, such as: bridge 127.0.0.1:4911 127.0.0.1:40123")
		os.Exit(2)
	}
	listener, err := net.Listen("tcp", os.Args[1])
	if err != nil {
		log.Fatal(err)
	}
	for { // one computer at a time: a loader has one line
		conn, err := listener.Accept()
		if err != nil {
			log.Fatal(err)
		}
		log.Print(serve(conn, os.Args[2]))
	}
}
