package bcb

import (
	"encoding/binary"

	"jarlid/internal/core/image"
)

// The merge state of a phone with snapshots is in misc too
// (misc_virtual_ab_message in bootloader_message.h, in the space of the system
// that begins at 32 KiB).
const (
	// MergeOffset and MergeSize are where in misc it lies, in bytes.
	MergeOffset = 32 << 10
	MergeSize   = 64

	mergeMagic   = 0x56740ab0
	mergeVersion = 2
)

// The merge states (MergeStatus in the boot control interface), as fastboot
// names them.
const (
	MergeNone        = "none"
	MergeUnknown     = "unknown"
	MergeSnapshotted = "snapshotted"
	MergeMerging     = "merging"
	MergeCancelled   = "cancelled"
)

var mergeStates = []string{MergeNone, MergeUnknown, MergeSnapshotted, MergeMerging, MergeCancelled}

// ParseMerge reads the merge state out of the MergeSize bytes at MergeOffset. A
// phone without snapshots has none: the error then is an *image.Error.
func ParseMerge(b []byte) (state string, err error) {
	if len(b) < MergeSize {
		return "", image.Truncated(formatName, MergeOffset, MergeSize, int64(len(b)))
	}
	if binary.LittleEndian.Uint32(b[1:]) != mergeMagic {
		return "", image.Errorf(formatName, MergeOffset+1, "there is no merge state")
	}
	if int(b[5]) >= len(mergeStates) {
		return "", image.Errorf(formatName, MergeOffset+5, "merge state %d is not known", b[5])
	}
	return mergeStates[b[5]], nil
}

// PutMerge writes the merge state into the bytes at MergeOffset; source is the
// slot the update came from.
func PutMerge(b []byte, state string, source int) error {
	if len(b) < MergeSize {
		return image.Truncated(formatName, MergeOffset, MergeSize, int64(len(b)))
	}
	for i, s := range mergeStates {
		if s == state {
			b[0] = mergeVersion
			binary.LittleEndian.PutUint32(b[1:], mergeMagic)
			b[5], b[6] = byte(i), byte(source)
			return nil
		}
	}
	return image.Errorf(formatName, MergeOffset+5, "merge state %q is not known", state)
}
