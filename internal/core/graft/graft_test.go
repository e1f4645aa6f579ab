package graft

import (
	"bytes"
	"crypto/sha1"
	"encoding/binary"
	"errors"
	"os/exec"
	"strings"
	"testing"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/e2e/witness"
)

func fill(c byte, n int) []byte { return bytes.Repeat([]byte{c}, n) }

// images are boot images of every version with all the parts it has a place for.
func images(t *testing.T) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	for name, c := range map[string]struct {
		m boot.Image
		p boot.Parts
	}{
		"v0": {boot.Image{PageSize: 2048, Cmdline: "console=x"},
			boot.Parts{Kernel: fill('k', 5000), Ramdisk: fill('r', 3000), Second: fill('s', 100)}},
		"v1": {boot.Image{HeaderVersion: 1, PageSize: 4096},
			boot.Parts{Kernel: fill('k', 5000), Ramdisk: fill('r', 3000), RecoveryDTBO: fill('o', 700)}},
		"v2": {boot.Image{HeaderVersion: 2, PageSize: 4096, DTBAddr: 9},
			boot.Parts{Kernel: fill('k', 5000), Ramdisk: fill('r', 3000), RecoveryDTBO: fill('o', 700),
				DTB: fill('d', 900)}},
		"v3": {boot.Image{HeaderVersion: 3, Cmdline: "x=y"},
			boot.Parts{Kernel: fill('k', 9000), Ramdisk: fill('r', 3000)}},
		"v4": {boot.Image{HeaderVersion: 4}, boot.Parts{Kernel: fill('k', 9000),
			Ramdisk: fill('r', 3000), Signature: fill('g', 64)}},
		"v4 without a ramdisk": {boot.Image{HeaderVersion: 4}, boot.Parts{Kernel: fill('k', 9000),
			Signature: fill('g', 64)}},
	} {
		b, err := boot.Build(c.m, c.p)
		if err != nil {
			t.Fatalf("boot.Build(c.m, c.p): %v", err)
		}
		out[name] = b
	}
	return out
}

// TestRamdisk: without a change the image is the same; with one every other part is,
// and the places in the header are where bootimg.h has them.
func TestRamdisk(t *testing.T) {
	le := binary.LittleEndian
	for name, img := range images(t) {
		m, err := boot.Parse(bytes.NewReader(img), int64(len(img)))
		if err != nil {
			t.Fatalf("boot.Parse(bytes.NewReader(img), int64(len(img))): %v", err)
		}
		old := m.Section("ramdisk")
		padded := append(bytes.Clone(img), make([]byte, 8192)...)
		for _, b := range [][]byte{img, padded} {
			same, err := Ramdisk(bytes.NewReader(b), int64(len(b)), img[old.Offset:old.Offset+old.Size],
				int64(len(b)))
			if err != nil || !bytes.Equal(same, b) {
				t.Errorf("%s: without a change it is another: %v", name, err)
			}
		}
		for _, n := range []int{1, 2999, 4097, 50000} {
			rd := fill('n', n)
			got, err := Ramdisk(bytes.NewReader(padded), int64(len(padded)), rd, 1<<20)
			if err != nil {
				t.Fatalf("Ramdisk(bytes.NewReader(padded), int64(len(padded)), rd, 1<<20): %v", err)
			}
			g, err := boot.Parse(bytes.NewReader(got), int64(len(got)))
			if err != nil {
				t.Fatalf("%s with %d bytes: %v", name, n, err)
			}
			sum := sha1.New()
			for _, part := range []string{"kernel", "ramdisk", "second", "recovery_dtbo", "dtb",
				"boot_signature"} {
				a, b := m.Section(part), g.Section(part)
				want := img[a.Offset : a.Offset+a.Size]
				if part == "ramdisk" {
					want = rd
				}
				have := got[b.Offset : b.Offset+b.Size]
				if !bytes.Equal(have, want) {
					t.Errorf("%s with %d bytes: %s is another", name, n, part)
				}
				if part == "kernel" || part == "ramdisk" || part == "second" || part == "recovery_dtbo" &&
					g.HeaderVersion >= 1 || part == "dtb" && g.HeaderVersion >= 2 {
					sum.Write(have)
					sum.Write(le.AppendUint32(nil, uint32(len(have))))
				}
			}
			// The header: its size of the ramdisk, in versions 1 and 2 the place of the overlays,
			// up to 2 the id; nothing else.
			head := bytes.Clone(img[:g.PageSize])
			if at := map[bool]int{true: 12, false: 16}[g.HeaderVersion >= 3]; le.Uint32(got[at:]) != uint32(
				n) {
				t.Errorf("%s: the header says %d bytes", name, le.Uint32(got[at:]))
			} else {
				copy(head[at:], got[at:at+4])
			}
			if g.HeaderVersion < 3 {
				if s := g.Section("recovery_dtbo"); s.Size > 0 && le.Uint64(got[1636:]) != uint64(s.Offset) {
					t.Errorf("%s: the overlays are said to lie at %d, they lie at %d", name,
						le.Uint64(got[1636:]), s.Offset)
				}
				if g.HeaderVersion >= 1 {
					copy(head[1636:], got[1636:1644])
				}
				if id := sum.Sum(nil); !bytes.Equal(got[576:596], id) {
					t.Errorf("%s: the id is %x, want %x", name, got[576:596], id)
				}
				copy(head[576:], got[576:608])
			}
			if !bytes.Equal(head, got[:g.PageSize]) {
				t.Errorf("%s with %d bytes: more of the header was changed", name, n)
			}
		}
		var big *TooBigError
		if _, err := Ramdisk(bytes.NewReader(img), int64(len(img)), fill('n', 1<<20), 1<<19); !errors.As(err,
			&big) || big.Have != 1<<19 {
			t.Errorf("%s: %v; unwanted: !errors.As(err, &big) || big.Have != 1<<19", name, err)
		}
	}
}

