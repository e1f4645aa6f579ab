package wire

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/fastboot"
)

// resolved names the place behind an address, so that two addresses that mean one
// phone have one lock.
func (a Address) resolved() string {
	switch a.Scheme {
	case CableScheme:
		return "socket " + a.Place
	case serialScheme:
		return "line " + a.Place
	}
	host, port, err := net.SplitHostPort(a.Place)
	if err != nil {
		return a.Place
	}
	if ip := net.ParseIP(host); ip == nil {
		ctx, cancel := context.WithTimeout(context.Background(), resolveLimit)
		defer cancel()
		if list, err := net.DefaultResolver.LookupIPAddr(ctx, host); err == nil && len(list) > 0 {
			host = slices.MinFunc(list, func(a, b net.IPAddr) int {
				return bytes.Compare(a.IP, b.IP)
			}).IP.String()
		}
	} else {
		host = ip.String()
	}
	// TCP and UDP at one number are one bootloader.
	return "address " + net.JoinHostPort(host, port)
}

// resolveLimit is how long a name may take to be looked up.
const resolveLimit = 2 * time.Second

// Scheme is one way to reach phones.
type Scheme struct {
	Name  string
	Form  string // of an address behind the colon, for a person
	Modes []card.Mode
	port  int
	// network is what a probe of the address alone dials; "" when there is nothing to
	// probe without the protocol.
	Network string
	open    func(ctx context.Context, p *Phone, a Address, offered func()) (Conn, error)
	// limit is how long a look may take to be answered.
	Limit time.Duration
}

// loaderPort is the loader protocol's own, where none is named (docs/loader-protocol.md).
const loaderPort = 4911

// serialPath is a serial line as the system names it. It is made when it is asked for: no start waits for it.
var serialPath = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(/dev/[A-Za-z0-9/._-]{1,200}|(?i:COM)[0-9]{1,3})$`)
})

// schemes is the table of them.
var schemes = []Scheme{
	{Name: "tcp", Form: "HOST[:PORT]", Modes: card.FastbootModes(),
		port: fastboot.DefaultPort, Network: "tcp", open: openTCP, Limit: answerLimit},
	{Name: "udp", Form: "HOST[:PORT]", Modes: card.FastbootModes(),
		port: fastboot.DefaultPort, open: openUDP, Limit: answerLimit},
	{Name: "adb", Form: "HOST[:PORT]", Modes: []card.Mode{card.Recovery, card.Sideload, card.System},
		port: adb.DefaultPort, Network: "tcp", open: openADB, Limit: answerLimit},
	{Name: "loader", Form: "HOST[:PORT]", Modes: []card.Mode{card.Loader}, port: loaderPort, Network: "tcp",
		open: openLoader, Limit: helloLimit},
	{Name: serialScheme, Form: "PATH", Modes: []card.Mode{card.Loader}, open: openSerial, Limit: helloLimit},
	{Name: CableScheme, Form: "PORT", Modes: []card.Mode{card.Bootloader, card.Fastbootd, card.Loader,
		card.Recovery, card.Sideload, card.System}, open: openCable, Limit: cableLimit},
}

// SchemeOf finds a scheme by its name.
func SchemeOf(name string) (Scheme, bool) {
	i := slices.IndexFunc(schemes, func(s Scheme) bool { return s.Name == name })
	if i < 0 {
		return Scheme{}, false
	}
	return schemes[i], true
}

// AddressForms says how addresses are written.
func AddressForms() string {
	var list []string
	for _, s := range schemes {
		list = append(list, s.Name+":"+s.Form)
	}
	return strings.Join(list, ", ")
}

// AddressError is a text that is no address.
type AddressError struct{ Text, Forms string }

// Error says how it is written.
func (e *AddressError) Error() string {
	return fmt.Sprintf("%q is not an address: write %s", e.Text, e.Forms)
}

// IsAddress reports whether a text looks like an address rather than a name.
func IsAddress(s string) bool {
	name, _, ok := strings.Cut(s, ":")
	_, known := SchemeOf(name)
	return ok && known
}

// ParseAddress reads an address of one of the schemes. Errors: *AddressError.
func ParseAddress(s string) (Address, error) {
	name, rest, ok := strings.Cut(s, ":")
	sch, known := SchemeOf(name)
	if !ok || !known || rest == "" {
		return Address{}, &AddressError{s, AddressForms()}
	}
	if name == CableScheme {
		if !isSocket(rest) {
			return Address{}, &AddressError{s, sch.Name + ":" + sch.Form + ", as jarlid bench shows it"}
		}
		return Address{Scheme: name, Place: rest}, nil
	}
	if name == serialScheme {
		if !serialPath().MatchString(rest) {
			return Address{}, &AddressError{s, sch.Name + ":" + sch.Form +
				", such as serial:/dev/ttyACM0 or serial:COM5"}
		}
		return Address{Scheme: name, Place: rest}, nil
	}
	host, p, err := net.SplitHostPort(rest)
	if err != nil {
		// No port: a name, an IPv4 address, or an IPv6 address in brackets or bare.
		host, p = strings.Trim(rest, "[]"), strconv.Itoa(sch.port)
	}
	if n, err := strconv.Atoi(p); err != nil || n < 1 || n > 65535 || host == "" {
		return Address{}, &AddressError{s, sch.Name + ":" + sch.Form}
	}
	return Address{Scheme: name, Place: net.JoinHostPort(host, p)}, nil
}

// locationPath is a socket as Windows writes it: PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(4), or a node of
// its list of devices.
var locationPath = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^[0-9a-z_()#&\\.{}-]*USB[0-9a-z_()#&\\.{}-]+$`)
})

// isSocket reports whether this is a socket: a bus and a port path as Linux writes them, 1-4.2, or a
// location path of Windows.
func isSocket(s string) bool {
	if len(s) < 256 && locationPath().MatchString(s) {
		return true
	}
	bus, path, ok := strings.Cut(s, "-")
	for _, n := range append(strings.Split(path, "."), bus) {
		if v, err := strconv.ParseUint(n, 10, 8); err != nil || v == 0 {
			return false
		}
	}
	return ok && len(s) < 32
}

// Reaches reports whether a phone in a mode can be at an address.
func (a Address) Reaches(m card.Mode) bool {
	s, ok := SchemeOf(a.Scheme)
	return ok && slices.Contains(s.Modes, m)
}
