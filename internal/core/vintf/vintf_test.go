package vintf

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/image"
)

// The shorthand of the tables below. Of a manifest: FORMAT PACKAGE@VERSION::IFACE/INSTANCE,
// of AIDL PACKAGE@1::..., without a version for none; of a matrix the version may be a
// range or several with commas, the instance may be a ~PATTERN, and a leading ? makes it optional.
func hal(t *testing.T, line string, matrix bool) string {
	t.Helper()
	format, rest, _ := strings.Cut(line, " ")
	optional := strings.HasPrefix(format, "?")
	format = strings.TrimPrefix(format, "?")
	rest, ifaces, _ := strings.Cut(rest, "::")
	name, version, versioned := strings.Cut(rest, "@")
	s := fmt.Sprintf(`<hal format="%s"`, format)
	if optional {
		s += ` optional="true"`
	}
	if strings.HasPrefix(format, "!") { // marked as required
		s = fmt.Sprintf(`<hal format="%s" optional="false"`, format[1:])
	}
	s += `><name>` + strings.TrimSpace(name) + `</name>`
	if !matrix {
		s += `<transport>hwbinder</transport>`
	}
	if versioned && version != "" {
		for _, v := range strings.Split(version, ",") {
			s += `<version>` + v + `</version>`
		}
	}
	if ifaces != "" {
		for _, i := range strings.Split(ifaces, " ") {
			iface, instance, _ := strings.Cut(i, "/")
			tag := "instance"
			if strings.HasPrefix(instance, "~") {
				tag, instance = "regex-instance", instance[1:]
			}
			s += fmt.Sprintf(`<interface><name>%s</name><%s>%s</%s></interface>`, iface, tag, instance, tag)
		}
	}
	return s + `</hal>`
}

func object(t *testing.T, root, attrs, text string) string {
	t.Helper()
	s := "<" + root + " version=\"1.0\" " + attrs + ">"
	for line := range strings.Lines(text) {
		switch line = strings.TrimSpace(line); {
		case line == "":
		case strings.HasPrefix(line, "<"):
			s += line
		default:
			s += hal(t, line, root != "manifest")
		}
	}
	return s + "</" + root + ">"
}

func manifest(t *testing.T, attrs, text string) *Manifest {
	t.Helper()
	m, err := ParseManifest([]byte(object(t, "manifest", attrs, text)))
	if err != nil {
		t.Fatalf("ParseManifest(...): %v", err)
	}
	return m
}

func matrix(t *testing.T, attrs, text string) *Matrix {
	t.Helper()
	x, err := ParseMatrix([]byte(object(t, "compatibility-matrix", attrs, text)))
	if err != nil {
		t.Fatalf("ParseMatrix(...): %v", err)
	}
	return x
}

