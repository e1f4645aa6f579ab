package e2e

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"

	"jarlid/internal/standin/scenario"
)

// damagedWays gives downloads that were cut short, as they are and packed, and pages saved as files, to
// every command that takes a file.
func damagedWays(l *lab) []way {
	l.readyForPackages(files.Recovery)
	whole := filepath.Join(l.dir, "recovery.img")
	write(l, whole, must(os.ReadFile(files.Recovery)))
	write(l, filepath.Join(l.dir, "system.img"), bytes.Repeat([]byte("system"), 20000))
	for _, pack := range [][]string{{"gzip", "-nk", "recovery.img"}, {"xz", "-k", "recovery.img"},
		{"zip", "-q", "recovery.zip", "recovery.img"}, {"tar", "cf", "recovery.tar", "recovery.img"},
		{"gzip", "-nk", "system.img"}} {
		l.tool(pack[0], pack[1:]...)
	}
	broken := must(os.ReadFile(whole[:len(whole)-len("img")] + "zip"))
	broken[len(broken)/2] ^= 0xff
	bad := l.file("broken.zip", broken)
	zip, gsi := l.half(files.Package), l.half(filepath.Join(gsiFolder(), generics["arm64"]))
	log := l.half(l.file("fieldlog.apk", must(scenario.FieldLog.Package())))
	table := l.half(filepath.Join(l.dir, "system.img.gz"))
	const s = "stop  damaged-file"
	ways := []way{w(3, s, "sideload", zip), w(3, s, "put", zip, "--to", "storage"),
		w(3, s, "put", zip, "--to", "storage", "--install"), w(3, s, "fit", gsi),
		w(3, s, "flash", gsi, "--into", "system"), w(3, "damaged", "app", log),
		w(3, s, "sideload", files.Package, "--recovery-after", l.half(whole)),
		w(3, s, "flash", table, "--into", "system"),
		l.bySheet(6, s, "check", "  - sideload: x\n", zip), l.bySheet(3, s, "run", "  - flash: x\n",
			l.half(whole))}
	for _, path := range []string{l.half(whole), l.half(whole + ".gz"), l.half(whole + ".xz"),
		l.half(filepath.Join(l.dir, "recovery.tar")), bad} {
		ways = append(ways, w(3, s, "recovery", "install", path), w(3, s, "recovery", "try", path),
			w(3, s, "flash", path), w(6, "damaged", "ident", path), w(6, "do not use it", "proof", path),
			w(1, "fail", "lift", path, "-o", filepath.Join(l.dir, "out-"+filepath.Base(path))))
	}
	page := []byte("<!doctype html><html></html>")
	zipPage, image, app := l.file("page.zip", page), l.file("page.img", page), l.file("page.apk", page)
	return append(ways, w(3, "web page", "sideload", zipPage), w(3, "web page", "flash", zipPage),
		w(0, "web page", "ident", zipPage), w(3, "web page", "put", zipPage, "--to", "storage"),
		w(3, "web page", "app", app), w(3, "web page", "recovery", "install", image),
		w(3, "web page", "recovery", "try", image), w(3, "web page", "fit", image),
		l.bySheet(6, "web page", "check", "  - flash: x\n", image))
}

// missingPieceWays takes images in pieces, of which one is missing, to every command that would put
// them together. The set is three sparse pieces by every form of their names; a list with its data;
// and volumes of archives.
func missingPieceWays(l *lab) []way {
	l.standin("dunlin")
	const s = "stop  damaged-file"
	var ways []way
	for i, form := range []string{"system.img_sparsechunk.%d", "system_%d.img", "system.img.%d",
		"system-part%d.img",
		"system (%d).img", "system_chunk%d.simg"} {
		dir, first := filepath.Join(l.dir, fmt.Sprint("form", i)), ""
		if err := os.MkdirAll(dir, 0o700); err != nil {
			l.Fatalf("os.MkdirAll(%s): %v", dir, err)
		}
		for n := range 4 {
			if path := l.file(filepath.Join(fmt.Sprint("form", i), fmt.Sprintf(form, n)), piece(n,
				4)); n == 0 {
				first = path
			} else if n == 2 {
				if err := os.Remove(path); err != nil {
					l.Fatalf("os.Remove(%s): %v", path, err)
				}
			}
		}
		ways = append(ways, w(3, s, "flash", first, "--into", "system"), w(3, s, "flash", dir),
			w(6, "2 is not there", "ident", first), w(6, "2 is not there", "proof", first),
			w(1, "2 is not there", "lift", first, "-o", filepath.Join(l.dir, fmt.Sprint("out", i))),
			l.bySheet(6, s, "check", "  - flash: x\n", first))
	}
	write(l, filepath.Join(l.dir, "boot.img"), must(os.ReadFile(files.Recovery)))
	l.tool("7z", "a", "-bso0", "-v100k", "boot.7z", "boot.img")
	l.tool("zip", "-q", "-s", "64k", "boot.zip", "boot.img")
	for _, names := range [][2]string{{"boot.7z.001", "boot.7z.002"}, {"boot.zip", "boot.z01"}} {
		if err := os.Remove(filepath.Join(l.dir, names[1])); err != nil {
			l.Fatalf("os.Remove(%s): %v", names[1], err)
		}
		path := filepath.Join(l.dir, names[0])
		ways = append(ways, w(3, "stop  still-wrapped", "flash", path), w(0, "put them together", "ident",
			path),
			w(3, "stop  still-wrapped", "recovery", "install", path), w(1, "put them together", "proof",
				path),
			w(1, "put them together", "lift", path, "-o", filepath.Join(l.dir, "out-"+names[0])))
	}
	if err := os.MkdirAll(filepath.Join(l.dir, "list"), 0o700); err != nil {
		l.Fatalf("os.MkdirAll(list): %v", err)
	}
	for _, n := range []int{0, 1, 3} {
		l.file(fmt.Sprint("list/system.new.dat.", n), make([]byte, 4096))
	}
	list := l.file("list/system.transfer.list", []byte("1\n4\nnew 2,0,4\n"))
	return append(ways, w(3, s, "flash", list), w(6, "2 is not there", "ident", list),
		w(6, "2 is not there", "proof", list), w(1, "2 is not there", "lift", list, "-o", l.dir+"/out-list"))
}

// piece is number n of an image of count blocks of 4 KiB as sparse pieces of one block each
// (libsparse, sparse_format.h).
func piece(n, count int) []byte {
	le := binary.LittleEndian
	b := []byte{0x3a, 0xff, 0x26, 0xed, 1, 0, 0, 0, 28, 0, 12, 0}
	for _, v := range []uint32{4096, uint32(count), 3, 0} {
		b = le.AppendUint32(b, v)
	}
	chunk := func(typ uint16, blocks, size uint32) {
		b = le.AppendUint16(b, typ)
		b = le.AppendUint32(append(b, 0, 0), blocks)
		b = le.AppendUint32(b, size)
	}
	chunk(0xcac3, uint32(n), 12)
	chunk(0xcac1, 1, 12+4096)
	b = append(b, bytes.Repeat([]byte{byte('A' + n)}, 4096)...)
	chunk(0xcac3, uint32(count-1-n), 12)
	return b
}
