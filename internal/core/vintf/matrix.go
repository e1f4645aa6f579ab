package vintf

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"jarlid/internal/core/image"
)

// Wanted is one instance a matrix asks for.
type Wanted struct {
	Interface string
	Name      string         // or
	Pattern   *regexp.Regexp // what one of them has to match
}

// String names it.
func (w Wanted) String() string {
	if w.Pattern != nil {
		p := w.Pattern.String()
		return w.Interface + "/" + p[2:len(p)-2]
	}
	return w.Interface + "/" + w.Name
}

// Demand is what a matrix asks of one package: one of the ranges, with all its
// instances.
type Demand struct {
	Format, Package string
	Optional        bool
	Ranges          []Range
	Instances       []Wanted
}

// Matrix is what a framework asks of a device, or a device of a framework.
type Matrix struct {
	Type     string // framework, device
	Level    int    // of a framework's: the device level it is for, or Unspecified
	Demands  []Demand
	Kernels  []KernelDemand
	Policies []Range // of the platform's policy, one of which the device's has to be in
	AVB      string  // the vbmeta version it reads
	NDKs     []NDK
	SDKs     []string

	e *element
}

// ParseMatrix reads a matrix. Errors: *image.Error.
func ParseMatrix(b []byte) (*Matrix, error) {
	e, err := decode(b, "compatibility-matrix")
	if err != nil {
		return nil, err
	}
	x := &Matrix{Type: e.Type, e: e}
	if x.Level, err = parseLevel(e.Level); err != nil {
		return nil, err
	}
	for i := range e.HALs {
		d, err := demand(&e.HALs[i])
		if err != nil {
			return nil, err
		}
		// From Android 15's level on matrices state no more what is required: what is not
		// marked is left to tests of the whole device.
		d.Optional = d.Optional || x.Level >= 202404 && e.HALs[i].Optional == ""
		x.Demands = append(x.Demands, d)
	}
	for i := range e.Kernels {
		k, err := e.Kernels[i].demand(x.Level)
		if err != nil {
			return nil, err
		}
		x.Kernels = append(x.Kernels, k)
	}
	for _, p := range e.Policies {
		for _, s := range p.Range {
			r, err := parsePolicyRange(s)
			if err != nil {
				return nil, err
			}
			x.Policies = append(x.Policies, r)
		}
	}
	for _, a := range e.AVB {
		x.AVB = strings.TrimSpace(a.Version)
	}
	x.NDKs, x.SDKs = e.ndks(), e.sdks()
	return x, nil
}

// parsePolicyRange reads 28.0, 28.0-3, or the single number newer levels have.
func parsePolicyRange(s string) (Range, error) {
	if !strings.Contains(s, ".") {
		s = strings.TrimSpace(s) + ".0"
	}
	return parseRange(HIDL, s)
}

// XML writes the matrix so that ParseMatrix reads the same.
func (x *Matrix) XML() string { return x.e.encode() }

func demand(h *halXML) (Demand, error) {
	d := Demand{Format: h.format(), Package: strings.TrimSpace(h.Name), Optional: parseBool(h.Optional)}
	if d.Package == "" {
		return d, image.Errorf(formatName, -1, "a package without a name")
	}
	for _, s := range h.Versions {
		r, err := parseRange(d.Format, s)
		if err != nil {
			return d, err
		}
		d.Ranges = append(d.Ranges, r)
	}
	if len(d.Ranges) == 0 && d.Format == AIDL {
		d.Ranges = []Range{{aidlMajor, 1, 1}}
	}
	for _, i := range h.Interfaces {
		for _, name := range i.Instances {
			d.Instances = append(d.Instances, Wanted{Interface: strings.TrimSpace(i.Name),
				Name: strings.TrimSpace(name)})
		}
		for _, s := range i.Patterns {
			p, err := pattern(s)
			if err != nil {
				return d, err
			}
			d.Instances = append(d.Instances, Wanted{Interface: strings.TrimSpace(i.Name), Pattern: p})
		}
	}
	return d, nil
}

