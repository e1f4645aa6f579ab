package verify

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/md5"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"testing"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/image/vbmeta"
)

// data is bytes that look like an image's: they do not compress to nothing.
func data(n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(i*i>>7) ^ byte(i)
	}
	return b
}

// zipOf packs members in order: name, contents, and so on; a name that begins with "=" is stored.
func zipOf(members ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		h := &zip.FileHeader{Name: members[i], Method: zip.Deflate}
		if h.Name[0] == '=' {
			h.Name, h.Method = h.Name[1:], zip.Store
		}
		w, _ := z.CreateHeader(h)
		w.Write([]byte(members[i+1]))
	}
	z.Close()
	return b.Bytes()
}

// payloadOf makes a full payload of one partition.
func payloadOf(b []byte) []byte {
	var w bytes.Buffer
	if err := payload.Write(&w, 1, []payload.Source{{Name: "boot", Data: b}}); err != nil {
		panic(err)
	}
	return w.Bytes()
}

// sparseOf makes a sparse image of raw blocks of 4096 bytes with a checksum chunk at its end, as the format's
// header file describes it (sparse_format.h).
func sparseOf(raw []byte) []byte {
	le := binary.LittleEndian
	blocks := uint32(len(raw) / 4096)
	b := le.AppendUint32(nil, 0xed26ff3a)
	for _, v := range []uint16{1, 0, 28, 12} {
		b = le.AppendUint16(b, v)
	}
	for _, v := range []uint32{4096, blocks, 2, 0} {
		b = le.AppendUint32(b, v)
	}
	chunk := func(kind uint16, blocks, size uint32) {
		b = le.AppendUint16(le.AppendUint16(b, kind), 0)
		b = le.AppendUint32(le.AppendUint32(b, blocks), size)
	}
	chunk(0xcac1, blocks, uint32(12+len(raw)))
	b = append(b, raw...)
	chunk(0xcac4, 0, 16)
	return le.AppendUint32(b, crc32.ChecksumIEEE(raw))
}

// footed puts a footer with the hash of what it covers behind an image of 8192 bytes.
func footed(img, covers []byte, key *rsa.PrivateKey) []byte {
	sum := sha256.Sum256(append([]byte("salt"), covers...))
	m := &vbmeta.Image{Descriptors: []vbmeta.Descriptor{{Tag: vbmeta.TagHash, ImageSize: uint64(len(covers)),
		HashAlgorithm: "sha256", PartitionName: "boot", Salt: []byte("salt"), Digest: sum[:]}}}
	if key != nil {
		m.AlgorithmType = 1 // SHA256_RSA2048
	}
	vb, err := vbmeta.Build(m, key)
	if err != nil {
		panic(err)
	}
	out, err := vbmeta.AddFooter(img, vb, 64<<10)
	if err != nil {
		panic(err)
	}
	return out
}

// flip changes the byte at an offset, counted from the end where it is negative.
func flip(b []byte, at int) []byte {
	out := bytes.Clone(b)
	if at < 0 {
		at += len(out)
	}
	out[at] ^= 0x55
	return out
}

