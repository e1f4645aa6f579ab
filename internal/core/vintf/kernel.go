package vintf

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/image"
)

type kernelXML struct {
	Version    string      `xml:"version,attr,omitempty"`
	Level      string      `xml:"level,attr,omitempty"`        // in a matrix
	Target     string      `xml:"target-level,attr,omitempty"` // in a manifest
	Conditions []configXML `xml:"conditions>config"`
	Configs    []configXML `xml:"config"`
}

type configXML struct {
	Key   string `xml:"key"`
	Value struct {
		Type string `xml:"type,attr,omitempty"`
		Text string `xml:",chardata"`
	} `xml:"value"`
}

// KernelVersion is the version of a kernel: 4.14.190.
type KernelVersion struct{ Version, Major, Minor int }

// ParseKernelVersion reads 4.14.190, with anything behind it.
func ParseKernelVersion(s string) (v KernelVersion, ok bool) {
	parts := strings.SplitN(strings.TrimSpace(s), ".", 3)
	if len(parts) != 3 {
		return v, false
	}
	end := strings.IndexFunc(parts[2], func(r rune) bool { return r < '0' || r > '9' })
	if end >= 0 {
		parts[2] = parts[2][:end]
	}
	var err [3]error
	v.Version, err[0] = strconv.Atoi(parts[0])
	v.Major, err[1] = strconv.Atoi(parts[1])
	v.Minor, err[2] = strconv.Atoi(parts[2])
	return v, err == [3]error{}
}

// String writes it.
func (v KernelVersion) String() string { return fmt.Sprintf("%d.%d.%d", v.Version, v.Major, v.Minor) }

// Config is one demand on a kernel's configuration.
type Config struct{ Key, Type, Value string }

// Met reports whether a configuration meets it. What the configuration does not name is n.
func (c Config) Met(config map[string]string) bool {
	have, set := config[c.Key]
	if !set {
		have = "n"
	}
	switch c.Type {
	case "tristate":
		return have == c.Value
	case "int":
		a, aerr := strconv.ParseInt(c.Value, 0, 64)
		b, berr := strconv.ParseInt(have, 0, 64)
		return aerr == nil && berr == nil && a == b
	case "range":
		low, high, ok := strings.Cut(c.Value, "-")
		a, aerr := strconv.ParseUint(low, 0, 64)
		b, berr := strconv.ParseUint(high, 0, 64)
		n, nerr := strconv.ParseUint(have, 0, 64)
		return ok && aerr == nil && berr == nil && nerr == nil && a <= n && n <= b
	}
	return set && strings.Trim(have, `"`) == strings.Trim(c.Value, `"`)
}

// String writes it as a configuration has it.
func (c Config) String() string { return c.Key + "=" + c.Value }

// KernelDemand is what a matrix asks of kernels of one version. With conditions, it
// counts only for those that meet them.
type KernelDemand struct {
	Least      KernelVersion
	Level      int
	Conditions []Config
	Configs    []Config
}

func (k *kernelXML) demand(level int) (KernelDemand, error) {
	d := KernelDemand{Level: level}
	var ok bool
	if d.Least, ok = ParseKernelVersion(k.Version); !ok {
		return d, image.Errorf(formatName, -1, "%q is no kernel version such as 4.14.42", k.Version)
	}
	if k.Level != "" {
		var err error
		if d.Level, err = parseLevel(k.Level); err != nil {
			return d, err
		}
	}
	d.Conditions, d.Configs = configs(k.Conditions), configs(k.Configs)
	return d, nil
}

func configs(list []configXML) []Config {
	var out []Config
	for _, c := range list {
		out = append(out, Config{strings.TrimSpace(c.Key), strings.TrimSpace(c.Value.Type),
			strings.TrimSpace(c.Value.Text)})
	}
	return out
}

// KernelCheck is the outcome of holding a kernel against a matrix.
type KernelCheck struct {
	Listed  []string // the versions asked for, as 4.14.42; empty: nothing is asked
	Version bool     // one of them is met
	Wrong   []Config // demands on the configuration that are not met
	Unknown bool     // the configuration is not known and something is asked of it
}

// CheckKernel holds a kernel against the matrix: of the same version and major revision
// one has to be listed that is not newer; then the configuration has to meet what is asked
// without conditions, and what is asked under conditions it meets. Of several levels that
// list the version the lowest from the kernel's own on counts. config nil: not known.
func (x *Matrix) CheckKernel(version string, level int, config map[string]string) KernelCheck {
	var c KernelCheck
	have, ok := ParseKernelVersion(version)
	var same []KernelDemand
	for _, k := range x.Kernels {
		if level != Unspecified && k.Level != Unspecified && k.Level < level {
			continue
		}
		c.Listed = append(c.Listed, k.Least.String())
		if ok && k.Least.Version == have.Version && k.Least.Major == have.Major {
			same = append(same, k)
		}
	}
	slices.Sort(c.Listed)
	c.Listed = slices.Compact(c.Listed)
	if len(c.Listed) == 0 {
		c.Version = true
		return c
	}
	lowest := 0
	for _, k := range same {
		if lowest == 0 || k.Level < lowest {
			lowest = k.Level
		}
	}
	for _, k := range same {
		if k.Level != lowest || k.Least.Minor > have.Minor {
			continue
		}
		c.Version = true
		asked := append(slices.Clone(k.Conditions), k.Configs...)
		if config == nil {
			c.Unknown = c.Unknown || len(asked) > 0
			continue
		}
		if slices.ContainsFunc(k.Conditions, func(q Config) bool { return !q.Met(config) }) {
			continue
		}
		for _, q := range k.Configs {
			if !q.Met(config) {
				c.Wrong = append(c.Wrong, q)
			}
		}
	}
	return c
}

// ParseConfig reads a kernel's configuration as it is built with: CONFIG_X=y, and comments.
func ParseConfig(text string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(text) {
		if k, v, ok := strings.Cut(strings.TrimSpace(line), "="); ok && strings.HasPrefix(k, "CONFIG_") {
			out[k] = v
		}
	}
	return out
}
