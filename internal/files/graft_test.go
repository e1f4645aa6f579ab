package files

import (
	"bytes"
	"compress/gzip"
	"io"
	"os/exec"
	"strings"
	"testing"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/wrap"
	"jarlid/internal/e2e/witness"
)

// TestPackedAs: a ramdisk is compressed as the one it replaces. What comes out is
// extracted by the compressor's own tool and listed by cpio, where they are installed.
func TestPackedAs(t *testing.T) {
	var plain bytes.Buffer
	w := cpio.NewWriter(&plain)
	for _, name := range []string{"init", "system/bin/recovery"} {
		if err := w.Add(cpio.Header{Name: name, Mode: cpio.TypeFile | 0o755},
			bytes.Repeat([]byte(name), 9000)); err != nil {
			t.Fatalf("w.Add(..., bytes.Repeat([]byte(name), 9000)): %v", err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatalf("w.Close(): %v", err)
	}
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	z.Write(plain.Bytes())
	z.Close()
	for kind, c := range map[wrap.Kind]struct {
		magic string // of a ramdisk that is there
		tool  []string
	}{
		wrap.None:      {"070701", []string{"cat"}},
		wrap.Gzip:      {"\x1f\x8b\x08", []string{"gzip", "-dc"}},
		wrap.Xz:        {"\xfd7zXZ\x00", []string{"xz", "-dc"}},
		wrap.Zstd:      {"\x28\xb5\x2f\xfd", []string{"zstd", "-dc"}},
		wrap.LZ4Legacy: {"\x02\x21\x4c\x18", []string{"lz4", "-dc"}},
	} {
		old := []byte(c.magic + "and so on, as it was on the phone")
		for _, given := range [][]byte{plain.Bytes(), zipped.Bytes()} {
			got, _, err := packedAs(old, given)
			if err != nil {
				t.Fatalf("packedAs(old, given): %v", err)
			}
			if wrap.Detect(got) != kind {
				t.Fatalf("%q: what comes out is %q", kind, wrap.Detect(got))
			}
			if kind == wrap.Xz && got[7] != 1 {
				// the check's kind (xz file format, 2.1.1.2): CRC32, as kernels want it
				t.Errorf("xz with check %d", got[7])
			}
			rd, err := boot.ReadRamdisk(bytes.NewReader(got))
			if err != nil || strings.Join(rd.Names, " ") != "init system/bin/recovery" {
				t.Fatalf("boot.ReadRamdisk(bytes.NewReader(got)): %q: %v, %v", kind, rd, err)
			}
			tool, ok := witness.Has(t, c.tool[0])
			if !ok {
				continue
			}
			cmd := exec.Command(tool, c.tool[1:]...)
			cmd.Stdin = bytes.NewReader(got)
			out, err := cmd.Output()
			if err != nil || !bytes.Equal(out, plain.Bytes()) {
				t.Errorf("%s unpacks something else: %v", c.tool[0], err)
			}
			cpio, ok := witness.Has(t, "cpio")
			if !ok {
				continue
			}
			list := exec.Command(cpio, "-it", "--quiet")
			list.Stdin = io.LimitReader(bytes.NewReader(out), int64(len(out)))
			if names, err := list.Output(); err != nil || string(names) != "init\nsystem/bin/recovery\n" {
				t.Errorf("cpio lists %q: %v", names, err)
			}
		}
	}
}
