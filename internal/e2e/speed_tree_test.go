package e2e

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/core/image/vbmeta"
)

// BenchmarkHashtree verifies 1.5 GiB against a hash tree that veritysetup made.
// Baseline: veritysetup verify of the same.
func BenchmarkHashtree(b *testing.B) {
	l := benchLab(b)
	dir := filepath.Join(l.dir, "images")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		b.Fatalf("os.MkdirAll(%v, 0o755): %v", dir, err)
	}
	img := filepath.Join(dir, "system.img")
	f := must(os.Create(img))
	part := goTree(64 << 20)
	const size = 1536 << 20
	for at := int64(0); at < size; at += int64(len(part)) {
		must(f.WriteAt(part, at))
	}
	must(f.WriteAt(make([]byte, 4096), 0)) // else it is a text by its beginning
	f.Close()
	salt := "00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff"
	common := []string{"--no-superblock", "--hash-offset", fmt.Sprint(size), "--data-blocks",
		fmt.Sprint(size / 4096), "--salt", salt, "--hash", "sha256"}
	var out bytes.Buffer
	clock(b, &out, "veritysetup", append([]string{"format", img, img}, common...)...)
	_, after, _ := strings.Cut(out.String(), "Root hash:")
	root := strings.TrimSpace(after)
	tree := must(os.Stat(img)).Size() - size
	top := must(vbmeta.Build(
		&vbmeta.Image{Descriptors: []vbmeta.Descriptor{{Tag: vbmeta.TagHashtree, PartitionName: "system",
			DMVerityVersion: 1, ImageSize: size, TreeOffset: size,
			TreeSize: uint64(tree), DataBlockSize: 4096, HashBlockSize: 4096, HashAlgorithm: "sha256",
			Salt: must(hex.DecodeString(salt)), Digest: must(hex.DecodeString(root))}}}, nil))
	meta := l.file("vbmeta.img", top)
	for range b.N {
		base := clock(b, nil, "veritysetup", append([]string{"verify", img, img, root}, common...)...)
		took, mib := l.timed(b, "0", "vbmeta", "check", meta, "--images", dir)
		report(b, took, base, mib)
	}
}
