package vbmeta

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"os"
	"strings"
	"testing"

	"jarlid/internal/core/image"
)

func load(t testing.TB, name string) []byte {
	t.Helper()
	b, err := os.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatalf("os.ReadFile('testdata/' + name): %v", err)
	}
	return b
}

// TestSigned reads images put together by testdata/make.py and signed by
// openssl.
func TestSigned(t *testing.T) {
	for name, algorithm := range map[string]string{
		"rsa2048.img": "SHA256_RSA2048",
		"rsa4096.img": "SHA512_RSA4096",
		"rsa8192.img": "SHA512_RSA8192",
	} {
		b := load(t, name)
		m, err := Parse(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatalf("Parse(bytes.NewReader(b), int64(len(b))): %v", err)
		}
		if err := m.Verify(); err != nil {
			t.Errorf("m.Verify(): %s: %v; want no error", name, err)
		}
		if Algorithms[m.AlgorithmType].Name != algorithm || m.RollbackIndex != 7 || m.Flags != 2 ||
			m.RollbackIndexLocation != 1 || m.ReleaseString != "by hand" || m.Size != int64(len(b)) {
			t.Errorf("Parse(bytes.NewReader(b), int64(len(b))): %s: %+v", name, m)
		}
		d := m.Descriptors
		if len(d) != 4 || d[0].Key != "key" || d[0].Value != "value" || d[1].PartitionName != "boot" ||
			d[2].PartitionName != "vbmeta_system" ||
			d[2].RollbackIndexLocation != 2 || string(d[2].PublicKey) != "KEY!" || d[3].Tag != 99 ||
			string(d[3].Raw) != "whatever" {
			t.Errorf("%s: descriptors %+v", name, d)
		}
		if err := CheckHash(t.Context(), &d[1], bytes.NewReader([]byte("kernel")), 6); err != nil {
			t.Errorf("CheckHash(&d[1], bytes.NewReader([]byte('kernel')), 6): %v", err)
		}
		var wrong *DigestError
		if err := CheckHash(t.Context(), &d[1], bytes.NewReader([]byte("Kernel")), 6); !errors.As(
			err, &wrong) {
			t.Errorf("another kernel: %v", err)
		}
		// Every changed byte of what is signed, and of the signature, is noticed.
		for at := 0; at < len(b); at += 37 {
			bad := bytes.Clone(b)
			bad[at] ^= 0x40
			m, err := Parse(bytes.NewReader(bad), int64(len(bad)))
			if err == nil && m.Verify() == nil && at < headerSize+len(m.digest)+len(m.signature) {
				t.Errorf("%s: a changed byte at %d is not noticed", name, at)
			}
		}
		for n := range b {
			if _, err := Parse(bytes.NewReader(b[:n]), int64(n)); !image.IsShort(err) {
				t.Fatalf("%s cut to %d bytes: %v", name, n, err)
			}
		}
	}
}

// blocks makes the data that testdata/make.py gave to veritysetup.
func blocks(n int) []byte {
	b := make([]byte, n*4096)
	for i := range n {
		for k := 0; k < 4096; k += 4 {
			binary.LittleEndian.PutUint32(b[i*4096+k:], uint32(i))
		}
	}
	return b
}

// TestHashUnknown: an algorithm that is not known is no fault of the image's.
func TestHashUnknown(t *testing.T) {
	for _, tag := range []uint64{TagHash, TagHashtree} {
		d := &Descriptor{Tag: tag, PartitionName: "system", DMVerityVersion: 1, ImageSize: 4096,
			HashAlgorithm: "streebog", DataBlockSize: 4096, HashBlockSize: 4096}
		check := CheckHash
		if tag == TagHashtree {
			check = CheckHashtree
		}
		if err := check(t.Context(), d, bytes.NewReader(blocks(1)), 4096); !image.AboutNoDamage(err) ||
			!strings.Contains(err.Error(), "can't be checked") {
			t.Errorf("descriptor %d with an unknown algorithm: %v", tag, err)
		}
	}
}

