// Package payload reads update payloads, version 2: what an A/B package
// carries and a phone's update engine writes to the slot that is not running.
//
// The format is published with the platform's update_engine: its README and
// update_metadata.proto, whose field numbers are used here.
package payload

import (
	"encoding/binary"
	"fmt"
	"io"

	"google.golang.org/protobuf/encoding/protowire"

	"jarlid/internal/core/image"
)

// Magic starts every payload.
const Magic = "CrAU"

const (
	formatName = "update payload"
	headerSize = 24 // magic, version, manifest size, metadata signature size

	// maxManifest bounds the manifest: 64 MiB is some hundred times what the
	// largest published full payloads have.
	maxManifest = 64 << 20
)

// OpType is an install operation's type.
type OpType int

// The types of update_metadata.proto.
const (
	Replace         OpType = 0
	ReplaceBZ       OpType = 1
	Move            OpType = 2
	BSDiff          OpType = 3
	SourceCopy      OpType = 4
	SourceBSDiff    OpType = 5
	Zero            OpType = 6
	Discard         OpType = 7
	ReplaceXZ       OpType = 8
	PuffDiff        OpType = 9
	BrotliBSDiff    OpType = 10
	Zucchini        OpType = 11
	LZ4DiffBSDiff   OpType = 12
	LZ4DiffPuffDiff OpType = 13
	ReplaceZstd     OpType = 14
)

var opNames = map[OpType]string{Replace: "REPLACE", ReplaceBZ: "REPLACE_BZ", Move: "MOVE", BSDiff: "BSDIFF",
	SourceCopy:      "SOURCE_COPY",
	SourceBSDiff:    "SOURCE_BSDIFF",
	Zero:            "ZERO",
	Discard:         "DISCARD",
	ReplaceXZ:       "REPLACE_XZ",
	PuffDiff:        "PUFFDIFF",
	BrotliBSDiff:    "BROTLI_BSDIFF",
	Zucchini:        "ZUCCHINI",
	LZ4DiffBSDiff:   "LZ4DIFF_BSDIFF",
	LZ4DiffPuffDiff: "LZ4DIFF_PUFFDIFF", ReplaceZstd: "REPLACE_ZSTD"}

// String gives the name the specification uses.
func (t OpType) String() string {
	if s, ok := opNames[t]; ok {
		return s
	}
	return fmt.Sprintf("type %d", int(t))
}

// Full reports whether the operation needs nothing but the payload, that is,
// whether a full payload may hold it.
func (t OpType) Full() bool {
	switch t {
	case Replace, ReplaceBZ, ReplaceXZ, ReplaceZstd, Zero, Discard:
		return true
	}
	return false
}

// Extent is a run of blocks of a partition.
type Extent struct{ Start, Blocks uint64 }

// Operation is one install operation.
type Operation struct {
	Type               OpType
	DataOffset, Length uint64 // of its data, from the start of the blobs, in bytes
	SrcLength          uint64 // for deltas, in bytes
	Dst                []Extent
	SHA256             []byte // of its data; nil when not given
}

// Partition is what the payload holds for one partition.
type Partition struct {
	Name           string // without a slot's suffix
	Size           uint64 // bytes, after the update
	Hash           []byte // SHA-256 of the partition after the update
	OldSize        uint64 // bytes, of the source; 0 in a full payload
	RunPostinstall bool
	Ops            []Operation
}

// Delta reports whether the partition is made from what is on the phone.
func (p *Partition) Delta() bool {
	for _, op := range p.Ops {
		if !op.Type.Full() {
			return true
		}
	}
	return false
}

// Group is a group of logical partitions that a payload wants in super.
type Group struct {
	Name       string
	Size       uint64 // bytes
	Partitions []string
}

// Payload is a payload's metadata.
type Payload struct {
	Version         uint64
	BlockSize       uint64
	MinorVersion    uint64
	MaxTimestamp    int64
	SecurityPatch   string
	Partial         bool
	Partitions      []Partition
	Groups          []Group
	Snapshots       bool
	SignatureOffset uint64 // of the payload's signature, from the start of the blobs
	SignatureSize   uint64

	ManifestSize, MetadataSignatureSize int64
	Blobs                               int64 // where the blobs begin, from the payload's start
	Size                                int64 // bytes the payload needs at least
}