// TestFooter: a verified boot footer moves behind the new end, in the partition's last
// 64 bytes; what it points to is as it was.
func TestFooter(t *testing.T) {
	img := images(t)["v2"]
	meta, err := vbmeta.Build(&vbmeta.Image{ReleaseString: "by hand"}, nil)
	if err != nil {
		t.Fatalf("vbmeta.Build(...): %v", err)
	}
	whole, err := vbmeta.AddFooter(img, meta, 128<<10)
	if err != nil {
		t.Fatalf("vbmeta.AddFooter(img, meta, 128<<10): %v", err)
	}
	got, err := Ramdisk(bytes.NewReader(whole), int64(len(whole)), fill('n', 40000), 0)
	if err != nil {
		t.Fatalf("Ramdisk(bytes.NewReader(whole), int64(len(whole)), fill('n', 40000), 0): %v", err)
	}
	f, ok, err := vbmeta.ParseFooter(bytes.NewReader(got), int64(len(got)))
	if err != nil || !ok || len(got) != len(whole) {
		t.Fatalf("%v, %v, %d bytes", ok, err, len(got))
	}
	if f.OriginalImageSize <= int64(len(img)) || !bytes.Equal(got[f.VBMetaOffset:f.VBMetaOffset+f.VBMetaSize],
		meta) {
		t.Errorf("vbmeta.ParseFooter(bytes.NewReader(got), int64(len(got))): %+v", f)
	}
	same, err := Ramdisk(bytes.NewReader(whole), int64(len(whole)), fill('r', 3000), 0)
	if err != nil || !bytes.Equal(same, whole) {
		t.Errorf("without a change it is another: %v", err)
	}
	var big *TooBigError
	if _, err := Ramdisk(bytes.NewReader(whole), int64(len(whole)), fill('n', 120<<10), 0); !errors.As(
		err, &big) {
		t.Errorf("%v; unwanted: !errors.As(err, &big)", err)
	}
}

// TestFragment: replaced, added, taken away; everything else as it was.
func TestFragment(t *testing.T) {
	build := func(version uint32, parts ...boot.FragmentParts) []byte {
		var config []byte
		if version == 4 {
			config = []byte("a=b\n")
		}
		b, err := boot.BuildVendor(boot.Vendor{HeaderVersion: version, PageSize: 4096, Cmdline: "x=y",
			Name: "n"}, parts, fill('d', 500), config)
		if err != nil {
			t.Fatalf("boot.BuildVendor(..., parts, fill('d', 500), config): %v", err)
		}
		return b
	}
	platform := boot.FragmentParts{Type: boot.FragmentPlatform, Data: fill('p', 6000), BoardID: [16]uint32{7}}
	recovery := func(n int) boot.FragmentParts {
		return boot.FragmentParts{Type: boot.FragmentRecovery, Name: "recovery", Data: fill('n', n)}
	}
	modules := boot.FragmentParts{Type: boot.FragmentDLKM, Name: "dlkm", Data: fill('m', 3000)}
	for name, c := range map[string]struct {
		old     []byte
		ramdisk []byte
		want    []byte
	}{
		"the same": {build(4, platform, recovery(9000), modules), fill('n', 9000),
			build(4, platform, recovery(9000), modules)},
		"a larger one": {build(4, platform, recovery(9000), modules), fill('n', 20000),
			build(4, platform, recovery(20000), modules)},
		"added": {build(4, platform), fill('n', 5000), build(4, platform, recovery(5000))},
		"taken away": {build(4, platform, recovery(9000), modules), nil,
			build(4, platform, modules)},
		"version 3": {build(3, platform), fill('n', 5000),
			build(3, boot.FragmentParts{Data: fill('n', 5000)})},
		"padded to a partition": {append(build(4, platform, recovery(9000)), make([]byte, 40960)...),
			fill('n', 9000), append(build(4, platform, recovery(9000)), make([]byte, 40960)...)},
	} {
		got, err := Fragment(bytes.NewReader(c.old), int64(len(c.old)), c.ramdisk, 1<<20)
		if err != nil || !bytes.Equal(got, c.want) {
			t.Errorf("%s: %v, %d bytes, want %d", name, err, len(got), len(c.want))
		}
	}
	if _, err := Fragment(bytes.NewReader(build(3, platform)), int64(len(build(3, platform))), nil,
		0); err == nil {
		t.Error("the only ramdisk was taken away")
	}
}

