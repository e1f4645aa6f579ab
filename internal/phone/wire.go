package phone

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/core/place"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/phone/shell"
)

// Wire is an open connection to a phone in one mode, whatever is spoken over it.
// What it can do beyond this are the interfaces below.
type Wire interface {
	Mode() card.Mode
	Address() Address
	// Facts reads what the wire tells by itself.
	Facts(ctx context.Context, s *Session) error
	// Restart sends the phone into a mode. *link.RefusedError where the phone or the
	// wire knows no such restart.
	Restart(ctx context.Context, to card.Mode) error
	// Gone waits until the phone has gone away after a restart.
	Gone(ctx context.Context)
	Close() error
}

// The capabilities a wire may have.
type (
	// Writer writes images to partitions. Of an image larger than limit (0: none) the
	// wire sends parts; moved is told how many bytes of the image are done.
	Writer interface {
		Write(ctx context.Context, partition string, r io.ReaderAt, size, limit int64, moved func(int64)) (
			answers []string, err error)
	}
	// Eraser erases partitions.
	Eraser interface {
		Erase(ctx context.Context, partition string) (answers []string, err error)
	}
	// Fetcher gives out what partitions hold, n bytes from off on of whole.
	Fetcher interface {
		Fetch(ctx context.Context, partition string, off, n, whole int64, w io.Writer) (int64, error)
	}
	// Commander takes commands of the bootloader as text, silent for at most quiet.
	Commander interface {
		Command(ctx context.Context, text string, quiet time.Duration) (answers []string, err error)
	}
	// Starter starts an image without writing it.
	Starter interface {
		Start(ctx context.Context, r io.Reader, size int64, moved func(int64)) (answers []string, err error)
	}
	// Slotter chooses the slot that starts next.
	Slotter interface {
		SetActive(ctx context.Context, slot string) (answers []string, err error)
	}
	// Tabler has a table of partitions that can be read and, by an order of its own, written.
	Tabler interface {
		Table(ctx context.Context) ([]parttable.Partition, error)
		WriteTable(ctx context.Context, b []byte) (digest string, err error)
	}
	// Sheller runs a command line in the phone's shell; package shell has them.
	Sheller = shell.Sender
	// Syncer reads and writes files of the phone.
	Syncer interface {
		Sync(ctx context.Context) (*adb.Sync, error)
	}
	// Installer sends packages to a recovery: block by block as it asks for them, or
	// whole. quiet bounds how long it may ask for nothing.
	Installer interface {
		Sideload(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
			served func(off, n int64)) (adb.Closing, error)
		SideloadWhole(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
			sent func(off, n int64)) error
	}
)

// LackError says that the phone can't do something over this wire in this mode.
type LackError struct {
	What  string    // in words: "be written"
	Mode  card.Mode // the phone is in
	Image card.Mode // it takes images in
	// Unread says that it is a recovery with a shell, and unknown whether that is root's.
	Unread bool
}

// Error says what is lacking.
func (e *LackError) Error() string {
	return fmt.Sprintf("in this mode (%s) the phone can't %s", ModeName(e.Mode), e.What)
}

// Finding is the error as a finding.
func (e *LackError) Finding() finding.Finding {
	if e.Unread {
		return finding.Finding{Name: finding.NotInThisMode, Severity: finding.Stop, About: ModeName(e.Mode),
			Text:  e.Error() + "; whether its shell is root's is unknown: it did not report its user",
			Final: true, Remedy: "jarlid card reads it again; otherwise use another recovery"}
	}
	return finding.Finding{Name: finding.NotInThisMode, Severity: finding.Stop, About: ModeName(e.Mode),
		Text: e.Error(), Final: true,
		Remedy: "bring it into another mode: jarlid go recovery, or jarlid go " + string(e.Image)}
}

// ModeName gives a mode's name, also of a phone nobody sees.
func ModeName(m card.Mode) string {
	if m == card.None {
		return "not known"
	}
	return string(m)
}