// TestHashtree: roots, and the digests of the stored trees, are what
// veritysetup 2.6 printed.
func TestHashtree(t *testing.T) {
	for _, c := range []struct {
		blocks                     int
		algorithm, salt, root, sum string
	}{
		{1, "sha256", "00ff", "6e2f94952624ca90c3ee5e37285f51a17fec08cba1f15be54a4650f8e38f5f5f",
			"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"},
		{128, "sha256", "", "99e169f0bd63cb40fe0a04da6a105de97280a7d846d5b528085684f258ac6390",
			"99e169f0bd63cb40fe0a04da6a105de97280a7d846d5b528085684f258ac6390"},
		{129, "sha256", "aabbccdd", "189f19b371cdc115107dc1e70adb7626ada9c0429967e136983fa3b36edd9363",
			"2c3f4a603360520d57c31a9eec853802018a8ad65bb69e0a30cda9ff08571180"},
		{20000, "sha256", "5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a",
			"f2c213b586b87f846d48b1f862f28e54f0df1fd4e5e573d2c2dc8dd0b7b02c4b",
			"e1d5abb88db85ccd73160e5231c615bdb3935e96e804d970deb991b821c7e926"},
		{300, "sha512", "0102",
			"a7d11b08555624f958559f864c75d05f4f724646b078b741606f0203247a02f3c33b15a9f5d0d02993b0f3b3fc9965" +
				"9b492f81aff6eb99d6453d04c7ce5a8929",
			"90619b62660e7665fdb559f1a3a91176e767795c0383b6f425391337fd7749f3"},
		{300, "blake2b-256", "0102", "c4f1824fbd14fd4790c633bfa6be9b2b8732ee08ab2ca49b7dcaaaa7090d909c",
			"3c5775776c4f6f86d71cac0747f1199e6f5c105041d266a57528b9f8cc482996"}, // by Python's hashlib
	} {
		data := blocks(c.blocks)
		salt, _ := hex.DecodeString(c.salt)
		d := &Descriptor{Tag: TagHashtree, PartitionName: "system", DMVerityVersion: 1,
			ImageSize: uint64(len(data)), HashAlgorithm: c.algorithm,
			Salt: salt, DataBlockSize: 4096, HashBlockSize: 4096}
		stored, root, err := BuildHashtree(t.Context(), d, bytes.NewReader(data))
		sum := sha256.Sum256(stored)
		if err != nil || hex.EncodeToString(root) != c.root || hex.EncodeToString(sum[:]) != c.sum {
			t.Errorf("%d blocks: root %x, tree %x, %v", c.blocks, root, sum, err)
			continue
		}
		d.Digest, d.TreeOffset, d.TreeSize = root, uint64(len(data)), uint64(len(stored))
		whole := append(data, stored...)
		check := func(b []byte) error {
			return CheckHashtree(t.Context(), d, bytes.NewReader(b), int64(len(b)))
		}
		if err := check(whole); err != nil {
			t.Errorf("%d blocks: %v", c.blocks, err)
		}
		var wrong *DigestError
		for _, at := range []int{0, len(data) - 1, len(whole) - 4096} {
			if at < 0 || at >= len(whole) {
				continue
			}
			whole[at] ^= 1
			if err := check(whole); !errors.As(err, &wrong) {
				t.Errorf("%d blocks, a changed byte at %d: %v", c.blocks, at, err)
			}
			whole[at] ^= 1
		}
		if err := check(whole[:len(whole)-1]); !image.IsShort(err) {
			t.Errorf("%d blocks, cut: %v", c.blocks, err)
		}
	}
}

// TestBuild: what is written is read back the same, footers too.
func TestBuild(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatalf("rsa.GenerateKey(rand.Reader, 2048): %v", err)
	}
	old := load(t, "rsa2048.img")
	m, err := Parse(bytes.NewReader(old), int64(len(old)))
	if err != nil {
		t.Fatalf("Parse(bytes.NewReader(old), int64(len(old))): %v", err)
	}
	b, err := Build(m, key)
	if err != nil {
		t.Fatalf("Build(m, key): %v", err)
	}
	again, err := Parse(bytes.NewReader(b), int64(len(b)))
	if err != nil || again.Verify() != nil || len(again.Descriptors) != 4 ||
		!bytes.Equal(again.PublicKey, EncodeKey(&key.PublicKey)) {
		t.Errorf("Parse(bytes.NewReader(b), int64(len(b))): %+v, %v", again, err)
	}
	// The descriptors are byte for byte what the hand-made image has.
	if !bytes.Equal(again.aux[:256], m.aux[:256]) {
		t.Error("the descriptors differ from the hand-made ones")
	}
	whole, err := AddFooter([]byte("an image"), b, 64<<10)
	if err != nil {
		t.Fatalf("AddFooter([]byte('an image'), b, 64<<10): %v", err)
	}
	in, f, err := Open(bytes.NewReader(whole), int64(len(whole)))
	if err != nil || f == nil || f.OriginalImageSize != 8 || f.VBMetaOffset != 4096 || in.Verify() != nil {
		t.Errorf("Open(bytes.NewReader(whole), int64(len(whole))): %+v, %v", f, err)
	}
	if _, err := AddFooter(make([]byte, 60<<10), b, 61<<10); err == nil {
		t.Error("a footer where none fits")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(load(f, "rsa2048.img"))
	whole, _ := AddFooter([]byte("x"), load(f, "rsa2048.img"), 8192)
	f.Add(whole)
	f.Fuzz(func(t *testing.T, b []byte) {
		m, _, err := Open(bytes.NewReader(b), int64(len(b)))
		var e *image.Error
		if err != nil {
			if !errors.As(err, &e) {
				t.Fatalf("%v is not a format error", err)
			}
			return
		}
		m.Verify()
		for i := range m.Descriptors {
			d := &m.Descriptors[i]
			switch d.Tag {
			case TagHash:
				CheckHash(context.Background(), d, bytes.NewReader(b), int64(len(b)))
			case TagHashtree:
				CheckHashtree(context.Background(), d, bytes.NewReader(b), int64(len(b)))
			}
		}
	})
}
