package files

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/finding"
	"jarlid/internal/e2e/witness"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
)

// contents are bytes with runs of zeros.
func contents(blocks int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, blocks*4096)
	for i := 0; i < blocks; i += 1 + int(seed%3) {
		for k := range 4096 {
			b[i*4096+k] = byte(r.Uint32())
		}
	}
	return b
}

// kitchen makes files in a folder with general tools; a test of a tool that is not there is left out.
type kitchen struct {
	*testing.T
	dir string
}

func (k kitchen) at(name string) string { return filepath.Join(k.dir, name) }

func (k kitchen) tool(name string, args ...string) {
	k.Helper()
	c := exec.Command(witness.Tool(k, name), args...)
	c.Dir = k.dir
	if out, err := c.CombinedOutput(); err != nil {
		k.Fatalf("c.CombinedOutput(): %s %v: %v; want no error\n%s", name, args, err, out)
	}
}

// cut writes an image as sparse pieces.
func (k kitchen) cut(b []byte, form string) (names []string) {
	k.Helper()
	c, err := sparse.Cut(bytes.NewReader(b), int64(len(b)), 40<<10)
	if err != nil {
		k.Fatalf("sparse.Cut(bytes.NewReader(b), int64(len(b)), 40<<10): %v", err)
	}
	for {
		p, err := c.Next()
		if err != nil {
			return names
		}
		var w bytes.Buffer
		if err := p.WriteTo(&w, bytes.NewReader(b)); err != nil {
			k.Fatalf("p.WriteTo(&w, bytes.NewReader(b)): %v", err)
		}
		names = append(names, fmt.Sprintf(form, len(names)))
		put(k.T, k.at(names[len(names)-1]), w.Bytes())
	}
}

// list writes an image as a block list with its data, which it gives.
func (k kitchen) list(b []byte, base string) (data []byte) {
	n, h := len(b)/4096, len(b)/4096/2
	put(k.T, k.at(base+".transfer.list"),
		fmt.Appendf(nil, "4\n%d\n0\n0\nerase 2,0,%d\nnew 2,%d,%d\nnew 2,0,%d\n", n, n, h, n, h))
	put(k.T, k.at(base+".patch.dat"), nil)
	return append(bytes.Clone(b[h*4096:]), b[:h*4096]...)
}

// holes makes a tar of an image with holes and one without.
func (k kitchen) holes(form ...string) string {
	k.Helper()
	system := contents(120, 2)
	f, err := os.Create(k.at("system.img"))
	if err != nil {
		k.Fatalf("os.Create(system.img): %v", err)
	}
	defer f.Close()
	for _, at := range []int64{0, int64(len(system)) + 1<<20} {
		if _, err := f.WriteAt(system, at); err != nil {
			k.Fatalf("writing at %d: %v", at, err)
		}
	}
	if err := f.Truncate(2 * (int64(len(system)) + 1<<20)); err != nil {
		k.Fatalf("f.Truncate: %v", err)
	}
	put(k.T, k.at("boot.img"), contents(20, 3))
	k.tool("tar", append(append([]string{"--sparse"}, form...), "-cf", "set.tar", "system.img",
		"boot.img")...)
	for _, n := range []string{"system.img", "boot.img"} {
		if err := os.Remove(k.at(n)); err != nil {
			k.Fatalf("os.Remove(%s): %v", n, err)
		}
	}
	return "set.tar"
}