// TestMatch proves the match rules for packages ("Match rules" under VINTF in the
// platform's documentation); each case says which rule.
func TestMatch(t *testing.T) {
	for _, c := range []struct{ rule, want, have, missing string }{
		{"the exact version", "hidl a@1.0::I/default", "hidl a@1.0::I/default", ""},
		{"a newer minor version serves", "hidl a@1.0::I/default", "hidl a@1.2::I/default", ""},
		{"an older minor version does not", "hidl a@1.2::I/default", "hidl a@1.1::I/default", "a"},
		{"another major version does not, if newer", "hidl a@1.0::I/default", "hidl a@2.0::I/default", "a"},
		{"another major version does not, if older", "hidl a@2.0::I/default", "hidl a@1.9::I/default", "a"},
		{"within a range", "hidl a@2.5-7::I/default", "hidl a@2.6::I/default", ""},
		{"at the lower end of a range", "hidl a@2.5-7::I/default", "hidl a@2.5::I/default", ""},
		{"above a range: the upper end is for builders alone", "hidl a@2.5-7::I/default",
			"hidl a@2.9::I/default", ""},
		{"below a range", "hidl a@2.5-7::I/default", "hidl a@2.4::I/default", "a"},
		{"versions are alternatives: the first", "hidl a@2.5,3.6-7::I/default", "hidl a@2.5::I/default", ""},
		{"versions are alternatives: the second", "hidl a@2.5,3.6-7::I/default", "hidl a@3.6::I/default", ""},
		{"versions are alternatives: none", "hidl a@2.5,3.6-7::I/default", "hidl a@3.5::I/default", "a"},
		{"not there at all", "hidl a@1.0::I/default", "hidl b@1.0::I/default", "a"},
		{"not there and optional", "?hidl a@1.0::I/default", "", ""},
		{"optional and too old", "?hidl a@1.2::I/default", "hidl a@1.0::I/default", ""},
		{"several packages, one missing", "hidl a@1.0::I/default\nhidl b@1.0::I/default",
			"hidl a@1.0::I/default", "b"},
		{"what the matrix does not name is no matter", "hidl a@1.0::I/default",
			"hidl a@1.0::I/default\nhidl z@9.0::Z/default", ""},
		{"another instance", "hidl a@1.0::I/default", "hidl a@1.0::I/other", "a"},
		{"another interface", "hidl a@1.0::I/default", "hidl a@1.0::J/default", "a"},
		{"all instances have to be there", "hidl a@1.0::I/one I/two", "hidl a@1.0::I/one I/two", ""},
		{"one of the instances is not", "hidl a@1.0::I/one I/two", "hidl a@1.0::I/one", "a"},
		{"all instances at one alternative", "hidl a@1.0,2.0::I/one I/two",
			"hidl a@1.0::I/one\nhidl a@2.0::I/two", "a"},
		{"instances of two entries count together", "hidl a@1.0::I/one I/two",
			"hidl a@1.0::I/one\nhidl a@1.1::I/two", ""},
		{"several interfaces", "hidl a@1.0::I/default J/default", "hidl a@1.0::I/default J/default", ""},
		{"a pattern that matches", "hidl a@1.0::I/~legacy/[0-9]+", "hidl a@1.0::I/legacy/0", ""},
		{"a pattern that does not", "hidl a@1.0::I/~legacy/[0-9]+", "hidl a@1.0::I/internal/0", "a"},
		{"a pattern matches the whole name", "hidl a@1.0::I/~slot[12]", "hidl a@1.0::I/slot12", "a"},
		{"a pattern and a name, both there", "hidl a@1.0::I/default I/~slot[0-9]",
			"hidl a@1.0::I/default I/slot2", ""},
		{"a pattern and a name, the pattern alone", "hidl a@1.0::I/default I/~slot[0-9]",
			"hidl a@1.0::I/slot2", "a"},
		{"without instances the version alone counts", "native a@1.0", "native a@1.0", ""},
		{"without instances, too old", "native a@1.1", "native a@1.0", "a"},
		{"native with an interface", "native a@1.0::I/default", "native a@1.0::I/default", ""},
		{"AIDL: the exact version", "aidl a@1::I/default", "aidl a@1::I/default", ""},
		{"AIDL: a newer one serves", "aidl a@1::I/default", "aidl a@3::I/default", ""},
		{"AIDL: an older one does not", "aidl a@2::I/default", "aidl a@1::I/default", "a"},
		{"AIDL: a range", "aidl a@1-2::I/default", "aidl a@2::I/default", ""},
		{"AIDL: above the range", "aidl a@1-2::I/default", "aidl a@4::I/default", ""},
		{"AIDL: left out is 1 in the manifest", "aidl a@1::I/default", "aidl a::I/default", ""},
		{"AIDL: left out is 1 in the matrix", "aidl a::I/default", "aidl a@1::I/default", ""},
		{"AIDL: left out is 1, 2 is wanted", "aidl a@2::I/default", "aidl a::I/default", "a"},
		{"formats are apart: AIDL wanted", "aidl a@1::I/default", "hidl a@1.0::I/default", "a"},
		{"formats are apart: HIDL wanted", "hidl a@1.0::I/default", "aidl a@1::I/default", "a"},
		{"the same package in both formats", "hidl a@1.0::I/default\naidl a@1::I/default",
			"hidl a@1.0::I/default\naidl a@1::I/default", ""},
		{"fqname gives version, interface and instance", "hidl a@1.1::I/default",
			`<hal format="hidl"><name>a</name><transport>hwbinder</transport><fqname>` +
				`@1.1::I/default</fqname></hal>`, ""},
		{"fqname of an older version", "hidl a@1.1::I/default",
			`<hal format="hidl"><name>a</name><fqname>@1.0::I/default</fqname></hal>`, "a"},
		{"fqname of AIDL takes the entry's version", "aidl a@2::I/default",
			`<hal format="aidl"><name>a</name><version>2</version><fqname>I/default</fqname></hal>`, ""},
		{"fqname may have slashes in its instance", "hidl a@2.4::I/legacy/0",
			`<hal format="hidl"><name>a</name><fqname>@2.4::I/legacy/0</fqname></hal>`, ""},
		{"no format means HIDL", "hidl a@1.0::I/default",
			`<hal><name>a</name><version>1.0</version><interface><name>I</name><instance>default</instance>` +
				`</interface></hal>`, ""},
	} {
		var names []string
		for _, miss := range matrix(t, `type="framework"`, c.want).Check(
			manifest(t, `type="device"`, c.have)) {
			names = append(names, miss.Package)
		}
		if got := strings.Join(names, " "); got != c.missing {
			t.Errorf("%s: missing %q, want %q", c.rule, got, c.missing)
		}
	}
}

