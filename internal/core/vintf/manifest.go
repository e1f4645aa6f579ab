package vintf

import (
	"slices"
	"strings"

	"jarlid/internal/core/image"
)

// Provided is one instance a manifest offers. A package without interfaces, as native
// ones may be, has one with neither interface nor instance.
type Provided struct {
	Format, Package     string
	Version             Version
	Interface, Instance string
	MinLevel, MaxLevel  int // of the device, between which a framework offers it; 0: no bound
}

// NDK is a vendor NDK a framework brings, or a device wants.
type NDK struct {
	Version   string
	Libraries []string
}

// Manifest is what a device or a framework offers.
type Manifest struct {
	Type        string // device, framework
	Level       int    // of a device: its target level, or Unspecified
	KernelLevel int    // of a device: the level its kernel was made for, or Unspecified
	Kernel      string // its version, where the manifest states it
	Provides    []Provided
	Policy      string // of a device: the version of the platform's policy it was built with
	AVB         string // its vbmeta version, where it states one
	NDKs        []NDK
	SDKs        []string

	e *element
}

// ParseManifest reads a manifest, or a fragment of one. Errors: *image.Error.
func ParseManifest(b []byte) (*Manifest, error) {
	e, err := decode(b, "manifest")
	if err != nil {
		return nil, err
	}
	m := &Manifest{Type: e.Type, e: e}
	if m.Level, err = parseLevel(e.Target); err != nil {
		return nil, err
	}
	for i := range e.HALs {
		if err := m.take(&e.HALs[i]); err != nil {
			return nil, err
		}
	}
	for _, k := range e.Kernels {
		if m.KernelLevel, err = parseLevel(k.Target); err != nil {
			return nil, err
		}
		m.Kernel = k.Version
	}
	for _, p := range e.Policies {
		for _, v := range p.Version {
			m.Policy = strings.TrimSpace(v)
		}
	}
	for _, a := range e.AVB {
		m.AVB = strings.TrimSpace(a.Version)
	}
	m.NDKs, m.SDKs = e.ndks(), e.sdks()
	return m, nil
}

func (e *element) ndks() []NDK {
	var list []NDK
	for _, n := range e.NDK {
		list = append(list, NDK{strings.TrimSpace(n.Version), n.Libraries})
	}
	return list
}

func (e *element) sdks() []string {
	var list []string
	for _, s := range e.SDK {
		for _, v := range s.Versions {
			list = append(list, strings.TrimSpace(v))
		}
	}
	return list
}

func (m *Manifest) take(h *halXML) error {
	name := strings.TrimSpace(h.Name)
	if name == "" {
		return image.Errorf(formatName, -1, "a package without a name")
	}
	p := Provided{Format: h.format(), Package: name}
	var err error
	if p.MinLevel, err = parseLevel(h.MinLevel); err != nil {
		return err
	}
	if p.MaxLevel, err = parseLevel(h.MaxLevel); err != nil {
		return err
	}
	versions := []Version{}
	for _, s := range h.Versions {
		v, err := parseVersion(p.Format, s)
		if err != nil {
			return err
		}
		versions = append(versions, v)
	}
	if len(versions) == 0 && p.Format == AIDL {
		versions = append(versions, Version{aidlMajor, 1}) // what is left out is 1
	}
	bare := len(h.FQNames) == 0
	for _, v := range versions {
		for _, i := range h.Interfaces {
			for _, name := range i.Instances {
				q := p
				q.Version, q.Interface, q.Instance = v, strings.TrimSpace(i.Name), strings.TrimSpace(name)
				m.Provides, bare = append(m.Provides, q), false
			}
		}
	}
	for _, s := range h.FQNames {
		v, iface, instance, err := fqname(p.Format, s)
		if err != nil {
			return err
		}
		list := []Version{v}
		if p.Format == AIDL {
			list = versions
		}
		for _, v := range list {
			q := p
			q.Version, q.Interface, q.Instance = v, iface, instance
			m.Provides = append(m.Provides, q)
		}
	}
	if bare {
		for _, v := range versions {
			q := p
			q.Version = v
			m.Provides = append(m.Provides, q)
		}
	}
	return nil
}

// Add takes a fragment, or the manifest of a partition with precedence (odm over
// vendor): what it marks as overriding replaces the package's same major version, or
// all of the package when it names no version.
func (m *Manifest) Add(f *Manifest) {
	for i := range f.e.HALs {
		h := &f.e.HALs[i]
		if !parseBool(h.Override) {
			continue
		}
		var own Manifest
		if own.take(h) != nil {
			continue
		}
		m.Provides = slices.DeleteFunc(m.Provides, func(p Provided) bool {
			return p.Package == strings.TrimSpace(h.Name) && (len(own.Provides) == 0 ||
				slices.ContainsFunc(own.Provides, func(o Provided) bool {
					return o.Version.Major == p.Version.Major
				}))
		})
		m.e.HALs = slices.DeleteFunc(m.e.HALs, func(o halXML) bool {
			return strings.TrimSpace(o.Name) == strings.TrimSpace(h.Name) && (len(own.Provides) == 0 ||
				o.majors(h))
		})
	}
	for _, p := range f.Provides {
		if !slices.Contains(m.Provides, p) {
			m.Provides = append(m.Provides, p)
		}
	}
	m.e.HALs = append(m.e.HALs, f.e.HALs...)
	if m.Level == Unspecified {
		m.Level, m.e.Target = f.Level, f.e.Target
	}
	if m.Policy == "" {
		m.Policy, m.e.Policies = f.Policy, f.e.Policies
	}
	m.NDKs, m.SDKs = append(m.NDKs, f.NDKs...), append(m.SDKs, f.SDKs...)
	m.e.NDK, m.e.SDK = append(m.e.NDK, f.e.NDK...), append(m.e.SDK, f.e.SDK...)
}

// majors reports whether two entries of a package have a major version in common.
func (h *halXML) majors(o *halXML) bool {
	var a, b Manifest
	if a.take(h) != nil || b.take(o) != nil {
		return false
	}
	return slices.ContainsFunc(a.Provides, func(p Provided) bool {
		return slices.ContainsFunc(b.Provides, func(q Provided) bool {
			return p.Version.Major == q.Version.Major
		})
	})
}

// XML writes the manifest so that ParseManifest reads the same.
func (m *Manifest) XML() string { return m.e.encode() }

// ForLevel gives what a framework offers a device of a level.
func (m *Manifest) ForLevel(level int) *Manifest {
	out := *m
	out.Provides = slices.DeleteFunc(slices.Clone(m.Provides), func(p Provided) bool {
		return level != Unspecified && (p.MinLevel != Unspecified && level < p.MinLevel ||
			p.MaxLevel != Unspecified && level > p.MaxLevel)
	})
	return &out
}

// Packages gives the names of what is offered, sorted.
func (m *Manifest) Packages() []string {
	var list []string
	for _, p := range m.Provides {
		list = append(list, p.Package)
	}
	slices.Sort(list)
	return slices.Compact(list)
}
