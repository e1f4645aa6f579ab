// Package backup holds what a folder with a phone's backup says of itself: the
// manifest, its form, and whether it belongs to a phone.
package backup

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
)

// Name is the manifest's file name in the folder.
const Name = "backup.yaml"

// Form is the version of the manifest's form.
const Form = 1

// Storage is the item that is the shared storage; the others are partitions.
const Storage = "storage"

// Item is one partition, or the shared storage.
type Item struct {
	Name  string `yaml:"name" json:"name"` // of the partition with its slot's suffix; "storage"
	File  string `yaml:"file" json:"file"` // in the folder; of the storage a folder
	Bytes int64  `yaml:"bytes" json:"bytes"`
	// of a partition; of the storage over its files' lines
	SHA256 string `yaml:"sha256,omitempty" json:"sha256,omitempty"`
	Files  []File `yaml:"files,omitempty" json:"-"`
	// Skipped are files of the storage that could not be kept, by their paths on the phone.
	Skipped []string `yaml:"skipped,omitempty" json:"skipped,omitempty"`
}

// File is one file of the shared storage.
type File struct {
	Path   string    `yaml:"path"`            // below the storage, with slashes, as the phone has it
	Local  string    `yaml:"local,omitempty"` // below the folder, where that is another one
	Bytes  int64     `yaml:"bytes"`
	SHA256 string    `yaml:"sha256"`
	Time   time.Time `yaml:"time"`
	// NotCompared says that the phone has no tool for a digest of its own: what arrived is known to be
	// whole by its size alone.
	NotCompared bool `yaml:"not-compared,omitempty"`
}

// At gives where the file lies below the folder of the storage, with slashes.
func (f *File) At() string { return cmp.Or(f.Local, f.Path) }

// Manifest says what a folder holds and of which phone.
type Manifest struct {
	Form     int       `yaml:"jarlid-backup"`
	Taken    time.Time `yaml:"taken"`
	Phone    string    `yaml:"phone"` // its bench name
	Model    string    `yaml:"model"`
	Serial   string    `yaml:"serial"`
	Started  string    `yaml:"slot-started,omitempty"`
	Next     string    `yaml:"slot-next,omitempty"`
	System   string    `yaml:"system,omitempty"` // what the phone's system calls itself, as far as known
	Recovery string    `yaml:"recovery,omitempty"`
	Items    []Item    `yaml:"items"`
	Complete bool      `yaml:"complete"`          // it is finished, and never written again
	Without  []string  `yaml:"without,omitempty"` // what is not in it
}

// Parse reads a manifest. Names that would lead out of the folder, and sizes and
// digests that can't be, are errors.
func Parse(b []byte) (*Manifest, error) {
	m := &Manifest{}
	if err := yaml.Unmarshal(b, m); err != nil {
		return nil, fmt.Errorf("it is no manifest of a backup: %w", err)
	}
	if m.Form != Form {
		return nil, fmt.Errorf("its form is %d, this jarlid reads %d", m.Form, Form)
	}
	seen := map[string]bool{}
	for _, i := range m.Items {
		if i.Name == "" || seen[i.Name] || !inside(i.File) || i.Bytes < 0 || i.Name != Storage &&
			!digest(i.SHA256) {
			return nil, fmt.Errorf("its item %q is damaged", i.Name)
		}
		seen[i.Name] = true
		for _, f := range i.Files {
			if !inside(f.At()) || !onPhone(f.Path) || f.Bytes < 0 || !digest(f.SHA256) {
				return nil, fmt.Errorf("its file %q in %s is damaged", f.Path, i.Name)
			}
		}
	}
	return m, nil
}

// inside reports whether a path stays in its folder on every system.
func inside(p string) bool {
	return p != "" && p != "." && path.Clean(p) == p && !path.IsAbs(p) && p != ".." && !strings.HasPrefix(p,
		"../") && !strings.ContainsAny(p, "\\:\x00")
}

// onPhone reports whether a path is one below a folder of the phone, whatever its names are made of.
func onPhone(p string) bool {
	return p != "" && p != "." && path.Clean(p) == p && !path.IsAbs(p) && p != ".." && !strings.HasPrefix(p,
		"../") && !strings.Contains(p, "\x00")
}