// TestCombine proves how the matrices of several levels become one.
func TestCombine(t *testing.T) {
	one := func(level, text string) *Matrix { return matrix(t, `type="framework" level="`+level+`"`, text) }
	for _, c := range []struct {
		rule    string
		level   int
		list    []*Matrix
		have    string
		missing string // or what the error says
	}{
		{"the level's own counts", 3, []*Matrix{one("3", "hidl a@1.0::I/default"),
			one("4", "hidl b@1.0::I/default")}, "", "a"},
		{"what higher levels ask for is optional", 3, []*Matrix{one("3", "hidl a@1.0::I/default"),
			one("4", "hidl b@1.0::I/default")}, "hidl a@1.0::I/default", ""},
		{"lower levels do not count", 4, []*Matrix{one("3", "hidl a@1.0::I/default"),
			one("4", "hidl b@1.0::I/default")}, "hidl b@1.0::I/default", ""},
		{"a higher level's version serves too", 3, []*Matrix{one("3", "hidl a@1.0::I/default"),
			one("4", "hidl a@2.0::I/default")}, "hidl a@2.0::I/default", ""},
		{"and the own one still does", 3, []*Matrix{one("3", "hidl a@1.0::I/default"),
			one("4", "hidl a@2.0::I/default")}, "hidl a@1.0::I/default", ""},
		{"a lower level's version does not serve", 4, []*Matrix{one("3", "hidl a@1.0::I/default"),
			one("4", "hidl a@2.0::I/default")}, "hidl a@1.0::I/default", "a"},
		{"a higher level's other instance is another demand", 3, []*Matrix{one("3", "hidl a@1.0::I/one"),
			one("4", "hidl a@2.0::I/two")}, "hidl a@2.0::I/two", "a"},
		{"two parts of one level both count", 3, []*Matrix{one("3", "hidl a@1.0::I/default"),
			one("3", "hidl b@1.0::I/default")}, "hidl a@1.0::I/default", "b"},
		{"one without a level always counts", 3, []*Matrix{one("3", "hidl a@1.0::I/default"),
			matrix(t, `type="framework"`, "hidl c@1.0::I/default")}, "hidl a@1.0::I/default", "c"},
		{"a device without a level has the lowest", Unspecified, []*Matrix{one("5", "hidl b@1.0::I/default"),
			one("3", "hidl a@1.0::I/default")}, "", "a"},
		{"legacy is below all", -1, []*Matrix{one("legacy", "hidl a@1.0::I/default"),
			one("3", "hidl b@1.0::I/default")}, "", "a"},
		{"a level that is not listed any more", 2, []*Matrix{one("3", ""), one("4", "")}, "",
			"level 2 is not among those it is made for (3 4)"},
		{"a level that is not listed yet", 202404, []*Matrix{one("7", ""), one("8", "")}, "",
			"level 202404 is not among those it is made for (7 8)"},
		{"from 2024 on what is not marked is optional", 202404,
			[]*Matrix{one("202404", "hidl a@1.0::I/default")}, "", ""},
		{"from 2024 on what is marked is required", 202404,
			[]*Matrix{one("202404", "!hidl a@1.0::I/default")}, "", "a"},
		{"the levels of the years go behind the numbers", 8, []*Matrix{one("202404", "hidl a@2.0::I/default"),
			one("8", "hidl a@1.0::I/default")}, "hidl a@2.0::I/default", ""},
	} {
		x, err := Combine(c.level, c.list)
		var level *LevelError
		if errors.As(err, &level) {
			if err.Error() != c.missing {
				t.Errorf("Combine(c.level, c.list): %s: %v; unwanted: err.Error() != c.missing", c.rule, err)
			}
			continue
		}
		var names []string
		for _, miss := range x.Check(manifest(t, `type="device"`, c.have)) {
			names = append(names, miss.Package)
		}
		if got := strings.Join(names, " "); got != c.missing {
			t.Errorf("%s: missing %q, want %q", c.rule, got, c.missing)
		}
	}
}