// TestRun: what is damaged, what was altered, and what is neither, one fault of one kind each.
func TestRun(t *testing.T) {
	img, other := data(8192), data(8192)
	other[100] ^= 1
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatalf("rsa.GenerateKey(rand.Reader, 2048): %v", err)
	}
	pay := payloadOf(data(3 << 20))
	hash := func(b []byte) string {
		s := sha256.Sum256(b)
		return "FILE_HASH=" + base64.StdEncoding.EncodeToString(s[:]) + "\n"
	}
	pkg := zipOf("=payload.bin", string(pay), "payload_properties.txt", hash(pay),
		"META-INF/com/android/metadata", "pre-device=dunlin\n")
	blocks := zipOf("system.new.dat", string(data(50000)), "system.transfer.list", "4\n1\n0\n0\nnew 2,0,1\n",
		"META-INF/com/android/metadata", "pre-device=dunlin\n",
		"META-INF/com/google/android/updater-script", "block_image_update();")
	inside := bytes.Index(pkg, pay) // the payload is stored
	deflated := zipOf("system.img", string(data(1<<20)), "=boot.img", string(img))
	var gz bytes.Buffer
	zw := gzip.NewWriter(&gz)
	zw.Write(data(1 << 20))
	zw.Close()
	var tb bytes.Buffer
	tw := tar.NewWriter(&tb)
	tw.WriteHeader(&tar.Header{Name: "boot.img", Size: int64(len(img)), Mode: 0o644})
	tw.Write(img)
	tw.Close()
	lined := append(bytes.Clone(tb.Bytes()), fmt.Sprintf("%x  set.tar\n", md5.Sum(tb.Bytes()))...)
	sparse := sparseOf(img)
	vb, err := vbmeta.Build(&vbmeta.Image{AlgorithmType: 1}, key)
	if err != nil {
		t.Fatalf("vbmeta.Build(..., key): %v", err)
	}
	loosened, err := vbmeta.WithFlags(vb, 3)
	if err != nil {
		t.Fatalf("vbmeta.WithFlags(vb, 3): %v", err)
	}
	foot := footed(img, img, key)
	for _, c := range []struct {
		name, path string
		file       []byte
		state      string // a SHA-1 that a list states: "right", "wrong" or none
		want       Kind   // "" for no fault
		check      string
	}{
		{name: "nothing covers it", path: "boot.img", file: img},
		{name: "a list agrees", path: "boot.img", file: img, state: "right"},
		{name: "a list disagrees", path: "boot.img", file: img, state: "wrong", want: Damaged, check: "LIST"},
		{name: "zip, whole", path: "set.zip", file: deflated},
		{name: "zip, a compressed member", path: "set.zip", file: flip(deflated, 5000), want: Damaged,
			check: "checksums of its members"},
		{name: "zip, a stored member", path: "set.zip", file: flip(deflated, bytes.Index(deflated, img)+9),
			want: Damaged, check: "checksums of its members"},
		{name: "zip, covered by a list", path: "set.zip", file: flip(deflated, 5000), state: "right"},
		{name: "zip, cut", path: "set.zip", file: deflated[:len(deflated)-40], want: Damaged,
			check: "length"},
		{name: "block package, its data", path: "rom.zip",
			file: flip(blocks, bytes.Index(blocks, []byte("system.new.dat"))+40), want: Damaged,
			check: "checksums of its members"},
		{name: "package, whole", path: "rom.zip", file: pkg},
		{name: "package, eight bytes of its payload", path: "rom.zip", file: flip(pkg, inside+len(pay)-8000),
			want: Damaged, check: "payload_properties.txt"},
		{name: "payload, whole", path: "payload.bin", file: pay},
		{name: "payload, an operation", path: "payload.bin", file: flip(pay, -9000), want: Damaged,
			check: "digests of the payload's operations"},
		{name: "gzip, whole", path: "system.img.gz", file: gz.Bytes()},
		{name: "gzip, its checksum", path: "system.img.gz", file: flip(gz.Bytes(), -7), want: Damaged,
			check: "checksum of the compressed stream"},
		{name: "gzip, its contents", path: "system.img.gz", file: flip(gz.Bytes(), 4000), want: Damaged,
			check: "checksum of the compressed stream"},
		{name: "tar with its line", path: "set.tar.md5", file: lined},
		{name: "tar, not as its line states", path: "set.tar.md5", file: flip(lined, 700), want: Damaged,
			check: "the line after the archive"},
		{name: "sparse, whole", path: "system.img", file: sparse},
		{name: "sparse, a block", path: "system.img", file: flip(sparse, 60), want: Damaged,
			check: "checksum of the sparse image"},
		{name: "footer, good", path: "boot.img", file: foot},
		{name: "footer, stale", path: "boot.img", file: flip(foot, 77), want: Altered,
			check: "hash in the footer"},
		{name: "footer, foreign", path: "boot.img", file: footed(img, other, key), want: Altered,
			check: "hash in the footer"},
		{name: "footer, for a larger image", path: "boot.img", file: footed(img, data(50000), key),
			want: Altered, check: "hash in the footer"},
		{name: "footer, cut", path: "boot.img", file: foot[:len(foot)-20], want: Damaged, check: "footer"},
		{name: "footer, of another size", path: "boot.img", file: append(bytes.Clone(foot[:9000]),
			foot[len(foot)-64:]...), want: Altered, check: "footer"},
		{name: "vbmeta, signed", path: "vbmeta.img", file: vb},
		{name: "vbmeta, its flags set", path: "vbmeta.img", file: loosened},
		{name: "vbmeta, changed", path: "vbmeta.img", file: flip(loosened, 119), want: Altered,
			check: "signature of the vbmeta"},
		{name: "vbmeta, not signed", path: "vbmeta.img", file: footed(img, img, nil)},
	} {
		w := Wish{}
		if c.state != "" {
			sum := fmt.Sprintf("%x", sha1.Sum(c.file))
			if c.state == "wrong" {
				sum = "00" + sum[2:]
			}
			w.Stated = []Stated{{From: "LIST", Sums: []sums.Sum{{Algorithm: sums.SHA1, Digest: sum}}}}
		}
		at, size := bytes.NewReader(c.file), int64(len(c.file))
		r, err := Run(t.Context(), at, size, ident.Identify(at, size, c.path, ident.Options{}), w)
		if err != nil {
			t.Errorf("Run(at, size, ..., w): %s: %v; want no error", c.name, err)
			continue
		}
		if got := sha256.Sum256(c.file); r.SHA256() != fmt.Sprintf("%x", got) {
			t.Errorf("%s: its SHA-256 is given as %s", c.name, r.SHA256())
		}
		if len(r.Faults) == 0 && c.want == "" {
			continue
		}
		if len(r.Faults) != 1 || r.Faults[0].Kind != c.want || r.Faults[0].Check != c.check {
			t.Errorf("%s: %+v, want %s by %q", c.name, r.Faults, c.want, c.check)
		}
	}
}