// LevelError says that a framework has no matrix for a device's level: it is not made
// for devices so old, or so new.
type LevelError struct {
	Level int
	Has   []int // the levels there are
}

// Error names the levels.
func (e *LevelError) Error() string {
	return fmt.Sprintf("level %d is not among those it is made for (%s)", e.Level,
		strings.Trim(fmt.Sprint(e.Has), "[]"))
}

// Combine makes the matrix a framework holds a device of a level against: that level's
// own and those without a level count as they are; what higher levels ask for is
// optional, and their versions are taken in place of the level's own; lower levels do
// not count. A device that states no level has the lowest. Errors: *LevelError.
func Combine(level int, list []*Matrix) (*Matrix, error) {
	var levels []int
	for _, x := range list {
		if x.Level != Unspecified {
			levels = append(levels, x.Level)
		}
	}
	slices.Sort(levels)
	levels = slices.Compact(levels)
	if level == Unspecified && len(levels) > 0 {
		level = levels[0]
	}
	if len(levels) > 0 && !slices.Contains(levels, level) {
		return nil, &LevelError{level, levels}
	}
	out := &Matrix{Type: "framework", Level: level, e: &element{}}
	for _, x := range list {
		if x.Level != level && x.Level != Unspecified {
			continue
		}
		for _, d := range x.Demands {
			d.Ranges = slices.Clone(d.Ranges)
			out.Demands = append(out.Demands, d)
		}
		out.Policies, out.NDKs, out.SDKs = append(out.Policies, x.Policies...), append(out.NDKs, x.NDKs...),
			append(out.SDKs, x.SDKs...)
		if out.AVB == "" {
			out.AVB = x.AVB
		}
	}
	higher := slices.Clone(list)
	slices.SortStableFunc(higher, func(a, b *Matrix) int { return a.Level - b.Level })
	for _, x := range higher {
		if x.Level > level {
			out.allow(x.Demands)
		}
		if x.Level >= level || x.Level == Unspecified {
			out.Kernels = append(out.Kernels, x.Kernels...)
		}
	}
	return out, nil
}

// allow takes what a higher level asks for.
func (x *Matrix) allow(list []Demand) {
	for _, d := range list {
		known := false
		for i := range x.Demands {
			o := &x.Demands[i]
			if o.Format != d.Format || o.Package != d.Package || !sameInterfaces(o.Instances, d.Instances) {
				continue
			}
			known = true
			for _, r := range d.Ranges {
				if !slices.ContainsFunc(o.Ranges, func(q Range) bool {
					return q.Major == r.Major && q.Min <= r.Min
				}) {
					o.Ranges = append(o.Ranges, r)
				}
			}
		}
		if !known {
			d.Optional = true
			x.Demands = append(x.Demands, d)
		}
	}
}

// sameInterfaces reports whether two demands are about the same: an interface and
// instance in common, or neither names any.
func sameInterfaces(a, b []Wanted) bool {
	if len(a) == 0 || len(b) == 0 {
		return len(a) == len(b)
	}
	return slices.ContainsFunc(a, func(p Wanted) bool {
		return slices.ContainsFunc(b, func(q Wanted) bool { return p.String() == q.String() })
	})
}

// Missing is a demand that is not met.
type Missing struct {
	Demand
	// Has are the versions of the package that are offered; none: not there at all.
	Has []Version
	// Lacks are the instances that are missing in every range.
	Lacks []string
}

// String says what is missing.
func (m Missing) String() string {
	var ranges, has []string
	for _, r := range m.Ranges {
		ranges = append(ranges, r.String())
	}
	for _, v := range m.Has {
		has = append(has, Range{v.Major, v.Minor, v.Minor}.String())
	}
	s := m.Package + " " + strings.Join(ranges, " or ")
	if len(m.Lacks) > 0 {
		s += " (" + strings.Join(m.Lacks, ", ") + ")"
	}
	if len(has) > 0 {
		return s + ", there is " + strings.Join(slices.Compact(has), ", ")
	}
	return s + ", there is none"
}

