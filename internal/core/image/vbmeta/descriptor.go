package vbmeta

import (
	"encoding/binary"

	"jarlid/internal/core/image"
)

// Tags of descriptors (AvbDescriptorTag).
const (
	TagProperty = 0
	TagHashtree = 1
	TagHash     = 2
	TagCmdline  = 3
	TagChain    = 4
)

// Descriptor is one statement about a partition, or a property. Which fields
// count depends on the tag; names follow the descriptors' headers.
type Descriptor struct {
	Tag           uint64
	PartitionName string
	Flags         uint32

	// Hash and hashtree.
	ImageSize     uint64 // bytes
	HashAlgorithm string
	Salt, Digest  []byte // Digest: of the image, or the root of its tree

	// Hashtree.
	DMVerityVersion              uint32
	TreeOffset, TreeSize         uint64 // bytes
	DataBlockSize, HashBlockSize uint32 // bytes
	FECNumRoots                  uint32
	FECOffset, FECSize           uint64 // bytes

	// Property; of a kernel command line Value alone.
	Key, Value string

	// Chain partition.
	RollbackIndexLocation uint32
	PublicKey             []byte

	// Raw is the descriptor's body as it is in the image, so that unknown
	// ones can be kept.
	Raw []byte
}

// TagNames are the tags in words.
var TagNames = map[uint64]string{TagProperty: "property", TagHashtree: "hashtree", TagHash: "hash",
	TagCmdline: "kernel_cmdline", TagChain: "chain_partition"}

// parseDescriptors reads the list in b, which begins at offset at.
func parseDescriptors(b []byte, at int64) ([]Descriptor, error) {
	be := binary.BigEndian
	var list []Descriptor
	for len(b) > 0 {
		if len(b) < 16 {
			return nil, image.Errorf(formatName, at, "%d bytes are left where a descriptor begins", len(b))
		}
		n := be.Uint64(b[8:])
		if n%8 != 0 || n > uint64(len(b)-16) {
			return nil, image.Errorf(formatName, at+8,
				"a descriptor of %d bytes does not fit the %d that are left", n, len(b)-16)
		}
		d := Descriptor{Tag: be.Uint64(b), Raw: b[16 : 16+n]}
		if !d.parse() {
			return nil, image.Errorf(formatName, at, "the parts of the %s descriptor go beyond its %d bytes",
				TagNames[d.Tag], n)
		}
		list = append(list, d)
		b, at = b[16+n:], at+16+int64(n)
	}
	return list, nil
}

// cut takes pieces of the given lengths off b, one behind the other.
func cut(b []byte, lengths ...uint64) (pieces [][]byte, ok bool) {
	for _, n := range lengths {
		if n > uint64(len(b)) {
			return nil, false
		}
		pieces = append(pieces, b[:n])
		b = b[n:]
	}
	return pieces, true
}

func (d *Descriptor) parse() bool {
	be := binary.BigEndian
	b := d.Raw
	u32 := func(at int) uint64 { return uint64(be.Uint32(b[at:])) }
	switch d.Tag {
	case TagProperty:
		if len(b) < 16 {
			return false
		}
		k, v := be.Uint64(b), be.Uint64(b[8:])
		if k > uint64(len(b)) || v > uint64(len(b)) {
			return false
		}
		p, ok := cut(b[16:], k, 1, v, 1)
		if ok {
			d.Key, d.Value = string(p[0]), string(p[2])
		}
		return ok
	case TagHashtree:
		if len(b) < 164 {
			return false
		}
		d.DMVerityVersion, d.ImageSize, d.TreeOffset, d.TreeSize = be.Uint32(b), be.Uint64(b[4:]),
			be.Uint64(b[12:]), be.Uint64(b[20:])
		d.DataBlockSize, d.HashBlockSize, d.FECNumRoots = be.Uint32(b[28:]), be.Uint32(b[32:]),
			be.Uint32(b[36:])
		d.FECOffset, d.FECSize, d.HashAlgorithm, d.Flags = be.Uint64(b[40:]), be.Uint64(b[48:]),
			cstring(b[56:88]), be.Uint32(b[100:])
		p, ok := cut(b[164:], u32(88), u32(92), u32(96))
		if ok {
			d.PartitionName, d.Salt, d.Digest = string(p[0]), p[1], p[2]
		}
		return ok
	case TagHash:
		if len(b) < 116 {
			return false
		}
		d.ImageSize, d.HashAlgorithm, d.Flags = be.Uint64(b), cstring(b[8:40]), be.Uint32(b[52:])
		p, ok := cut(b[116:], u32(40), u32(44), u32(48))
		if ok {
			d.PartitionName, d.Salt, d.Digest = string(p[0]), p[1], p[2]
		}
		return ok
	case TagCmdline:
		if len(b) < 8 {
			return false
		}
		d.Flags = be.Uint32(b)
		p, ok := cut(b[8:], u32(4))
		if ok {
			d.Value = string(p[0])
		}
		return ok
	case TagChain:
		if len(b) < 76 {
			return false
		}
		d.RollbackIndexLocation, d.Flags = be.Uint32(b), be.Uint32(b[12:])
		p, ok := cut(b[76:], u32(4), u32(8))
		if ok {
			d.PartitionName, d.PublicKey = string(p[0]), p[1]
		}
		return ok
	}
	return true // not known: kept as it is
}

// encode gives the descriptor as it is in an image.
func (d *Descriptor) encode() []byte {
	be := binary.BigEndian
	var b []byte
	put := func(v ...uint64) {
		for _, x := range v {
			b = be.AppendUint64(b, x)
		}
	}
	put32 := func(v ...uint32) {
		for _, x := range v {
			b = be.AppendUint32(b, x)
		}
	}
	name := func(s string, n int) { b = append(b, append([]byte(s), make([]byte, n-len(s))...)...) }
	switch d.Tag {
	case TagProperty:
		put(uint64(len(d.Key)), uint64(len(d.Value)))
		b = append(b, d.Key+"\x00"+d.Value+"\x00"...)
	case TagHashtree:
		put32(d.DMVerityVersion)
		put(d.ImageSize, d.TreeOffset, d.TreeSize)
		put32(d.DataBlockSize, d.HashBlockSize, d.FECNumRoots)
		put(d.FECOffset, d.FECSize)
		name(d.HashAlgorithm, 32)
		put32(uint32(len(d.PartitionName)), uint32(len(d.Salt)), uint32(len(d.Digest)), d.Flags)
		name("", 60)
		b = append(append(append(b, d.PartitionName...), d.Salt...), d.Digest...)
	case TagHash:
		put(d.ImageSize)
		name(d.HashAlgorithm, 32)
		put32(uint32(len(d.PartitionName)), uint32(len(d.Salt)), uint32(len(d.Digest)), d.Flags)
		name("", 60)
		b = append(append(append(b, d.PartitionName...), d.Salt...), d.Digest...)
	case TagCmdline:
		put32(d.Flags, uint32(len(d.Value)))
		b = append(b, d.Value...)
	case TagChain:
		put32(d.RollbackIndexLocation, uint32(len(d.PartitionName)), uint32(len(d.PublicKey)), d.Flags)
		name("", 60)
		b = append(append(b, d.PartitionName...), d.PublicKey...)
	default:
		b = append(b, d.Raw...)
	}
	b = append(b, make([]byte, -len(b)&7)...)
	h := be.AppendUint64(nil, d.Tag)
	return append(be.AppendUint64(h, uint64(len(b))), b...)
}
