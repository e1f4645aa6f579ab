package guest

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

var (
	realFrom  = flag.Int("real", 1, "the first seed of the recoveries of real parts")
	realSeeds = flag.Int("seeds", 1, "how many recoveries of real parts")
)

// TestReal runs ten seeds of TestInReal (or -seeds) on this computer's kernel, in the time of one in a guest:
// as root, in a mount namespace (unshare(2)), on loop devices. Without these the guest runs its seed alone.
func TestReal(t *testing.T) {
	kernel := kernelDir(t, wished(t))
	if os.Getuid() != 0 {
		t.Skip("mounting needs root")
	}
	if _, err := os.Stat("/dev/loop-control"); err != nil {
		t.Skipf("there are no loop devices here: %v", err)
	}
	dir := t.TempDir()
	test, err := os.Executable()
	if err != nil {
		t.Fatalf("os.Executable(): %v", err)
	}
	for _, d := range []string{"bin", "files"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			t.Fatalf("os.MkdirAll(%v): %v", d, err)
		}
	}
	key, err := os.ReadFile("../link/adb/testdata/key.pem")
	err = errors.Join(err, build("build", "-trimpath", "-o", filepath.Join(dir, "bin", "jarlid"),
		"jarlid/cmd/jarlid"),
		copyTree(filepath.Join(kernel, "parts"), filepath.Join(dir, "parts")),
		os.WriteFile(filepath.Join(dir, "files", "key.pem"), key, 0o600),
		makeReal(filepath.Join(dir, "files")))
	if err != nil {
		t.Fatalf("the files for it: %v", err)
	}
	cmd := exec.Command(test, "-test.run", "^TestInReal$", "-test.v", "-test.timeout", "2h", "-seeds",
		fmt.Sprint(max(10, *realSeeds)))
	if seed, ok := strings.CutPrefix(realOfDay(), " real="); ok {
		cmd.Args = append(cmd.Args, "-real", seed)
	}
	cmd.Env = append(os.Environ(), inside+"=1", onHost+"="+dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS}
	out, err := cmd.CombinedOutput()
	if errors.Is(err, syscall.EPERM) {
		t.Skip("this computer allows no mount namespace")
	}
	if err != nil {
		t.Errorf("TestInReal on this kernel: %v\n%s", err, out)
	}
}

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
	if os.Getenv(onHost) == "" {
		// What not every computer's kernel has: the file system, and a device mapper for super.
		seed.data, seed.kind = "f2fs", realKinds[len(realKinds)-1]
	}
	t.Logf("seed %d: %+v", n, seed)
	r := newReal(t, seed)
	d := newDesk(t)
	on := func(args ...string) []string { return append(args, "--on", r.at) }
	d.want(0, []string{"in recovery"}, on("card")...)

	// Partitions: kept, written, and written back.
	kept := filepath.Join(d.dir, "kept")
	boot := seed.kind.on("boot")
	d.want(0, nil, on("backup", "take", boot, "misc", "-o", kept)...)
	b, err := os.ReadFile(filepath.Join(kept, boot+".img"))
	if err != nil || !bytes.Equal(b, r.held(boot)) {
		t.Errorf("the backup holds %d bytes and not what boot does: %v", len(b), err)
	}
	d.installs(r, on)
	d.sends(r, on)
	if os.Getenv(onHost) != "" { // a guest is slow
		d.systemWork(r, on)
		d.noBootloader(r, on)
	} else {
		d.shelves(r, on)
	}

	// The storage: put, kept, erased by itself, put back.
	put := filepath.Join(d.dir, "counts.csv")
	r.must("os.WriteFile(counts.csv)", os.WriteFile(put, []byte(strings.Repeat("dunlin 214\n", 9000)), 0o644))
	d.claims(r, "storage", func() bool { return r.lists("counts.csv") },
		on("put", put, "--to", "storage", "--yes"))
	d.claims(r, "storage", func() bool {
		return !r.lists("counts.csv")
	}, on("wipe", "storage", "--yes", "--accept",
		"storage-holds-package"))
	// File systems.
	old := bytes.Clone(r.held("userdata")[:64<<10])
	d.claims(r, "userdata", func() bool {
		return !bytes.Equal(old, r.held("userdata")[:64<<10]) && !r.lists("counts.csv")
	},
		on("wipe", "userdata", "--yes", "--accept", "storage-holds-package"))
	d.claims(r, "storage", func() bool {
		return r.lists("counts.csv")
	}, on("put", put, "--to", "storage", "--yes"))
}

// installs has the recovery written to its home, and what was there before written back.
func (d *workplace) installs(r *realRecovery, on func(args ...string) []string) {
	d.Helper()
	k := r.seed.kind
	path := filepath.Join(base, "files", "real-"+k.device+".img")
	home, other := k.on(k.home), k.home+"_b"
	before := bytes.Clone(r.held(home))
	kept := filepath.Join(d.dir, "home")
	d.want(0, nil, on("backup", "take", home, "-o", kept)...)
	d.claims(r, "recovery", func() bool {
		if k.slots && !bytes.Equal(r.held(home), r.held(other)) {
			return false
		}
		if k.home == "recovery" {
			return r.begins(home, path)
		}
		return !bytes.Equal(before, r.held(home)) // its ramdisk is put into what was there
	}, on("recovery", "install", path, "--yes", "--accept", "pre-image-missing"))
	d.claims(r, "restore", func() bool { return bytes.Equal(before, r.held(home)) },
		on("backup", "restore", home, "-o", kept, "--yes", "--accept", "risky-partition"))
}

