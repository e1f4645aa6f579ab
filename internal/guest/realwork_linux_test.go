package guest

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

var (
	realFrom  = flag.Int("real", 1, "the first seed of the recoveries of real parts")
	realSeeds = flag.Int("seeds", 10, "how many recoveries of real parts")
)

// TestInReal works on recoveries that are put together from real parts, each from a seed: a real shell, real
// tools, a real kernel's block devices and file systems. After each command the disk is read from outside,
// and no claim contradicts it.
func TestInReal(t *testing.T) {
	onlyInside(t)
	for n := *realFrom; n < *realFrom+*realSeeds; n++ {
		t.Run(fmt.Sprint(n), func(t *testing.T) { workOn(t, n) })
	}
}

func workOn(t *testing.T, n int) {
	seed := seedOf(n)
	t.Logf("seed %d: %+v", n, seed)
	r := newReal(t, seed)
	d := newDesk(t)
	on := func(args ...string) []string { return append(args, "--on", r.at) }
	d.want(0, []string{"in recovery"}, on("card")...)

	// Partitions: kept, written, and written back.
	kept := filepath.Join(d.dir, "kept")
	before := bytes.Clone(r.held("boot"))
	d.want(0, nil, on("backup", "take", "boot", "misc", "-o", kept)...)
	b, err := os.ReadFile(filepath.Join(kept, "boot.img"))
	if err != nil || !bytes.Equal(b, before) {
		t.Errorf("the backup holds %d bytes and not what boot does: %v", len(b), err)
	}
	image, err := os.ReadFile(realImage)
	r.must("os.ReadFile(recovery)", err)
	d.claims(r, "recovery", func() bool { return bytes.HasPrefix(r.held("recovery"), image) },
		on("recovery", "install", realImage, "--yes"))

	// The storage: put, kept, erased by itself, put back.
	put := filepath.Join(d.dir, "counts.csv")
	r.must("os.WriteFile(counts.csv)", os.WriteFile(put, []byte(strings.Repeat("dunlin 214\n", 9000)), 0o644))
	inData := func(name string) bool {
		return bytes.Contains(r.held("userdata"), []byte(name))
	}
	d.claims(r, "storage", func() bool {
		return inData("counts.csv")
	}, on("put", put, "--to", "storage", "--yes"))
	d.claims(r, "storage", func() bool {
		b, err := os.ReadFile(filepath.Join(d.dir, "files", "storage", "counts.csv"))
		return err == nil && len(b) == 99000
	}, on("backup", "take", "storage", "-o", filepath.Join(d.dir, "files")))
	d.claims(r, "storage", func() bool {
		return !r.lists("counts.csv")
	}, on("wipe", "storage", "--yes", "--accept",
		"storage-holds-package"))
	d.claims(r, "storage", func() bool { return r.lists("counts.csv") },
		on("backup", "restore", "storage", "-o", filepath.Join(d.dir, "files"), "--yes"))

	// File systems.
	d.claims(r, "cache", func() bool { return true }, on("wipe", "caches", "--yes"))
	old := bytes.Clone(r.held("userdata")[:64<<10])
	d.claims(r, "userdata", func() bool {
		return !bytes.Equal(old, r.held("userdata")[:64<<10]) && !r.lists("counts.csv")
	},
		on("wipe", "userdata", "--yes", "--accept", "storage-holds-package"))
	d.claims(r, "storage", func() bool {
		return r.lists("counts.csv")
	}, on("put", put, "--to", "storage", "--yes"))
	d.claims(r, "system", func() bool {
		return bytes.Contains(r.held("system")[1024:2048], []byte{0x53, 0xef})
	},
		on("wipe", "system", "--yes"))
}

// claims runs a command that ends with 0, and compares that with the disk.
func (d *workplace) claims(r *realRecovery, what string, shows func() bool, args []string) {
	d.Helper()
	out := d.want(0, nil, args...)
	if !shows() {
		d.Errorf("%s: jarlid %s ends with 0, and the disk does not show it:\n%s", what,
			strings.Join(args, " "), out)
	}
}

// lists reports whether a file is in the storage, whatever the recovery has mounted: the file system is
// mounted at another place.
func (r *realRecovery) lists(name string) bool {
	r.Helper()
	at := filepath.Join(r.TempDir(), "seen")
	r.must("os.MkdirAll(seen)", os.MkdirAll(at, 0o755))
	r.must("mount seen", unix.Mount(r.device("userdata"), at, r.seed.data, 0, ""))
	_, err := os.Stat(filepath.Join(at, "media", "0", name))
	r.must("unmount seen", unix.Unmount(at, 0))
	return err == nil
}
