// Package vintf reads the platform's vendor interface objects, manifests and
// compatibility matrices, and matches one against the other by the published rules
// ("Vendor interface object", "Compatibility matrices" and "Match rules" in the platform's
// architecture documentation).
package vintf

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"jarlid/internal/core/image"
)

const formatName = "vendor interface object"

// Limits for what is read: published manifests have some 40 KiB and nest five deep.
const (
	maxSize   = 1 << 20 // bytes
	maxDepth  = 24
	maxTokens = 1 << 17
)

// Unspecified is the level of an object that states none.
const Unspecified = 0

// parseLevel reads a compatibility matrix level: a number, or "legacy" for the devices
// before there were levels, which is below all others.
func parseLevel(s string) (int, error) {
	switch s = strings.TrimSpace(s); s {
	case "", "unspecified":
		return Unspecified, nil
	case "legacy":
		return -1, nil
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 || n > 1<<30 {
		return 0, image.Errorf(formatName, -1, "%q is no level", s)
	}
	return n, nil
}

// Version is one version of a package: of AIDL interfaces only Minor counts.
type Version struct{ Major, Minor int }

// Range is what a matrix takes: the same major version, and at least the minor one. The
// upper bound is for those who build frameworks; a device may be above it.
type Range struct{ Major, Min, Max int }

// Holds reports whether a version is taken.
func (r Range) Holds(v Version) bool { return v.Major == r.Major && v.Minor >= r.Min }

// The formats of packages.
const (
	HIDL   = "hidl"
	AIDL   = "aidl"
	Native = "native"
)

// aidlMajor stands for the major version AIDL packages don't have.
const aidlMajor = 0

// number reads a version's part.
func number(s string) (int, error) {
	n, err := strconv.Atoi(strings.TrimSpace(s))
	if err != nil || n < 0 || n > 1<<30 {
		return 0, image.Errorf(formatName, -1, "%q is no number of a version", s)
	}
	return n, nil
}

// parseVersion reads 1.2, or a single number for AIDL.
func parseVersion(format, s string) (v Version, err error) {
	major, minor, dotted := strings.Cut(strings.TrimSpace(s), ".")
	if format == AIDL {
		if dotted {
			return v, image.Errorf(formatName, -1, "%q is no version of an AIDL package", s)
		}
		v.Major = aidlMajor
		v.Minor, err = number(major)
		return v, err
	}
	if !dotted {
		return v, image.Errorf(formatName, -1, "%q is no version such as 1.0", s)
	}
	if v.Major, err = number(major); err == nil {
		v.Minor, err = number(minor)
	}
	return v, err
}

// parseRange reads 1.0, 1.0-3, or for AIDL 1, 1-2.
func parseRange(format, s string) (Range, error) {
	low, high, ranged := strings.Cut(strings.TrimSpace(s), "-")
	v, err := parseVersion(format, low)
	r := Range{v.Major, v.Minor, v.Minor}
	if err == nil && ranged {
		r.Max, err = number(high)
		if err == nil && r.Max < r.Min {
			err = image.Errorf(formatName, -1, "%q is a range that ends before it begins", s)
		}
	}
	return r, err
}

// String writes a range as a matrix has it.
func (r Range) String() string {
	s := fmt.Sprintf("%d.%d", r.Major, r.Min)
	if r.Major == aidlMajor {
		s = strconv.Itoa(r.Min)
	}
	if r.Max > r.Min {
		s += fmt.Sprintf("-%d", r.Max)
	}
	return s
}

// element is a vendor interface object as it is in a file; a card keeps it so.
type element struct {
	XMLName  xml.Name
	Version  string      `xml:"version,attr,omitempty"`
	Type     string      `xml:"type,attr,omitempty"`
	Target   string      `xml:"target-level,attr,omitempty"` // of a manifest
	Level    string      `xml:"level,attr,omitempty"`        // of a matrix
	HALs     []halXML    `xml:"hal"`
	Kernels  []kernelXML `xml:"kernel"`
	Policies []struct {
		Version []string `xml:"version,omitempty"`          // of a device manifest
		Range   []string `xml:"sepolicy-version,omitempty"` // of a framework matrix
	} `xml:"sepolicy"`
	AVB []struct {
		Version string `xml:"vbmeta-version"`
	} `xml:"avb"`
	NDK []ndkXML `xml:"vendor-ndk"`
	SDK []struct {
		Versions []string `xml:"version"`
	} `xml:"system-sdk"`
}

type halXML struct {
	Format     string         `xml:"format,attr,omitempty"`
	Optional   string         `xml:"optional,attr,omitempty"`
	Override   string         `xml:"override,attr,omitempty"`
	MinLevel   string         `xml:"min-level,attr,omitempty"`
	MaxLevel   string         `xml:"max-level,attr,omitempty"`
	Name       string         `xml:"name"`
	Versions   []string       `xml:"version"`
	Interfaces []interfaceXML `xml:"interface"`
	FQNames    []string       `xml:"fqname"`
}

type interfaceXML struct {
	Name      string   `xml:"name"`
	Instances []string `xml:"instance"`
	Patterns  []string `xml:"regex-instance"`
}

type ndkXML struct {
	Version   string   `xml:"version"`
	Libraries []string `xml:"library"`
}

// decode reads an object whose root has the given name. What is not part of the
// format is passed over; what only an attacker writes is refused.
func decode(b []byte, root string) (*element, error) {
	if len(b) > maxSize {
		return nil, image.Errorf(formatName, maxSize, "it has %d bytes, more than any", len(b))
	}
	d := xml.NewDecoder(bytes.NewReader(b))
	depth := 0
	for n := 0; ; n++ {
		t, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, image.Errorf(formatName, d.InputOffset(), "%v", err)
		}
		switch t.(type) {
		case xml.StartElement:
			depth++
		case xml.EndElement:
			depth--
		case xml.Directive:
			return nil, image.Errorf(formatName, d.InputOffset(),
				"it declares a document type, which has no place in it")
		}
		if depth > maxDepth || n > maxTokens {
			return nil, image.Errorf(formatName, d.InputOffset(),
				"it nests deeper, or has more in it, than any")
		}
	}
	e := &element{}
	if err := xml.Unmarshal(b, e); err != nil {
		return nil, image.Errorf(formatName, -1, "%v", err)
	}
	if e.XMLName.Local != root {
		return nil, image.Errorf(formatName, 0, "it is a <%s>, wanted is a <%s>", e.XMLName.Local, root)
	}
	return e, nil
}

