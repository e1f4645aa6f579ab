package vbmeta_test

import (
	"bytes"
	"fmt"

	"jarlid/internal/core/image/vbmeta"
)

// Switching the hash trees off changes the flags and nothing else: 120 bytes into the
// header, big-endian.
func ExampleWithFlags() {
	img, err := vbmeta.Build(
		&vbmeta.Image{Descriptors: []vbmeta.Descriptor{{Tag: vbmeta.TagHash, PartitionName: "boot",
			HashAlgorithm: "sha256", Digest: make([]byte, 32)}}}, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	loose, err := vbmeta.WithFlags(img, vbmeta.FlagHashtreeDisabled)
	if err != nil {
		fmt.Println(err)
		return
	}
	m, err := vbmeta.Parse(bytes.NewReader(loose), int64(len(loose)))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(m.Descriptors[0].PartitionName, m.Flags)
	for i := range img {
		if img[i] != loose[i] {
			fmt.Println("byte", i, "was", img[i], "and is", loose[i])
		}
	}
	// Output:
	// boot 1
	// byte 123 was 0 and is 1
}
