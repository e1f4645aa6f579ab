package ident

import (
	"crypto/x509"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/script"
	"jarlid/internal/core/spell"
)

// Kind is what a file is.
type Kind string

var kindWords = map[Kind]string{Boot: "a boot image",
	BootWithRecovery: "a boot image that also holds a recovery",
	Recovery:         "a recovery",
	VendorBoot:       "a vendor boot image",
	InitBoot:         "an init_boot image",
	VendorKernelBoot: "a vendor kernel boot image",
	DTBO:             "a table of device tree overlays",
	DTB:              "a device tree",
	VBMeta:           "a vbmeta image",
	Super:            "a super image",
	Ext4:             "an ext4 file system",
	EROFS:            "an EROFS file system",
	F2FS:             "an f2fs file system",
	Payload:          "an update payload",
	OTAAB:            "an A/B package",
	OTABlock:         "a block-list package",
	Addon:            "an add-on package",
	FirmwareSet:      "a firmware set",
	Images:           "an archive of images",
	BlockList:        "a block list with its data beside it",
	Kernel:           "a kernel",
	Ramdisk:          "a ramdisk",
	SquashFS:         "a squashfs file system",
	ISO:              "an image of a disc (ISO 9660)",
	Qcow2:            "a disk of a virtual machine (qcow2)", Disk: "a whole disk with a partition table",
	Archive:     "an archive",
	App:         "an app",
	Sums:        "a file of digests",
	LoaderTable: "a loader's table of partitions",
	Text:        "a text"}

// Words gives the kind in words, with its article.
func (k Kind) Words() string {
	if w, ok := kindWords[k]; ok {
		return w
	}
	return "nothing Jar Lid knows"
}

// Destination is where a file would go, and why.
type Destination struct {
	Partition string `json:"partition"`
	// "both" or "booted"; on phones without slots it does not count
	Slot string `json:"slot,omitempty"`
	By   string `json:"by"` // avb-footer, content, name
	Why  string `json:"why"`
	// OnPhone is the partitions' names on the phone that was named.
	OnPhone []string `json:"on_phone,omitempty"`
}

// String writes the destination the way the command line takes it.
func (d Destination) String() string {
	if d.Slot == "" {
		return d.Partition
	}
	return d.Partition + "@" + d.Slot
}

// Member is one file inside an archive.
type Member struct {
	Name   string        `json:"name"`
	Size   int64         `json:"size"`
	Kind   Kind          `json:"kind"`
	GoesTo []Destination `json:"goes_to,omitempty"`
}

// File is what is known about one file.
type File struct {
	Path    string         `json:"path"`
	Size    int64          `json:"size"`
	Kind    Kind           `json:"kind"`
	Wrapped []string       `json:"wrapped"` // the outermost first
	Inside  int64          `json:"unwrapped_size,omitempty"`
	Details map[string]any `json:"details"`
	GoesTo  []Destination  `json:"goes_to"`
	Notes   []string       `json:"notes,omitempty"`
	Damage  string         `json:"damage,omitempty"` // what is wrong with it
	// Altered says what was changed in it after it was signed. Identify does not compare that: who verifies
	// the file fills it in.
	Altered string `json:"altered,omitempty"`
	// why what is inside can't be read though nothing is wrong with it
	Closed string `json:"closed,omitempty"`
	// the files of its folder that are one with it, itself among them
	Pieces []string `json:"pieces,omitempty"`
	Short  bool     `json:"cut_short,omitempty"`

	// Failed is what kept the computer from looking at it, nil where nothing did: all else is
	// what was known by then.
	Failed error `json:"-"`

	Head    []byte            `json:"-"` // the first bytes
	Boot    *boot.Image       `json:"-"`
	Vendor  *boot.Vendor      `json:"-"`
	Ramdisk *boot.Ramdisk     `json:"-"`
	Package *ota.Package      `json:"-"`
	Payload *payload.Payload  `json:"-"`
	Props   map[string]string `json:"-"` // of the build inside
	Members []Member          `json:"-"`
	Count   int               `json:"-"` // files in an archive, also those that are not among Members
	Demands []script.Demand   `json:"-"` // of an update script
	// partitions it writes whatever the phone says, by its names for them
	Written []string      `json:"-"`
	Adds    int64         `json:"-"` // bytes an add-on puts into the system
	App     *apk.App      `json:"-"` // of an app package
	VBMeta  *vbmeta.Image `json:"-"` // of a vbmeta image
	// Tree is what the image's own verified boot footer says of its hash tree.
	Tree *vbmeta.Descriptor `json:"-"`
	// Restores is "yes" for files of a system that put the manufacturer's recovery back at each start, "no"
	// for such as don't, "" where they could not be read.
	Restores string `json:"restores_recovery,omitempty"`
	// Wipes is where a package says that it erases the owner's data, "" where it does not.
	Wipes  string            `json:"wipes_data,omitempty"`
	ABIs   []string          `json:"-"` // processors whose libraries are inside
	Signer *x509.Certificate `json:"-"` // who signed a package; not checked

	stem      string // the name of the whole that it is a piece of
	opt       Options
	described []string // of an archive: the partitions that the vbmeta images in it describe
	partial   bool     // only the head of what is inside was extracted
	depth     int
}