// TestDownloads: what technicians have, in the forms it comes in, made by the tools that make them.
func TestDownloads(t *testing.T) {
	system, boot := contents(120, 2), contents(20, 3)
	holes := slices.Concat(system, make([]byte, 1<<20), system, make([]byte, 1<<20))
	type want map[string][]byte
	for _, c := range []struct {
		what  string
		make  func(k kitchen) (file string)
		items []string
		want  want
		no    string // what the error says
	}{
		{what: "sparse pieces", make: func(k kitchen) string {
			return k.cut(system, "super.img_sparsechunk.%d")[2]
		}, want: want{"super.raw.img": system}},
		{what: "sparse pieces named as volumes are", make: func(k kitchen) string {
			for i, n := range k.cut(system, "piece.%d") {
				if err := os.Rename(k.at(n), k.at(fmt.Sprintf("super.img.%03d", i))); err != nil {
					k.Fatalf("os.Rename(k.at(n), ...): %v", err)
				}
			}
			return "super.img.001"
		}, want: want{"super.raw.img": system}},
		{what: "a piece is missing", make: func(k kitchen) string {
			os.Remove(k.at(k.cut(system, "super.img_sparsechunk.%d")[1]))
			return "super.img_sparsechunk.0"
		}, no: "number 1 is not there"},
		{what: "a piece is missing of names with a line", make: func(k kitchen) string {
			os.Remove(k.at(k.cut(system, "system_%d.img")[2]))
			return "system_0.img"
		}, no: "number 2 is not there"},
		{what: "a piece is missing of names with a number at the end", make: func(k kitchen) string {
			os.Remove(k.at(k.cut(system, "system.img.%d")[1]))
			return "system.img.0"
		}, no: "number 1 is not there"},
		{what: "a piece is missing of names with brackets", make: func(k kitchen) string {
			os.Remove(k.at(k.cut(system, "system (%d).img")[1]))
			return "system (0).img"
		}, no: "number 1 is not there"},
		{what: "a piece is missing of parts", make: func(k kitchen) string {
			os.Remove(k.at(k.cut(system, "system.part%d.img")[1]))
			return "system.part0.img"
		}, no: "number 1 is not there"},
		{what: "pieces with brackets", make: func(k kitchen) string {
			return k.cut(system, "system (%d).img")[1]
		}, want: want{"system.raw.img": system}},
		{what: "pieces with a line", make: func(k kitchen) string {
			return k.cut(system, "system_%d.img")[1]
		}, want: want{"system.raw.img": system}},
		{what: "a piece of another image", make: func(k kitchen) string {
			names := k.cut(system, "super.img_sparsechunk.%d")
			k.cut(boot, "%d.other")
			if err := os.Rename(k.at("0.other"), k.at(names[1])); err != nil {
				k.Fatalf("os.Rename(k.at('0.other'), k.at(names[1])): %v", err)
			}
			return names[0]
		}, no: "they are no pieces of one"},
		{what: "two versions whose names are alike", make: func(k kitchen) string {
			for i, b := range [][]byte{system, boot} {
				c, err := sparse.Cut(bytes.NewReader(b), int64(len(b)), 1<<30)
				if err != nil {
					k.Fatalf("sparse.Cut(bytes.NewReader(b), int64(len(b)), 1<<30): %v", err)
				}
				p, err := c.Next()
				if err != nil {
					k.Fatalf("c.Next(): %v", err)
				}
				var w bytes.Buffer
				if err := p.WriteTo(&w, bytes.NewReader(b)); err != nil {
					k.Fatalf("p.WriteTo(&w, bytes.NewReader(b)): %v", err)
				}
				put(k.T, k.at(fmt.Sprint("gsi-4.", i+1)), w.Bytes())
			}
			return "gsi-4.2"
		}, want: want{"gsi-4.raw.img": boot}},
		{what: "a loose list", make: func(k kitchen) string {
			put(k.T, k.at("system.new.dat"), k.list(system, "system"))
			return "system.transfer.list"
		}, want: want{"system.img": system}},
		{what: "a loose list with brotli, by its data", make: func(k kitchen) string {
			put(k.T, k.at("system.new.dat"), k.list(system, "system"))
			k.tool("brotli", "-q", "1", "--rm", "system.new.dat")
			return "system.new.dat.br"
		}, want: want{"system.img": system}},
		{what: "a loose list with numbered data", make: func(k kitchen) string {
			data := k.list(system, "system")
			for i := range 12 {
				put(k.T, k.at(fmt.Sprint("system.new.dat.", i)), data[i*len(data)/12:(i+1)*len(data)/12])
			}
			return "system.transfer.list"
		}, want: want{"system.img": system}},
		{what: "data numbered after it was compressed", make: func(k kitchen) string {
			put(k.T, k.at("system.new.dat"), k.list(system, "system"))
			k.tool("brotli", "-q", "1", "--rm", "system.new.dat")
			data, err := os.ReadFile(k.at("system.new.dat.br"))
			if err != nil {
				k.Fatalf("os.ReadFile(k.at('system.new.dat.br')): %v", err)
			}
			for i := range 11 {
				put(k.T, k.at(fmt.Sprint("system.new.dat.br.", i)), data[i*len(data)/11:(i+1)*len(data)/11])
			}
			if err := os.Remove(k.at("system.new.dat.br")); err != nil {
				k.Fatalf("os.Remove(k.at('system.new.dat.br')): %v", err)
			}
			return "system.new.dat.br.3"
		}, want: want{"system.img": system}},
		{what: "numbered data with a gap", make: func(k kitchen) string {
			data := k.list(system, "system")
			for _, i := range []int{0, 2} {
				put(k.T, k.at(fmt.Sprint("system.new.dat.", i)), data[i*len(data)/3:(i+1)*len(data)/3])
			}
			return "system.transfer.list"
		}, no: "number 1 is not there"},
		{what: "a list without its data", make: func(k kitchen) string {
			k.list(system, "system")
			return "system.transfer.list"
		}, no: "the data of system"},
		{what: "data without its list", make: func(k kitchen) string {
			put(k.T, k.at("system.new.dat"), system)
			return "system.new.dat"
		}, no: "system.transfer.list, which says where its blocks go"},
		{what: "more data than the list places", make: func(k kitchen) string {
			put(k.T, k.at("system.new.dat"), append(k.list(system, "system"), 1))
			return "system.transfer.list"
		}, no: "more bytes than the list places"},
		{what: "something behind a brotli stream", make: func(k kitchen) string {
			put(k.T, k.at("system.new.dat"), k.list(system, "system"))
			k.tool("brotli", "-q", "1", "--rm", "system.new.dat")
			b, err := os.ReadFile(k.at("system.new.dat.br"))
			if err != nil {
				k.Fatalf("os.ReadFile(k.at('system.new.dat.br')): %v", err)
			}
			put(k.T, k.at("system.new.dat.br"), append(b, "more"...))
			return "system.transfer.list"
		}, no: "goes on with something that is no br data"},
		{what: "a package with images beside its list", make: func(k kitchen) string {
			put(k.T, k.at("system.new.dat"), k.list(system, "system"))
			put(k.T, k.at("boot.img"), boot)
			k.tool("zip", "-q", "rom.zip", "system.new.dat", "system.transfer.list", "system.patch.dat",
				"boot.img")
			return "rom.zip"
		}, want: want{"system.img": system, "boot.img": boot}},
		{what: "sparse members, GNU", make: func(k kitchen) string {
			return k.holes("--format=gnu")
		}, want: want{"system.img": holes, "boot.img": boot}},
		{what: "sparse members, old GNU", make: func(k kitchen) string {
			return k.holes("--format=oldgnu")
		}, want: want{"system.img": holes, "boot.img": boot}},
		{what: "sparse members, pax 0.0", make: func(k kitchen) string {
			return k.holes("--format=posix", "--sparse-version=0.0")
		}, want: want{"system.img": holes, "boot.img": boot}},
		{what: "sparse members, pax 0.1", make: func(k kitchen) string {
			return k.holes("--format=posix", "--sparse-version=0.1")
		}, want: want{"system.img": holes, "boot.img": boot}},
		{what: "sparse members, pax 1.0", make: func(k kitchen) string {
			return k.holes("--format=posix", "--sparse-version=1.0")
		}, want: want{"system.img": holes, "boot.img": boot}},
		{what: "tar in gz", make: func(k kitchen) string {
			return k.set(system, boot, "set.tgz", "-z")
		}, want: want{"system.img": system, "boot.img": boot}},
		{what: "tar in xz", make: func(k kitchen) string {
			return k.set(system, boot, "set.tar.xz", "-J")
		}, want: want{"system.img": system, "boot.img": boot}},
		{what: "tar in zst, one member", make: func(k kitchen) string {
			return k.set(system, boot, "set.tar.zst", "--zstd")
		}, items: []string{"boot"}, want: want{"boot.img": boot}},
		{what: "a tar in a zip", make: func(k kitchen) string {
			k.set(system, boot, "set.tar.gz", "-z")
			k.tool("zip", "-q", "all.zip", "set.tar.gz", "readme.txt")
			return "all.zip"
		}, want: want{"set.tar.gz/system.img": system, "set.tar.gz/boot.img": boot}},
		{what: "one member of a tar in a zip", make: func(k kitchen) string {
			k.set(system, boot, "set.tar.gz", "-z")
			k.tool("zip", "-q", "all.zip", "set.tar.gz", "readme.txt")
			return "all.zip"
		}, items: []string{"set.tar.gz/readme.txt"}, want: want{"set.tar.gz/readme.txt": []byte("read me")}},
		{what: "a damaged archive among other files", make: func(k kitchen) string {
			put(k.T, k.at("old.tar"), bytes.Repeat([]byte("no tar "), 200))
			put(k.T, k.at("readme.txt"), []byte("read me"))
			k.tool("zip", "-q", "all.zip", "old.tar", "readme.txt")
			return "all.zip"
		}, want: want{"old.tar": bytes.Repeat([]byte("no tar "), 200), "readme.txt": []byte("read me")}},
		{what: "a zip with a password", make: func(k kitchen) string {
			k.set(system, boot, "set.tar", "")
			k.tool("zip", "-q", "-P", "secret", "set.zip", "boot.img", "system.img")
			return "set.zip"
		}, no: "protected with a password"},
		{what: "a 7z with a password", make: func(k kitchen) string {
			k.set(system, boot, "set.tar", "")
			k.tool("7z", "a", "-bso0", "-psecret", "set.7z", "boot.img")
			return "set.7z"
		}, no: "protected with a password"},
		{what: "a 7z whose table is protected", make: func(k kitchen) string {
			k.set(system, boot, "set.tar", "")
			k.tool("7z", "a", "-bso0", "-psecret", "-mhe=on", "set.7z", "boot.img")
			return "set.7z"
		}, no: "protected with a password"},
		{what: "a volume", make: func(k kitchen) string {
			k.set(system, boot, "set.tar", "")
			k.tool("7z", "a", "-bso0", "-v100k", "set.7z", "boot.img", "system.img")
			return "set.7z.002"
		}, no: "one volume of several"},
		{what: "a solid 7z, two members", make: func(k kitchen) string {
			k.set(system, boot, "set.tar", "")
			k.tool("7z", "a", "-bso0", "-ms=on", "set.7z", "boot.img", "system.img", "readme.txt")
			return "set.7z"
		}, items: []string{"system.img", "boot.img"}, want: want{"system.img": system, "boot.img": boot}},
		{what: "a window of 512 MiB", make: func(k kitchen) string {
			put(k.T, k.at("system.img"), system)
			k.tool("sh", "-c", "command -v zstd >/dev/null && zstd -q --long=29 < system.img > "+
				"system.img.zst || cp system.img system.img.zst")
			return "system.img.zst"
		}, no: "--max-memory 512MiB"},
		{what: "a folder of a file system", make: func(k kitchen) string {
			put(k.T, k.at("tree/etc/one"), []byte("1"))
			put(k.T, k.at("tree/etc/sub/two"), boot)
			put(k.T, k.at("tree/other"), []byte("3"))
			k.tool("mkfs.ext4", "-q", "-F", "-d", "tree", "fs.img", "8M")
			return "fs.img"
		}, items: []string{"etc"}, want: want{"etc/one": []byte("1"), "etc/sub/two": boot}},
		{what: "a folder of a packed file system", make: func(k kitchen) string {
			put(k.T, k.at("tree/etc/one"), []byte("1"))
			put(k.T, k.at("tree/etc/sub/two"), boot)
			k.tool("mkfs.erofs", "-zlz4", "fs.img", "tree")
			return "fs.img"
		}, items: []string{"/etc/"}, want: want{"etc/one": []byte("1"), "etc/sub/two": boot}},
	} {
		t.Run(c.what, func(t *testing.T) {
			k := kitchen{t, t.TempDir()}
			name := c.make(k)
			got, err := takeAll(t, k.at(name), c.items)
			if c.no != "" {
				if err == nil || !strings.Contains(err.Error(), c.no) {
					t.Errorf("%v, want %q", err, c.no)
				}
				return
			}
			if err != nil {
				t.Fatalf("takeAll(k.at(name), c.items): %v", err)
			}
			if len(got) != len(c.want) {
				t.Errorf("%d files were taken, want %d", len(got), len(c.want))
			}
			for name, b := range c.want {
				if !bytes.Equal(got[name], b) {
					t.Errorf("%s differs: %d bytes, want %d", name, len(got[name]), len(b))
				}
			}
		})
	}
}

