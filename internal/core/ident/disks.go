package ident

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/kernel"
	"jarlid/internal/core/spell"
)

// squashfs tells of a squashfs file system by its superblock (Documentation/filesystems/squashfs.rst
// and fs/squashfs/squashfs_fs.h). Its contents are not read.
func (f *File) squashfs(r io.ReaderAt, size int64) {
	f.Kind = SquashFS
	b, err := image.ReadAt("squashfs file system", r, size, 0, 96)
	if err != nil {
		f.damaged(err)
		return
	}
	le := binary.LittleEndian
	f.Details["block_size"], f.Details["version"] = le.Uint32(b[12:]), fmt.Sprintf("%d.%d", le.Uint16(b[28:]),
		le.Uint16(b[30:]))
	if used := le.Uint64(b[40:]); used > uint64(size) && !f.partial {
		f.damaged(image.Truncated("squashfs file system", 0, int64(min(used, 1<<62)), size))
	}
	f.footer(r, size)
}

// qcow2 tells of a virtual machine's disk (QEMU's docs/interop/qcow2.txt).
func (f *File) qcow2(r io.ReaderAt, size int64) {
	f.Kind = Qcow2
	b, err := image.ReadAt("qcow2 disk", r, size, 0, 32)
	if err != nil {
		f.damaged(err)
		return
	}
	f.Details["version"], f.Details["size"] = binary.BigEndian.Uint32(b[4:]), binary.BigEndian.Uint64(b[24:])
	f.Notes = append(f.Notes, "a phone does not take this form; convert it to a raw image first")
}

// iso tells of a disc's image: its first descriptor is in sector 16 of 2,048 bytes (ECMA-119, 7).
func (f *File) iso(r io.ReaderAt, size int64) bool {
	const at = 16 * 2048
	if f.partial || size < at+2048 {
		return false
	}
	b, err := image.ReadAt("disc", r, size, at, 72)
	if err != nil || string(b[1:6]) != "CD001" {
		return false
	}
	f.Kind = ISO
	f.Details["volume_name"] = string(bytes.TrimRight(b[40:72], " \x00"))
	return true
}

// hasTable tells of a disk's head: a GUID partition table behind the first sector of 512 or 4,096
// bytes (UEFI specification, 5.3), or a plain one (its mark 0x55aa, each entry's state 0 or 0x80, and
// one entry that has a kind and a length).
func hasTable(h []byte) bool {
	for _, sector := range []int{512, 4096} {
		if len(h) >= sector+8 && string(h[sector:sector+8]) == "EFI PART" {
			return true
		}
	}
	// A FAT file system, which radio firmware often is, ends its first sector with the same mark.
	if len(h) < 512 || h[510] != 0x55 || h[511] != 0xaa || string(h[54:57]) == "FAT" ||
		string(h[82:85]) == "FAT" {
		return false
	}
	used := false
	for i := range 4 {
		e := h[446+16*i:][:16]
		if e[0]&0x7f != 0 {
			return false
		}
		used = used || e[4] != 0 && binary.LittleEndian.Uint32(e[12:]) != 0
	}
	return used
}

func (f *File) disk(r io.ReaderAt, size int64) {
	f.Kind = Disk
	names := []string{}
	for _, sector := range []int64{512, 4096} {
		h, err := image.ReadAt("partition table", r, size, sector, 92)
		if err != nil || string(h[:8]) != "EFI PART" {
			continue
		}
		le := binary.LittleEndian
		at, n, each := le.Uint64(h[72:]), le.Uint32(h[80:]), le.Uint32(h[84:])
		const most = 1024
		for i := range min(n, most) {
			if each < 128 || each > 4096 || at > 1<<40 {
				break
			}
			e, err := image.ReadAt("partition table", r, size, int64(at)*sector+int64(i)*int64(each), 128)
			if err != nil {
				f.damaged(err)
				break
			}
			if image.IsZero(e[:16]) {
				continue
			}
			var name []rune
			for k := 56; k < 128; k += 2 {
				if c := le.Uint16(e[k:]); c != 0 {
					name = append(name, rune(c))
				}
			}
			names = append(names, string(name))
		}
		break
	}
	f.Details["partitions"] = names
	f.Notes = append(f.Notes, "writing a whole disk or its table to a phone destroys what is in it; single "+
		"partitions are what is flashed")
}

// kernelArchitecture tells a kernel's processor by the head of it; "" for what is none: of arm64 by the mark
// in its header (Documentation/arch/arm64/booting.rst), with or without the EFI stub's "MZ"; of arm that
// extracts itself by the mark of its program (arch/arm/boot/compressed/head.S); of x86 by that of its set-up
// header (Documentation/arch/x86/boot.rst).
func kernelArchitecture(h []byte) string {
	switch {
	case len(h) >= 60 && string(h[56:60]) == "ARMd":
		return "arm64"
	case len(h) >= 40 && binary.LittleEndian.Uint32(h[36:]) == 0x016f2818:
		return "arm"
	case len(h) >= 0x206 && string(h[0x202:0x206]) == "HdrS":
		return "x86"
	}
	return ""
}

func isKernel(h []byte) bool { return kernelArchitecture(h) != "" }

func (f *File) bareKernel(r io.ReaderAt, size int64) {
	f.Kind = Kernel
	h := make([]byte, 0x206)
	n, _ := r.ReadAt(h, 0)
	h = h[:n]
	f.Details["kernel_architecture"] = kernelArchitecture(h)
	if bytes.HasPrefix(h, []byte("MZ")) {
		f.Details["efi_stub"] = true
	}
	f.Notes = append(f.Notes, "a kernel alone is not flashed: it goes into a boot image")
	if f.partial {
		return // what it says of itself may lie anywhere in it
	}
	i, err := kernel.Read(r, size)
	if err != nil {
		f.Notes = append(f.Notes, "its version can't be read: "+spell.Error(err))
		return
	}
	f.Details["kernel_version"] = i.Version
	if i.Config != "" {
		f.Details["kernel_config_lines"] = strings.Count(i.Config, "\n") + 1
		f.Notes = append(f.Notes, "it carries the configuration it was built with; jarlid lift takes it out")
	}
}
