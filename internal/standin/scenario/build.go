package scenario

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"embed"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"maps"
	"slices"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/image/zipsig"
)

//go:embed keys/*.pem
var keys embed.FS

// Key gives the key of one of the made-up manufacturers: wickerlight, saltmarsh,
// tideline.
func Key(name string) (*rsa.PrivateKey, error) {
	b, err := keys.ReadFile("keys/" + name + ".pem")
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(b)
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	return k.(*rsa.PrivateKey), nil
}

// makeImages makes them again.
func makeImages(o OS, p Phone) (map[string][]byte, error) {
	set, err := bootImages(o, p, *o.recovery)
	if err != nil {
		return nil, err
	}
	makers := map[string]func(OS, Phone) ([]byte, error){"system": System}
	if p.VNDK != "" {
		makers["vendor"] = vendorImage
	}
	if p.Product {
		makers["product"] = productImage
	}
	for name, make := range makers {
		if set[name], err = make(o, p); err != nil {
			return nil, err
		}
	}
	if home := p.RecoveryPartition(); set[home] == nil && o.Brand == Stock.Brand {
		if set[home], err = Recovery(*o.recovery, p); err != nil {
			return nil, err
		}
	}
	if p.Radio != "" && o.Brand == Stock.Brand {
		set["radio"] = Radio(p.Device, p.Radio)
	}
	// A third party's system leaves its trees unenforced, so that add-ons can be
	// put into it.
	flags := uint32(0)
	if o.Brand != Stock.Brand {
		flags = vbmeta.FlagHashtreeDisabled
	}
	return set, seal(set, o, p, flags)
}

// RadioMagic begins the made-up radio firmware; its version follows, ended by
// a zero byte.
const RadioMagic = "WLRADIO1"

// Radio makes radio firmware.
func Radio(device, version string) []byte {
	b := bytesOf("radio"+device+version, bulk(1<<20))
	copy(b, RadioMagic+version+"\x00")
	return b
}

// Overlays makes a table of device tree overlays (the platform's dt_table.h)
// with one empty entry; who is the name of the manufacturer's mark in it.
func Overlays(who string) []byte {
	tree := dtb()
	be := binary.BigEndian
	var b []byte
	for _, v := range []uint32{0xd7b7ab1e, uint32(64 + len(tree) + 64), 32, 32, 1, 32, 4096, 0,
		uint32(len(tree)), 64, 0, 0, 0, 0, 0, 0} {
		b = be.AppendUint32(b, v)
	}
	mark := make([]byte, 64)
	copy(mark, who)
	return append(append(b, tree...), mark...)
}

// hashed are the partitions verified as a whole, trees those verified block by
// block; vbmeta_system answers for the system's own where the phone has it.
var (
	hashed = []string{"boot", "init_boot", "vendor_boot", "dtbo", "recovery", "lifeboat"}
	trees  = []string{"system", "product", "vendor"}
)

