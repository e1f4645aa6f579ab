// Package scenario makes the made-up firmware of the demo scenario: recoveries,
// boot and system images and packages for the phones of the maker Wickerlight.
// Everything is the same bytes each time it is made.
package scenario

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/mikelolasagasti/xz"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/payload"
)

//go:embed images/*.xz
var images embed.FS

// OS is one build of a system.
type OS struct {
	Brand, Name, Version string // "Saltmarsh", "Saltmarsh OS", "4.2"
	Release, Patch       string // platform release and security patch level
	Build                string
}

// The systems of the scenario.
var (
	Stock     = OS{Brand: "Wickerlight", Name: "Wickerlight Stock", Version: "9.1", Release: "10", Patch: "2021-03-01", Build: "WL91.210301"}
	Saltmarsh = OS{Brand: "Saltmarsh", Name: "Saltmarsh OS", Version: "4.2", Release: "14", Patch: "2026-05-01", Build: "SM42.260512"}
)

// Fingerprint is the build's fingerprint on a phone.
func (o OS) Fingerprint(device string) string {
	return fmt.Sprintf("%s/%s/%s:%s/%s/1:user/release-keys", strings.ToLower(o.Brand), device, device, o.Release, o.Build)
}

// bytesOf gives n bytes that are the same for the same seed and do not
// compress.
func bytesOf(seed string, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8(sha256.Sum256([]byte(seed))).Read(b)
	return b
}

// template unpacks an embedded image, fills in its fields and the blocks that
// stand for bulk data.
func template(name, seed string, fields map[string]string) ([]byte, error) {
	f, err := images.Open("images/" + name + ".ext4.xz")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := xz.NewReader(f, 0)
	if err != nil {
		return nil, err
	}
	b, err := io.ReadAll(z)
	if err != nil {
		return nil, err
	}
	const field = 64
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
	for at := 0; at+block <= len(b); at += block {
		if bytes.Equal(b[at:at+block], mark) {
			src.Read(b[at : at+block])
		}
	}
	return b, nil
}

// Phone is what the images need to know of a phone.
type Phone struct{ Device, Model, ABI string }

// System makes a system image.
func System(o OS, p Phone) ([]byte, error) {
	return template("system", o.Build+p.Device, map[string]string{
		"DISPLAY": o.Name + " " + o.Version, "INCREMENTAL": o.Build, "RELEASE": o.Release, "PATCH": o.Patch,
		"FINGERPRINT": o.Fingerprint(p.Device), "BRAND": o.Brand, "DEVICE": p.Device, "MODEL": p.Model, "ABI": p.ABI})
}

// Vendor makes a vendor image.
func Vendor(o OS, p Phone) ([]byte, error) {
	return template("vendor", "vendor"+o.Build+p.Device, map[string]string{
		"DEVICE": p.Device, "FINGERPRINT": o.Fingerprint(p.Device)})
}