// noBootloader has an image flashed, which goes through the bootloader that this phone has none of.
func (d *workplace) noBootloader(r *realRecovery, on func(args ...string) []string) {
	d.Helper()
	boot := r.seed.kind.on("boot")
	before := bytes.Clone(r.held(boot))
	if code, out := d.run(on("flash", filepath.Join(base, "files", "stock-"+r.seed.kind.device+"-boot.img"),
		"--yes", "--no-hands")...); code != 3 || !bytes.Equal(before, r.held(boot)) {
		d.Errorf("flash without a bootloader ends with %d, want 3 and nothing changed:\n%s", code, out)
	}
}

// sends has a package installed whose script the real shell runs.
func (d *workplace) sends(r *realRecovery, on func(args ...string) []string) {
	d.Helper()
	if r.seed.byName == "" {
		return // the script finds its partition by name
	}
	d.claims(r, "sideload", func() bool { return bytes.HasPrefix(r.held("misc"), []byte(realMark)) },
		on("sideload", filepath.Join(base, "files", "real-package.zip"), "--yes", "--accept",
			"verity-would-reject"))
}

// begins reports whether a partition begins with a file's bytes.
func (r *realRecovery) begins(partition, path string) bool {
	r.Helper()
	b, err := os.ReadFile(path)
	r.must("os.ReadFile("+path+")", err)
	return bytes.HasPrefix(r.held(partition), b)
}

// systemWork is the work on the system's partitions, the caches and a backup of the storage.
func (d *workplace) systemWork(r *realRecovery, on func(args ...string) []string) {
	d.Helper()
	seed := r.seed
	if seed.kind.slots {
		d.claims(r, "slot copy", func() bool { return bytes.Equal(r.held("system_a"), r.held("system_b")) },
			on("slot", "copy", "system", "--yes", "--accept", "risky-partition"))
	}
	d.shelves(r, on)
	if !seed.kind.slots {
		d.claims(r, "hold", func() bool { return r.aside("system/bin/install-recovery.sh") },
			on("recovery", "hold", "--yes"))
	}
	if code, out := d.run(on("vbmeta", "check")...); code != 0 && code != 6 {
		d.Errorf("vbmeta check ends with %d:\n%s", code, out)
	}
	r.seen(r.device("userdata"), r.seed.data, func(at string) {
		r.must("os.MkdirAll(dalvik-cache)", os.MkdirAll(filepath.Join(at, "dalvik-cache"), 0o755))
	})
	d.claims(r, "caches", func() (gone bool) {
		r.seen(r.device("userdata"), r.seed.data, func(at string) {
			_, err := os.Stat(filepath.Join(at, "dalvik-cache"))
			gone = err != nil
		})
		return gone
	}, on("wipe", "caches", "--yes"))
	file := filepath.Join(d.dir, "spring.csv")
	r.must("os.WriteFile(spring.csv)", os.WriteFile(file, bytes.Repeat([]byte("dunlin 214\n"), 9000), 0o644))
	kept := filepath.Join(d.dir, "files")
	d.claims(r, "storage", func() bool {
		return r.lists("spring.csv")
	}, on("put", file, "--to", "storage", "--yes"))
	d.claims(r, "storage", func() bool {
		b, err := os.ReadFile(filepath.Join(kept, "storage", "spring.csv"))
		return err == nil && len(b) == 99000
	}, on("backup", "take", "storage", "-o", kept))
	d.claims(r, "storage", func() bool {
		return !r.lists("spring.csv")
	}, on("wipe", "storage", "--yes", "--accept",
		"storage-holds-package"))
	d.claims(r, "storage", func() bool { return r.lists("spring.csv") },
		on("backup", "restore", "storage", "-o", kept, "--yes"))
	app := filepath.Join("data", "org.wickerlight.counts")
	r.seen(r.device("userdata"), r.seed.data, func(at string) {
		r.must("os.MkdirAll(app)", os.MkdirAll(filepath.Join(at, app), 0o755))
	})
	d.claims(r, "apps", func() (gone bool) {
		r.seen(r.device("userdata"), r.seed.data, func(at string) {
			_, err := os.Stat(filepath.Join(at, app))
			gone = err != nil
		})
		return gone && r.lists("spring.csv")
	}, on("wipe", "apps", "--yes"))
	if seed.kind.device == "avocet" {
		return // userspace fastboot erases its logical partitions, and this recovery has none
	}
	d.claims(r, "system", func() bool { return r.aside("system/build.prop") },
		on("wipe", strings.Replace(seed.kind.on("system"), "_", "@", 1), "--yes"))
}

// shelves moves a file of the system aside and back.
func (d *workplace) shelves(r *realRecovery, on func(args ...string) []string) {
	d.Helper()
	d.claims(r, "shelve", func() bool { return r.aside("system/etc/about.txt") },
		on("shelve", "/system/etc/about.txt", "--yes", "--accept", "verity-would-reject"))
	d.claims(r, "unshelve", func() bool { return !r.aside("system/etc/about.txt") },
		on("unshelve", "/system/etc/about.txt", "--yes", "--accept", "verity-would-reject"))
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

// lists reports whether a file is in the storage, whatever the recovery has mounted.
func (r *realRecovery) lists(name string) (is bool) {
	r.Helper()
	r.seen(r.device("userdata"), r.seed.data, func(at string) {
		_, err := os.Stat(filepath.Join(at, "media", "0", name))
		is = err == nil
	})
	return is
}

// aside reports whether a file of the system was moved aside.
func (r *realRecovery) aside(name string) (is bool) {
	r.Helper()
	r.seen(r.device(r.seed.kind.on("system")), "ext4", func(at string) {
		_, err := os.Stat(filepath.Join(at, name))
		is = err != nil
	})
	return is
}
