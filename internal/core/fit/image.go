// Package fit checks whether a generic system image will run on a phone: facts of the
// image, facts of the phone, a table of rules, a verdict.
package fit

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/vintf"
)

// Image is what of a system image decides where it runs.
type Image struct {
	Label string
	Size  int64 // bytes, extracted
	// AsRoot says that the image is the root of the file system ("System-as-root" in the
	// architecture documentation); else it is mounted at /system.
	AsRoot bool
	// By the kernel's own mount it starts with /init; from a first stage in a ramdisk with
	// /system/bin/init ("Two-stage init").
	KernelStart, RamdiskStart bool

	Build, Release, Patch string
	// the phone its build is for; one that begins with "generic" is for none in particular
	Device         string
	API            int // level; 0: not stated
	ABIs           []string
	Machine        uint16 // of its programs, e_machine in elf.h; 0: none found
	Link64, Link32 bool   // it has the linkers for programs of that width
	VNDK           []string
	Policies       []string // versions of vendor policies it maps
	Matrices       []*vintf.Matrix
	Manifest       *vintf.Manifest
	Skips          []string // partitions it leaves unmounted
	Key            string   // fingerprint of the key of its own vbmeta; "" without
	Tree           bool     // has a hash tree of its own
}

func has(tree fs.FS, name string) bool {
	// A link whose target is on another partition is there all the same.
	if l, ok := tree.(fs.ReadLinkFS); ok {
		_, err := l.Lstat(name)
		return err == nil
	}
	_, err := fs.Stat(tree, name)
	return err == nil
}