// seal works out the hash trees of a set's images, appends them, and adds the
// vbmeta images that answer for them, signed with the key of o, with the given
// flags in the top one.
func seal(set map[string][]byte, o OS, p Phone, flags uint32) error {
	if p.VerifiedBoot == "none" {
		return nil
	}
	key, err := Key(o.key)
	if err != nil {
		return err
	}
	var top, system []vbmeta.Descriptor
	for _, name := range hashed {
		if b, ok := set[name]; ok {
			salt := sha256.Sum256([]byte("salt " + name))
			h := sha256.New()
			h.Write(salt[:])
			h.Write(b)
			top = append(top, vbmeta.Descriptor{Tag: vbmeta.TagHash, PartitionName: name,
				ImageSize: uint64(len(b)), HashAlgorithm: "sha256", Salt: salt[:], Digest: h.Sum(nil)})
		}
	}
	for _, name := range trees {
		b, ok := set[name]
		if !ok {
			continue
		}
		salt := sha256.Sum256([]byte("salt " + name))
		d := vbmeta.Descriptor{Tag: vbmeta.TagHashtree, DMVerityVersion: 1, PartitionName: name,
			ImageSize: uint64(len(b)), TreeOffset: uint64(len(b)),
			DataBlockSize: 4096, HashBlockSize: 4096, HashAlgorithm: "sha256", Salt: salt[:]}
		tree, root, err := vbmeta.BuildHashtree(context.Background(), &d, bytes.NewReader(b))
		if err != nil {
			return err
		}
		d.TreeSize, d.Digest = uint64(len(tree)), root
		set[name] = append(b[:len(b):len(b)], tree...)
		if p.VerifiedBoot == "chained" && name != "vendor" {
			system = append(system, d)
		} else {
			top = append(top, d)
		}
	}
	if len(system) > 0 {
		top = append(top, vbmeta.Descriptor{Tag: vbmeta.TagChain, PartitionName: "vbmeta_system",
			RollbackIndexLocation: 1, PublicKey: vbmeta.EncodeKey(&key.PublicKey)})
		if set["vbmeta_system"], err = vbmetaImage(system, o, 0, key); err != nil {
			return err
		}
	}
	set["vbmeta"], err = vbmetaImage(top, o, flags, key)
	return err
}

func vbmetaImage(d []vbmeta.Descriptor, o OS, flags uint32, key *rsa.PrivateKey) ([]byte, error) {
	b, err := vbmeta.Build(&vbmeta.Image{AlgorithmType: 1, RollbackIndex: o.Rollback, Flags: flags,
		ReleaseString: "scenario 1.0", Descriptors: d}, key)
	return append(b, make([]byte, image.Align(int64(len(b)), 4096)-int64(len(b)))...), err
}

func osVersion(o OS) uint32 {
	var major, year, month, day int
	_, _ = fmt.Sscanf(o.Release, "%d", &major)
	_, _ = fmt.Sscanf(o.Patch, "%d-%d-%d", &year, &month, &day)
	return boot.PackOS(major, 0, 0, year, month)
}

// bootImage makes a boot image as the phone's bootloader needs it; normal says that it
// starts the system, and not a recovery alone.
func bootImage(seed string, size int, o OS, p Phone, rd []byte, normal bool) ([]byte, error) {
	seed += p.Device
	if p.Home == "vendor_boot" {
		return boot.Build(boot.Image{HeaderVersion: 4, OSVersion: osVersion(o)},
			boot.Parts{Kernel: kernel(seed, p, size), Ramdisk: rd})
	}
	m := boot.Image{HeaderVersion: 2, PageSize: 4096, KernelAddr: 0x00008000, RamdiskAddr: 0x01000000,
		TagsAddr:  0x100,
		DTBAddr:   0x01f00000,
		OSVersion: osVersion(o),
		Cmdline:   "console=ttyMSM0 androidboot.hardware=wickerlight"}
	parts := boot.Parts{Kernel: kernel(seed, p, size), Ramdisk: rd, DTB: dtb()}
	if p.KernelMounts && normal {
		m.Cmdline += " skip_initramfs root=/dev/mmcblk0p21"
	}
	if p.VerifiedBoot == "none" { // an old one
		m.HeaderVersion, m.PageSize, parts.DTB = 0, 2048, nil
	}
	return boot.Build(m, parts)
}

// Boot makes the image for the partition boot: what a normal start needs, and
// on phones that keep their recovery there also that.
func Boot(o OS, p Phone) ([]byte, error) {
	set, err := bootImages(o, p, *o.recovery)
	return set["boot"], err
}