// set makes a tar of two images and a text.
func (k kitchen) set(system, boot []byte, name, how string) string {
	put(k.T, k.at("system.img"), system)
	put(k.T, k.at("boot.img"), boot)
	put(k.T, k.at("readme.txt"), []byte("read me"))
	args := []string{"-cf", name, "boot.img", "system.img", "readme.txt"}
	if how != "" {
		args = append([]string{how}, args...)
	}
	k.tool("tar", args...)
	return name
}

// takeAll lifts as the command does, and gives what was written.
func takeAll(t *testing.T, path string, names []string) (map[string][]byte, error) {
	t.Helper()
	f, size, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	folder := BesideOf(path)
	defer folder.Close()
	src, err := lift.Open(f, size, path, lift.Options{Beside: folder, Spool: Spool(1 << 30)})
	if err != nil {
		return nil, err
	}
	defer src.Close()
	items, err := src.Pick(names)
	if err != nil {
		return nil, err
	}
	out := t.TempDir()
	root, err := os.OpenRoot(out)
	if err != nil {
		t.Fatalf("os.OpenRoot(out): %v", err)
	}
	defer root.Close()
	k := Taking{Dir: out, Root: root, Names: &local.Names{}, Working: func(string, string, int64) (
		func(int64), func()) {
		return func(int64) {}, func() {}
	}}
	got := map[string][]byte{}
	for _, it := range items {
		if _, err := k.Take(context.Background(), it); err != nil {
			return nil, err
		}
		b, err := os.ReadFile(filepath.Join(out, filepath.FromSlash(it.Name)))
		if err != nil {
			t.Fatalf("os.ReadFile(...): %v", err)
		}
		got[it.Name] = b
	}
	return got, nil
}

