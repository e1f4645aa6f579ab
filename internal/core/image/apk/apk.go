// Package apk reads what an app package says of itself: its name, its version
// and which system it needs, out of its compiled manifest. The format is the
// platform's ResourceTypes.h.
package apk

import (
	"archive/zip"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf16"

	"jarlid/internal/core/image"
)

const formatName = "app manifest"

// ManifestName is the compiled manifest within an app package.
const ManifestName = "AndroidManifest.xml"

// maxManifest is how long a compiled manifest may be, in bytes.
const maxManifest = 4 << 20

// Chunk types and the attributes' resource numbers that are looked for
// (ResourceTypes.h; the platform's public.xml).
const (
	typePool     = 0x0001
	typeXML      = 0x0003
	typeIDs      = 0x0180
	typeStart    = 0x0102
	poolUTF8     = 1 << 8
	valueString  = 0x03
	attrVersion  = 0x0101021b // versionCode
	attrMajor    = 0x01010576 // versionCodeMajor
	attrCalled   = 0x0101021c // versionName
	attrMinSDK   = 0x0101020c // minSdkVersion
	attrMaxSDK   = 0x01010271 // maxSdkVersion
	attrParts    = 0x01010591 // isSplitRequired
	attrTypes    = 0x0101064e // requiredSplitTypes
	noString     = 0xffffffff
	maxPool      = 1 << 16
	maxAttribute = 1 << 10
)

// App is what an app package says of itself.
type App struct {
	Name    string   // of the package: org.example.app
	Version int64    // versionCode, with versionCodeMajor above its 32 bits
	Called  string   // versionName; "" when it is not said, or is a resource
	MinSDK  int64    // API level it needs at least; 0: not said
	MaxSDK  int64    // 0: not said
	Split   string   // not empty: a part of an app, by this name
	Parts   bool     // it is installed with parts alone
	ABIs    []string // processors it has libraries for, sorted; none: it runs on any
}

// Parse reads an app package. A package whose manifest is damaged is a
// *image.FormatError with the offset within the manifest.
func Parse(r io.ReaderAt, size int64) (*App, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, image.Errorf(formatName, -1, "it is no zip archive, or cut short")
	}
	a := &App{}
	var manifest *zip.File
	for _, f := range z.File {
		if f.Name == ManifestName {
			manifest = f
		}
		if rest, ok := strings.CutPrefix(f.Name, "lib/"); ok {
			if abi, name, ok := strings.Cut(rest, "/"); ok && strings.HasSuffix(name, ".so") &&
				!slices.Contains(a.ABIs, abi) {
				a.ABIs = append(a.ABIs, abi)
			}
		}
	}
	slices.Sort(a.ABIs)
	if manifest == nil {
		return nil, image.Errorf(formatName, -1, "there is none")
	}
	m, err := manifest.Open()
	if err != nil {
		return nil, image.Errorf(formatName, -1, "%v", err)
	}
	defer m.Close()
	b, err := io.ReadAll(io.LimitReader(m, maxManifest+1))
	if err != nil {
		return nil, image.Errorf(formatName, -1, "%v", err)
	}
	if len(b) > maxManifest {
		return nil, image.Errorf(formatName, maxManifest, "it is longer than %s", image.Size(maxManifest))
	}
	return a, a.manifest(b)
}

// chunk is one part of the file: its type, its header's length and all of it.
func chunk(b []byte, at int) (typ int, head, whole []byte, err error) {
	if len(b)-at < 8 {
		return 0, nil, nil, image.Errorf(formatName, int64(at), "it ends within a chunk's header")
	}
	le := binary.LittleEndian
	n, h := int64(le.Uint32(b[at+4:])), int(le.Uint16(b[at+2:]))
	if n < 8 || n > int64(len(b)-at) || h < 8 || int64(h) > n {
		return 0, nil, nil, image.Errorf(formatName, int64(at),
			"a chunk says it has %d bytes and a header of %d, %d are left", n, h, len(b)-at)
	}
	return int(le.Uint16(b[at:])), b[at : at+h], b[at : at+int(n)], nil
}

func (a *App) manifest(b []byte) error {
	typ, head, whole, err := chunk(b, 0)
	if err != nil {
		return err
	}
	if typ != typeXML {
		return image.Errorf(formatName, 0, "it is not compiled: it begins with type %#x", typ)
	}
	var names []string
	var ids []uint32
	le := binary.LittleEndian
	for at := len(head); at < len(whole); {
		typ, head, part, err := chunk(whole, at)
		if err != nil {
			return err
		}
		switch typ {
		case typePool:
			if names, err = pool(part, len(head), at); err != nil {
				return err
			}
		case typeIDs:
			for i := len(head); i+4 <= len(part) && len(ids) < maxPool; i += 4 {
				ids = append(ids, le.Uint32(part[i:]))
			}
		case typeStart:
			if err := a.element(part, len(head), at, names, ids); err != nil {
				return err
			}
		}
		at += len(part)
	}
	if a.Name == "" {
		return image.Errorf(formatName, 0, "it names no package")
	}
	return nil
}

