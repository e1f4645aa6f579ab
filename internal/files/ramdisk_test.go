package files

import (
	"os"
	"strings"
	"testing"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/e2e/witness"
)

// TestRamdisks: what the kernel extracts is read, in whatever way its archives are packed by general tools.
func TestRamdisks(t *testing.T) {
	// Each archive is its files and the command that packs it; the recovery is in the last one.
	type archive struct{ files, pack string }
	plain := archive{"init default.prop", "cat"}
	for _, c := range []struct {
		name     string
		archives []archive
		between  int // zeros between them
		kind     ident.Kind
	}{
		{name: "lzma", archives: []archive{{"init system/bin/recovery", "xz --format=lzma"}},
			kind: ident.Recovery},
		{name: "lzma without a recovery", archives: []archive{{"init", "xz --format=lzma"}},
			kind: ident.Boot},
		{name: "gzip twice", archives: []archive{{"init", "gzip"}, {"system/bin/recovery", "gzip"}},
			kind: ident.Recovery},
		{name: "gzip, then xz", archives: []archive{{"init", "gzip"}, {"system/bin/recovery",
			"xz --check=crc32"}},
			kind: ident.Recovery},
		{name: "xz, then gzip", archives: []archive{{"init", "xz --check=crc32"}, {"system/bin/recovery",
			"gzip"}},
			kind: ident.Recovery},
		{name: "plain, then gzip", archives: []archive{plain, {"system/bin/recovery", "gzip"}},
			kind: ident.Recovery},
		{name: "three, with zeros between", archives: []archive{{"init", "gzip"}, plain,
			{"system/bin/recovery", "xz --check=crc32"}}, between: 512, kind: ident.Recovery},
		{name: "gzip, then zstd", archives: []archive{{"init", "gzip"}, {"system/bin/recovery",
			"zstd -q -c"}},
			kind: ident.Recovery},
	} {
		t.Run(c.name, func(t *testing.T) {
			k := kitchen{t, t.TempDir()}
			for _, tool := range []string{"cpio", "gzip", "xz", "zstd"} { // the shell calls them
				witness.Tool(t, tool)
			}
			for _, f := range []string{"init", "default.prop", "system/bin/recovery"} {
				put(t, k.at(f), []byte("ro.product.device=plover\n"))
			}
			var rd []byte
			for i, a := range c.archives {
				if i > 0 {
					rd = append(rd, make([]byte, c.between)...)
				}
				k.tool("sh", "-c", "printf '%s\\n' "+a.files+" | cpio -o -H newc --quiet | "+a.pack+" > "+
					"archive")
				b, err := os.ReadFile(k.at("archive"))
				if err != nil {
					t.Fatalf("reading archive %d: %v", i, err)
				}
				rd = append(rd, b...)
			}
			img, err := boot.Build(boot.Image{HeaderVersion: 2, PageSize: 2048},
				boot.Parts{Kernel: []byte("a kernel"), Ramdisk: rd})
			if err != nil {
				t.Fatalf("boot.Build: %v", err)
			}
			put(t, k.at("x.img"), img)
			f, err := Identify(k.at("x.img"), ident.Options{})
			if err != nil || f.Kind != c.kind || f.Damage != "" {
				t.Fatalf("it is %v, damaged %q, %v; want %v", f.Kind, f.Damage, err, c.kind)
			}
		})
	}
}

// TestRamdiskUnknown: a ramdisk in a form that nothing here reads is not damaged, and goes nowhere by itself.
func TestRamdiskUnknown(t *testing.T) {
	k := kitchen{t, t.TempDir()}
	// The mark of lzop, which kernels may read too (lib/decompress_unlzo.c).
	img, err := boot.Build(boot.Image{HeaderVersion: 2, PageSize: 2048},
		boot.Parts{Kernel: []byte("a kernel"),
			Ramdisk: []byte("\x89LZO\x00\r\n\x1a\nand what follows")})
	if err != nil {
		t.Fatalf("boot.Build: %v", err)
	}
	put(t, k.at("x.img"), img)
	f, err := Identify(k.at("x.img"), ident.Options{})
	if err != nil || f.Damage != "" || len(f.GoesTo) > 0 || !strings.Contains(strings.Join(f.Notes, " "),
		"not read here") {
		t.Errorf("it is %+v, goes to %v, damaged %q, notes %q, %v", f.Kind, f.GoesTo, f.Damage, f.Notes, err)
	}
}
