package task

import (
	"encoding/hex"
	"fmt"

	"jarlid/internal/act"
	"jarlid/internal/core/image/vbmeta"
)

type writeResult = act.WriteResult

// DescriptorInfo is one descriptor of a vbmeta, under its specification's names. What a
// kind of descriptor does not have is left out.
type DescriptorInfo struct {
	Tag           string  `json:"tag"`
	PartitionName string  `json:"partition_name,omitempty"`
	HashAlgorithm string  `json:"hash_algorithm,omitempty"`
	ImageSize     *uint64 `json:"image_size,omitempty"`
	Salt          string  `json:"salt,omitempty"`
	Digest        string  `json:"digest,omitempty"`
	RootDigest    string  `json:"root_digest,omitempty"`
	DMVerity      *uint32 `json:"dm_verity_version,omitempty"`
	TreeOffset    *uint64 `json:"tree_offset,omitempty"`
	TreeSize      *uint64 `json:"tree_size,omitempty"`
	DataBlockSize *uint32 `json:"data_block_size,omitempty"`
	HashBlockSize *uint32 `json:"hash_block_size,omitempty"`
	FECNumRoots   *uint32 `json:"fec_num_roots,omitempty"`
	FECOffset     *uint64 `json:"fec_offset,omitempty"`
	FECSize       *uint64 `json:"fec_size,omitempty"`
	Flags         *uint32 `json:"flags,omitempty"`
	Location      *uint32 `json:"rollback_index_location,omitempty"`
	PublicKey     string  `json:"public_key_sha256,omitempty"`
	Key           string  `json:"key,omitempty"`
	Value         string  `json:"value,omitempty"`
	Cmdline       string  `json:"kernel_cmdline,omitempty"`
	Bytes         int     `json:"bytes,omitempty"`
}

// TagWord gives a descriptor's kind in words.
func TagWord(d *vbmeta.Descriptor) string {
	if kind := vbmeta.TagNames[d.Tag]; kind != "" {
		return kind
	}
	return fmt.Sprintf("unknown (%d)", d.Tag)
}

func descriptorInfo(d *vbmeta.Descriptor) DescriptorInfo {
	i := DescriptorInfo{Tag: TagWord(d), PartitionName: d.PartitionName}
	switch d.Tag {
	case vbmeta.TagHash:
		i.ImageSize, i.HashAlgorithm, i.Salt, i.Digest, i.Flags = &d.ImageSize, d.HashAlgorithm,
			hex.EncodeToString(d.Salt), hex.EncodeToString(d.Digest), &d.Flags
	case vbmeta.TagHashtree:
		i.DMVerity, i.ImageSize, i.TreeOffset, i.TreeSize, i.DataBlockSize,
			i.HashBlockSize = &d.DMVerityVersion, &d.ImageSize, &d.TreeOffset, &d.TreeSize, &d.DataBlockSize,
			&d.HashBlockSize
		i.FECNumRoots, i.FECOffset, i.FECSize, i.HashAlgorithm = &d.FECNumRoots, &d.FECOffset, &d.FECSize,
			d.HashAlgorithm
		i.Salt, i.RootDigest, i.Flags = hex.EncodeToString(d.Salt), hex.EncodeToString(d.Digest), &d.Flags
	case vbmeta.TagChain:
		i.Location, i.PublicKey = &d.RollbackIndexLocation, vbmeta.Fingerprint(d.PublicKey)
	case vbmeta.TagProperty:
		i.Key, i.Value = d.Key, d.Value
	case vbmeta.TagCmdline:
		i.Cmdline, i.Flags = d.Value, &d.Flags
	default:
		i.Bytes = len(d.Raw)
	}
	return i
}
