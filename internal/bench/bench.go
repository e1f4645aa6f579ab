// Package bench is the workbench: which phones are here, running steps on
// them, and the journal. It is the only place that changes a phone.
package bench

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/model"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/fastboot"
)

// Entry is one phone in bench.yaml. Addresses are written as on the command
// line: tcp:HOST[:PORT] or udp:HOST[:PORT] for fastboot, adb:HOST[:PORT].
type Entry struct {
	Name     string `yaml:"name"`
	Model    string `yaml:"model,omitempty"`
	Serial   string `yaml:"serial,omitempty"`
	Fastboot string `yaml:"fastboot,omitempty"`
	ADB      string `yaml:"adb,omitempty"`
	Control  string `yaml:"control,omitempty"` // of a stand-in: where its hands are
	Standin  string `yaml:"standin,omitempty"` // of a stand-in: its folder
}

type file struct {
	Phones []Entry `yaml:"phones"`
}

// Bench is a home folder: models, bench.yaml, this computer's key, jobs.
type Bench struct {
	Home   string
	Models model.Set

	keyMu sync.Mutex
	key   *adb.Key
}

// DefaultHome is the home folder when none is given: the user's data folder.
func DefaultHome() (string, error) {
	if dir := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "jarlid"), nil
	}
	dir, err := os.UserConfigDir() // the data folder on Windows and macOS
	if err != nil {
		return "", err
	}
	if home, err := os.UserHomeDir(); err == nil && dir == filepath.Join(home, ".config") {
		dir = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(dir, "jarlid"), nil
}

// Open opens the home folder, which need not exist yet.
func Open(home string) (*Bench, error) {
	b := &Bench{Home: home}
	var own fs.FS
	if dir := filepath.Join(home, "models"); isDir(dir) {
		own = os.DirFS(dir)
	}
	var err error
	b.Models, err = model.Load(own)
	return b, err
}

func isDir(p string) bool {
	st, err := os.Stat(p)
	return err == nil && st.IsDir()
}

// Key gives this computer's key, made on first use.
func (b *Bench) Key() (*adb.Key, error) {
	b.keyMu.Lock()
	defer b.keyMu.Unlock()
	if b.key != nil {
		return b.key, nil
	}
	host, err := os.Hostname()
	if err != nil {
		host = "computer"
	}
	b.key, err = adb.LoadKey(filepath.Join(b.Home, "key.pem"), "jarlid@"+strings.Map(plain, host))
	return b.key, err
}

func plain(r rune) rune {
	if r > ' ' && r < 127 {
		return r
	}
	return -1
}

func (b *Bench) listPath() string { return filepath.Join(b.Home, "bench.yaml") }

// Entries reads bench.yaml; none when there is no file.
func (b *Bench) Entries() ([]Entry, error) {
	data, err := os.ReadFile(b.listPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var f file
	d := yaml.NewDecoder(strings.NewReader(string(data)))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil && len(strings.TrimSpace(string(data))) > 0 {
		return nil, fmt.Errorf("%s: %w", b.listPath(), err)
	}
	for i, e := range f.Phones {
		if e.Name == "" || e.Fastboot == "" && e.ADB == "" {
			return nil, fmt.Errorf("%s: phone %d needs a name and an address (fastboot: or adb:)", b.listPath(), i+1)
		}
		for _, a := range []string{e.Fastboot, e.ADB} {
			if a == "" {
				continue
			}
			if _, err := ParseAddress(a); err != nil {
				return nil, fmt.Errorf("%s: phone %s: %w", b.listPath(), e.Name, err)
			}
		}
	}
	return f.Phones, nil
}

// change rewrites bench.yaml under a lock, so that two programs do not lose
// each other's phones.
func (b *Bench) change(edit func([]Entry) []Entry) error {
	if err := os.MkdirAll(b.Home, 0o700); err != nil {
		return err
	}
	lock := flock.New(b.listPath() + ".lock")
	if err := lock.Lock(); err != nil {
		return err
	}
	defer lock.Unlock()
	list, err := b.Entries()
	if err != nil {
		return err
	}
	data, err := yaml.Marshal(file{edit(list)})
	if err != nil {
		return err
	}
	tmp := b.listPath() + ".new"
	if err := os.WriteFile(tmp, data, 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, b.listPath())
}

// Register lists a phone, in place of one of the same name.
func (b *Bench) Register(e Entry) error {
	return b.change(func(list []Entry) []Entry {
		list = slices.DeleteFunc(list, func(o Entry) bool { return o.Name == e.Name })
		return append(list, e)
	})
}

// Unregister takes a phone off the list, if it is still the same one.
func (b *Bench) Unregister(e Entry) error {
	return b.change(func(list []Entry) []Entry {
		return slices.DeleteFunc(list, func(o Entry) bool { return o == e })
	})
}

// Address is where a phone is reached.
type Address struct {
	Protocol string // "tcp", "udp": fastboot; "adb"
	HostPort string
}

// String writes the address as on the command line.
func (a Address) String() string { return a.Protocol + ":" + a.HostPort }

// ParseAddress reads tcp:HOST[:PORT], udp:HOST[:PORT] or adb:HOST[:PORT].
func ParseAddress(s string) (Address, error) {
	proto, rest, ok := strings.Cut(s, ":")
	ports := map[string]int{"tcp": fastboot.DefaultPort, "udp": fastboot.DefaultPort, "adb": adb.DefaultPort}
	port, known := ports[proto]
	if !ok || !known || rest == "" {
		return Address{}, fmt.Errorf("%q is not an address: write tcp:HOST[:PORT] or udp:HOST[:PORT] for fastboot, or adb:HOST[:PORT]", s)
	}
	host, p, err := net.SplitHostPort(rest)
	if err != nil {
		// No port: a name, an IPv4 address, or an IPv6 address in brackets or bare.
		host, p = strings.Trim(rest, "[]"), strconv.Itoa(port)
	}
	if n, err := strconv.Atoi(p); err != nil || n < 1 || n > 65535 || host == "" {
		return Address{}, fmt.Errorf("%q is not an address: write %s:HOST[:PORT]", s, proto)
	}
	return Address{Protocol: proto, HostPort: net.JoinHostPort(host, p)}, nil
}

// isAddress tells whether the text looks like an address rather than a name.
func isAddress(s string) bool {
	for _, p := range []string{"tcp:", "udp:", "adb:"} {
		if strings.HasPrefix(s, p) {
			return true
		}
	}
	return false
}

// now is the time as it is written to files.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }
