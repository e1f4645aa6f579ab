package ident

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/image/wrap"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/spell"
)

// sniffer is one line of the recognition table.
type sniffer struct {
	is   func(head []byte) bool
	read func(f *File, r io.ReaderAt, size int64)
}

func prefix(s string) func([]byte) bool {
	return func(head []byte) bool { return bytes.HasPrefix(head, []byte(s)) }
}

func word(magic uint32) func([]byte) bool {
	return func(h []byte) bool { return len(h) >= 4 && binary.LittleEndian.Uint32(h) == magic }
}

// holds recognises a file system; its kind has its name.
func holds(k Kind) func([]byte) bool { return filesystem.Named(string(k)).Is }

// sniffers is the recognition table: the first line that fits counts. Magic
// numbers that stand behind the start come last.
var sniffers []sniffer

func init() {
	const (
		fdtMagic     = 0xedfe0dd0 // d00dfeed in big-endian: devicetree specification, chapter 5
		dtTableMagic = 0x1eabb7d7 // d7b7ab1e in big-endian: the platform's dt_table.h
	)
	sniffers = []sniffer{
		{prefix(boot.Magic), (*File).boot},
		{prefix(boot.VendorMagic), (*File).vendorBoot},
		{prefix(vbmeta.Magic), (*File).vbmeta},
		{prefix(payload.Magic), (*File).payload},
		{word(sparse.Magic), (*File).sparse},
		{word(fdtMagic), (*File).dtb},
		{word(dtTableMagic), (*File).dtbo},
		{prefix("PK\x03\x04"), (*File).zip},
		{prefix("PK\x05\x06"), (*File).zip},
		{prefix("7z\xbc\xaf\x27\x1c"), (*File).sevenZip},
		{func(h []byte) bool { return wrap.Detect(h) != wrap.None }, (*File).wrapped},
		{func(h []byte) bool { return len(h) >= 265 && string(h[257:262]) == "ustar" }, (*File).tar},
		{prefix(cpio.Magic), (*File).looseRamdisk},
		{prefix(cpio.MagicSum), (*File).looseRamdisk},
		{holds(SquashFS), (*File).squashfs},
		{prefix("QFI\xfb"), (*File).qcow2},
		{isKernel, (*File).bareKernel},
		{holds(EROFS), (*File).erofs},
		{holds(F2FS), func(f *File, _ io.ReaderAt, size int64) {
			f.Kind = F2FS
			f.footer(nil, 0)
			f.fileSystem("", nil)
		}},
		{holds(Ext4), (*File).ext4},
		{super.IsMagic, (*File).super},
		{hasTable, (*File).disk},
		{isOldTar, (*File).tar},
	}
}

// footer reads the verified boot footer and what it says: the strongest
// source of where an image belongs.
func (f *File) footer(r io.ReaderAt, size int64) {
	if r == nil || f.partial {
		return
	}
	ft, ok, err := vbmeta.ParseFooter(r, size)
	if err != nil { // its magic is there
		f.Notes = append(f.Notes, "its verified boot footer says what can't be: "+spell.Error(err))
	}
	if err != nil || !ok {
		return
	}
	m, err := vbmeta.Parse(io.NewSectionReader(r, ft.VBMetaOffset, ft.VBMetaSize), ft.VBMetaSize)
	if err != nil {
		f.damaged(err)
		return
	}
	avb := map[string]any{"original_image_size": ft.OriginalImageSize, "vbmeta_offset": ft.VBMetaOffset,
		"vbmeta_size":    ft.VBMetaSize,
		"algorithm_type": vbmeta.Algorithms[m.AlgorithmType].Name, "rollback_index": m.RollbackIndex}
	if len(m.PublicKey) > 0 {
		avb["public_key_sha256"] = vbmeta.Fingerprint(m.PublicKey)
	}
	for i, d := range m.Descriptors {
		if d.Tag == vbmeta.TagHashtree {
			f.Tree = &m.Descriptors[i]
		}
		if d.PartitionName != "" && (d.Tag == vbmeta.TagHash || d.Tag == vbmeta.TagHashtree) {
			avb["partition_name"], avb["descriptor"] = d.PartitionName, vbmeta.TagNames[d.Tag]
			f.goes(d.PartitionName, "both", "avb-footer",
				"its verified boot footer was made for the partition "+d.PartitionName)
		}
	}
	f.Details["avb_footer"] = avb
}

