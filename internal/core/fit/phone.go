package fit

import (
	"errors"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/image/kernel"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/vintf"
)

// Learn takes a fact by its name on the card.
type Learn func(what card.Which, value string)

// Vendor reads the facts of a phone's vendor partition. odm is that partition's tree, nil
// where there is none; what it states counts over the vendor's. A file that is there and
// can't be read leaves its fact unlearnt; one that is damaged is an *image.Error.
func Vendor(tree, odm fs.FS, learn Learn) error {
	if odm == nil && has(tree, "odm/etc") { // phones without that partition keep it there
		odm, _ = fs.Sub(tree, "odm")
	}
	props, err := vendorProps(tree, odm)
	if err != nil {
		return err
	}
	learnFirst := func(fact card.Which, names ...string) {
		if v := first(props, names...); v != "" {
			learn(fact, v)
		}
	}
	learnFirst(card.FactFirstAPI, "ro.product.first_api_level", "ro.board.first_api_level")
	learnFirst(card.FactVendorAPI, "ro.board.api_level", "ro.vendor.api_level", "ro.vendor.build.version.sdk",
		"ro.vndk.version")
	learnFirst(card.FactCPUs, "ro.vendor.product.cpu.abilist", "ro.product.cpu.abilist")
	level, _ := strconv.Atoi(first(props, "ro.board.api_level", "ro.vendor.api_level"))
	switch v := first(props, "ro.vndk.version"); {
	case v != "":
		learn(card.FactVNDK, v)
	case level >= noVNDK:
		learn(card.FactVNDK, "none")
	}
	if len(props) > 0 {
		learn(card.FactVendor, card.YesNo(first(props, "ro.vndk.version") != "" || has(tree, "etc/vintf") ||
			has(tree, "manifest.xml") || level >= noVNDK))
	}
	switch {
	case anyProgram(tree, 2):
		learn(card.FactVendor64, "64")
	case anyProgram(tree, 1):
		learn(card.FactVendor64, "32")
	}
	if b, err := filesystem.ReadSmall(tree, "etc/selinux/plat_sepolicy_vers.txt"); err == nil {
		learn(card.FactPolicy, policyVersion(string(b)))
	}
	if err := vendorInterfaces(tree, odm, learn); err != nil {
		return err
	}
	return overlays(tree, learn)
}

// vendorProps gives the properties that the vendor's files state, and after them odm's, whose values
// count (system/core, init/property_service.cpp). Files that are missing or closed to the reader state
// nothing.
func vendorProps(tree, odm fs.FS) (map[string]string, error) {
	mounts := map[string]fs.FS{"vendor": tree}
	files := map[string]fs.FS{"build.prop": tree}
	if odm != nil {
		mounts["odm"], files["etc/build.prop"] = odm, odm
	}
	props := map[string]string{}
	for _, name := range []string{"build.prop", "etc/build.prop"} {
		if files[name] == nil {
			continue
		}
		more, err := filesystem.Props(files[name], name, mounts)
		if err != nil && !notThere(err) && !errors.Is(err, fs.ErrPermission) {
			return nil, err
		}
		maps.Copy(props, more)
	}
	return props, nil
}

// noVNDK is the vendor level from which there is no VNDK any more ("VNDK deprecation"
// in the platform's documentation: Android 15, vendor level 202404).
const noVNDK = 202404

// anyProgram looks for an ELF program of a class (e_ident[EI_CLASS]: 1 is 32-bit, 2
// 64-bit) among the vendor's services.
func anyProgram(tree fs.FS, class byte) bool {
	for _, dir := range []string{"bin/hw", "bin"} {
		list, _ := fs.ReadDir(tree, dir)
		for i, e := range list {
			if i >= 64 || e.IsDir() {
				continue
			}
			f, err := tree.Open(path.Join(dir, e.Name()))
			if err != nil {
				continue
			}
			b := make([]byte, 5)
			n, _ := io.ReadFull(f, b)
			f.Close()
			if n == 5 && string(b[:4]) == "\x7fELF" && b[4] == class {
				return true
			}
		}
	}
	return false
}

func vendorInterfaces(tree, odm fs.FS, learn Learn) error {
	m, err := manifests(tree, "etc/vintf")
	if err == nil && m == nil {
		if m, err = oneManifest(tree, "manifest.xml"); err == nil && m == nil {
			m, err = oneManifest(tree, "etc/manifest.xml")
		}
	}
	if odm != nil && err == nil {
		var o *vintf.Manifest
		if o, err = manifests(odm, "etc/vintf"); err == nil && o != nil {
			if m == nil {
				m = o
			} else {
				m.Add(o)
			}
		}
	}
	if err != nil && !errors.Is(err, fs.ErrPermission) {
		return err
	}
	if m != nil && err == nil {
		learn(card.FactManifest, m.XML())
		if m.Policy != "" {
			learn(card.FactPolicy, policyVersion(m.Policy))
		}
	}
	for _, name := range []string{"etc/vintf/compatibility_matrix.xml", "compatibility_matrix.xml"} {
		b, err := filesystem.ReadSmall(tree, name)
		if err != nil {
			continue
		}
		x, err := vintf.ParseMatrix(b)
		if err != nil {
			return &image.Error{Format: name, Offset: -1, What: "it can't be read", Err: err}
		}
		learn(card.FactMatrix, x.XML())
		break
	}
	return nil
}