// Keepable reports whether a file of the phone can be kept, under a name that may be another one.
func Keepable(p string) bool { return onPhone(p) }

func digest(s string) bool {
	return len(s) == 64 && strings.Trim(s, "0123456789abcdef") == ""
}

// Encode writes the manifest.
func (m *Manifest) Encode() ([]byte, error) {
	m.Form = Form
	return yaml.Marshal(m)
}

// Item gives an item by its name, nil when it is not in it.
func (m *Manifest) Item(name string) *Item {
	if i := slices.IndexFunc(m.Items, func(i Item) bool { return i.Name == name }); i >= 0 {
		return &m.Items[i]
	}
	return nil
}

// Put adds an item or replaces the one of that name.
func (m *Manifest) Put(i Item) {
	if old := m.Item(i.Name); old != nil {
		*old = i
		return
	}
	m.Items = append(m.Items, i)
}

// Find gives the items a person means by a word: a whole name, or a partition
// without its slot, which means both.
func (m *Manifest) Find(word string) []*Item {
	var list []*Item
	base, slot, named := strings.Cut(word, "@")
	for i := range m.Items {
		n := m.Items[i].Name
		if n == word || named && n == base+"_"+slot || (!named || slot == "both") &&
			(n == base+"_a" || n == base+"_b") {
			list = append(list, &m.Items[i])
		}
	}
	return list
}

// single are partitions that are different on every phone of a model: what
// makes the phone itself, its radio's numbers and its keys.
var single = []string{"efs", "modemst1", "modemst2", "fsg", "fsc", "persist", "nvram", "nvdata", "nvcfg",
	"protect1", "protect2", "sec_efs", "proinfo", "devinfo", "persistbak", "frp", "misc", "metadata"}

// Personal reports whether a partition holds what is different on every phone of a model, so that
// another phone's contents in it lose this one its numbers or keys.
func Personal(base string) bool {
	return slices.Contains(single, base) && base != "misc" && base != "metadata" && base != "frp"
}

// Check holds a backup against a phone.
func (m *Manifest) Check(c *card.Card, items []*Item) []finding.Finding {
	var list []finding.Finding
	if have := c.Value(card.FactModel); have != "" && m.Model != "" && have != m.Model {
		list = append(list, finding.Stops(finding.WrongModel, m.Model,
			fmt.Sprintf("the backup is of a %s, this phone is a %s", m.Model, have),
			"take the backup of this phone"))
	}
	serial := c.Value(card.FactSerial)
	other := serial != "" && m.Serial != "" && serial != m.Serial && c.Value(card.FactOtherSerial) != m.Serial
	for _, i := range items {
		base := strings.TrimSuffix(strings.TrimSuffix(i.Name, "_a"), "_b")
		if n, known := c.Number(card.FactSize.Of(card.Part(i.Name))); known && n != i.Bytes &&
			i.Name != Storage {
			f := finding.Warns(finding.BackupDiffers, i.Name,
				fmt.Sprintf("%s had %s when the backup was taken, and has %s now", i.Name,
					image.Size(i.Bytes), image.Size(n)), "")
			list = append(list, f)
		}
		if !other {
			continue
		}
		f := finding.Warns(finding.OtherPhone, i.Name,
			fmt.Sprintf("the backup is of the phone with the serial number %s, this one has %s",
				m.Serial, serial), "")
		if slices.Contains(single, base) {
			f.Severity = finding.Stop
			f.Text += "; " + i.Name + " is different on every phone"
		}
		list = append(list, f)
	}
	return list
}

// big are the partitions a backup leaves out unless they are named: they come
// from a ROM or a firmware set, or are the owner's data as a whole.
var big = []string{"userdata", "cache", "super", "system", "system_ext", "vendor", "vendor_dlkm",
	"system_dlkm", "odm", "odm_dlkm", "product"}

// Usual reports whether a partition is taken when none is named.
func Usual(name string, size int64) bool {
	base := strings.TrimSuffix(strings.TrimSuffix(name, "_a"), "_b")
	const most = 512 << 20 // bytes; nothing a phone needs to start is larger
	return !slices.Contains(big, base) && size > 0 && size <= most
}