func (f *File) boot(r io.ReaderAt, size int64) {
	f.Kind = Boot
	m, err := boot.Parse(r, size)
	f.damaged(err)
	if m == nil {
		return
	}
	f.Boot = m
	f.Details["header_version"] = m.HeaderVersion
	f.Details["page_size"] = m.PageSize
	for _, s := range m.Sections {
		f.Details[s.Name+"_size"] = s.Size
	}
	if m.Cmdline != "" {
		f.Details["cmdline"] = m.Cmdline
	}
	if v, patch := m.OS(); v != "" {
		f.Details["os_version"], f.Details["os_patch_level"] = v, patch
	}
	if s := m.Section("ramdisk"); s.Size > 0 && err == nil {
		rd, err := boot.ReadRamdisk(m.Open(r, "ramdisk"), zipsig.KeysFiles...)
		var form *boot.FormError
		if errors.As(err, &form) { // whether it is a recovery is unknown, and so is where it goes
			f.Notes = append(f.Notes, form.Error())
			f.footer(r, size)
			return
		}
		f.damaged(err)
		if rd != nil {
			f.ramdisk(rd)
		}
	}
	if s := m.Section("kernel"); s.Size > 0 && err == nil {
		f.kernel(m.Open(r, "kernel"))
	}
	f.footer(r, size)
	part, why := "boot", "it is a boot image without a recovery inside"
	switch {
	case m.Section("kernel").Size == 0 && m.HeaderVersion >= 4 && f.Kind != Recovery:
		f.Kind, part, why = InitBoot, "init_boot", "it holds the first ramdisk and no kernel"
	case f.Kind == Recovery:
		part, why = "recovery", "its ramdisk holds a recovery and nothing for a normal start"
	case f.Kind == BootWithRecovery:
		why = "its ramdisk serves the normal start and the recovery"
	}
	if len(f.GoesTo) == 0 {
		f.goes(part, "both", "content", why)
	}
}

// looseRamdisk reads a ramdisk that is in no boot image.
func (f *File) looseRamdisk(r io.ReaderAt, size int64) {
	f.Kind = Ramdisk
	rd, err := boot.ReadRamdisk(io.NewSectionReader(r, 0, size))
	f.damaged(err)
	if rd == nil {
		return
	}
	f.Details["ramdisk_files"], f.Props = rd.Files, rd.Props
	what := "a normal start"
	if rd.Recovery {
		what = "a recovery"
	}
	f.properties()
	f.Notes = append(f.Notes, "it is for "+what+", and goes to a phone within a boot image")
}

func (f *File) ramdisk(rd *boot.Ramdisk) {
	f.Ramdisk, f.Props = rd, rd.Props
	f.Details["ramdisk_compression"] = string(rd.Compression)
	f.Details["ramdisk_files"] = rd.Files
	if rd.Recovery {
		f.Kind = Recovery
		if rd.NormalStart {
			f.Kind = BootWithRecovery
		}
	}
	f.properties()
}

// properties puts what the build inside says into the details.
func (f *File) properties() {
	for name, v := range map[string]string{"device": DeviceOf(f.Props), "build": BuildOf(f.Props),
		"model": firstOf(f.Props, "ro.product.model", "ro.product.system.model",
			"ro.product.vendor.model"),
		"release": firstOf(f.Props, "ro.build.version.release", "ro.system.build.version.release",
			"ro.vendor.build.version.release"),
		"security_patch": firstOf(f.Props, "ro.build.version.security_patch",
			"ro.vendor.build.security_patch"),
		"fingerprint": firstOf(f.Props, "ro.build.fingerprint", "ro.system.build.fingerprint",
			"ro.vendor.build.fingerprint"),
		"architecture": firstOf(f.Props, "ro.product.cpu.abi", "ro.system.product.cpu.abilist",
			"ro.product.cpu.abilist", "ro.vendor.product.cpu.abilist")} {
		if v != "" {
			f.Details[name] = v
		}
	}
}