func FuzzGraft(f *testing.F) {
	b, _ := boot.Build(boot.Image{HeaderVersion: 2, PageSize: 2048}, boot.Parts{Kernel: fill('k', 100),
		Ramdisk: fill('r', 100), DTB: fill('d', 10)})
	f.Add(b)
	v, _ := boot.BuildVendor(boot.Vendor{HeaderVersion: 4, PageSize: 2048},
		[]boot.FragmentParts{{Type: boot.FragmentRecovery, Data: fill('r', 100)}}, nil, nil)
	f.Add(v)
	f.Fuzz(func(t *testing.T, b []byte) {
		r := bytes.NewReader(b)
		if out, err := Ramdisk(r, int64(len(b)), []byte("new"), 0); err == nil {
			m, err := boot.Parse(bytes.NewReader(out), int64(len(out)))
			if err != nil {
				t.Fatalf("what was made can't be read: %v", err)
			}
			if s := m.Section("ramdisk"); string(out[s.Offset:s.Offset+s.Size]) != "new" {
				t.Error("the ramdisk is not in it")
			}
		}
		Fragment(r, int64(len(b)), []byte("new"), 0)
	})
}

// TestFileTool: what is made is a boot image to file(1) too, of the size its header says,
// where that is installed.
func TestFileTool(t *testing.T) {
	tool := witness.Tool(t, "file")
	for name, want := range map[string]string{
		"v0": "page size: 2048",
		"v1": "page size: 4096",
		"v2": "page size: 4096",
	} {
		img := images(t)[name]
		got, err := Ramdisk(bytes.NewReader(img), int64(len(img)), fill('n', 4097), 1<<20)
		if err != nil {
			t.Fatalf("Ramdisk(bytes.NewReader(img), int64(len(img)), fill('n', 4097), 1<<20): %v", err)
		}
		cmd := exec.Command(tool, "-")
		cmd.Stdin = bytes.NewReader(got)
		out, err := cmd.Output()
		if err != nil || !strings.Contains(string(out), "Android bootimg") ||
			!strings.Contains(string(out), "ramdisk") || !strings.Contains(string(out), want) {
			t.Errorf("cmd.Output(): %s: %s, %v", name, out, err)
		}
	}
}

// TestStaleTail: what a larger image has left behind the one that is there does not count when
// the room is short, and stays where there is room for it.
func TestStaleTail(t *testing.T) {
	for name, img := range images(t) {
		part := append(bytes.Clone(img), fill('x', 64<<10)...)
		room := int64(len(part))
		for n, fits := range map[int]bool{100: true, 40 << 10: true, 100 << 10: false} {
			rd := fill('n', n)
			out, err := Ramdisk(bytes.NewReader(part), room, rd, room)
			var big *TooBigError
			if !fits {
				if !errors.As(err, &big) {
					t.Errorf("Ramdisk(bytes.NewReader(part), room, rd, room): %s, %d: %v; unwanted: "+
						"!errors.As(err, &big)", name, n, err)
				}
				continue
			}
			if err != nil || int64(len(out)) > room {
				t.Errorf("%s, %d: %d bytes in a room of %d: %v", name, n, len(out), room, err)
				continue
			}
			m, err := boot.Parse(bytes.NewReader(out), int64(len(out)))
			if err != nil {
				t.Fatalf("boot.Parse(bytes.NewReader(out), int64(len(out))): %v", err)
			}
			s := m.Section("ramdisk")
			if !bytes.Equal(out[s.Offset:s.Offset+s.Size], rd) {
				t.Errorf("%s, %d: the ramdisk is another", name, n)
			}
		}
	}
}