// EmptyData is an empty file system, what formatting the data leaves.
func EmptyData() ([]byte, error) { return template("data", "", nil) }

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
		if err := w.Add(cpio.Header{Name: strings.TrimSuffix(name, "/"), Mode: mode}, []byte(files[name])); err != nil {
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

// kernel makes bytes that begin like an arm64 kernel: its magic "ARMd" stands
// at offset 56 (Documentation/arm64/booting.rst).
func kernel(seed string, size int) []byte {
	b := bytesOf("kernel"+seed, size)
	copy(b[56:], "ARMd")
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

func bootImage(seed string, size int, o OS, rd []byte) ([]byte, error) {
	var major, year, month, day int
	fmt.Sscanf(o.Release, "%d", &major)
	fmt.Sscanf(o.Patch, "%d-%d-%d", &year, &month, &day)
	return boot.Build(boot.Image{HeaderVersion: 2, PageSize: 4096, KernelAddr: 0x00008000, RamdiskAddr: 0x01000000,
		TagsAddr: 0x100, DTBAddr: 0x01f00000, OSVersion: boot.PackOS(major, 0, 0, year, month),
		Cmdline: "console=ttyMSM0 androidboot.hardware=wickerlight"},
		boot.Parts{Kernel: kernel(seed, size), Ramdisk: rd, DTB: dtb()})
}

// Boot makes a boot image for the normal start.
func Boot(o OS, p Phone) ([]byte, error) {
	rd, err := ramdisk(map[string]string{"init": "#!init\n", "default.prop": "ro.product.device=" + p.Device + "\n"},
		"init", "default.prop", "first_stage.fstab")
	if err != nil {
		return nil, err
	}
	return bootImage(o.Build+p.Device, 6<<20, o, rd)
}

// RecoveryKind is one of the recoveries of the scenario.
type RecoveryKind struct {
	Name, Version string
	Props         string // further properties
	// Traits is the file a stand-in reads to know how this recovery behaves.
	Traits string
}

// The recoveries. Tideline is a third party's, with a root shell; the other
// two are plain.
var (
	Tideline = RecoveryKind{Name: "Tideline Recovery", Version: "3.1",
		Props: "ro.debuggable=1\nro.secure=0\nro.adb.secure=0\n", Traits: "shell: true\nclosing: honest\n"}
	SaltmarshRecovery = RecoveryKind{Name: "Saltmarsh Recovery", Version: "4.2",
		Props: "ro.debuggable=0\nro.secure=1\nro.adb.secure=0\n", Traits: "shell: false\nclosing: honest\n"}
	StockRecovery = RecoveryKind{Name: "Wickerlight Recovery", Version: "9.1",
		Props: "ro.debuggable=0\nro.secure=1\nro.adb.secure=0\n", Traits: "shell: false\nclosing: honest\n"}
)

// TraitsFile is where a recovery's ramdisk says how it behaves on a stand-in.
const TraitsFile = "standin/traits.yaml"

// Recovery makes a recovery image.
func Recovery(k RecoveryKind, p Phone) ([]byte, error) {
	props := fmt.Sprintf("ro.build.display.id=%s %s\nro.product.device=%s\nro.product.model=%s\nro.product.cpu.abi=%s\n%s",
		k.Name, k.Version, p.Device, p.Model, p.ABI, k.Props)
	rd, err := ramdisk(map[string]string{
		"init": "#!init\n", "prop.default": props, TraitsFile: k.Traits,
		"system/bin/recovery":        string(bytesOf(k.Name+k.Version, 2<<20)),
		"system/etc/recovery.fstab":  "/dev/block/by-name/userdata /data ext4 defaults formattable\n/dev/block/by-name/metadata /metadata ext4 defaults formattable\n",
		"system/etc/mkshrc":          "PS1='# '\n",
		"system/etc/ld.config.txt":   "dir.recovery = /system/bin\n",
		"system/etc/recovery.colors": "sand, mud, tide\n"},
		"init", "prop.default", "standin/", TraitsFile, "system/", "system/bin/", "system/bin/recovery", "system/etc/",
		"system/etc/recovery.fstab", "system/etc/mkshrc", "system/etc/ld.config.txt", "system/etc/recovery.colors")
	if err != nil {
		return nil, err
	}
	return bootImage(k.Name+k.Version+p.Device, 12<<20, Stock, rd)
}

// VBMeta makes a vbmeta image without descriptors and without a signature:
// the header of avb_vbmeta_image.h with algorithm NONE.
func VBMeta() []byte {
	b := make([]byte, 4096)
	copy(b, "AVB0")
	binary.BigEndian.PutUint32(b[4:], 1) // required libavb version 1.0
	copy(b[128:], "scenario 1.0")        // release string
	return b
}

// Package makes an A/B package with a full payload. recovery is an image to
// carry along, nil for none.
func Package(o OS, p Phone, recovery []byte) ([]byte, error) {
	bootImg, err := Boot(o, p)
	if err != nil {
		return nil, err
	}
	system, err := System(o, p)
	if err != nil {
		return nil, err
	}
	vendor, err := Vendor(o, p)
	if err != nil {
		return nil, err
	}
	parts := []payload.Source{{Name: "boot", Data: bootImg}, {Name: "system", Data: system},
		{Name: "vendor", Data: vendor}, {Name: "vbmeta", Data: VBMeta()}}
	if recovery != nil {
		parts = append(parts, payload.Source{Name: "recovery", Data: recovery})
	}
	built := time.Date(2026, 5, 12, 6, 30, 0, 0, time.UTC)
	var body bytes.Buffer
	if err := payload.Write(&body, built.Unix(), parts); err != nil {
		return nil, err
	}
	meta := fmt.Sprintf("ota-type=AB\npost-build=%s\npost-build-incremental=%s\npost-sdk-level=34\npost-security-patch-level=%s\npost-timestamp=%d\npre-device=%s\n",
		o.Fingerprint(p.Device), o.Build, o.Patch, built.Unix(), p.Device)
	return Zip(meta, body.Bytes())
}

// Zip packs a payload and the metadata's text into an A/B package.
func Zip(meta string, body []byte) ([]byte, error) {
	built := time.Date(2026, 5, 12, 6, 30, 0, 0, time.UTC)
	sum := sha256.Sum256(body)
	props := fmt.Sprintf("FILE_HASH=%s\nFILE_SIZE=%d\n", base64.StdEncoding.EncodeToString(sum[:]), len(body))
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, m := range []struct {
		name string
		body []byte
	}{{ota.PayloadName, body}, {ota.PropertiesName, []byte(props)}, {ota.MetadataName, []byte(meta)}} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: m.name, Method: zip.Store, Modified: built})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(m.body); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