// Delta reports whether any partition needs what is on the phone.
func (p *Payload) Delta() bool {
	for i := range p.Partitions {
		if p.Partitions[i].Delta() {
			return true
		}
	}
	return p.MinorVersion != 0
}

// Partition gives the named partition, or nil.
func (p *Payload) Partition(name string) *Partition {
	for i := range p.Partitions {
		if p.Partitions[i].Name == name {
			return &p.Partitions[i]
		}
	}
	return nil
}

// Parse reads the header and manifest of the payload in r. A payload whose
// blobs go beyond size gives an *image.Error for which image.IsShort is true,
// together with what was read.
func Parse(r io.ReaderAt, size int64) (*Payload, error) {
	h, err := image.ReadAt(formatName, r, size, 0, headerSize)
	if err != nil {
		return nil, err
	}
	if string(h[:4]) != Magic {
		return nil, image.Errorf(formatName, 0, "does not begin with %q", Magic)
	}
	be := binary.BigEndian
	p := &Payload{Version: be.Uint64(h[4:]), BlockSize: 4096}
	if p.Version != 2 {
		return nil, image.Errorf(formatName, 4, "version %d is not known, only 2", p.Version)
	}
	n := be.Uint64(h[12:])
	if n > maxManifest {
		return nil, image.Errorf(formatName, 12, "a manifest of %d bytes is not possible", n)
	}
	p.ManifestSize, p.MetadataSignatureSize = int64(n), int64(be.Uint32(h[20:]))
	m, err := image.ReadAt(formatName, r, size, headerSize, p.ManifestSize)
	if err != nil {
		return nil, err
	}
	p.Blobs = headerSize + p.ManifestSize + p.MetadataSignatureSize
	if err := p.manifest(m); err != nil {
		return nil, image.Errorf(formatName, headerSize, "the manifest is damaged: %v", err)
	}
	return p, p.check(size)
}

// check holds every extent and data range against the partition's and the
// file's size.
func (p *Payload) check(size int64) error {
	if p.BlockSize < 512 || p.BlockSize > 1<<20 || p.BlockSize&(p.BlockSize-1) != 0 {
		return image.Errorf(formatName, headerSize, "a block size of %d is not possible", p.BlockSize)
	}
	const most = 1 << 62
	p.Size = p.Blobs
	need := func(off, n uint64) bool {
		if off > most || n > most {
			return false
		}
		p.Size = max(p.Size, p.Blobs+int64(off+n))
		return true
	}
	if !need(p.SignatureOffset, p.SignatureSize) {
		return image.Errorf(formatName, headerSize, "the signature's place is not possible")
	}
	for _, part := range p.Partitions {
		if part.Name == "" || len(part.Name) > 64 {
			return image.Errorf(formatName, headerSize, "a partition has no usable name")
		}
		if part.Size > most {
			return image.Errorf(formatName, headerSize, "partition %s cannot have %d bytes", part.Name,
				part.Size)
		}
		blocks := (part.Size + p.BlockSize - 1) / p.BlockSize
		for i, op := range part.Ops {
			for _, e := range op.Dst {
				if e.Start > blocks || e.Blocks > blocks-e.Start {
					return image.Errorf(formatName, headerSize,
						"operation %d of %s writes beyond its %d blocks", i, part.Name, blocks)
				}
			}
			if op.Length > 0 && !need(op.DataOffset, op.Length) {
				return image.Errorf(formatName, headerSize,
					"operation %d of %s has its data at an impossible place", i, part.Name)
			}
		}
	}
	if p.Size > size {
		return image.Truncated(formatName, p.Blobs, p.Size-p.Blobs, size-p.Blobs)
	}
	return nil
}

