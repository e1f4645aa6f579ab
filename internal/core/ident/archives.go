package ident

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/script"
	"jarlid/internal/core/spell"
)

const (
	maxMembers = 20000 // listed of one archive
	// maxLooked is how many members' heads are checked.
	maxLooked = 200
)

// entry is a member of any kind of archive.
type entry struct {
	name string
	size int64
	open func() (io.ReadCloser, error)
	at   *io.SectionReader // when it is stored as it is
}

func (f *File) zip(r io.ReaderAt, size int64) {
	p, err := ota.Parse(r, size)
	if p != nil && p.Metadata != nil {
		for k, v := range p.Metadata {
			f.Details[strings.ReplaceAll(k, "-", "_")] = v
		}
	}
	if p != nil { // build/make, tools/releasetools; update_engine, common/constants.cc
		switch {
		case p.Metadata["ota-wipe"] == "yes":
			f.Wipes = "its metadata"
		case p.Properties["POWERWASH"] == "1":
			f.Wipes = "the properties of its payload"
		}
	}
	switch {
	case err == nil || p != nil && p.Payload != nil:
		f.Kind, f.Package = OTAAB, p
		f.damaged(err)
		f.tellPayload(p.Payload)
		f.signature(r, size)
		return
	case p == nil:
		f.Wrapped = append(f.Wrapped, "zip")
		f.Kind = Archive
		f.damaged(err)
		return
	case !errors.Is(err, ota.ErrNotAB):
		f.Kind, f.Package = OTAAB, p
		f.damaged(err)
		return
	}
	z, err := zip.NewReader(r, size)
	if err = errors.Join(err, Overlap(z)); err != nil {
		f.damaged(err)
		return
	}
	var list []entry
	closed := 0
	for _, m := range z.File {
		if m.FileInfo().IsDir() {
			continue
		}
		f.Count++
		if f.Count > maxMembers {
			continue
		}
		if m.Flags&zipEncrypted != 0 {
			closed++
		}
		e := entry{name: m.Name, size: int64(min(m.UncompressedSize64, 1<<62)), open: OpenZip(m)}
		if off, err := m.DataOffset(); err == nil && m.Method == zip.Store && off <= size &&
			e.size <= size-off {
			e.at = io.NewSectionReader(r, off, e.size)
		}
		list = append(list, e)
	}
	f.closed(closed, len(list))
	f.packageKind(list, p)
	f.script(list)
	if f.Kind == OTABlock || f.Kind == Addon {
		f.signature(r, size)
		return
	}
	if f.Kind == App {
		f.app(r, size)
		return
	}
	f.Wrapped = append(f.Wrapped, "zip")
}

// app reads what an app package says of itself.
func (f *File) app(r io.ReaderAt, size int64) {
	a, err := apk.Parse(r, size)
	if err != nil {
		f.damaged(err)
		return
	}
	f.App = a
	f.Details["app"], f.Details["app_version"] = a.Name, a.Version
	if a.Called != "" {
		f.Details["app_version_name"] = a.Called
	}
	if a.MinSDK > 0 {
		f.Details["min_sdk"] = a.MinSDK
	}
}

// signature says who signed a package, without checking it.
func (f *File) signature(r io.ReaderAt, size int64) {
	s, err := zipsig.Parse(r, size)
	if err == nil {
		f.Signer = s.Signer()
		f.Details["signer"], f.Details["signer_sha256"] = s.Signer().Subject.String(),
			zipsig.Fingerprint(s.Signer())
	}
}

