// Package ident says what a file is: by its content first, by its name last.
package ident

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/wrap"
)

// Kind is what a file is.
type Kind string

// The kinds.
const (
	Boot             Kind = "boot"
	BootWithRecovery Kind = "boot-with-recovery" // one ramdisk for both starts
	Recovery         Kind = "recovery"
	OTAAB            Kind = "ota-ab"
	Unknown          Kind = "unknown"
)

var kindWords = map[Kind]string{Boot: "a boot image", BootWithRecovery: "a boot image that also holds a recovery",
	Recovery: "a recovery", OTAAB: "an A/B package"}

// Words gives the kind in words, with its article.
func (k Kind) Words() string {
	if k == Unknown {
		return "nothing Jar Lid knows"
	}
	return kindWords[k]
}

// Destination is where a file would go, and why.
type Destination struct {
	Partition string `json:"partition"`
	Slot      string `json:"slot,omitempty"` // "both", "other"; on phones without slots it does not count
	Evidence  string `json:"evidence"`       // content, name
	Why       string `json:"why"`
}

// String writes the destination the way the command line takes it.
func (d Destination) String() string {
	if d.Slot == "" {
		return d.Partition
	}
	return d.Partition + "@" + d.Slot
}

// File is what is known about one file.
type File struct {
	Path    string         `json:"path"`
	Size    int64          `json:"size"`
	Kind    Kind           `json:"kind"`
	Wrapped []string       `json:"wrapped"`
	Details map[string]any `json:"details"`
	GoesTo  []Destination  `json:"goes_to"`
	Damage  string         `json:"damage,omitempty"` // what is wrong with it
	Short   bool           `json:"cut_short,omitempty"`

	Head    []byte        `json:"-"` // the first bytes
	Boot    *boot.Image   `json:"-"`
	Ramdisk *boot.Ramdisk `json:"-"`
	Package *ota.Package  `json:"-"`
}

// headSize is how much of a file's head is looked at.
const headSize = 4096

// Identify looks at the file in r. It never fails: what can't be read is said
// in Damage.
func Identify(r io.ReaderAt, size int64, path string) *File {
	f := &File{Path: path, Size: size, Kind: Unknown, Wrapped: []string{}, Details: map[string]any{}, GoesTo: []Destination{}}
	f.Head = make([]byte, min(size, headSize))
	n, err := r.ReadAt(f.Head, 0)
	f.Head = f.Head[:n]
	if err != nil && !errors.Is(err, io.EOF) {
		f.Damage = err.Error()
		return f
	}
	switch {
	case strings.HasPrefix(string(f.Head), boot.Magic):
		f.boot(r)
	case strings.HasPrefix(string(f.Head), "PK\x03\x04"):
		f.zip(r)
	case wrap.Detect(f.Head) != wrap.None:
		f.Wrapped = append(f.Wrapped, string(wrap.Detect(f.Head)))
	}
	f.byName()
	return f
}

func (f *File) damaged(err error) {
	if err != nil && f.Damage == "" {
		f.Damage, f.Short = err.Error(), image.IsShort(err)
	}
}

func (f *File) boot(r io.ReaderAt) {
	f.Kind = Boot
	m, err := boot.Parse(r, f.Size)
	f.damaged(err)
	if m == nil {
		return
	}
	f.Boot = m
	f.Details["header_version"] = m.HeaderVersion
	f.Details["page_size"] = m.PageSize
	for _, s := range m.Sections {
		f.Details[s.Name+"_size"] = s.Size
	}
	if m.Cmdline != "" {
		f.Details["cmdline"] = m.Cmdline
	}
	if v, patch := m.OS(); v != "" {
		f.Details["os_version"], f.Details["os_patch_level"] = v, patch
	}
	if s := m.Section("ramdisk"); s.Size > 0 && err == nil {
		rd, err := boot.ReadRamdisk(m.Open(r, "ramdisk"))
		f.damaged(err)
		if rd != nil {
			f.ramdisk(rd)
		}
	}
	part, why := "boot", "it is a boot image without a recovery inside"
	switch f.Kind {
	case Recovery:
		part, why = "recovery", "its ramdisk holds a recovery and nothing for a normal start"
	case BootWithRecovery:
		why = "its ramdisk serves the normal start and the recovery"
	}
	f.GoesTo = append(f.GoesTo, Destination{Partition: part, Slot: "both", Evidence: "content", Why: why})
}

func (f *File) ramdisk(rd *boot.Ramdisk) {
	f.Ramdisk = rd
	f.Details["ramdisk_compression"] = string(rd.Compression)
	f.Details["ramdisk_files"] = rd.Files
	if rd.Recovery {
		f.Kind = Recovery
		if rd.NormalStart {
			f.Kind = BootWithRecovery
		}
	}
	if m := f.Models(); len(m) > 0 {
		f.Details["device"] = m[0]
	}
	if t := f.Build(); t != "" {
		f.Details["build"] = t
	}
}