// TestGatherPieces: of a folder and of a list, pieces and block lists come in once, whole.
func TestGatherPieces(t *testing.T) {
	system, super := contents(120, 2), contents(90, 5)
	k := kitchen{t, t.TempDir()}
	put(t, k.at("system.new.dat"), k.list(system, "system"))
	pieces := k.cut(super, "product.img_sparsechunk.%d")
	var paths []string
	for _, n := range pieces {
		paths = append(paths, k.at(n))
	}
	for what, args := range map[string][]string{"the folder": {k.dir},
		"a list of files": append(paths, k.at("system.transfer.list"), k.at("system.new.dat"))} {
		m, err := Gather(context.Background(), args, Gathering{Home: t.TempDir()})
		if err != nil {
			t.Fatalf("Gather(context.Background(), args, ...): got %v, %v", what, err)
		}
		got := map[string]bool{}
		for _, im := range m.Images {
			r, size, done, err := OpenImage(im.File.Path)
			if err != nil {
				t.Fatalf("OpenImage(im.File.Path): %v", err)
			}
			b := make([]byte, size)
			if _, err := r.ReadAt(b, 0); err != nil {
				t.Fatalf("r.ReadAt(b, 0): %v", err)
			}
			done()
			got[im.Label] = bytes.Equal(b, system) || bytes.Equal(b, super)
		}
		if len(m.Images) != 2 || !got["product.img"] || !got["system.img"] {
			t.Errorf("Gather(context.Background(), args, ...): %s: %v; unwanted: len(m.Images) != 2 || "+
				"!got['product.img'] || !got['system.img']", what, got)
		}
		m.Close()
	}
	if err := os.Remove(paths[1]); err != nil {
		t.Fatalf("os.Remove(paths[1]): %v", err)
	}
	var stop *finding.StopError
	if _, err := Gather(context.Background(), paths[:1], Gathering{Home: t.TempDir()}); !errors.As(
		err, &stop) ||
		stop.Findings[0].Name != finding.DamagedFile || !strings.Contains(stop.Findings[0].Text,
		"number 1 is not there") {
		t.Errorf("with a piece missing: %v", err)
	}
}

