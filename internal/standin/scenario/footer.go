package scenario

import (
	"crypto/sha256"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/vbmeta"
)

// footerRoom is what a partition has after its image, for the vbmeta and its footer, in bytes.
const footerRoom = 64 << 10

// Footed gives an image with a verified boot footer of the partition named, whose hash is that of covers: img
// itself for one that fits.
func Footed(partition string, img, covers []byte) ([]byte, error) {
	salt := []byte("wickerlight")
	sum := sha256.Sum256(append(append([]byte{}, salt...), covers...))
	m := &vbmeta.Image{ReleaseString: "wickerlight 9.1", Descriptors: []vbmeta.Descriptor{
		{Tag: vbmeta.TagHash, ImageSize: uint64(len(covers)),
			HashAlgorithm: "sha256", PartitionName: partition, Salt: salt, Digest: sum[:]}}}
	b, err := vbmeta.Build(m, nil)
	if err != nil {
		return nil, err
	}
	return vbmeta.AddFooter(img, b, image.Align(int64(len(img)), 4096)+footerRoom)
}