// element reads a start of an element: line and comment are in its header; then
// namespace, name, where its attributes begin, how long and how many they are.
func (a *App) element(b []byte, head, at int, names []string, ids []uint32) error {
	le := binary.LittleEndian
	if len(b) < head+20 {
		return image.Errorf(formatName, int64(at), "an element is cut off")
	}
	text := func(i uint32) string {
		if i < uint32(len(names)) {
			return names[i]
		}
		return ""
	}
	x := b[head:]
	tag := text(le.Uint32(x[4:]))
	start, each, n := int(le.Uint16(x[8:])), int(le.Uint16(x[10:])), int(le.Uint16(x[12:]))
	if n > maxAttribute || n > 0 && (each < 20 || start+each*n > len(x)) {
		return image.Errorf(formatName, int64(at), "an element's %d attributes go beyond it", n)
	}
	for i := range n {
		v := x[start+each*i:]
		nameAt := le.Uint32(v[4:])
		id := uint32(0)
		if nameAt < uint32(len(ids)) {
			id = ids[nameAt]
		}
		raw, num := text(le.Uint32(v[8:])), int64(int32(le.Uint32(v[16:])))
		if v[15] == valueString {
			raw = text(le.Uint32(v[16:]))
		}
		switch {
		case tag == "manifest" && id == 0 && text(nameAt) == "package":
			a.Name = raw
		case tag == "manifest" && id == 0 && text(nameAt) == "split":
			a.Split = raw
		case tag == "manifest" && id == attrParts, tag == "application" && id == attrParts:
			a.Parts = a.Parts || num != 0
		case tag == "manifest" && id == attrTypes:
			a.Parts = a.Parts || raw != ""
		case tag == "manifest" && id == attrVersion:
			a.Version |= int64(uint32(num))
		case tag == "manifest" && id == attrMajor:
			a.Version |= num << 32
		case tag == "manifest" && id == attrCalled:
			a.Called = raw
		case tag == "uses-sdk" && id == attrMinSDK:
			a.MinSDK = num
		case tag == "uses-sdk" && id == attrMaxSDK:
			a.MaxSDK = num
		}
	}
	return nil
}

// pool reads the strings: how many, styles, flags, where they begin, where the
// styles begin, then the offset of each.
func pool(b []byte, head, at int) ([]string, error) {
	le := binary.LittleEndian
	if head < 28 {
		return nil, image.Errorf(formatName, int64(at), "the strings' header has %d bytes, 28 are needed",
			head)
	}
	n, flags, start := le.Uint32(b[8:]), le.Uint32(b[16:]), int64(le.Uint32(b[20:]))
	if n > maxPool || int64(head)+4*int64(n) > int64(len(b)) || start > int64(len(b)) {
		return nil, image.Errorf(formatName, int64(at), "%d strings do not fit their part", n)
	}
	out := make([]string, 0, n)
	for i := range int(n) {
		off := start + int64(le.Uint32(b[head+4*i:]))
		if off > int64(len(b)) {
			return nil, image.Errorf(formatName, int64(at), "string %d lies at %d, behind the end", i, off)
		}
		s, ok := str(b[off:], flags&poolUTF8 != 0)
		if !ok {
			return nil, image.Errorf(formatName, int64(at)+off, "string %d is cut off", i)
		}
		out = append(out, s)
	}
	return out, nil
}

// str reads one string: in UTF-8 its length in characters and in bytes, one or
// two bytes each; in UTF-16 its length, one or two words.
func str(b []byte, utf8 bool) (string, bool) {
	if utf8 {
		length := func() (int, bool) {
			if len(b) < 2 {
				return 0, false
			}
			n := int(b[0])
			if n&0x80 == 0 {
				b = b[1:]
				return n, true
			}
			n = n&0x7f<<8 | int(b[1])
			b = b[2:]
			return n, true
		}
		length()
		n, ok := length()
		if !ok || n > len(b) {
			return "", false
		}
		return string(b[:n]), true
	}
	if len(b) < 2 {
		return "", false
	}
	n := int(binary.LittleEndian.Uint16(b))
	b = b[2:]
	if n&0x8000 != 0 {
		if len(b) < 2 {
			return "", false
		}
		n = n&0x7fff<<16 | int(binary.LittleEndian.Uint16(b))
		b = b[2:]
	}
	if n > len(b)/2 {
		return "", false
	}
	w := make([]uint16, n)
	for i := range w {
		w[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(w)), true
}

// Words says what the app is.
func (a *App) Words() string {
	s := fmt.Sprintf("the app %s, version %d", a.Name, a.Version)
	if a.Called != "" {
		s = fmt.Sprintf("the app %s, version %s (%d)", a.Name, a.Called, a.Version)
	}
	if a.Split != "" {
		s = fmt.Sprintf("the part %s of %s", a.Split, s)
	}
	if a.Parts {
		s += ", which is installed with its parts only"
	}
	if len(a.ABIs) > 0 {
		s += ", for " + strings.Join(a.ABIs, ", ")
	}
	return s
}