// encode writes an object so that decode reads the same.
func (e *element) encode() string {
	b, err := xml.Marshal(e)
	if err != nil {
		return "" // of strings alone: it can't fail
	}
	return string(b)
}

func (h *halXML) format() string {
	if h.Format == "" {
		return HIDL
	}
	return h.Format
}

func parseBool(s string) bool { return strings.TrimSpace(s) == "true" }

// fqname splits @1.0::IFoo/default, or IFoo/default of AIDL.
func fqname(format, s string) (v Version, iface, instance string, err error) {
	s = strings.TrimSpace(s)
	if format != AIDL {
		version, rest, ok := strings.Cut(strings.TrimPrefix(s, "@"), "::")
		if !ok || !strings.HasPrefix(s, "@") {
			return v, "", "", image.Errorf(formatName, -1, "%q is no name such as @1.0::IFoo/default", s)
		}
		if v, err = parseVersion(format, version); err != nil {
			return v, "", "", err
		}
		s = rest
	}
	iface, instance, ok := strings.Cut(s, "/")
	if !ok || iface == "" || instance == "" {
		return v, "", "", image.Errorf(formatName, -1, "%q names no interface and instance", s)
	}
	return v, iface, instance, nil
}

// pattern compiles a regex-instance; it has to match the whole name.
func pattern(s string) (*regexp.Regexp, error) {
	if len(s) > 256 {
		return nil, image.Errorf(formatName, -1, "a pattern of %d bytes", len(s))
	}
	p, err := regexp.CompilePOSIX("^(" + strings.TrimSpace(s) + ")$")
	if err != nil {
		return nil, image.Errorf(formatName, -1, "the pattern %q: %v", s, err)
	}
	return p, nil
}