// Lacks is the error of something this mode can't do, in words such as "be written".
func (s *Session) Lacks(what string) *LackError {
	return &LackError{What: what, Mode: s.Mode(), Image: place.ImageMode(s.Card, s.model),
		Unread: s.HasShell() && s.Mode() == card.Recovery && !s.Card.Get(card.FactRoot).Known()}
}

// can gives a capability of the wire.
func can[T any](s *Session, what string) (T, error) {
	c, ok := s.wire.(T)
	if !ok {
		return c, s.Lacks(what)
	}
	return c, nil
}

// HasShell, HasLoader, HasFiles and Fetches tell what the session can do.
func (s *Session) HasShell() bool { _, ok := s.wire.(Sheller); return ok }

// HasLoader reports whether the phone takes images and commands of a bootloader.
func (s *Session) HasLoader() bool { _, ok := s.wire.(Writer); return ok }

// HasFiles reports whether the phone's files can be read.
func (s *Session) HasFiles() bool { _, ok := s.wire.(Syncer); return ok }

// Fetches reports whether partitions can be read without a shell.
func (s *Session) Fetches() bool {
	_, ok := s.wire.(Fetcher)
	return ok && s.Mode().Def().Reads
}

// RootRecovery reports whether a recovery with a root shell is at the other end.
func (s *Session) RootRecovery() bool {
	return s.HasShell() && s.Mode() == card.Recovery && s.Card.Value(card.FactRoot) == "yes"
}

// Write writes an image to a partition, in parts when it is larger than the phone
// takes at once.
func (s *Session) Write(ctx context.Context, partition string, r io.ReaderAt, size int64, moved func(int64)) (
	[]string, error) {
	w, err := can[Writer](s, "be sent images")
	if err != nil {
		return nil, err
	}
	limit, _ := s.Card.Number(card.FactDownload)
	return w.Write(ctx, s.spell(partition), r, size, limit, moved)
}

// Erase erases a partition.
func (s *Session) Erase(ctx context.Context, partition string) ([]string, error) {
	e, err := can[Eraser](s, "erase partitions by command")
	if err != nil {
		return nil, err
	}
	return e.Erase(ctx, s.spell(partition))
}

// Command sends a command of the bootloader.
func (s *Session) Command(ctx context.Context, text string, quiet time.Duration) ([]string, error) {
	c, err := can[Commander](s, "take commands of a bootloader")
	if err != nil {
		return nil, err
	}
	return c.Command(ctx, text, quiet)
}

// Start starts an image without writing it.
func (s *Session) Start(ctx context.Context, r io.Reader, size int64, moved func(int64)) ([]string, error) {
	c, err := can[Starter](s, "start an image without writing it")
	if err != nil {
		return nil, err
	}
	return c.Start(ctx, r, size, moved)
}

// SetActive chooses the slot that starts next.
func (s *Session) SetActive(ctx context.Context, slot string) ([]string, error) {
	c, err := can[Slotter](s, "be told which slot starts next")
	if err != nil {
		return nil, err
	}
	return c.SetActive(ctx, slot)
}

// Table reads the loader's table of partitions.
func (s *Session) Table(ctx context.Context) ([]parttable.Partition, error) {
	c, err := can[Tabler](s, "give out a table of partitions")
	if err != nil {
		return nil, err
	}
	return c.Table(ctx)
}

// WriteTable writes another one, and gives its SHA-256, in hex.
func (s *Session) WriteTable(ctx context.Context, b []byte) (digest string, err error) {
	c, err := can[Tabler](s, "take a table of partitions")
	if err != nil {
		return "", err
	}
	return c.WriteTable(ctx, b)
}

// Sync opens a service that reads and writes the phone's files.
func (s *Session) Sync(ctx context.Context) (*adb.Sync, error) {
	c, err := can[Syncer](s, "give out files")
	if err != nil {
		return nil, err
	}
	return c.Sync(ctx)
}

