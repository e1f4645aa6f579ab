// Package bench is the workbench: which phones are here and why one is not, their
// names, locks, and this computer's key.
package bench

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/model"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
)

// Entry is one phone in bench.yaml. Addresses are written as on the command line; a phone with
// a serial number needs none, it is found on its cable.
type Entry struct {
	Name    string   `yaml:"name"`
	Model   string   `yaml:"model,omitempty"`
	Serial  string   `yaml:"serial,omitempty"`
	At      []string `yaml:"at,omitempty"`
	Control string   `yaml:"control,omitempty"` // of a stand-in: where its hands are
	Standin string   `yaml:"standin,omitempty"` // of a stand-in: its folder
}

// file is bench.yaml.
type file struct {
	Phones []Entry `yaml:"phones"`
	// Serials are the numbers of one phone each, of those that report more than one.
	Serials [][]string `yaml:"serials,omitempty"`
	// Shared are numbers that several phones report, which identify none of them.
	Shared []string `yaml:"shared,omitempty"`
}

// Options say where a bench is and how it reaches phones.
type Options struct {
	Home  string       // the home folder, which need not exist yet
	Locks string       // the folder of locks; "": one for the user, whatever the home
	Dial  link.Dialer  // nil: the network
	Ports serial.Ports // the serial lines; nil: none are looked for
	Cable usb.Bus      // nil: no phone is on a cable
	Doing string       // what this program does, for another one that finds a phone locked
}

// Bench is a home folder: models, bench.yaml, this computer's key, jobs.
type Bench struct {
	Home   string
	Closed bool // other users could read the home folder until now
	Models model.Set

	locks  string
	doing  string
	dial   link.Dialer
	cable  usb.Bus
	ports  serial.Ports
	listMu sync.Mutex
	list   file
	listOf fs.FileInfo // the file it was read from

	metMu sync.Mutex
	met   map[string]*phone.Phone // those nobody listed, by name: they stay known while they reboot

	keyMu sync.Mutex
	key   *adb.Key

	turnMu sync.Mutex
	turns  map[string]chan struct{} // names this program has locked itself
	kept   *keep                    // locks that are not let go before the end; nil: none
}

// DefaultHome is the home folder where nothing names one.
func DefaultHome() (string, error) {
	data, err := host.DataFolder()
	return filepath.Join(data, "jarlid"), err
}

// Open opens a home folder.
func Open(o Options) (*Bench, error) {
	b := &Bench{Home: o.Home, locks: o.Locks, doing: o.Doing, dial: o.Dial, cable: o.Cable, ports: o.Ports}
	if b.dial == nil {
		b.dial = &net.Dialer{}
	}
	if b.cable != nil {
		b.cable = numbered{b.cable}
	}
	if b.locks == "" {
		b.locks = lockFolder()
	}
	var err error
	if isDir(b.Home) {
		if b.Closed, err = host.Private(b.Home); err != nil {
			return nil, err
		}
	}
	var own fs.FS
	if dir := filepath.Join(b.Home, "models"); isDir(dir) {
		own = os.DirFS(dir)
	}
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
	f, err := b.read()
	return f.Phones, err
}

// read gives the list. It is asked for at every look at the cables, so one that is still the
// same file is not read again: each change puts another one in its place.
func (b *Bench) read() (file, error) {
	st, err := os.Stat(b.listPath())
	if errors.Is(err, fs.ErrNotExist) {
		return file{}, nil
	}
	if err != nil {
		return file{}, err
	}
	b.listMu.Lock()
	defer b.listMu.Unlock()
	if b.listOf == nil || !os.SameFile(b.listOf, st) || !b.listOf.ModTime().Equal(st.ModTime()) ||
		b.listOf.Size() != st.Size() {
		if b.list, err = b.parse(); err != nil {
			b.listOf = nil
			return file{}, err
		}
		b.listOf = st
	}
	return file{Phones: slices.Clone(b.list.Phones), Serials: slices.Clone(b.list.Serials),
		Shared: slices.Clone(b.list.Shared)}, nil
}

// maxList bounds bench.yaml, in bytes: it holds thousands of phones.
const maxList = 4 << 20