// HoldsRecovery reports whether a recovery could start from the file, written to
// where a phone keeps it.
func (f *File) HoldsRecovery() bool {
	return f.Kind == Recovery || f.Kind == BootWithRecovery || f.Vendor != nil && f.Vendor.Recovery() != nil
}

// Content is the size of what is written when the file is, in bytes.
func (f *File) Content() int64 {
	if f.Inside > 0 {
		return f.Inside
	}
	return f.Size
}

// IsPackage tells of what a recovery installs.
func (f *File) IsPackage() bool { return f.Kind == OTAAB || f.Kind == OTABlock || f.Kind == Addon }

// IsROM tells of packages that bring a whole system.
func (f *File) IsROM() bool { return f.Kind == OTAAB || f.Kind == OTABlock }

// IsArchive tells of files that hold others and are no image themselves.
func (f *File) IsArchive() bool {
	switch f.Kind {
	case Archive, Images, FirmwareSet, OTAAB, OTABlock, Addon, App, Payload, BlockList:
		return true
	}
	return false
}

// Options say how far Identify goes.
type Options struct {
	// Deep extracts compressed files whole, by way of Spool.
	Deep bool
	// Spool keeps a stream somewhere it can be read at any place.
	Spool func(r io.Reader) (at io.ReaderAt, size int64, done func(), err error)
	// Beside is what is in the file's folder; nil where nobody looks there.
	Beside image.Folder
	// MaxMemory bounds what extracting may take, in bytes; 0: wrap.MaxMemory.
	MaxMemory int64
}

// ClosedError says why the contents of a file can't be read although it is as it was made.
type ClosedError struct{ Why string }

// Error gives the reason.
func (e *ClosedError) Error() string { return e.Why }

// AboutNoDamage marks it as that.
func (e *ClosedError) AboutNoDamage() {}

func (f *File) damaged(err error) {
	if err == nil || f.Damage != "" || f.partial && image.IsShort(err) {
		return // of a file whose head alone was extracted, the end is not missing
	}
	if image.ByComputer(err) {
		f.fails(err)
		return
	}
	if image.AboutNoDamage(err) {
		if f.Closed == "" {
			f.Closed = spell.Error(err)
		}
		return
	}
	f.Damage, f.Short = spell.Error(err), image.IsShort(err)
}

func (f *File) fails(err error) {
	if f.Failed == nil {
		f.Failed = err
	}
}

// goes adds a destination. Of an image that could go to both slots only a recovery and the manufacturer's
// firmware do, as place.Of has it; the rest goes to the slot that is being made ready.
func (f *File) goes(partition, slot, by, why string) {
	if slot == "both" && partition != "recovery" && !Risky(partition) {
		slot = "booted"
	}
	f.GoesTo = append(f.GoesTo, Destination{Partition: partition, Slot: slot, By: by, Why: why})
}

// namedPartitions are partitions a file's bare name may mean.
var namedPartitions = []string{"vendor_boot", "vendor_kernel_boot", "init_boot", "vbmeta_system",
	"vbmeta_vendor", "vbmeta", "dtbo", "dtb", "boot", "recovery",
	"super", "system_ext", "system_dlkm", "vendor_dlkm", "odm_dlkm", "system", "vendor", "product", "odm",
	"modem", "radio", "bootloader", "logo", "persist", "userdata", "cache"}

