// Package scenario makes the made-up firmware of the demo scenario: recoveries,
// boot and system images and packages for the phones of the manufacturer Wickerlight.
// Everything is the same bytes each time it is made.
package scenario

import (
	"archive/zip"
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"

	"github.com/mikelolasagasti/xz"

	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/ota"
)

//go:embed images/*.xz
var images embed.FS

// OS is one build of a system.
type OS struct {
	Brand, Name, Version string // "Saltmarsh", "Saltmarsh OS", "4.2"
	Release, Patch       string // platform release and security patch level
	Build                string
	SDK                  string // API level
	Rollback             uint64 // rollback index of its vbmeta
	key                  string // who signs it
	recovery             *RecoveryKind
	image                string // of a generic system: the template it is made of, whole
}

// The systems of the scenario.
var (
	Stock = OS{Brand: "Wickerlight", Name: "Wickerlight Stock", Version: "9.1", Release: "10",
		Patch: "2021-03-01", Build: "WL91.210301",
		SDK: "29", Rollback: 1614556800, key: "wickerlight", recovery: &StockRecovery}
	Saltmarsh = OS{Brand: "Saltmarsh", Name: "Saltmarsh OS", Version: "4.2", Release: "14",
		Patch: "2026-05-01", Build: "SM42.260512",
		SDK: "34", Rollback: 1777593600, key: "saltmarsh", recovery: &SaltmarshRecovery}
	// The generic system images: they name no phone, and are the same for every one.
	GSI = OS{Brand: "Saltmarsh", Name: "Saltmarsh GSI", Version: "4.2", Release: "14",
		Patch: "2026-05-01", Build: "SMG42.260512", SDK: "34", image: "gsi-arm64.ext4"}
	GSIArm = OS{Brand: "Saltmarsh", Name: "Saltmarsh GSI", Version: "4.2", Release: "14",
		Patch: "2026-05-01", Build: "SMG42.260512", SDK: "34", image: "gsi-arm.ext4"}
	GSIFixed = OS{Brand: "Saltmarsh", Name: "Saltmarsh GSI", Version: "1.4", Release: "9",
		Patch: "2019-09-01", Build: "SMG14.190905", SDK: "28", image: "gsi-fixed.ext4"}
	GSINew = OS{Brand: "Saltmarsh", Name: "Saltmarsh GSI", Version: "6.0", Release: "16",
		Patch: "2026-08-05", Build: "SMG60.260810", SDK: "36", image: "gsi-new.erofs"}
)

// Fingerprint is the build's fingerprint on a phone.
func (o OS) Fingerprint(device string) string {
	return fmt.Sprintf("%s/%s/%s:%s/%s/1:user/release-keys", strings.ToLower(o.Brand), device, device,
		o.Release, o.Build)
}

// bytesOf gives n bytes that are the same for the same seed and do not
// compress.
func bytesOf(seed string, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8(sha256.Sum256([]byte(seed))).Read(b)
	return b
}

// template extracts an embedded image, fills in its fields and the blocks that
// stand for bulk data.
func template(name, seed string, fields map[string]string) ([]byte, error) {
	packed, err := unpacked.get(name, func() ([]byte, error) { return unpack(name) })
	if err != nil {
		return nil, err
	}
	b := bytes.Clone(packed)
	const field = 96
	for key, value := range fields {
		mark := []byte("@" + key + "@")
		at := bytes.Index(b, mark)
		if at < 0 {
			return nil, fmt.Errorf("the image %s has no field %s", name, key)
		}
		if len(value) > field {
			return nil, fmt.Errorf("%q is too long for its field", value)
		}
		copy(b[at:at+field], value+strings.Repeat(" ", field-len(value)))
	}
	const block = 4096
	mark := bytes.Repeat([]byte{0xa5}, block)
	src := rand.NewChaCha8(sha256.Sum256([]byte(seed)))
	for n, at := 0, 0; at+block <= len(b); at += block {
		if !bytes.Equal(b[at:at+block], mark) {
			continue
		}
		if n++; n%filled() != 0 {
			clear(b[at : at+block])
			continue
		}
		src.Read(b[at : at+block])
	}
	return b, nil
}

// extract gives a template without its packing.
func unpack(name string) ([]byte, error) {
	f, err := images.Open("images/" + name + ".xz")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := xz.NewReader(f, 0)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}

// System makes a system image.
func System(o OS, p Phone) ([]byte, error) {
	kind := p.System
	switch {
	case kind == "":
		kind = "system"
	case kind == "restoring" && o.Brand != Stock.Brand:
		kind = "small"
	}
	if small.Load() > 0 {
		kind = tiny[kind]
	}
	if o.image != "" {
		return template(o.image, o.Build+"generic", nil)
	}
	treble := ""
	if p.VNDK != "" {
		treble = "true"
	}
	return template(kind+".ext4", o.Build+p.Device, map[string]string{
		"DISPLAY":     o.Name + " " + o.Version,
		"INCREMENTAL": o.Build,
		"RELEASE":     o.Release,
		"PATCH":       o.Patch,
		"SDK":         o.SDK,
		"TREBLE":      treble,
		"FINGERPRINT": o.Fingerprint(p.Device),
		"BRAND":       o.Brand,
		"DEVICE":      p.Device,
		"MODEL":       p.Model,
		"ABI":         p.ABI,
		"INIT":        string(library(p.ABI, 64)),
		"LINKER":      string(library("armeabi-v7a", 64)),
		"LINKER64":    string(library("arm64-v8a", 64))})
}