func (b *Bench) parse() (file, error) {
	data, err := files.ReadText(b.listPath(), maxList)
	if err != nil {
		return file{}, err
	}
	var f file
	if err := spell.Strict(strings.NewReader(data), &f); err != nil && len(strings.TrimSpace(data)) > 0 {
		return file{}, fmt.Errorf("%s: %w", b.listPath(), err)
	}
	for i, e := range f.Phones {
		if e.Name == "" || len(e.At) == 0 && e.Serial == "" {
			return file{}, fmt.Errorf("%s: phone %d needs a name, and a serial number or addresses (at:)",
				b.listPath(), i+1)
		}
		for _, a := range e.At {
			if _, err := wire.ParseAddress(a); err != nil {
				return file{}, fmt.Errorf("%s: phone %s: %w", b.listPath(), e.Name, err)
			}
		}
		for _, o := range f.Phones[:i] {
			if o.Name == e.Name {
				return file{}, fmt.Errorf("%s: two phones are called %s", b.listPath(), e.Name)
			}
		}
	}
	return f, nil
}

// change rewrites bench.yaml under a lock, so that two programs do not lose
// each other's phones.
func (b *Bench) change(edit func(*file)) error {
	if _, err := host.Private(b.Home); err != nil {
		return err
	}
	lock := host.Lock(b.listPath() + ".lock")
	if err := take(lock, listLimit); err != nil {
		return fmt.Errorf("%s: %w", b.listPath(), err)
	}
	defer lock.Unlock()
	f, err := b.read()
	if err != nil {
		return err
	}
	edit(&f)
	data, err := yaml.Marshal(f)
	if err != nil {
		return err
	}
	return host.WriteWhole(b.listPath(), data, 0o600)
}

// Register lists a phone, in place of one of the same name.
func (b *Bench) Register(e Entry) error {
	return b.change(func(f *file) {
		f.Phones = append(slices.DeleteFunc(f.Phones, func(o Entry) bool { return o.Name == e.Name }), e)
	})
}

// Unregister takes a phone off the list, if it is still the same one.
func (b *Bench) Unregister(e Entry) error {
	return b.change(func(f *file) {
		f.Phones = slices.DeleteFunc(f.Phones, func(o Entry) bool { return reflect.DeepEqual(o, e) })
	})
}

// takenError says that a name belongs to another phone, or can't be one.
type takenError struct{ Name, Why string }

// Error says why.
func (e *takenError) Error() string {
	return fmt.Sprintf("a phone can't be called %q: %s", e.Name, e.Why)
}

// reachedAt adds addresses.
func (e *Entry) reachedAt(at []wire.Address) {
	for _, a := range at {
		if !slices.Contains(e.At, a.String()) {
			e.At = append(e.At, a.String())
		}
	}
}

// Rename gives a phone a name on the bench. One that is not listed is, from now on: by its
// serial number, else by its addresses.
func (b *Bench) Rename(p *phone.Phone, name string, at ...wire.Address) error {
	switch {
	case name == "" || strings.HasPrefix(name, "-") || strings.IndexFunc(name, func(r rune) bool {
		return r <= ' ' || r == 0x7f || r == ','
	}) >= 0:
		return &takenError{name, "a name is one word and does not begin with a dash"}
	case wire.IsAddress(name):
		return &takenError{name, "it is an address"}
	}
	var taken error
	err := b.change(func(f *file) {
		if slices.ContainsFunc(f.Phones, func(e Entry) bool { return e.Name == name && e.Name != p.Name }) {
			taken = &takenError{name, "another phone has that name"}
			return
		}
		if i := slices.IndexFunc(f.Phones, func(e Entry) bool {
			return p.Listed && e.Name == p.Name
		}); i >= 0 {
			f.Phones[i].Name = name
			f.Phones[i].reachedAt(at)
			return
		}
		e := Entry{Name: name, Serial: p.Serial}
		if e.Serial == "" {
			for _, a := range p.At {
				e.At = append(e.At, a.String())
			}
		}
		e.reachedAt(at)
		f.Phones = append(f.Phones, e)
	})
	if taken != nil {
		return taken
	}
	return err
}