// script reads what an update script demands of the phone.
func (f *File) script(list []entry) {
	i := slices.IndexFunc(list, func(e entry) bool { return e.name == script.Name })
	if i < 0 {
		return
	}
	r, err := list[i].open()
	if err != nil {
		return
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, script.MaxSize+1))
	if err != nil {
		f.damaged(fmt.Errorf("%s can't be read: %w", script.Name, err))
		return
	}
	n, err := script.Parse(string(b))
	if err != nil {
		f.Notes = append(f.Notes, "its update script can't be read as data: "+spell.Error(err))
		return
	}
	f.Demands, f.Written = n.Demands(), n.Writes()
	if n.Wipes() {
		f.Wipes = "its script"
	}
	demands := map[string][]string{}
	for _, d := range f.Demands {
		demands[d.Property] = d.Values
	}
	if len(demands) > 0 {
		f.Details["demands"] = demands
	}
}

func (f *File) sevenZip(r io.ReaderAt, size int64) {
	f.Wrapped, f.Kind = append(f.Wrapped, "7z"), Archive
	if f.partial {
		f.Notes = append(f.Notes, "a 7z archive is listed at its end, which was not unwrapped")
		return
	}
	z, err := OpenSevenZip(r, size)
	if err != nil {
		f.damaged(err)
		return
	}
	var list []entry
	for _, m := range z.File {
		if m.FileInfo().IsDir() {
			continue
		}
		if f.Count++; f.Count <= maxMembers {
			list = append(list, entry{name: m.Name, size: int64(min(m.UncompressedSize, 1<<62)),
				open: OpenSevenZipMember(m)})
		}
	}
	f.archive(list)
}

func (f *File) tar(r io.ReaderAt, size int64) {
	f.Wrapped, f.Kind = append(f.Wrapped, "tar"), Archive
	var list []entry
	err := EachTarMember(r, size, func(m TarMember) error {
		if !m.File {
			return nil
		}
		if f.Count++; f.Count <= maxMembers {
			list = append(list, entry{name: m.Name, size: m.Size, at: m.At, open: m.Open})
		}
		return nil
	})
	if err != nil && !f.partial {
		f.damaged(err)
	}
	if !f.partial {
		f.appendedDigest(r, size)
	}
	f.archive(list)
}

// appendedDigest finds the line that some manufacturers put behind a tar: its digest
// and its name, as md5sum prints them.
func (f *File) appendedDigest(r io.ReaderAt, size int64) {
	if s, _, ok := AppendedDigest(r, size); ok {
		f.Details["appended_digest"] = map[string]any{"algorithm": s.Algorithm, "digest": s.Digest,
			"name": s.Name}
		f.Notes = append(f.Notes, "a line with its "+string(s.Algorithm)+
			" digest is appended; jarlid proof checks it")
	} else if strings.HasSuffix(strings.ToLower(f.Name()), ".tar.md5") && f.depth == 0 {
		f.damaged(&image.Error{Format: "tar archive", Offset: size, Short: true,
			What: "it ends without the digest line that its name says is appended"})
	}
}

// AppendedDigest reads a line of a digest and a name behind a tar archive, and
// gives how many bytes before it the digest is of.
func AppendedDigest(r io.ReaderAt, size int64) (s sums.Sum, covered int64, ok bool) {
	const most = 512
	b := make([]byte, min(size, most))
	if _, err := r.ReadAt(b, size-int64(len(b))); err != nil && !errors.Is(err, io.EOF) {
		return s, 0, false
	}
	i := bytes.LastIndexByte(b, 0)
	if i < 0 || i == len(b)-1 {
		return s, 0, false
	}
	list := sums.Parse(string(b[i+1:]))
	if len(list) != 1 || list[0].Name == "" {
		return s, 0, false
	}
	return list[0], size - int64(len(b)-i-1), true
}