// bootImages makes everything that is started: boot, and where the phone has
// them init_boot, vendor_boot and dtbo.
func bootImages(o OS, p Phone, r RecoveryKind) (map[string][]byte, error) {
	set := map[string][]byte{}
	if p.Overlays {
		set["dtbo"] = Overlays(o.Brand)
	}
	props := "ro.product.device=" + p.Device + "\n"
	if p.Radio != "" && o.Brand != Stock.Brand {
		props += "ro.wickerlight.radio.min=" + p.Radio[:1] + ".0\n"
	}
	files := map[string]string{"init": "#!init\n", "default.prop": props}
	order := []string{"init", "default.prop", "first_stage.fstab"}
	size := 3 << 20
	if p.System != "" {
		size = 2 << 20
	}
	if p.Home == "boot" {
		if err := addRecovery(files, &order, r, p); err != nil {
			return nil, err
		}
		order = append(order, "first_stage_ramdisk/", "first_stage_ramdisk/fstab.wickerlight")
	}
	rd, err := ramdisk(files, order...)
	if err != nil {
		return nil, err
	}
	if p.Home != "vendor_boot" {
		set["boot"], err = bootImage(o.Build, size, o, p, rd, true)
		return set, err
	}
	if set["boot"], err = bootImage(o.Build, size, o, p, nil, true); err != nil {
		return nil, err
	}
	if set["init_boot"], err = boot.Build(boot.Image{HeaderVersion: 4, OSVersion: osVersion(o)},
		boot.Parts{Ramdisk: rd}); err != nil {
		return nil, err
	}
	set["vendor_boot"], err = vendorBoot(o, p, r)
	return set, err
}

func vendorBoot(o OS, p Phone, r RecoveryKind) ([]byte, error) {
	platform, err := ramdisk(
		map[string]string{"first_stage_ramdisk/fstab.wickerlight": "system /system ext4 ro " +
			"wait,slotselect,avb,logical,first_stage_mount\n",
			"lib/modules/waders.ko": string(bytesOf("modules"+o.Build+p.Device, 256<<10))},
		"first_stage_ramdisk/", "first_stage_ramdisk/fstab.wickerlight", "lib/", "lib/modules/",
		"lib/modules/waders.ko")
	if err != nil {
		return nil, err
	}
	files, order := map[string]string{}, []string(nil)
	if err := addRecovery(files, &order, r, p); err != nil {
		return nil, err
	}
	rec, err := ramdisk(files, order...)
	if err != nil {
		return nil, err
	}
	return boot.BuildVendor(boot.Vendor{HeaderVersion: 4, PageSize: 4096, KernelAddr: 0x8000,
		RamdiskAddr: 0x01000000, TagsAddr: 0x100, DTBAddr: 0x01f00000,
		Name: "wickerlight", Cmdline: "console=ttyMSM0 androidboot.hardware=wickerlight"},
		[]boot.FragmentParts{{Type: boot.FragmentPlatform, Data: platform}, {Type: boot.FragmentRecovery,
			Name: "recovery", Data: rec}}, dtb(), []byte("androidboot.boot_devices=soc/1d84000.ufshc\n"))
}

// addRecovery puts a recovery among a ramdisk's files.
func addRecovery(files map[string]string, order *[]string, k RecoveryKind, p Phone) error {
	if p.Home == "boot" && k.Name == Tideline.Name {
		// Built for a device tree of its own: the pre-image.
		k.Traits += "needs: {dtbo: Tideline}\n"
	}
	more := map[string]string{
		"prop.default": fmt.Sprintf(
			"ro.build.display.id=%s %s\nro.product.device=%s\nro.product.model=%s\nro.product.cpu.abi=%s\n%s",
			k.Name, k.Version, p.Device, p.Model, p.ABI, k.Props),
		TraitsFile:            k.Traits,
		"system/bin/recovery": string(bytesOf(k.Name+k.Version, max(bulk(k.size), 64<<10))),
		"system/etc/recovery.fstab": "/dev/block/by-name/userdata /data ext4 defaults " +
			"formattable\n/dev/block/by-name/metadata /metadata ext4 defaults formattable\n",
		"system/etc/mkshrc": "PS1='# '\n",
	}
	maps.Copy(files, more)
	*order = append(*order, "prop.default", "standin/", TraitsFile, "system/", "system/bin/",
		"system/bin/recovery", "system/etc/",
		"system/etc/recovery.fstab", "system/etc/mkshrc")
	if names := k.trusted(); len(names) > 0 {
		ring, err := keyring(names...)
		if err != nil {
			return err
		}
		files[zipsig.KeysFile] = string(ring)
		*order = append(*order, "system/etc/security/", zipsig.KeysFile)
	}
	return nil
}