// partitionByName gives the partition a file's name means, or "".
func partitionByName(path string) string {
	base := strings.ToLower(filepath.Base(strings.ReplaceAll(path, `\`, "/")))
	for {
		ext := filepath.Ext(base)
		switch ext {
		case ".img", ".bin", ".raw", ".gz", ".xz", ".zst", ".lz4", ".bz2", ".br", ".sparse":
			base = strings.TrimSuffix(base, ext)
			continue
		}
		break
	}
	for _, p := range namedPartitions {
		if base == p || base == p+"_a" || base == p+"_b" {
			return p
		}
	}
	return ""
}

// Whole is the name of what the file is, or is a piece of.
func (f *File) Whole() string {
	if f.stem != "" {
		return f.stem
	}
	return f.Path
}

// deviceProps are the properties that name the phone a build is for, the most
// reliable first.
var deviceProps = []string{"ro.product.device", "ro.product.system.device", "ro.product.vendor.device",
	"ro.product.product.device",
	"ro.product.odm.device", "ro.product.bootimage.device", "ro.build.product"}

func firstOf(props map[string]string, names ...string) string {
	for _, p := range names {
		if v := props[p]; v != "" {
			return v
		}
	}
	return ""
}

// DeviceOf gives the phone a set of properties names, or "".
func DeviceOf(props map[string]string) string { return firstOf(props, deviceProps...) }

// PhoneOf gives the phone that the properties of something running name, or "": a generic system names none,
// and leaves that to the partitions beside it.
func PhoneOf(props map[string]string) string {
	for _, name := range deviceProps {
		if v := props[name]; v != "" && !IsGeneric(v) {
			return v
		}
	}
	return ""
}

// BuildOf gives what a build calls itself, or "".
func BuildOf(props map[string]string) string {
	return firstOf(props, "ro.build.display.id", "ro.build.version.incremental",
		"ro.bootimage.build.version.incremental",
		"ro.system.build.version.incremental", "ro.vendor.build.fingerprint")
}

// Models gives the phones the file says it is for; empty when it does not say.
func (f *File) Models() []string {
	if f.Package != nil && len(f.Package.Devices()) > 0 {
		return f.Package.Devices()
	}
	var named []string
	for _, d := range f.Demands {
		if slices.Contains(deviceProps, d.Property) {
			named = append(named, d.Values...)
		}
	}
	if len(named) > 0 || f.Package != nil {
		slices.Sort(named)
		return slices.Compact(named)
	}
	// A generic system image names no phone but the kind of build it is.
	if d := DeviceOf(f.Props); d != "" && !f.Generic() {
		return []string{d}
	}
	return nil
}

// Trusts gives the SHA-256 of the keys whose packages the recovery inside takes, as a list with
// commas; "none" for one that brings none, "" for a file without a recovery.
func (f *File) Trusts() string {
	if !f.HoldsRecovery() || f.Ramdisk == nil {
		return ""
	}
	return zipsig.Trusted(f.Ramdisk.Wanted)
}

// Generic tells of a system image that is made for no phone in particular.
func (f *File) Generic() bool { return IsGeneric(DeviceOf(f.Props)) }

// IsGeneric tells of a device that is no phone: the platform calls the targets of its generic
// systems so (build/make/target/product).
func IsGeneric(device string) bool { return strings.HasPrefix(device, "generic") }

// Properties gives the properties of the system inside, as far as it states them: of a package
// those its metadata has.
func (f *File) Properties() map[string]string {
	if f.Package == nil {
		return f.Props
	}
	props := map[string]string{}
	meta := f.Package.Metadata
	for stated, property := range map[string]string{"post-sdk-level": "ro.build.version.sdk",
		"post-security-patch-level": "ro.build.version.security_patch"} {
		if v := meta[stated]; v != "" {
			props[property] = v
		}
	}
	// brand/product/device:release/id/... (the build's fingerprint)
	if _, tail, ok := strings.Cut(meta["post-build"], ":"); ok {
		if release, _, ok := strings.Cut(tail, "/"); ok && release != "" {
			props["ro.build.version.release"] = release
		}
	}
	return props
}

// Build gives what the build inside calls itself, empty when it does not say.
func (f *File) Build() string {
	if f.Package != nil {
		return firstOf(f.Package.Metadata, "post-build", "post-build-incremental")
	}
	return BuildOf(f.Props)
}

// The kinds.
const (
	Boot             Kind = "boot"
	BootWithRecovery Kind = "boot-with-recovery" // one ramdisk for both starts
	Recovery         Kind = "recovery"
	VendorBoot       Kind = "vendor-boot"
	InitBoot         Kind = "init-boot"
	VendorKernelBoot Kind = "vendor-kernel-boot"
	DTBO             Kind = "dtbo"
	DTB              Kind = "dtb"
	VBMeta           Kind = "vbmeta"
	Super            Kind = "super"
	Ext4             Kind = "ext4"
	EROFS            Kind = "erofs"
	F2FS             Kind = "f2fs"
	Payload          Kind = "payload"
	OTAAB            Kind = "ota-ab"
	OTABlock         Kind = "ota-block"
	Addon            Kind = "addon"
	FirmwareSet      Kind = "firmware-set"
	Images           Kind = "images"
	Archive          Kind = "archive"
	BlockList        Kind = "block-list" // a transfer list that is in a folder, or its data
	Kernel           Kind = "kernel"
	SquashFS         Kind = "squashfs"
	Ramdisk          Kind = "ramdisk"
	ISO              Kind = "iso"
	Qcow2            Kind = "qcow2"
	Disk             Kind = "disk" // a partition table and what it speaks of
	App              Kind = "app"
	Sums             Kind = "sums"
	LoaderTable      Kind = "loader-table" // the table of partitions of a manufacturer's loader
	Text             Kind = "text"
	Unknown          Kind = "unknown"
)

// Risky reports whether a partition of that name belongs to the bootloader's
// stages, the partition table or the radio.
func Risky(name string) bool {
	n := strings.ToLower(strings.TrimSuffix(path.Base(name), path.Ext(name)))
	n = strings.TrimSuffix(strings.TrimSuffix(n, "_a"), "_b")
	for _, w := range riskyWords {
		if n == w || strings.HasPrefix(n, w+"_") || strings.HasPrefix(n, w+"-") ||
			strings.HasPrefix(n, w+".") {
			return true
		}
	}
	return false
}

// Partitions whose loss or mismatch a phone does not survive, by the words in
// their names: bootloader stages, partition table, radio.
var riskyWords = []string{"xbl", "abl", "sbl", "lk", "preloader", "bootloader", "tz", "hyp", "rpm", "pmic",
	"devcfg", "keymaster", "gpt", "partition_table", "modem", "radio", "baseband", "uefi", "bl1",
	"bl2", "bl31"}