// packageKind tells the kinds of zip apart by what is inside.
func (f *File) packageKind(list []entry, p *ota.Package) {
	has := func(ok func(name string) bool) bool {
		return slices.ContainsFunc(list, func(e entry) bool { return ok(e.name) })
	}
	script := has(func(n string) bool {
		return n == "META-INF/com/google/android/update-binary" ||
			n == "META-INF/com/google/android/updater-script"
	})
	blocks := has(func(n string) bool { return strings.HasSuffix(n, ".transfer.list") })
	image := has(func(n string) bool { return strings.HasSuffix(strings.ToLower(n), ".img") })
	switch {
	case blocks:
		f.Kind, f.Package = OTABlock, p
		f.Details["lists"] = namesOf(list, func(n string) bool {
			return strings.HasSuffix(n, ".transfer.list")
		})
		for _, e := range list {
			if n, ok := strings.CutSuffix(path.Base(e.name), ".transfer.list"); ok {
				f.goes(n, "", "content", "the package writes it block by block")
			}
		}
		f.members(list)
	case script:
		f.Kind = Addon
		if p != nil && len(p.Metadata) > 0 {
			f.Package = p
		}
		f.architectures(list)
		f.members(list)
		for _, e := range list {
			if strings.HasPrefix(e.name, "system/") {
				f.Adds += e.size
			}
		}
	case has(func(n string) bool { return n == "AndroidManifest.xml" }) && !image:
		f.Kind = App
		f.architectures(list)
	default:
		f.archive(list)
	}
}

func namesOf(list []entry, ok func(string) bool) []string {
	var names []string
	for _, e := range list {
		if ok(e.name) {
			names = append(names, e.name)
		}
	}
	return names
}

// abis are the platform's names of processor architectures.
var abis = []string{"arm64-v8a", "armeabi-v7a", "armeabi", "x86_64", "x86", "riscv64"}

// architectures finds which processors' libraries are inside: folders named
// lib/ABI, or single libraries, whose ELF header says it.
func (f *File) architectures(list []entry) {
	found := map[string]bool{}
	looked := 0
	for _, e := range list {
		parts := strings.Split(e.name, "/")
		for i := range parts[:len(parts)-1] {
			if parts[i] == "lib" && slices.Contains(abis, parts[i+1]) {
				found[parts[i+1]] = true
			}
		}
		if strings.HasSuffix(e.name, ".so") && len(found) == 0 && looked < 4 && e.open != nil {
			looked++
			if r, err := e.open(); err == nil {
				if a := elfArchitecture(r); a != "" {
					found[a] = true
				}
				r.Close()
			}
		}
	}
	var names []string
	for _, a := range abis {
		if found[a] {
			names = append(names, a)
		}
	}
	if len(names) > 0 {
		f.ABIs = names
		f.Details["architecture"] = strings.Join(names, ",")
	}
}

// elfArchitecture reads an ELF header's machine (e_machine in elf.h).
func elfArchitecture(r io.Reader) string {
	h := make([]byte, 20)
	if _, err := io.ReadFull(r, h); err != nil || string(h[:4]) != "\x7fELF" {
		return ""
	}
	return map[byte]string{183: "arm64-v8a", 40: "armeabi-v7a", 62: "x86_64", 3: "x86", 243: "riscv64"}[h[18]]
}

// archive checks the images in an archive and tells a firmware set from a few
// images from anything else.
func (f *File) archive(list []entry) {
	f.members(list)
	images := 0
	for _, m := range f.Members {
		if m.Kind != Unknown && m.Kind != Text && m.Kind != Sums && m.Kind != Archive ||
			strings.HasSuffix(strings.ToLower(m.Name), ".img") {
			images++
		}
	}
	// The platform's manifests mark a set, however small.
	set := slices.ContainsFunc(list, func(e entry) bool { return path.Base(e.name) == "android-info.txt" })
	switch {
	case images >= 4, images > 0 && set:
		f.Kind = FirmwareSet
		f.firmware()
	case images > 0:
		f.Kind = Images
	default:
		f.Kind = Archive
	}
	if images == 1 && len(f.Members) == 1 && !f.partial {
		f.GoesTo = f.Members[0].GoesTo
	}
}