func oneManifest(tree fs.FS, name string) (*vintf.Manifest, error) {
	b, err := filesystem.ReadSmall(tree, name)
	if notThere(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return vintf.ParseManifest(b)
}

func overlays(tree fs.FS, learn Learn) error {
	list, err := fs.ReadDir(tree, "overlay")
	switch {
	case notThere(err):
		learn(card.FactOverlays, "none")
		return nil
	case errors.Is(err, fs.ErrPermission):
		return nil
	case err != nil:
		return err
	}
	var names []string
	for _, e := range list {
		if e.IsDir() || path.Ext(e.Name()) == ".apk" {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	if len(names) == 0 {
		names = []string{"none"}
	}
	learn(card.FactOverlays, strings.Join(names, ","))
	return nil
}

// Boot reads the facts of a phone's boot image: its kernel's version and configuration,
// what mounts the system, and the patch level keys are bound to. generic says that the
// phone also has init_boot, which has the first stage then.
func Boot(r io.ReaderAt, size int64, generic bool, learn Learn) error {
	m, err := boot.Parse(r, size)
	if err != nil {
		return err
	}
	if _, patch := m.OS(); patch != "" {
		learn(card.FactBound, patch)
	}
	if k := m.Section("kernel"); k.Size > 0 {
		if info, err := kernel.Read(m.Open(r, "kernel"), k.Size); err == nil {
			learn(card.FactKernel, info.Version)
			if info.Config != "" {
				learn(card.FactKernelConf, info.Config)
			}
		}
	}
	switch rd := m.Section("ramdisk"); {
	case strings.Contains(" "+m.Cmdline+" ", " skip_initramfs "):
		// The kernel passes over its ramdisk and mounts the root it is told.
		learn(card.FactFirstStage, card.StageKernel)
	case generic:
		learn(card.FactFirstStage, card.StageRamdisk)
	case rd.Size > 0:
		return Ramdisk(func() io.Reader { return m.Open(r, "ramdisk") }, learn)
	}
	return nil
}

// Ramdisk reads the facts of a first stage's ramdisk: what mounts the system, and the keys
// it trusts for generic images ("avb_keys" in a first-stage table of mounts).
func Ramdisk(open func() io.Reader, learn Learn) error {
	d, err := boot.ReadRamdisk(open())
	if err != nil {
		return err
	}
	has := func(name string) bool { return slices.Contains(d.Names, name) }
	switch {
	case d.Recovery && !d.NormalStart:
		return nil // a recovery alone: a normal start passes over it
	case has("init.rc") || has("sepolicy"):
		learn(card.FactFirstStage, card.StagePlain)
	case has("init") || d.NormalStart:
		learn(card.FactFirstStage, card.StageRamdisk)
	}
	var names []string
	for _, n := range d.Names {
		if path.Ext(n) == ".avbpubkey" {
			names = append(names, n)
		}
	}
	var keys []string
	if len(names) > 0 {
		if d, err = boot.ReadRamdisk(open(), names...); err != nil {
			return err
		}
		for _, b := range d.Wanted {
			keys = append(keys, vbmeta.Fingerprint(b))
		}
	}
	slices.Sort(keys)
	learn(card.FactStageKeys, strings.Join(append(keys, map[bool][]string{true: {"none"}}[len(keys) == 0]...),
		","))
	return nil
}

// derive fills in what follows from other facts by the platform's rules. Facts that are
// known are left alone.
func derive(c *card.Card) {
	put := func(what card.Which, value string) {
		if !c.Get(what).Known() && value != "" {
			c.Learn(what, value, card.Model)
		}
	}
	if treble, known := c.Yes(card.FactTreble); known && !treble {
		put(card.FactVendor, "no")
	}
	api, known := c.Number(card.FactFirstAPI)
	if _, super := c.Number(card.FactSize.Of(card.At("super", ""))); super {
		put(card.FactFirstStage, card.StageRamdisk)
	}
	slots, told := c.Slots()
	switch {
	case known && api >= 29: // devices sold with Android 10 have a first stage in a ramdisk
		put(card.FactFirstStage, card.StageRamdisk)
	case known && api == 28, known && told && len(slots) > 1:
		put(card.FactFirstStage, card.StageKernel)
	case known && told:
		put(card.FactFirstStage, card.StagePlain)
	}
	if v := c.Get(card.FactVNDK); v.Known() {
		put(card.FactVendorAPI, strings.TrimSuffix(v.Value, "none"))
		put(card.FactVendor, "yes")
	}
	if cpu := c.Value(card.FactCPU); cpu != "" {
		put(card.FactCPUs, map[string]string{
			"arm64-v8a":   "arm64-v8a,armeabi-v7a,armeabi",
			"armeabi-v7a": "armeabi-v7a,armeabi",
			"x86_64":      "x86_64,x86",
		}[cpu])
		put(card.FactVendor64, map[string]string{"armeabi-v7a": "32", "armeabi": "32", "x86": "32"}[cpu])
	}
}