// Field is one field of a protobuf message: a number, or bytes.
type Field struct {
	Num   protowire.Number
	Value uint64
	Bytes []byte
}

// EachField calls f for every varint and length-delimited field of the message b.
func EachField(b []byte, f func(Field) error) error {
	for len(b) > 0 {
		num, typ, n := protowire.ConsumeTag(b)
		if n < 0 {
			return protowire.ParseError(n)
		}
		b = b[n:]
		v := Field{Num: num}
		switch typ {
		case protowire.VarintType:
			v.Value, n = protowire.ConsumeVarint(b)
		case protowire.BytesType:
			v.Bytes, n = protowire.ConsumeBytes(b)
		default:
			n = protowire.ConsumeFieldValue(num, typ, b)
		}
		if n < 0 {
			return protowire.ParseError(n)
		}
		if typ == protowire.VarintType || typ == protowire.BytesType {
			if err := f(v); err != nil {
				return err
			}
		}
		b = b[n:]
	}
	return nil
}

// The field numbers below are those of update_metadata.proto:
// DeltaArchiveManifest, PartitionUpdate, PartitionInfo, InstallOperation,
// Extent, DynamicPartitionMetadata, DynamicPartitionGroup.

func (p *Payload) manifest(b []byte) error {
	return EachField(b, func(f Field) error {
		switch f.Num {
		case 3:
			p.BlockSize = f.Value
		case 4:
			p.SignatureOffset = f.Value
		case 5:
			p.SignatureSize = f.Value
		case 12:
			p.MinorVersion = f.Value
		case 13:
			part, err := partition(f.Bytes)
			p.Partitions = append(p.Partitions, part)
			return err
		case 14:
			p.MaxTimestamp = int64(f.Value)
		case 15:
			return p.dynamic(f.Bytes)
		case 16:
			p.Partial = f.Value != 0
		case 18:
			p.SecurityPatch = string(f.Bytes)
		}
		return nil
	})
}

func (p *Payload) dynamic(b []byte) error {
	return EachField(b, func(f Field) error {
		switch f.Num {
		case 1:
			var g Group
			err := EachField(f.Bytes, func(f Field) error {
				switch f.Num {
				case 1:
					g.Name = string(f.Bytes)
				case 2:
					g.Size = f.Value
				case 3:
					g.Partitions = append(g.Partitions, string(f.Bytes))
				}
				return nil
			})
			p.Groups = append(p.Groups, g)
			return err
		case 2:
			p.Snapshots = f.Value != 0
		}
		return nil
	})
}

func partition(b []byte) (Partition, error) {
	var p Partition
	err := EachField(b, func(f Field) error {
		switch f.Num {
		case 1:
			p.Name = string(f.Bytes)
		case 2:
			p.RunPostinstall = f.Value != 0
		case 6:
			return info(f.Bytes, &p.OldSize, nil)
		case 7:
			return info(f.Bytes, &p.Size, &p.Hash)
		case 8:
			op, err := operation(f.Bytes)
			p.Ops = append(p.Ops, op)
			return err
		}
		return nil
	})
	return p, err
}

func info(b []byte, size *uint64, hash *[]byte) error {
	return EachField(b, func(f Field) error {
		switch {
		case f.Num == 1:
			*size = f.Value
		case f.Num == 2 && hash != nil:
			*hash = f.Bytes
		}
		return nil
	})
}

func operation(b []byte) (Operation, error) {
	var op Operation
	err := EachField(b, func(f Field) error {
		switch f.Num {
		case 1:
			op.Type = OpType(f.Value)
		case 2:
			op.DataOffset = f.Value
		case 3:
			op.Length = f.Value
		case 5:
			op.SrcLength = f.Value
		case 6:
			var e Extent
			err := EachField(f.Bytes, func(f Field) error {
				switch f.Num {
				case 1:
					e.Start = f.Value
				case 2:
					e.Blocks = f.Value
				}
				return nil
			})
			op.Dst = append(op.Dst, e)
			return err
		case 8:
			op.SHA256 = f.Bytes
		}
		return nil
	})
	return op, err
}
