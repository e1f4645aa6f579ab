// Package adb speaks the ADB protocol with a phone's system or recovery, as
// published in the platform's packages/modules/adb: protocol.txt, SERVICES.TXT
// and SYNC.TXT.
package adb

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"jarlid/internal/link"
)

// DefaultPort is the TCP port phones listen on.
const DefaultPort = 5555

// The commands: four letters read as a little-endian word.
const (
	cmdCNXN = 0x4e584e43
	cmdAUTH = 0x48545541
	cmdOPEN = 0x4e45504f
	cmdOKAY = 0x59414b4f
	cmdWRTE = 0x45545257
	cmdCLSE = 0x45534c43
	cmdSTLS = 0x534c5453
	cmdSYNC = 0x434e5953
)

const (
	// VersionOld wants a checksum in every message, VersionNoSum does not
	// look at it (A_VERSION_MIN, A_VERSION_SKIP_CHECKSUM).
	VersionOld   = 0x01000000
	VersionNoSum = 0x01000001

	// MaxPayload is what this side takes in one message, in bytes; the first
	// phones took 4096.
	MaxPayload    = 1 << 20
	minMaxPayload = 4096

	headerSize = 24

	authToken     = 1
	authSignature = 2
	authPublicKey = 3
	tokenSize     = 20
)

// message is one message of the protocol.
type message struct {
	cmd, arg0, arg1 uint32
	data            []byte
	sum             uint32
}

func (m message) String() string {
	b := binary.LittleEndian.AppendUint32(nil, m.cmd)
	return fmt.Sprintf("%q(%#x, %#x) with %d bytes", b, m.arg0, m.arg1, len(m.data))
}

func checksum(p []byte) uint32 {
	var s uint32
	for _, b := range p {
		s += uint32(b)
	}
	return s
}

// appendHeader appends m's header to b.
func (m message) appendHeader(b []byte, withSum bool) []byte {
	le := binary.LittleEndian
	sum := uint32(0)
	if withSum {
		sum = checksum(m.data)
	}
	for _, v := range []uint32{m.cmd, m.arg0, m.arg1, uint32(len(m.data)), sum, ^m.cmd} {
		b = le.AppendUint32(b, v)
	}
	return b
}

// readMessage reads one message whose data is at most limit bytes.
func readMessage(r io.Reader, limit int) (message, error) {
	var h [headerSize]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return message{}, err
	}
	return readData(r, h[:], limit)
}

// maxLeft bounds what may are in the way of a greeting on a bus, in bytes: two of the longest
// messages, and as much again.
const maxLeft = 4 * MaxPayload

// readGreeting reads one message of a greeting. On a bus an earlier client may have died in
// the middle of a message: what comes is dropped, packet by packet, until one is a header.
func readGreeting(conn link.Stream, r io.Reader, limit int) (message, error) {
	bus, ok := conn.(link.Transfers)
	if !ok {
		return readMessage(r, limit)
	}
	buf := make([]byte, bus.Packet())
	for left := 0; left < maxLeft; {
		n, err := bus.ReadPacket(buf)
		if err != nil {
			return message{}, err
		}
		if n == headerSize && isHeader(buf[:n]) {
			return readData(r, buf[:n], limit)
		}
		left += n
	}
	return message{}, &link.ProtocolError{Protocol: "ADB",
		What: fmt.Sprintf("sent %d bytes and no message among them", maxLeft)}
}

// isHeader reports whether these bytes can be a message's header and nothing else.
func isHeader(h []byte) bool {
	cmd := binary.LittleEndian.Uint32(h)
	if binary.LittleEndian.Uint32(h[20:]) != ^cmd {
		return false
	}
	switch cmd {
	case cmdCNXN, cmdAUTH, cmdOPEN, cmdOKAY, cmdWRTE, cmdCLSE, cmdSTLS, cmdSYNC:
		return true
	}
	return false
}

// readData reads the data behind a header.
func readData(r io.Reader, h []byte, limit int) (message, error) {
	le := binary.LittleEndian
	m := message{cmd: le.Uint32(h[:]), arg0: le.Uint32(h[4:]), arg1: le.Uint32(h[8:]), sum: le.Uint32(h[16:])}
	n := le.Uint32(h[12:])
	switch {
	case le.Uint32(h[20:]) != ^m.cmd:
		return m, &link.ProtocolError{Protocol: "ADB",
			What: fmt.Sprintf("sent a message whose magic number does not fit (% x)", h[:])}
	case uint64(n) > uint64(limit):
		return m, &link.ProtocolError{Protocol: "ADB",
			What: fmt.Sprintf("sent a message of %d bytes where at most %d are allowed", n, limit)}
	}
	if n == 0 {
		return m, nil
	}
	m.data = make([]byte, n)
	if _, err := io.ReadFull(r, m.data); err != nil {
		return m, cut(err)
	}
	return m, nil
}

func cut(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// Banner is what a side says of itself when it connects.
type Banner struct {
	Kind     string // "device", "recovery", "sideload", "rescue", "bootloader", "host"
	Props    map[string]string
	Features []string
}

// parseBanner reads KIND:SERIAL:NAME=VALUE;... as phones send it. Old phones
// send only the kind, or the kind with loose words behind it.
func parseBanner(s string) Banner {
	b := Banner{Props: map[string]string{}}
	s = strings.TrimRight(s, "\x00")
	kind, rest, _ := strings.Cut(s, ":")
	b.Kind = kind
	if _, props, ok := strings.Cut(rest, ":"); ok {
		rest = props
	}
	for _, p := range strings.Split(rest, ";") {
		k, v, ok := strings.Cut(p, "=")
		if !ok {
			continue
		}
		if k == "features" {
			b.Features = strings.Split(v, ",")
		} else {
			b.Props[k] = v
		}
	}
	return b
}

// Has reports whether the other side announced a feature.
func (b Banner) Has(feature string) bool {
	for _, f := range b.Features {
		if f == feature {
			return true
		}
	}
	return false
}

// String writes the banner as it is sent.
func (b Banner) String() string {
	var s strings.Builder
	s.WriteString(b.Kind + "::")
	for _, k := range []string{"ro.product.name", "ro.product.model", "ro.product.device"} {
		if v, ok := b.Props[k]; ok {
			s.WriteString(k + "=" + v + ";")
		}
	}
	if len(b.Features) > 0 {
		s.WriteString("features=" + strings.Join(b.Features, ","))
	}
	return s.String()
}
