// Package ota reads A/B packages: a zip with an update payload and metadata
// that says for which phone and which build it is.
//
// The layout and the metadata's keys are published in the platform's
// "Update packages" documentation and releasetools.
package ota

import (
	"archive/zip"
	"errors"
	"io"
	"maps"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/payload"
)

const (
	formatName = "package"

	// MetadataName and PayloadName are the members' names in the zip.
	MetadataName   = "META-INF/com/android/metadata"
	metadataProto  = MetadataName + ".pb"
	PayloadName    = "payload.bin"
	PropertiesName = "payload_properties.txt"

	maxMetadata = 1 << 20
)

// Package is an A/B package.
type Package struct {
	Metadata      map[string]string // by the keys of the text form; nil when there is none
	Properties    map[string]string // payload_properties.txt; nil when there is none
	PayloadOffset int64             // where payload.bin begins in the file
	PayloadSize   int64
	Payload       *payload.Payload
}

// Devices gives the phones the package is for (pre-device), empty when it
// does not say.
func (p *Package) Devices() []string {
	return strings.FieldsFunc(p.Metadata["pre-device"], func(r rune) bool {
		return r == '|' || r == ',' || r == ' '
	})
}

// ErrNotAB says that a zip is sound but holds no payload.
var ErrNotAB = errors.New("there is no " + PayloadName + " inside")

// Parse reads the package in r. ErrNotAB when it is a zip of another kind; a
// file that is cut short gives an *image.Error for which image.IsShort is true.
func Parse(r io.ReaderAt, size int64) (*Package, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		head := make([]byte, 4)
		if n, _ := r.ReadAt(head, 0); n == 4 && string(head) == "PK\x03\x04" {
			// A zip keeps its table of contents at the end.
			return nil, &image.Error{Format: formatName, Offset: size, Short: true,
				What: "the zip's table of contents is missing at the end, the file was cut short"}
		}
		return nil, &image.Error{Format: formatName, Offset: 0, What: "not a zip", Err: err}
	}
	p := &Package{}
	var body *zip.File
	var proto map[string]string
	for _, f := range z.File {
		switch f.Name {
		case PayloadName:
			body = f
		case PropertiesName:
			if p.Properties, err = properties(f); err != nil {
				return nil, err
			}
		case MetadataName:
			if p.Metadata, err = properties(f); err != nil {
				return nil, err
			}
		case metadataProto:
			if proto, err = protoMetadata(f); err != nil {
				return nil, err
			}
		}
	}
	if proto != nil { // newer packages have both forms, the newest the second alone
		maps.Copy(proto, p.Metadata)
		p.Metadata = proto
	}
	if body == nil {
		return p, ErrNotAB
	}
	p.PayloadOffset, err = body.DataOffset()
	if err != nil {
		return nil, &image.Error{Format: formatName, Offset: -1, What: PayloadName + " cannot be found",
			Err: err}
	}
	if body.Method != zip.Store {
		return nil, image.Errorf(formatName, p.PayloadOffset,
			"%s is compressed in the zip; a phone reads it in place and needs it stored", PayloadName)
	}
	if body.UncompressedSize64 > uint64(size) || p.PayloadOffset > size-int64(body.UncompressedSize64) {
		return nil, image.Truncated(formatName, p.PayloadOffset, int64(min(body.UncompressedSize64, 1<<62)),
			size-p.PayloadOffset)
	}
	p.PayloadSize = int64(body.UncompressedSize64)
	p.Payload, err = payload.Parse(io.NewSectionReader(r, p.PayloadOffset, p.PayloadSize), p.PayloadSize)
	return p, err
}

// properties reads a member of lines name=value.
func properties(f *zip.File) (map[string]string, error) {
	b, err := content(f)
	if err != nil {
		return nil, err
	}
	m := map[string]string{}
	for line := range strings.Lines(string(b)) {
		if k, v, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
			m[strings.TrimSpace(k)] = strings.TrimSpace(v)
		}
	}
	return m, nil
}

// content reads a member of at most maxMetadata bytes.
func content(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, &image.Error{Format: formatName, Offset: -1, What: f.Name + " cannot be opened", Err: err}
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, maxMetadata+1))
	if err != nil {
		return nil, &image.Error{Format: formatName, Offset: -1, What: f.Name + " is damaged", Err: err}
	}
	if len(b) > maxMetadata {
		return nil, image.Errorf(formatName, -1, "%s is larger than %d bytes", f.Name, maxMetadata)
	}
	return b, nil
}