// TestKernel proves the rules for kernels: version, level, configuration, conditions.
func TestKernel(t *testing.T) {
	config := func(key, typ, value string) string {
		return fmt.Sprintf(`<config><key>%s</key><value type="%s">%s</value></config>`, key, typ, value)
	}
	two := `<kernel version="4.14.42">` + config("CONFIG_A", "tristate", "y") +
		`</kernel><kernel version="4.19.10"/>`
	for _, c := range []struct {
		rule, kernels, version string
		level                  int
		config                 string // "-": not known
		want                   string
	}{
		{"nothing is asked", "", "3.10.49", 0, "-", "good"},
		{"the very version", two, "4.19.10", 0, "", "good"},
		{"a newer minor one", two, "4.19.200-gabc", 0, "", "good"},
		{"an older minor one", two, "4.19.9", 0, "", "version"},
		{"another major revision", two, "4.9.118", 0, "", "version"},
		{"a newer one that is not listed", two, "5.4.1", 0, "", "version"},
		{"a version nobody can read", two, "unknown", 0, "", "version"},
		{"the configuration is met", two, "4.14.42", 0, "CONFIG_A=y", "good"},
		{"a module is not built in", two, "4.14.42", 0, "CONFIG_A=m", "CONFIG_A=y"},
		{"what is not set", two, "4.14.42", 0, "CONFIG_B=y", "CONFIG_A=y"},
		{"the configuration is not known", two, "4.14.42", 0, "-", "unknown"},
		{"nothing is asked of this one's configuration", two, "4.19.10", 0, "-", "good"},
		{"n: not set", `<kernel version="4.14.1">` + config("CONFIG_A", "tristate", "n") + `</kernel>`,
			"4.14.9", 0, "# CONFIG_A is not set", "good"},
		{"n: set", `<kernel version="4.14.1">` + config("CONFIG_A", "tristate", "n") + `</kernel>`, "4.14.9",
			0, "CONFIG_A=y", "CONFIG_A=n"},
		{"a string", `<kernel version="4.14.1">` + config("CONFIG_S", "string", "foo") + `</kernel>`,
			"4.14.9", 0, `CONFIG_S="foo"`, "good"},
		{"another string", `<kernel version="4.14.1">` + config("CONFIG_S", "string", "foo") + `</kernel>`,
			"4.14.9", 0, `CONFIG_S="bar"`, "CONFIG_S=foo"},
		{"an integer in another base", `<kernel version="4.14.1">` + config("CONFIG_I", "int", "16") +
			`</kernel>`, "4.14.9", 0, `CONFIG_I=0x10`, "good"},
		{"another integer", `<kernel version="4.14.1">` + config("CONFIG_I", "int", "16") + `</kernel>`,
			"4.14.9", 0, `CONFIG_I=17`, "CONFIG_I=16"},
		{"within a range", `<kernel version="4.14.1">` + config("CONFIG_R", "range", "10-0x20") + `</kernel>`,
			"4.14.9", 0, `CONFIG_R=32`, "good"},
		{"outside a range", `<kernel version="4.14.1">` + config("CONFIG_R", "range", "10-0x20") +
			`</kernel>`, "4.14.9", 0, `CONFIG_R=33`, "CONFIG_R=10-0x20"},
		{"a condition that holds", `<kernel version="4.14.1"/><kernel version="4.14.1"><conditions>` +
			config("CONFIG_ARM", "tristate", "y") + `</conditions>` + config("CONFIG_A", "tristate", "y") +
			`</kernel>`, "4.14.9", 0, "CONFIG_ARM=y", "CONFIG_A=y"},
		{"a condition that does not", `<kernel version="4.14.1"/><kernel version="4.14.1"><conditions>` +
			config("CONFIG_ARM", "tristate", "y") + `</conditions>` + config("CONFIG_A", "tristate", "y") +
			`</kernel>`, "4.14.9", 0, "CONFIG_ARM64=y", "good"},
		{"a lower level's kernels do not count", `<kernel version="4.14.1" level="3"/>`, "4.14.9", 4,
			"", "good"},
		{"of several levels the lowest that lists it",
			`<kernel version="4.14.50" level="5"/><kernel version="4.14.1" level="4"/>`, "4.14.9", 4,
			"", "good"},
		{"of the kernel's own level on",
			`<kernel version="4.14.50" level="5"/><kernel version="4.14.1" level="4"/>`, "4.14.9", 5, "",
			"version"},
	} {
		known := ParseConfig(c.config)
		if c.config == "-" {
			known = nil
		}
		r := matrix(t, `type="framework"`, c.kernels).CheckKernel(c.version, c.level, known)
		got := "good"
		switch {
		case !r.Version:
			got = "version"
		case r.Unknown:
			got = "unknown"
		case len(r.Wrong) > 0:
			got = r.Wrong[0].String()
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.rule, got, c.want)
		}
	}
}