// TestGatherNested: a set may are in an archive within an archive; one that holds none, and one
// that can't be looked into, stay what they are.
func TestGatherNested(t *testing.T) {
	k := kitchen{t, t.TempDir()}
	k.set(contents(120, 2), contents(20, 3), "set.tar.gz", "-z")
	put(t, k.at("old.tar"), bytes.Repeat([]byte("no tar "), 200))
	k.tool("zip", "-q", "all.zip", "set.tar.gz", "readme.txt")
	k.tool("zip", "-q", "texts.zip", "readme.txt")
	k.tool("zip", "-q", "broken.zip", "old.tar", "readme.txt")
	for name, labels := range map[string]string{
		"all.zip":    "set.tar.gz/boot.img set.tar.gz/system.img",
		"texts.zip":  "",
		"broken.zip": "",
	} {
		m, err := Gather(context.Background(), []string{k.at(name)}, Gathering{Home: t.TempDir()})
		if err != nil {
			t.Fatalf("Gather(context.Background(), ..., ...): got %v, %v", name, err)
		}
		var got []string
		for _, im := range m.Images {
			got = append(got, im.Label)
		}
		if strings.Join(got, " ") != labels || len(m.Images) == 0 || (m.Set != "") != (labels != "") ||
			(m.Images[0].File.Kind == ident.Archive) != (labels == "") {
			t.Errorf("%s: %q of set %q, the first is %s", name, got, m.Set, m.Images[0].File.Kind)
		}
		m.Close()
	}
}