// kernel checks the head of a kernel, extracted where it is compressed, for
// its version and processor.
func (f *File) kernel(r *io.SectionReader) {
	limit := int64(512 << 10)
	if f.opt.Deep {
		limit = 256 << 20
	}
	head := make([]byte, 64)
	n, _ := r.ReadAt(head, 0)
	head = head[:n]
	kind := wrap.Detect(head)
	z, err := wrap.NewReader(kind, io.NewSectionReader(r, 0, r.Size()))
	if err != nil {
		return
	}
	defer z.Close()
	if kind != wrap.None {
		f.Details["kernel_compression"] = string(kind)
	}
	// Read in pieces that overlap, so that the text is found across an edge.
	const mark, most = "Linux version ", 256
	var tail []byte
	buf := make([]byte, 64<<10)
	for at := int64(0); at < limit; {
		n, err := io.ReadFull(z, buf)
		b := append(tail, buf[:n]...)
		if at == 0 {
			if a := kernelArchitecture(b); a != "" {
				f.Details["kernel_architecture"] = a
			}
		}
		if i := bytes.Index(b, []byte(mark)); i >= 0 && len(b)-i > len(mark)+1 {
			version, _, _ := strings.Cut(strings.ToValidUTF8(string(b[i+len(mark):min(len(b), i+most)]), "?"),
				" ")
			if version != "" && version[0] >= '0' && version[0] <= '9' {
				f.Details["kernel_version"] = version
				return
			}
		}
		if err != nil {
			return
		}
		at += int64(n)
		tail = bytes.Clone(b[max(0, len(b)-most):])
	}
}

func (f *File) vendorBoot(r io.ReaderAt, size int64) {
	f.Kind = VendorBoot
	m, err := boot.ParseVendor(r, size)
	f.damaged(err)
	if m == nil {
		return
	}
	f.Vendor = m
	f.Details["header_version"], f.Details["page_size"] = m.HeaderVersion, m.PageSize
	for _, s := range m.Sections {
		f.Details[s.Name+"_size"] = s.Size
	}
	if m.Cmdline != "" {
		f.Details["vendor_cmdline"] = m.Cmdline
	}
	frags := []map[string]any{}
	for _, fr := range m.Fragments {
		frags = append(frags, map[string]any{
			"ramdisk_name": fr.Name,
			"ramdisk_type": boot.FragmentTypes[fr.Type],
			"ramdisk_size": fr.Size,
		})
		if err != nil {
			continue
		}
		rd, err := boot.ReadRamdisk(io.NewSectionReader(r, fr.Offset, fr.Size), zipsig.KeysFiles...)
		var form *boot.FormError
		if errors.As(err, &form) {
			f.Notes = append(f.Notes, fmt.Sprintf("its ramdisk %q: %v", fr.Name, form))
			continue
		}
		f.damaged(err)
		if rd != nil && f.Props == nil && DeviceOf(rd.Props) != "" {
			f.Props = rd.Props
		}
	}
	f.properties()
	f.Details["vendor_ramdisk_table"] = frags
	f.footer(r, size)
	if len(f.GoesTo) > 0 && f.GoesTo[0].Partition == "vendor_kernel_boot" {
		f.Kind = VendorKernelBoot
		return
	}
	if len(f.GoesTo) == 0 {
		part := "vendor_boot"
		// Both are of one form; only kernel modules inside tell them apart.
		if len(m.Fragments) == 1 && m.Fragments[0].Type == boot.FragmentDLKM && m.HeaderVersion == 4 {
			f.Kind, part = VendorKernelBoot, "vendor_kernel_boot"
		}
		f.goes(part, "both", "content", "it is "+f.Kind.Words())
	}
}

func (f *File) vbmeta(r io.ReaderAt, size int64) {
	f.Kind = VBMeta
	m, err := vbmeta.Parse(r, size)
	f.damaged(err)
	if m == nil {
		return
	}
	f.VBMeta = m
	f.Details["algorithm_type"] = vbmeta.Algorithms[m.AlgorithmType].Name
	f.Details["rollback_index"], f.Details["flags"], f.Details["release_string"] = m.RollbackIndex, m.Flags,
		m.ReleaseString
	if len(m.PublicKey) > 0 {
		f.Details["public_key_sha256"] = vbmeta.Fingerprint(m.PublicKey)
	}
	var about []string
	for _, d := range m.Descriptors {
		if d.PartitionName != "" {
			about = append(about, d.PartitionName)
		}
	}
	f.Details["partition_names"] = about
	part, why := "vbmeta", "it is a vbmeta image"
	if p := partitionByName(f.Path); strings.HasPrefix(p, "vbmeta_") {
		part, why = p, "it is a vbmeta image, and the file's name says which"
	}
	f.goes(part, "both", "content", why)
}