// TestRest proves the rules for policy, vbmeta, NDK and SDK, for overriding entries and
// for what a framework offers devices of some levels only.
func TestRest(t *testing.T) {
	policy := matrix(t, `type="framework"`,
		`<sepolicy><kernel-sepolicy-version>30</kernel-sepolicy-version><sepolicy-version>`+
			`28.0-1</sepolicy-version><sepolicy-version>30.0</sepolicy-version><sepolicy-version>`+
			`202404</sepolicy-version></sepolicy>`)
	for version, want := range map[string]bool{
		"28.0":     true,
		"28.3":     true,
		"29.0":     false,
		"30.0":     true,
		"202404":   true,
		"202404.0": true,
		"junk":     false,
	} {
		if policy.CheckPolicy(version) != want {
			t.Errorf("policy %s: %v", version, !want)
		}
	}
	avb := matrix(t, `type="framework"`, `<avb><vbmeta-version>1.1</vbmeta-version></avb>`)
	for version, want := range map[string]bool{"1.1": true, "1.2": true, "1.0": false, "2.1": false,
		"": true} {
		if avb.CheckAVB(version) != want {
			t.Errorf("vbmeta %s: %v", version, !want)
		}
	}
	offers := manifest(t, `type="framework"`,
		`<vendor-ndk><version>28</version><library>liba.so</library></vendor-ndk><vendor-ndk><version>`+
			`30</version></vendor-ndk>
		<system-sdk><version>28</version><version>29</version></system-sdk>
		<hal format="hidl" max-level="6"><name>old</name><version>1.0</version></hal>
		<hal format="hidl" min-level="5"><name>new</name><version>1.0</version></hal>`)
	for want, text := range map[string]string{
		"":           `<vendor-ndk><version>28</version><library>liba.so</library></vendor-ndk>`,
		"29":         `<vendor-ndk><version>29</version></vendor-ndk>`,
		"28 libb.so": `<vendor-ndk><version>28</version><library>libb.so</library></vendor-ndk>`,
		"27 28 lib.a": `<vendor-ndk><version>27</version></vendor-ndk><vendor-ndk><version>28</version>` +
			`<library>lib.a</library></vendor-ndk>`,
	} {
		if got := strings.Join(matrix(t, `type="device"`, text).CheckNDK(offers), " "); got != want {
			t.Errorf("NDK: %q, want %q", got, want)
		}
	}
	if got := matrix(t, `type="device"`,
		`<system-sdk><version>28</version><version>30</version></system-sdk>`).CheckSDK(offers); len(
		got) != 1 || got[0] != "30" {
		t.Errorf("SDK: %v", got)
	}
	for level, want := range map[int]string{4: "old", 5: "new old", 7: "new", 0: "new old"} {
		if got := strings.Join(offers.ForLevel(level).Packages(), " "); got != want {
			t.Errorf("level %d is offered %q, want %q", level, got, want)
		}
	}
	base := "hidl a@1.0::I/default\nhidl a@2.0::I/default\nhidl b@1.0::I/default"
	for _, c := range []struct{ rule, odm, want string }{
		{"a fragment adds", "hidl c@1.0::I/default", "a1.0 a2.0 b1.0 c1.0"},
		{"an overriding entry replaces its major version",
			`<hal format="hidl" ` +
				`override="true"><name>a</name><version>1.1</version><interface><name>I</name><instance>` +
				`odm</instance></interface></hal>`, "a2.0 b1.0 a1.1"},
		{"an overriding entry without a version takes the package away",
			`<hal format="hidl" override="true"><name>a</name></hal>`, "b1.0"},
	} {
		m := manifest(t, `type="device"`, base)
		m.Add(manifest(t, `type="device"`, c.odm))
		again, err := ParseManifest([]byte(m.XML()))
		if err != nil {
			t.Fatalf("ParseManifest([]byte(m.XML())): %v", err)
		}
		for what, x := range map[string]*Manifest{"": m, ", kept and read again": again} {
			var got []string
			for _, p := range x.Provides {
				got = append(got, fmt.Sprintf("%s%d.%d", p.Package, p.Version.Major, p.Version.Minor))
			}
			if s := strings.Join(got, " "); s != c.want {
				t.Errorf("%s%s: %s, want %s", c.rule, what, s, c.want)
			}
		}
	}
}