// members fills the list of what is inside, images and wrapped images checked.
func (f *File) members(list []entry) {
	looked, closed := 0, 0
	for _, e := range list {
		m := Member{Name: e.name, Size: e.size, Kind: Unknown}
		if looked < maxLooked && worthALook(e.name) && (e.at != nil || e.open != nil) {
			looked++
			in := f.inside(e)
			m.Kind, m.GoesTo = in.Kind, in.GoesTo
			if names, ok := in.Details["partition_names"].([]string); ok {
				f.described = append(f.described, names...)
			}
			if in.Closed == encrypted {
				closed++
			}
			if len(list) == 1 {
				f.adopt(in)
			}
		}
		f.Members = append(f.Members, m)
	}
	f.closed(closed, looked)
	shown := []map[string]any{}
	for _, m := range f.Members[:min(len(f.Members), 500)] {
		shown = append(shown, map[string]any{"name": m.Name, "size": m.Size, "kind": m.Kind,
			"goes_to": m.GoesTo})
	}
	f.Details["members"] = shown
}

// adopt takes over what is known of an archive's only member.
func (f *File) adopt(in *File) {
	f.Details["inside"] = in.Details
	f.Wrapped = append(f.Wrapped, in.Wrapped...)
	f.Boot, f.Ramdisk, f.Props = in.Boot, in.Ramdisk, in.Props
	if in.Damage != "" && f.Damage == "" {
		f.Damage, f.Short = in.Name()+": "+in.Damage, in.Short
	}
}

// Name is the file's name without its folders.
func (f *File) Name() string { return path.Base(strings.ReplaceAll(f.Path, `\`, "/")) }

func worthALook(name string) bool {
	n := strings.ToLower(name)
	for _, ext := range []string{".img", ".bin", ".gz", ".xz", ".zst", ".lz4", ".bz2", ".raw", ".ext4",
		".mbn", ".elf", ".sparse", ".zip", ".7z", ".md5", ".sha256", ".txt"} {
		if strings.HasSuffix(n, ext) {
			return true
		}
	}
	return partitionByName(n) != ""
}

// inside identifies one member.
func (f *File) inside(e entry) *File {
	in := newFile(e.name, e.size, f.opt)
	in.depth = f.depth + 1
	in.opt.Deep = f.opt.Deep && e.at != nil
	if in.depth > maxDepth {
		return in
	}
	if e.at != nil {
		in.look(e.at, e.size)
	} else if r, err := e.open(); err == nil {
		in.fromStream(r, e.size)
		r.Close()
	} else {
		in.damaged(fmt.Errorf("cannot be opened: %w", err))
	}
	in.byName()
	f.fails(in.Failed)
	return in
}

// firmware says what of a firmware set is risky and what looks missing.
func (f *File) firmware() {
	var risky, missing []string
	have := map[string]bool{}
	for _, m := range f.Members {
		if Risky(m.Name) {
			risky = append(risky, m.Name)
		}
		for _, d := range m.GoesTo {
			have[d.Partition] = true
		}
		if p := partitionByName(m.Name); p != "" {
			have[p] = true
		}
	}
	if !have["boot"] {
		missing = append(missing, "boot")
	}
	if !have["super"] && !have["system"] {
		missing = append(missing, "system (or super)")
	}
	// Not every phone has one: that this one does, its vbmeta says.
	if !have["super"] && !have["vendor"] && have["system"] && slices.Contains(f.described, "vendor") {
		missing = append(missing, "vendor")
	}
	if have["vendor_boot"] && !have["vbmeta"] {
		missing = append(missing, "vbmeta")
	}
	f.Details["risky"], f.Details["missing"] = risky, missing
	if len(risky) > 0 {
		f.Notes = append(f.Notes, "risky to write (bootloader stages, partition table, radio): "+
			strings.Join(risky, ", "))
	}
	if len(missing) > 0 {
		f.Notes = append(f.Notes, "it looks as if these were missing: "+strings.Join(missing, ", "))
	}
}