func (f *File) zip(r io.ReaderAt) {
	p, err := ota.Parse(r, f.Size)
	f.Wrapped = append(f.Wrapped, "zip")
	if errors.Is(err, ota.ErrNotAB) {
		return
	}
	f.damaged(err)
	if p == nil {
		return
	}
	f.Kind, f.Package, f.Wrapped = OTAAB, p, []string{}
	for k, v := range p.Metadata {
		f.Details[strings.ReplaceAll(k, "-", "_")] = v
	}
	if p.Payload == nil {
		return
	}
	f.Details["payload_version"] = p.Payload.Version
	f.Details["delta"] = p.Payload.Delta()
	parts := []map[string]any{}
	for _, part := range p.Payload.Partitions {
		parts = append(parts, map[string]any{"name": part.Name, "size": part.Size})
		f.GoesTo = append(f.GoesTo, Destination{Partition: part.Name, Slot: "other", Evidence: "content",
			Why: "the package's payload writes it"})
	}
	f.Details["partitions"] = parts
}

// byName adds what a file's name says where its content says nothing.
func (f *File) byName() {
	if len(f.GoesTo) > 0 || f.Damage != "" || f.Size == 0 {
		return
	}
	base := strings.ToLower(filepath.Base(f.Path))
	for _, p := range []string{"vendor_boot", "init_boot", "vbmeta", "dtbo", "boot", "recovery", "system", "vendor"} {
		if base == p+".img" {
			f.GoesTo = append(f.GoesTo, Destination{Partition: p, Slot: "both", Evidence: "name",
				Why: "only the file's name says so, which is weak evidence"})
			return
		}
	}
}

// deviceProps are the properties that name the phone a build is for, the most
// reliable first.
var deviceProps = []string{"ro.product.device", "ro.product.system.device", "ro.product.vendor.device",
	"ro.product.odm.device", "ro.product.bootimage.device", "ro.build.product"}

// DeviceOf gives the phone a set of properties names, or "".
func DeviceOf(props map[string]string) string {
	for _, p := range deviceProps {
		if v := props[p]; v != "" {
			return v
		}
	}
	return ""
}

// BuildOf gives what a build calls itself, or "".
func BuildOf(props map[string]string) string {
	for _, p := range []string{"ro.build.display.id", "ro.build.version.incremental", "ro.bootimage.build.version.incremental"} {
		if v := props[p]; v != "" {
			return v
		}
	}
	return ""
}

// Models gives the phones the file says it is for; empty when it does not say.
func (f *File) Models() []string {
	switch {
	case f.Package != nil:
		return f.Package.Devices()
	case f.Ramdisk != nil:
		if d := DeviceOf(f.Ramdisk.Props); d != "" {
			return []string{d}
		}
	}
	return nil
}

// Build gives what the build inside calls itself, empty when it does not say.
func (f *File) Build() string {
	switch {
	case f.Package != nil:
		if v := f.Package.Metadata["post-build"]; v != "" {
			return v
		}
		return f.Package.Metadata["post-build-incremental"]
	case f.Ramdisk != nil:
		return BuildOf(f.Ramdisk.Props)
	}
	return ""
}

// Lines says what else matters about the file, a line each.
func (f *File) Lines() []string {
	var l []string
	if b := f.Build(); b != "" {
		l = append(l, "build: "+b)
	}
	switch {
	case f.Boot != nil:
		if v, patch := f.Boot.OS(); v != "" {
			l = append(l, fmt.Sprintf("made for system version %s, security patch level %s", v, patch))
		}
		if f.Ramdisk != nil {
			l = append(l, fmt.Sprintf("ramdisk: %d files, compressed as %s", f.Ramdisk.Files, f.Ramdisk.Compression))
		}
		if f.Boot.Cmdline != "" {
			l = append(l, "kernel command line: "+f.Boot.Cmdline)
		}
	case f.Package != nil && f.Package.Payload != nil:
		if v := f.Package.Metadata["post-security-patch-level"]; v != "" {
			l = append(l, "security patch level "+v)
		}
		var parts []string
		for _, p := range f.Package.Payload.Partitions {
			parts = append(parts, fmt.Sprintf("%s %s", p.Name, image.Size(int64(p.Size))))
		}
		l = append(l, "partitions inside: "+strings.Join(parts, ", "))
	}
	return l
}

// Words says in a few words what the file is: "a recovery for dunlin: boot
// image v2".
func (f *File) Words() string {
	s := f.Kind.Words()
	if m := f.Models(); len(m) > 0 {
		s += " for " + strings.Join(m, " or ")
	}
	switch {
	case f.Boot != nil:
		s += fmt.Sprintf(": boot image v%d", f.Boot.HeaderVersion)
	case f.Package != nil && f.Package.Payload != nil:
		kind := "full payload"
		if f.Package.Payload.Delta() {
			kind = "delta payload"
		}
		s += fmt.Sprintf(": %s of %d partitions", kind, len(f.Package.Payload.Partitions))
	}
	return s
}