// TestKept: what is kept on a card reads as it was.
func TestKept(t *testing.T) {
	text, err := os.ReadFile("testdata/device.xml")
	if err != nil {
		t.Fatalf("os.ReadFile('testdata/device.xml'): %v", err)
	}
	m, err := ParseManifest(text)
	if err != nil || m.Level != 5 || m.KernelLevel != 6 || m.Kernel != "4.19.191" || m.Policy != "30.0" ||
		len(m.Provides) != 9 {
		t.Fatalf("ParseManifest(text): %+v, %v", m, err)
	}
	again, err := ParseManifest([]byte(m.XML()))
	if err != nil || again.Level != m.Level || again.KernelLevel != m.KernelLevel ||
		again.Policy != m.Policy || fmt.Sprint(again.Provides) != fmt.Sprint(m.Provides) {
		t.Errorf("ParseManifest([]byte(m.XML())): %+v, %v", again, err)
	}
	x := matrix(t, `type="device"`, `hidl a@1.0-2::I/default I/~x[0-9]`+"\n"+
		`<vendor-ndk><version>30</version></vendor-ndk><system-sdk><version>30</version></system-sdk>`+
		`<kernel version="4.14.1" level="3"><config><key>CONFIG_A</key><value `+
		`type="tristate">y</value></config></kernel>`)
	y, err := ParseMatrix([]byte(x.XML()))
	if err != nil || fmt.Sprint(y.Demands) == "" || y.Demands[0].Ranges[0] != x.Demands[0].Ranges[0] ||
		len(y.Demands[0].Instances) != 2 || fmt.Sprint(y.Kernels) != fmt.Sprint(x.Kernels) ||
		fmt.Sprint(y.NDKs, y.SDKs) != fmt.Sprint(x.NDKs, x.SDKs) {
		t.Errorf("ParseMatrix([]byte(x.XML())): %+v, %v", y, err)
	}
}