// Check holds a manifest against the matrix: every demand that is not optional has to be
// met by one of its ranges, with all instances. It gives what is not met.
func (x *Matrix) Check(m *Manifest) []Missing {
	var list []Missing
	for _, d := range x.Demands {
		if d.Optional {
			continue
		}
		var offered []Provided
		miss := Missing{Demand: d}
		for _, p := range m.Provides {
			if p.Package == d.Package && p.Format == d.Format {
				offered = append(offered, p)
				miss.Has = append(miss.Has, p.Version)
			}
		}
		if met, lacks := d.met(offered); !met {
			miss.Lacks = lacks
			list = append(list, miss)
		}
	}
	return list
}

// met reports whether one of the ranges is satisfied, and else what the first one lacks.
func (d *Demand) met(offered []Provided) (bool, []string) {
	var first []string
	for i, r := range d.Ranges {
		var lacks []string
		for _, w := range d.Instances {
			if !slices.ContainsFunc(offered, func(p Provided) bool { return r.Holds(p.Version) && w.is(p) }) {
				lacks = append(lacks, w.String())
			}
		}
		if len(d.Instances) == 0 && !slices.ContainsFunc(offered, func(p Provided) bool {
			return r.Holds(p.Version)
		}) {
			continue // without instances the version alone counts
		}
		if len(lacks) == 0 {
			return true, nil
		}
		if i == 0 {
			first = lacks
		}
	}
	if len(d.Ranges) == 0 && len(offered) > 0 {
		return true, nil
	}
	return false, first
}

func (w Wanted) is(p Provided) bool {
	if w.Interface != p.Interface {
		return false
	}
	if w.Pattern != nil {
		return w.Pattern.MatchString(p.Instance)
	}
	return w.Name == p.Instance
}

// CheckPolicy reports whether the version of the policy a device was built with is one the
// matrix takes.
func (x *Matrix) CheckPolicy(version string) bool {
	r, err := parsePolicyRange(version)
	if err != nil {
		return false
	}
	return len(x.Policies) == 0 || slices.ContainsFunc(x.Policies, func(q Range) bool {
		return q.Holds(Version{r.Major, r.Min})
	})
}

// CheckAVB reports whether a device's vbmeta version is one the matrix reads: the same
// major version, and not older.
func (x *Matrix) CheckAVB(version string) bool {
	if x.AVB == "" || version == "" {
		return true
	}
	want, err := parseRange(HIDL, x.AVB)
	have, herr := parseVersion(HIDL, version)
	return err == nil && herr == nil && want.Holds(have)
}

// CheckNDK gives the vendor NDKs a device's matrix wants and a framework does not
// bring, a library of one named behind it.
func (x *Matrix) CheckNDK(m *Manifest) []string {
	var lacks []string
	for _, want := range x.NDKs {
		i := slices.IndexFunc(m.NDKs, func(n NDK) bool { return n.Version == want.Version })
		if i < 0 {
			lacks = append(lacks, want.Version)
			continue
		}
		for _, lib := range want.Libraries {
			if !slices.Contains(m.NDKs[i].Libraries, lib) {
				lacks = append(lacks, want.Version+" "+strings.TrimSpace(lib))
			}
		}
	}
	return lacks
}

// CheckSDK gives the system SDKs a device's matrix wants and a framework lacks: it has
// to have all of them.
func (x *Matrix) CheckSDK(m *Manifest) []string {
	var lacks []string
	for _, want := range x.SDKs {
		if !slices.Contains(m.SDKs, want) {
			lacks = append(lacks, want)
		}
	}
	return lacks
}