func (f *File) dtb(r io.ReaderAt, size int64) {
	f.Kind = DTB
	f.goes("dtb", "both", "content", "it is a device tree")
}

func (f *File) dtbo(r io.ReaderAt, size int64) {
	f.Kind = DTBO
	h, err := image.ReadAt("device tree table", r, size, 0, 32)
	if err != nil {
		f.damaged(err)
		return
	}
	be := binary.BigEndian
	f.Details["total_size"], f.Details["dt_entry_count"], f.Details["page_size"], f.Details["version"] =
		be.Uint32(h[4:]), be.Uint32(h[16:]), be.Uint32(h[24:]), be.Uint32(h[28:])
	if total := int64(be.Uint32(h[4:])); total > size {
		f.damaged(image.Truncated("device tree table", 0, total, size))
	}
	f.footer(r, size)
	if len(f.GoesTo) == 0 {
		f.goes("dtbo", "both", "content", "it is a table of device tree overlays")
	}
}

func (f *File) super(r io.ReaderAt, size int64) {
	f.Kind = Super
	m, err := super.Parse(r, size, 0)
	f.damaged(err)
	if m == nil {
		return
	}
	f.Details["metadata_slot_count"], f.Details["major_version"], f.Details["minor_version"] = m.SlotCount,
		m.Major, m.Minor
	if m.Backup {
		f.Notes = append(f.Notes, "its primary metadata is damaged; the backup was read")
	}
	parts := []map[string]any{}
	for i := range m.Partitions {
		p := &m.Partitions[i]
		parts = append(parts, map[string]any{"name": p.Name, "size": p.Size(), "group_name": p.Group})
		f.Members = append(f.Members, Member{Name: p.Name, Size: p.Size()})
	}
	f.Details["partitions"] = parts
	f.goes("super", "", "content", "it holds dynamic partitions' metadata")
}

func (f *File) sparse(r io.ReaderAt, size int64) {
	f.Wrapped = append(f.Wrapped, "sparse")
	s, err := sparse.NewReader(r, size)
	if err != nil {
		f.damaged(err)
		return
	}
	f.Inside = s.Size()
	if f.partial {
		// The chunk headers lie all over a file that can only be read from its
		// start; the first one is all there is.
		f.fromStream(sparse.Stream(r, 1<<62), s.Size())
		return
	}
	v, err := sparse.NewView(r, size)
	if err != nil {
		f.damaged(err)
		return
	}
	if joined, ok := f.pieces(); ok {
		if joined == nil {
			return
		}
		v = joined
	}
	f.deeper(v, v.Size())
}

func (f *File) payload(r io.ReaderAt, size int64) {
	f.Kind = Payload
	p, err := payload.Parse(r, size)
	f.damaged(err)
	if p != nil {
		f.tellPayload(p)
	}
}

func (f *File) tellPayload(p *payload.Payload) {
	f.Payload = p
	f.Details["payload_version"], f.Details["block_size"], f.Details["delta"] = p.Version, p.BlockSize,
		p.Delta()
	if p.MaxTimestamp > 0 {
		f.Details["max_timestamp"] = p.MaxTimestamp
	}
	parts := []map[string]any{}
	for _, part := range p.Partitions {
		parts = append(parts, map[string]any{"name": part.Name, "size": part.Size})
		f.Members = append(f.Members, Member{Name: part.Name, Size: int64(part.Size)})
		f.goes(part.Name, "other", "content", "the payload writes it to the slot that is not running")
	}
	f.Details["partitions"] = parts
}

// deeper takes one wrapping off.
func (f *File) deeper(r io.ReaderAt, size int64) {
	if f.depth++; f.depth > maxDepth {
		f.damaged(fmt.Errorf("it is wrapped more than %d times", maxDepth))
		return
	}
	f.look(r, size)
}