// Installer gives what packages are sent by.
func (s *Session) Installer() (Installer, error) { return can[Installer](s, "take packages") }

// Fetch gives out what a partition holds.
func (s *Session) Fetch(ctx context.Context, partition string, off, n, whole int64, w io.Writer) (
	int64, error) {
	c, err := can[Fetcher](s, "give out partitions")
	if err != nil {
		return 0, err
	}
	return c.Fetch(ctx, s.spell(partition), off, n, whole, w)
}

// Restart sends the phone into a mode. *link.RefusedError where that is done by hand.
func (s *Session) Restart(ctx context.Context, to card.Mode) error {
	if s.wire == nil {
		return &link.RefusedError{Command: "restart",
			Message: "the phone can't be reached, so a person brings it there"}
	}
	return s.wire.Restart(ctx, to)
}

// Gone waits until the phone has gone away after a restart, so that it is not taken
// for having come back already, and drops the wire.
func (s *Session) Gone(ctx context.Context) {
	if s.wire != nil {
		s.wire.Gone(ctx)
	}
	s.Drop()
}

// restartTargets are the modes as the protocols name them.
var restartTargets = map[card.Mode]string{card.System: "", card.Bootloader: "bootloader",
	card.Recovery:  "recovery",
	card.Fastbootd: "fastboot", card.Sideload: "sideload"}

// Address is where a phone is reached: a scheme and what comes behind its colon.
type Address struct{ Scheme, Place string }

// String writes the address as on the command line.
func (a Address) String() string {
	if a.Scheme == "" {
		return ""
	}
	return a.Scheme + ":" + a.Place
}

// resolved names the place behind an address, so that two addresses that mean one
// phone have one lock.
func (a Address) resolved() string {
	switch a.Scheme {
	case cableScheme:
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
	network string
	open    func(ctx context.Context, p *Phone, a Address, offered func()) (Wire, error)
	// limit is how long a look may take to be answered.
	limit time.Duration
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
		port: fastboot.DefaultPort, network: "tcp", open: openTCP, limit: answerLimit},
	{Name: "udp", Form: "HOST[:PORT]", Modes: card.FastbootModes(),
		port: fastboot.DefaultPort, open: openUDP, limit: answerLimit},
	{Name: "adb", Form: "HOST[:PORT]", Modes: []card.Mode{card.Recovery, card.Sideload, card.System},
		port: adb.DefaultPort, network: "tcp", open: openADB, limit: answerLimit},
	{Name: "loader", Form: "HOST[:PORT]", Modes: []card.Mode{card.Loader}, port: loaderPort, network: "tcp",
		open: openLoader, limit: helloLimit},
	{Name: serialScheme, Form: "PATH", Modes: []card.Mode{card.Loader}, open: openSerial, limit: helloLimit},
	{Name: cableScheme, Form: "PORT", Modes: []card.Mode{card.Bootloader, card.Fastbootd, card.Loader,
		card.Recovery, card.Sideload, card.System}, open: openCable, limit: cableLimit},
}

func schemeOf(name string) (Scheme, bool) {
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
	_, known := schemeOf(name)
	return ok && known
}

// ParseAddress reads an address of one of the schemes. Errors: *AddressError.
func ParseAddress(s string) (Address, error) {
	name, rest, ok := strings.Cut(s, ":")
	sch, known := schemeOf(name)
	if !ok || !known || rest == "" {
		return Address{}, &AddressError{s, AddressForms()}
	}
	if name == cableScheme {
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
	s, ok := schemeOf(a.Scheme)
	return ok && slices.Contains(s.Modes, m)
}

// adbAddress is the address a running system would answer at.
func (p *Phone) adbAddress() Address {
	for _, a := range p.addresses() {
		if a.Reaches(card.System) {
			return a
		}
	}
	return Address{}
}