// Recovery makes a recovery as it is written to the phone's RecoveryPartition.
func Recovery(k RecoveryKind, p Phone) ([]byte, error) {
	switch p.Home {
	case "boot":
		set, err := bootImages(Stock, p, k)
		return set["boot"], err
	case "vendor_boot":
		return vendorBoot(Stock, p, k)
	}
	files, order := map[string]string{"init": "#!init\n"}, []string{"init"}
	if err := addRecovery(files, &order, k, p); err != nil {
		return nil, err
	}
	rd, err := ramdisk(files, order...)
	if err != nil {
		return nil, err
	}
	size := 6 << 20
	if p.System != "" {
		size = 3 << 20
	}
	return bootImage(k.Name+k.Version, size, Stock, p, rd, false)
}

// Package makes an A/B package with a full payload. recovery is an image for
// the recovery partition to carry along, nil for none.
func Package(o OS, p Phone, recovery []byte) ([]byte, error) {
	if recovery != nil {
		return makePackage(o, p, recovery)
	}
	return packages.get(what{"ab", o, p}, func() ([]byte, error) { return makePackage(o, p, nil) })
}

func makePackage(o OS, p Phone, recovery []byte) ([]byte, error) {
	set, err := Images(o, p)
	if err != nil {
		return nil, err
	}
	if recovery != nil {
		set[p.RecoveryPartition()] = recovery
	}
	var parts []payload.Source
	for _, name := range slices.Sorted(maps.Keys(set)) {
		parts = append(parts, payload.Source{Name: name, Data: set[name]})
	}
	var body bytes.Buffer
	if err := payload.Write(&body, when.Unix(), parts); err != nil {
		return nil, err
	}
	meta := fmt.Sprintf(
		"ota-type=AB\npost-build=%s\npost-build-incremental=%s\npost-sdk-level=%s\npost-security-patch-leve"+
			"l=%s\npost-timestamp=%d\npre-device=%s\n",
		o.Fingerprint(p.Device), o.Build, o.SDK, o.Patch, when.Unix(), p.Device)
	pkg, err := Zip(meta, body.Bytes())
	if err != nil {
		return nil, err
	}
	return sign(pkg, o.key)
}

// FirmwareSet makes a zip of all images of the manufacturer's build with the
// platform's two manifests: android-info.txt (what it demands of the phone) and,
// for phones with logical partitions, fastboot-info.txt (the order).
func FirmwareSet(p Phone) ([]byte, error) {
	return packages.get(what{"set", Stock, p}, func() ([]byte, error) { return makeFirmwareSet(p) })
}

func makeFirmwareSet(p Phone) ([]byte, error) {
	set, err := Images(Stock, p)
	if err != nil {
		return nil, err
	}
	info := "require product=" + p.Device + "\n"
	if p.Radio != "" {
		info += "require version-bootloader=1.4|1.5\n"
	}
	files := []member{{"android-info.txt", []byte(info)}}
	if p.Product {
		order := []string{"version 1"}
		for _, name := range []string{"boot", "init_boot", "dtbo", "vendor_boot", "radio", "vbmeta_system",
			"vbmeta"} {
			order = append(order, "flash "+name)
		}
		order = append(order, "reboot fastboot", "flash product", "flash system", "flash vendor")
		files = append(files, member{"fastboot-info.txt", []byte(strings.Join(order, "\n") + "\n")})
	}
	for _, name := range slices.Sorted(maps.Keys(set)) {
		files = append(files, member{name + ".img", set[name]})
	}
	return pack(zip.Deflate, files...)
}