// TestDigests: ranges of one file, digested in one read, are what each is alone.
func TestDigests(t *testing.T) {
	b := data(3<<20 + 17)
	n := int64(len(b))
	var taps []*Tap
	for _, r := range [][2]int64{
		{0, 5},
		{0, 1 << 20},
		{0, n},
		{7, 1<<20 + 9},
		{1 << 20, 2 << 20},
		{n - 1, n},
		{4, 4},
	} {
		taps = append(taps, &Tap{From: r[0], To: r[1], Hash: sha256.New()},
			&Tap{From: r[0], To: r[1], Hash: md5.New()})
	}
	all, err := Digests(t.Context(), bytes.NewReader(b), n, map[sums.Algorithm]bool{sums.SHA256: true,
		sums.MD5: true}, nil, taps...)
	if err != nil || all[sums.SHA256] != fmt.Sprintf("%x", sha256.Sum256(b)) ||
		all[sums.MD5] != fmt.Sprintf("%x", md5.Sum(b)) {
		t.Errorf("Digests(bytes.NewReader(b), n, ..., taps): %v, %v", all, err)
	}
	for _, tap := range taps {
		part := b[tap.From:tap.To]
		want := fmt.Sprintf("%x", sha256.Sum256(part))
		if len(tap.Sum()) == md5.Size {
			want = fmt.Sprintf("%x", md5.Sum(part))
		}
		if tap.Hex() != want {
			t.Errorf("bytes %d to %d: %s, want %s", tap.From, tap.To, tap.Hex(), want)
		}
	}
}

func FuzzRun(f *testing.F) {
	img := data(4096)
	for _, b := range [][]byte{img, zipOf("boot.img", string(img)), payloadOf(img), sparseOf(img),
		footed(data(8192), data(8192), nil)} {
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		at, size := bytes.NewReader(b), int64(len(b))
		r, err := Run(t.Context(), at, size, ident.Identify(at, size, "x.img", ident.Options{}), Wish{})
		if err == nil && r.SHA256() != fmt.Sprintf("%x", sha256.Sum256(b)) {
			t.Error("another digest")
		}
	})
}