// vendorImage makes a vendor image.
func vendorImage(o OS, p Phone) ([]byte, error) {
	return template("vendor"+p.VNDK+".ext4", "vendor"+o.Build+p.Device, map[string]string{
		"DEVICE": p.Device, "FINGERPRINT": o.Fingerprint(p.Device), "VNDK": p.VNDK, "FIRST": p.FirstAPI})
}

// productImage makes an image of what a manufacturer adds to the system.
func productImage(o OS, p Phone) ([]byte, error) {
	return template("product.ext4", "product"+o.Build+p.Device, map[string]string{"DEVICE": p.Device})
}

// EmptyData is an empty file system, what formatting the data leaves.
func EmptyData() ([]byte, error) { return template("data.ext4", "", nil) }

// ramdisk makes a gzip-compressed ramdisk of the given files.
func ramdisk(files map[string]string, order ...string) ([]byte, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := cpio.NewWriter(z)
	for _, name := range order {
		mode := uint32(cpio.TypeFile | 0o644)
		if strings.HasSuffix(name, "/") {
			mode = cpio.TypeDir | 0o755
		}
		if strings.Contains(name, "bin/") || name == "init" {
			mode |= 0o111
		}
		if err := w.Add(cpio.Header{Name: strings.TrimSuffix(name, "/"), Mode: mode},
			[]byte(files[name])); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// kernel makes bytes that begin like a kernel: arm64 has "ARMd" at offset 56
// (Documentation/arch/arm64/booting.rst), arm 0x016f2818 at offset 36
// (arch/arm/boot/compressed/head.S). Behind that lie a banner (init/version.c) and, unless
// the phone's is plain, the configuration (kernel/configs.c).
func kernel(seed string, p Phone, size int) []byte {
	b := bytesOf("kernel"+seed, bulk(size))
	if strings.HasPrefix(p.ABI, "arm64") {
		copy(b[56:], "ARMd")
	} else {
		binary.LittleEndian.PutUint32(b[36:], 0x016f2818)
	}
	copy(b[0x10000:], "Linux version "+cmp.Or(p.Kernel, "4.14.190")+
		"-wickerlight (builder@observatory) #1 SMP PREEMPT\x00")
	if !p.Plain {
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		width := "CONFIG_ARM=y\n"
		if strings.HasPrefix(p.ABI, "arm64") {
			width = "CONFIG_ARM64=y\n"
		}
		z.Write([]byte("# Wickerlight\n" + width + "CONFIG_ANDROID_BINDER_IPC=y\nCONFIG_BPF_SYSCALL=y\n# " +
			"CONFIG_DEVMEM " +
			"is not set\nCONFIG_SECCOMP_FILTER=y\nCONFIG_IKCONFIG=y\n"))
		z.Close()
		copy(b[0x20000:], "IKCFG_ST"+packed.String()+"IKCFG_ED")
	}
	return b
}

// dtb makes a device tree blob without nodes (devicetree specification 0.4,
// chapter 5).
func dtb() []byte {
	be := binary.BigEndian
	var b []byte
	for _, v := range []uint32{0xd00dfeed, 72, 56, 72, 40, 17, 16, 0, 0, 16, 0, 0, 0, 0} {
		b = be.AppendUint32(b, v)
	}
	for _, v := range []uint32{1, 0, 2, 9} { // begin node "", end node, end
		b = be.AppendUint32(b, v)
	}
	return b
}

// RecoveryKind is one of the recoveries of the scenario.
type RecoveryKind struct {
	Name, Version string
	Props         string // further properties
	// Traits is the file a stand-in reads to know how this recovery behaves.
	Traits string
	size   int // bytes of its program
}

// The recoveries. Tideline is a third party's, with a root shell; the other
// two are plain.
var (
	Tideline = RecoveryKind{Name: "Tideline Recovery", Version: "3.1",
		Props:  "ro.debuggable=1\nro.secure=0\nro.adb.secure=0\n",
		Traits: "shell: true\nfastbootd: true\nclosing: honest\n",
		size:   2 << 20}
	SaltmarshRecovery = RecoveryKind{Name: "Saltmarsh Recovery", Version: "4.2",
		Props:  "ro.debuggable=0\nro.secure=1\nro.adb.secure=0\n",
		Traits: "shell: false\nfastbootd: true\nclosing: honest\nsignature: refuse\n",
		size:   1 << 20}
	StockRecovery = RecoveryKind{Name: "Wickerlight Recovery", Version: "9.1",
		Props:  "ro.debuggable=0\nro.secure=1\nro.adb.secure=0\n",
		Traits: "shell: false\nfastbootd: true\nclosing: honest\nsignature: refuse\n",
		size:   1 << 20}
)

// TraitsFile is where a recovery's ramdisk says how it behaves on a stand-in.
const TraitsFile = "standin/traits.yaml"

// Zip packs a payload and the metadata's text into an A/B package.
func Zip(meta string, body []byte) ([]byte, error) {
	sum := sha256.Sum256(body)
	props := fmt.Sprintf("FILE_HASH=%s\nFILE_SIZE=%d\n", base64.StdEncoding.EncodeToString(sum[:]), len(body))
	return pack(zip.Store, member{ota.PayloadName, body}, member{ota.PropertiesName, []byte(props)},
		member{ota.MetadataName, []byte(meta)})
}