// notThere tells a file that is missing from one that can't be read.
func notThere(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// ReadImage reads the facts of a system image. One that is none is an *image.Error.
func ReadImage(label string, tree fs.FS, size int64) (*Image, error) {
	im := &Image{Label: label, Size: size}
	sys, props, err := systemProps(tree)
	if err != nil {
		return nil, err
	}
	im.AsRoot = sys != ""
	im.Device = ident.DeviceOf(props)
	im.Build, im.Patch = ident.BuildOf(props), props["ro.build.version.security_patch"]
	im.Release = first(props, "ro.build.version.release", "ro.system.build.version.release")
	im.API, _ = strconv.Atoi(first(props, "ro.build.version.sdk", "ro.system.build.version.sdk"))
	if im.API == 0 && !im.AsRoot {
		return nil, image.Errorf("system image", -1,
			"its build.prop is that of another partition: it states no API level")
	}
	im.KernelStart, im.RamdiskStart = im.AsRoot && has(tree, "init"), im.AsRoot &&
		has(tree, "system/bin/init")
	im.Link64, im.Link32 = has(tree, sys+"bin/linker64"), has(tree, sys+"bin/linker")
	if list := first(props, "ro.system.product.cpu.abilist", "ro.product.cpu.abilist",
		"ro.product.cpu.abi"); list != "" {
		im.ABIs = strings.Split(list, ",")
	}
	for _, name := range []string{sys + "bin/init", "init", sys + "bin/linker64", sys + "bin/linker"} {
		if im.Machine = machine(tree, name); im.Machine != 0 {
			break
		}
	}
	im.vndk(tree, sys)
	im.policies(tree, sys)
	for _, dir := range []string{sys, sys + "system_ext/", sys + "product/"} {
		if b, err := filesystem.ReadSmall(tree, dir+"etc/init/config/skip_mount.cfg"); err == nil {
			im.Skips = append(im.Skips, strings.Fields(string(b))...)
		}
		if err := im.interfaces(tree, dir+"etc/vintf"); err != nil {
			return nil, err
		}
	}
	return im, nil
}

// systemProps reads a system's properties, and the folder it is in: "system/", or "" for one
// that is not the root.
func systemProps(tree fs.FS) (sys string, props map[string]string, err error) {
	sys = "system/"
	props, err = filesystem.Props(tree, sys+"build.prop", nil)
	if notThere(err) {
		sys = ""
		props, err = filesystem.Props(tree, "build.prop", map[string]fs.FS{"system": tree})
	}
	if notThere(err) {
		err = image.Errorf("system image", -1, "there is no build.prop in it, neither in its root nor "+
			"in system")
	}
	return sys, props, err
}

// Props gives the properties of a system in a file system.
func Props(tree fs.FS) (map[string]string, error) {
	_, props, err := systemProps(tree)
	return props, err
}

func first(props map[string]string, names ...string) string {
	for _, n := range names {
		if v := strings.TrimSpace(props[n]); v != "" {
			return v
		}
	}
	return ""
}

// machine gives the processor an ELF file is for (e_machine, elf.h); 0 when it is none.
func machine(tree fs.FS, name string) uint16 {
	f, err := tree.Open(name)
	if err != nil {
		return 0
	}
	defer f.Close()
	b := make([]byte, 20)
	if _, err := io.ReadFull(f, b); err != nil {
		return 0
	}
	if string(b[:4]) != "\x7fELF" || b[5] != 1 {
		return 0
	}
	return uint16(b[18]) | uint16(b[19])<<8
}

var (
	// How an image brings the libraries of older vendor interfaces: in modules
	// ("VNDK APEX"), and up to Android 10 in folders ("VNDK design").
	vndkModule = once(`^com\.android\.vndk\.(?:v(\d+)|(current))(?:\.apex|\.capex)?$`)
	vndkFolder = once(`^vndk-(\d+)$`)
	// A mapping of the policy vendors of a version were built with ("Policy
	// compatibility"): 30.0, and from 2024 on 202404.
	mappingFile = once(`^(\d+(?:\.\d+)?)\.cil$`)
)

// once compiles an expression when it is needed for the first time: most commands never are.
func once(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

func (im *Image) vndk(tree fs.FS, sys string) {
	found := map[string]bool{}
	for _, dir := range []string{"apex", "system_ext/apex", "product/apex"} {
		list, _ := fs.ReadDir(tree, sys+dir)
		for _, e := range list {
			switch m := vndkModule().FindStringSubmatch(e.Name()); {
			case m == nil:
			case m[1] != "":
				found[m[1]] = true
			case im.API > 0:
				found[strconv.Itoa(im.API)] = true
			}
		}
	}
	for _, dir := range []string{"lib", "lib64"} {
		list, _ := fs.ReadDir(tree, sys+dir)
		for _, e := range list {
			if m := vndkFolder().FindStringSubmatch(e.Name()); m != nil {
				found[m[1]] = true
			}
		}
	}
	im.VNDK = numbers(found)
}

func (im *Image) policies(tree fs.FS, sys string) {
	found := map[string]bool{}
	list, _ := fs.ReadDir(tree, sys+"etc/selinux/mapping")
	for _, e := range list {
		if m := mappingFile().FindStringSubmatch(e.Name()); m != nil {
			found[policyVersion(m[1])] = true
		}
	}
	im.Policies = numbers(found)
}

// policyVersion writes a version of the policy in one way: from 2024 on without a minor one.
func policyVersion(s string) string {
	s = strings.TrimSpace(s)
	if major, minor, ok := strings.Cut(s, "."); ok && len(major) == 6 && minor == "0" {
		return major
	}
	return s
}

// numbers sorts version numbers.
func numbers(set map[string]bool) []string {
	list := make([]string, 0, len(set))
	for s := range set {
		list = append(list, s)
	}
	slices.SortFunc(list, func(a, b string) int {
		x, _ := strconv.ParseFloat(a, 64)
		y, _ := strconv.ParseFloat(b, 64)
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return strings.Compare(a, b)
	})
	return list
}

// interfaces reads the matrices and manifests of one folder etc/vintf.
func (im *Image) interfaces(tree fs.FS, dir string) error {
	list, err := fs.ReadDir(tree, dir)
	if err != nil {
		return nil // it has none, which a rule says
	}
	for _, e := range list {
		if !strings.HasPrefix(e.Name(), "compatibility_matrix") || path.Ext(e.Name()) != ".xml" {
			continue
		}
		b, err := filesystem.ReadSmall(tree, path.Join(dir, e.Name()))
		if err != nil {
			return err
		}
		x, err := vintf.ParseMatrix(b)
		if err != nil {
			return &image.Error{Format: path.Join(dir, e.Name()), Offset: -1, What: "it can't be read",
				Err: err}
		}
		if x.Type == "framework" {
			im.Matrices = append(im.Matrices, x)
		}
	}
	m, err := manifests(tree, dir)
	if err != nil || m == nil {
		return err
	}
	if im.Manifest == nil {
		im.Manifest = m
	} else {
		im.Manifest.Add(m)
	}
	return nil
}

// manifests reads manifest.xml and the fragments beside it; nil where there is none.
func manifests(tree fs.FS, dir string) (*vintf.Manifest, error) {
	names := []string{path.Join(dir, "manifest.xml")}
	if !has(tree, names[0]) {
		// A manufacturer of variants names a manifest after each ("SKU" in the platform's
		// documentation); of several nobody can tell here which one counts.
		var variants []string
		list, _ := fs.ReadDir(tree, dir)
		for _, e := range list {
			if strings.HasPrefix(e.Name(), "manifest_") && path.Ext(e.Name()) == ".xml" {
				variants = append(variants, path.Join(dir, e.Name()))
			}
		}
		if len(variants) > 1 {
			return nil, nil
		}
		names = append(names, variants...)
	}
	list, _ := fs.ReadDir(tree, path.Join(dir, "manifest"))
	for _, e := range list {
		if path.Ext(e.Name()) == ".xml" {
			names = append(names, path.Join(dir, "manifest", e.Name()))
		}
	}
	var all *vintf.Manifest
	for _, name := range names {
		b, err := filesystem.ReadSmall(tree, name)
		if notThere(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		m, err := vintf.ParseManifest(b)
		if err != nil {
			return nil, &image.Error{Format: name, Offset: -1, What: "it can't be read", Err: err}
		}
		if all == nil {
			all = m
		} else {
			all.Add(m)
		}
	}
	return all, nil
}

// matrixLevels are the levels of devices the image has matrices for.
func (im *Image) matrixLevels() []int {
	levels := []int{}
	for _, x := range im.Matrices {
		if x.Level != vintf.Unspecified {
			levels = append(levels, x.Level)
		}
	}
	slices.Sort(levels)
	return slices.Compact(levels)
}

func (im *Image) levels() string {
	var words []string
	for _, n := range im.matrixLevels() {
		words = append(words, levelWord(n))
	}
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}

// Facts are the facts of an image as JSON has them.
type Facts struct {
	Name         string   `json:"name"`
	Size         int64    `json:"size"` // bytes
	AsRoot       bool     `json:"system_as_root"`
	KernelStart  bool     `json:"kernel_start"`
	RamdiskStart bool     `json:"ramdisk_start"`
	Build        string   `json:"build"`
	Release      string   `json:"release"`
	Patch        string   `json:"security_patch"`
	API          int      `json:"api_level"`
	ABIs         []string `json:"abis"`
	VNDK         []string `json:"vndk"`
	Policies     []string `json:"policies"`
	Matrices     []int    `json:"matrix_levels"`
	Skips        []string `json:"skips"`
}

// Facts gives the facts of an image.
func (im *Image) Facts() Facts {
	return Facts{im.Label, im.Size, im.AsRoot, im.KernelStart, im.RamdiskStart, im.Build, im.Release,
		im.Patch, im.API, im.ABIs, im.VNDK, im.Policies, im.matrixLevels(), im.Skips}
}