// TestHostile: what is no object, or made to hurt, is a typed error, soon.
func TestHostile(t *testing.T) {
	began := time.Now()
	for name, text := range map[string]string{
		"empty":        "",
		"no xml":       "this is no manifest",
		"another root": "<html></html>",
		"cut short":    `<manifest version="1.0"><hal><name>a</na`,
		"a document type": `<!DOCTYPE manifest [<!ENTITY a ` +
			`"aaaa">]><manifest><hal><name>&a;</name></hal></manifest>`,
		"deep":       "<manifest>" + strings.Repeat("<a>", 100000),
		"many":       "<manifest>" + strings.Repeat("<a/>", 100000) + "</manifest>",
		"huge":       "<manifest>" + strings.Repeat(" ", maxSize) + "</manifest>",
		"no name":    "<manifest><hal><version>1.0</version></hal></manifest>",
		"no version": "<manifest><hal><name>a</name><version>x</version></hal></manifest>",
		"a wild version": "<manifest><hal><name>a</name><version>99999999999999999999.0</version></hal>" +
			"</manifest>",
		"a wild level":     `<manifest target-level="-3"></manifest>`,
		"no such fqname":   "<manifest><hal><name>a</name><fqname>I/default</fqname></hal></manifest>",
		"a wild attribute": `<manifest target-level="five"></manifest>`,
	} {
		_, err := ParseManifest([]byte(text))
		var bad *image.Error
		if !errors.As(err, &bad) {
			t.Errorf("ParseManifest([]byte(text)): %s: %v; unwanted: !errors.As(err, &bad)", name, err)
		}
	}
	for name, text := range map[string]string{
		"a range backwards": "<compatibility-matrix><hal><name>a</name><version>1.3-1</version></hal>" +
			"</compatibility-matrix>",
		"a broken pattern": "<compatibility-matrix><hal><name>a</name><version>1.0</version><interface>" +
			"<name>I</name><regex-instance>(</regex-instance></interface></hal></compatibility-matrix>",
		"no kernel":  `<compatibility-matrix><kernel version="4.14"/></compatibility-matrix>`,
		"a manifest": "<manifest/>",
	} {
		_, err := ParseMatrix([]byte(text))
		var bad *image.Error
		if !errors.As(err, &bad) {
			t.Errorf("ParseMatrix([]byte(text)): %s: %v; unwanted: !errors.As(err, &bad)", name, err)
		}
	}
	if d := time.Since(began); d > 20*time.Second {
		t.Errorf("it took %v", d)
	}
}

func FuzzVINTF(f *testing.F) {
	f.Add(
		[]byte(
			`<manifest version="1.0" type="device" target-level="5"><hal ` +
				`format="aidl"><name>a</name><fqname>I/default</fqname></hal><kernel ` +
				`target-level="5"/></manifest>`))
	f.Add(
		[]byte(
			`<compatibility-matrix version="1.0" type="framework" level="5"><hal format="hidl" ` +
				`optional="false"><name>a</name><version>1.0-2</version><interface><name>I</name>` +
				`<regex-instance>a+</regex-instance></interface></hal><kernel ` +
				`version="4.14.1"><conditions/></kernel></compatibility-matrix>`))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := ParseManifest(b)
		if err == nil {
			again, err := ParseManifest([]byte(m.XML()))
			if err != nil || fmt.Sprint(again.Provides) != fmt.Sprint(m.Provides) {
				t.Fatalf("kept it reads as another: %v", err)
			}
			m.Add(again)
		}
		if x, err := ParseMatrix(b); err == nil {
			if y, err := Combine(x.Level, []*Matrix{x, x}); err == nil {
				y.Check(&Manifest{})
				y.CheckKernel("4.14.1", 0, map[string]string{})
			}
		}
	})
}
