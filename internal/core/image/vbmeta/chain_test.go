package vbmeta

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"
)

// phone is partitions by name.
type phone map[string][]byte

func (p phone) open(name string) (io.ReaderAt, int64, error) {
	b, ok := p[name]
	if !ok {
		return nil, 0, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return bytes.NewReader(b), int64(len(b)), nil
}

func hashOf(name string, b []byte) Descriptor {
	salt := []byte("salt")
	sum := sha256.Sum256(append(salt, b...))
	return Descriptor{Tag: TagHash, PartitionName: name, ImageSize: uint64(len(b)), HashAlgorithm: "sha256",
		Salt: salt, Digest: sum[:]}
}

// TestVerifyChain changes one thing at a time in a whole chain.
func TestVerifyChain(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatalf("rsa.GenerateKey(rand.Reader, 2048): %v", err)
	}
	stranger, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatalf("rsa.GenerateKey(rand.Reader, 2048): %v", err)
	}
	build := func(k *rsa.PrivateKey, flags uint32, d ...Descriptor) []byte {
		b, err := Build(&Image{AlgorithmType: 1, RollbackIndex: 7, Flags: flags, Descriptors: d}, k)
		if err != nil {
			t.Fatalf("Build(..., k): %v", err)
		}
		return b
	}
	system := bytes.Repeat([]byte("shorebird"), 4096*3)
	system = system[:4096*20]
	tree := Descriptor{Tag: TagHashtree, PartitionName: "system", DMVerityVersion: 1,
		ImageSize: uint64(len(system)), TreeOffset: uint64(len(system)),
		DataBlockSize: 4096, HashBlockSize: 4096, HashAlgorithm: "sha256", Salt: []byte("s")}
	stored, root, err := BuildHashtree(t.Context(), &tree, bytes.NewReader(system))
	if err != nil {
		t.Fatalf("BuildHashtree(&tree, bytes.NewReader(system)): %v", err)
	}
	tree.TreeSize, tree.Digest = uint64(len(stored)), root
	chain := Descriptor{Tag: TagChain, PartitionName: "vbmeta_system", RollbackIndexLocation: 3,
		PublicKey: EncodeKey(&key.PublicKey)}
	boot := []byte("a boot image")
	whole := func(flags uint32) phone {
		return phone{
			"boot":          boot,
			"system":        append(bytes.Clone(system), stored...),
			"vbmeta_system": build(key, 0, tree),
			"vbmeta":        build(key, flags, hashOf("boot", boot), chain),
		}
	}
	for _, c := range []struct {
		name   string
		change func(p phone)
		bad    string // partitions with a wrong digest or signature
		broken string // with a vbmeta that can't be used
	}{
		{"whole", func(phone) {}, "", ""},
		{"a changed boot image", func(p phone) { p["boot"] = []byte("another one!") }, "boot", ""},
		{"a boot image cut short", func(p phone) { p["boot"] = boot[:4] }, "boot", ""},
		{"no boot image", func(p phone) { delete(p, "boot") }, "boot", ""},
		{"a byte of the system", func(p phone) { p["system"][5000] ^= 1 }, "system", ""},
		{"a byte of the stored tree", func(p phone) { p["system"][len(system)+9] ^= 1 }, "system", ""},
		{"a byte of the top vbmeta", func(p phone) { p["vbmeta"][headerSize+400] ^= 1 }, "vbmeta", ""},
		{"the chained one signed by a stranger", func(p phone) {
			p["vbmeta_system"] = build(stranger, 0, tree)
		}, "vbmeta_system", ""},
		{"an erased chained one", func(p phone) { clear(p["vbmeta_system"]) }, "", "vbmeta_system"},
		{"an erased top one", func(p phone) { clear(p["vbmeta"]) }, "", "vbmeta"},
		{"no top one", func(p phone) { delete(p, "vbmeta") }, "", "vbmeta"},
		{"a chain of two", func(p phone) { p["vbmeta_system"] = build(key, 0, chain) }, "", "vbmeta_system"},
		{"verification disabled", func(p phone) {
			p["vbmeta"] = whole(FlagVerificationDisabled)["vbmeta"]
			p["boot"] = []byte("x")
		}, "", ""},
	} {
		p := whole(0)
		c.change(p)
		got, err := VerifyChain(t.Context(), p.open, "vbmeta", WithHashes|WithTrees)
		if err != nil {
			t.Fatalf("VerifyChain(p.open, 'vbmeta', WithHashes|WithTrees): %v", err)
		}
		var bad, broken []string
		for _, v := range got.Bad() {
			if v.Invalid != nil {
				broken = append(broken, v.Partition)
			} else {
				bad = append(bad, v.Partition)
			}
		}
		if strings.Join(bad, " ") != c.bad || strings.Join(broken, " ") != c.broken ||
			(got.Invalid() != nil) != (c.broken != "") {
			t.Errorf("%s: bad %q, broken %q", c.name, bad, broken)
		}
	}
	// Error correction is looked for where the descriptor says; without it verified boot
	// holds all the same.
	at := uint64(len(system) + len(stored))
	for want, c := range map[string]struct {
		at   uint64
		here byte
	}{"": {at, 7}, "zeros": {at, 0}, "behind the end": {1 << 62, 7}} {
		d := tree
		d.FECNumRoots, d.FECOffset, d.FECSize = 2, c.at, 4096
		p := whole(0)
		p["vbmeta_system"] = build(key, 0, d)
		p["system"] = append(p["system"], bytes.Repeat([]byte{c.here}, 4096)...)
		got, err := VerifyChain(t.Context(), p.open, "vbmeta", WithHashes|WithTrees)
		if err != nil || len(got.Bad()) != 0 {
			t.Errorf("VerifyChain(p.open, 'vbmeta', WithHashes|WithTrees): %q: %v, %v; unwanted: err != "+
				"nil || len(got.Bad()) != 0", want, got.Bad(), err)
		}
		bad := got.Bad("fec")
		if (len(bad) > 0) != (want != "") || want != "" && !strings.Contains(bad[0].Err.Error(), want) {
			t.Errorf("VerifyChain(p.open, 'vbmeta', WithHashes|WithTrees): %q: %v", want, bad)
		}
	}
	p := whole(0)
	p["system"][5000] ^= 1
	got, err := VerifyChain(t.Context(), p.open, "vbmeta", WithHashes)
	if err != nil || len(got.Bad()) != 0 {
		t.Errorf("without trees the system was read: %v, %v", got.Bad(), err)
	}
	p["boot"][1] ^= 1
	for also, want := range map[Contents]int{0: 0, WithHashes: 1, WithTrees: 1, WithHashes | WithTrees: 2} {
		if c, err := VerifyChain(t.Context(), p.open, "vbmeta", also); err != nil || len(c.Bad()) != want {
			t.Errorf("VerifyChain with %b: bad are %v, want %d; %v", also, c.Bad(), want, err)
		}
	}
	for _, v := range got.Verdicts {
		if v.Partition == "vbmeta_system" && (v.Location != 3 || v.Image.RollbackIndex != 7 ||
			v.By != "vbmeta") {
			t.Errorf("VerifyChain(p.open, 'vbmeta', WithHashes): %+v", v)
		}
	}
}