// TestMany: what is counted is counted, and one of many is there at once.
func TestMany(t *testing.T) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	const n = 30_000
	for i := range n {
		w, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("d%d/f%d", i/1000, i)})
		if err != nil {
			t.Fatalf("z.CreateHeader(...): %v", err)
		}
		fmt.Fprint(w, i)
	}
	z.Close()
	path := put(t, filepath.Join(t.TempDir(), "many.zip"), b.Bytes())
	f, err := Identify(path, ident.Options{})
	if err != nil || !strings.Contains(f.Words(), "30000 files") {
		t.Errorf("Identify(%v, ...): %s, %v; unwanted: err != nil || !strings.Contains(f.Words(), '30000 "+
			"files')", path, f.Words(), err)
	}
	got, err := takeAll(t, path, []string{"d29/f29999"})
	if err != nil || string(got["d29/f29999"]) != "29999" || len(got) != 1 {
		t.Errorf("takeAll(%v, ...): %v, %v", path, got, err)
	}
}

// TestDisks: what no phone takes is recognised, made by the tools that make it.
func TestDisks(t *testing.T) {
	for _, c := range []struct {
		what string
		make func(k kitchen)
		want ident.Kind
		says string
	}{
		{"squashfs", func(k kitchen) {
			k.tool("mksquashfs", "tree", "out", "-quiet")
		}, ident.SquashFS, "squashfs"},
		{"a disc", func(k kitchen) {
			k.tool("xorriso", "-as", "mkisofs", "-quiet", "-V", "SHORE", "-o", "out", "tree")
		}, ident.ISO, "SHORE"},
		{"qcow2", func(k kitchen) {
			k.tool("qemu-img", "create", "-q", "-f", "qcow2", "out", "1M")
		}, ident.Qcow2, "qcow2"},
		{"a partition table", func(k kitchen) {
			k.tool("truncate", "-s", "4M", "out")
			k.tool("sgdisk", "-n", "1:2048:4095", "-c", "1:boot_a", "out")
		}, ident.Disk, "whole disk"},
		{"a kernel", func(k kitchen) {
			// Documentation/arch/arm64/booting.rst: "MZ" of the EFI stub, the magic at 56
			b := make([]byte, 4096)
			copy(b, "MZ")
			copy(b[56:], "ARMd")
			copy(b[1000:], "Linux version 6.1.99-shore (a@b) #1\x00")
			put(k.T, k.at("out"), b)
		}, ident.Kernel, "6.1.99-shore"},
		{"a FAT file system", func(k kitchen) {
			k.tool("truncate", "-s", "4M", "out")
			k.tool("mkfs.vfat", "out")
		}, ident.Unknown, ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			k := kitchen{t, t.TempDir()}
			put(t, k.at("tree/file"), []byte("x"))
			c.make(k)
			f, err := Identify(k.at("out"), ident.Options{})
			if err != nil {
				t.Fatalf("Identify(k.at('out'), ...): %v", err)
			}
			if text := f.Words() + strings.Join(f.Lines(), "\n"); f.Kind != c.want || f.Damage != "" ||
				!strings.Contains(text, c.says) {
				t.Errorf("%s, %s, damage %q", f.Kind, text, f.Damage)
			}
			if c.want == ident.Kernel {
				return
			}
			if _, err := takeAll(t, k.at("out"), nil); !errors.Is(err, lift.ErrNothing) {
				t.Errorf("lift says %v", err)
			}
		})
	}
}

var _ image.Folder = (*Folder)(nil)
