package guest

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"jarlid/internal/core/image/super"
	"jarlid/internal/link/adb"
)

// realKind is a phone around a recovery of real parts.
type realKind struct {
	device  string // the product it reports
	slots   bool
	home    string // the partition that holds the recovery
	logical bool   // its system is in super, where the kernel has a device mapper
}

// realKinds are one phone for each home of a recovery; no model file knows sandpiper.
var realKinds = []realKind{
	{device: "ts6735", home: "recovery"},
	{device: "sandpiper", slots: true, home: "recovery"},
	{device: "godwit", slots: true, home: "boot"},
	{device: "avocet", slots: true, home: "vendor_boot", logical: true},
}

// on gives a partition's name on the slot that runs.
func (k realKind) on(base string) string {
	if k.slots {
		return base + "_a"
	}
	return base
}

// realPartition is one of the table; size in MiB.
type realPartition struct {
	name string
	mib  int
}

// partitions are in the table in this order.
func (k realKind) partitions() (list []realPartition) {
	sizes := []realPartition{{"boot", 1}, {"vbmeta", 1}}
	if k.home != "boot" {
		sizes = append(sizes, realPartition{k.home, 1})
	}
	if k.device == "godwit" {
		sizes = append(sizes, realPartition{"dtbo", 1})
	}
	if !k.logical {
		sizes = append(sizes, realPartition{"system", 8})
	}
	for _, p := range sizes {
		if !k.slots {
			list = append(list, p)
			continue
		}
		list = append(list, realPartition{p.name + "_a", p.mib}, realPartition{p.name + "_b", p.mib})
	}
	switch {
	case k.logical:
		list = append(list, realPartition{"super", 24})
	case !k.slots:
		list = append(list, realPartition{"cache", 8})
	}
	return append(list, realPartition{"misc", 1}, realPartition{"userdata", 64})
}

// mapSuper writes the metadata of a super partition with two systems, and has the kernel's device mapper show
// them.
func (r *realRecovery) mapSuper() {
	const mib = 1 << 20
	m := &super.Metadata{Minor: 2, SlotCount: 2, MetadataMaxSize: 64 << 10,
		Devices: []super.Device{{Name: "super", Size: 24 * mib,
			First: mib}}, Groups: []super.Group{{Name: "default"}, {Name: "waders_a", MaxSize: 10 * mib},
			{Name: "waders_b", MaxSize: 10 * mib}}}
	// the second one in two extents, with a hole between
	m.Partitions = []super.Partition{
		{Name: "system_a", Group: "waders_a", Attributes: super.AttrReadonly,
			Extents: []super.Extent{{Size: 8 * mib, Offset: mib}}},
		{Name: "system_b", Group: "waders_b", Attributes: super.AttrReadonly,
			Extents: []super.Extent{{Size: 4 * mib, Offset: 10 * mib}, {Size: 4 * mib, Offset: 16 * mib}}},
	}
	head, err := super.Build(m)
	r.must("super.Build", err)
	f, err := os.OpenFile(r.device("super"), os.O_WRONLY, 0)
	r.must("os.OpenFile(super)", err)
	_, err = f.WriteAt(head, 0)
	r.must("write the metadata", errors.Join(err, f.Sync(), f.Close()))
	b, err := os.ReadFile(r.sys("super") + "/dev")
	r.must("the number of super", err)
	number := strings.TrimSpace(string(b))
	for _, p := range m.Partitions {
		var table []string
		at := int64(0)
		for _, e := range p.Extents {
			table = append(table, fmt.Sprintf("%d %d linear %s %d", at/512, e.Size/512, number, e.Offset/512))
			at += e.Size
		}
		r.part[p.Name] = r.mapped(p.Name, table)
	}
}

// dmControl is struct dm_ioctl of linux/dm-ioctl.h.
type dmControl struct {
	version                                  [3]uint32
	size, start, targets, open, flags, event uint32
	_                                        uint32
	dev                                      uint64
	name                                     [128]byte
	uuid                                     [129]byte
	_                                        [7]byte
}

// Orders of the device mapper: _IOWR(0xfd, n, struct dm_ioctl).
const (
	dmCreate  = 0xc138fd03
	dmRemove  = 0xc138fd04
	dmSuspend = 0xc138fd06 // without its flag: start
	dmLoad    = 0xc138fd09
)

// mapped has the device mapper make a device, and gives its kernel's name. A line of the table is as dmsetup
// writes it: start, length, target and its arguments.
func (r *realRecovery) mapped(name string, table []string) string {
	r.Helper()
	const node = "/dev/mapper/control"
	if _, err := os.Stat(node); err != nil {
		r.must("os.MkdirAll(/dev/mapper)", os.MkdirAll(filepath.Dir(node), 0o755))
		r.must("Mknod("+node+")", unix.Mknod(node, unix.S_IFCHR|0o600, int(unix.Mkdev(10, 236))))
	}
	ctl, err := os.OpenFile(node, os.O_RDWR, 0)
	r.must("os.OpenFile("+node+")", err)
	r.Cleanup(func() { ctl.Close() }) // after the device is removed
	order := func(n uintptr, targets []byte, count int) *dmControl {
		buf := make([]byte, int(unsafe.Sizeof(dmControl{}))+len(targets)+4096)
		c := (*dmControl)(unsafe.Pointer(&buf[0]))
		c.version, c.size, c.start, c.targets = [3]uint32{4, 0, 0}, uint32(len(buf)),
			uint32(unsafe.Sizeof(dmControl{})), uint32(count)
		copy(c.name[:127], name)
		copy(buf[c.start:], targets)
		if _, _, e := unix.Syscall(unix.SYS_IOCTL, ctl.Fd(), n, uintptr(unsafe.Pointer(c))); e != 0 {
			r.Fatalf("the device mapper's order %#x for %s: %v", n, name, e)
		}
		return c
	}
	var targets []byte
	for _, line := range table {
		f := strings.Fields(line)
		from, _ := strconv.ParseUint(f[0], 10, 64)
		n, _ := strconv.ParseUint(f[1], 10, 64)
		params := strings.Join(f[3:], " ") + "\x00"
		params += strings.Repeat("\x00", (8-len(params)%8)%8)
		spec := make([]byte, 40) // struct dm_target_spec
		*(*uint64)(unsafe.Pointer(&spec[0])), *(*uint64)(unsafe.Pointer(&spec[8])) = from, n
		*(*uint32)(unsafe.Pointer(&spec[20])) = uint32(40 + len(params))
		copy(spec[24:], f[2])
		targets = append(append(targets, spec...), params...)
	}
	made := order(dmCreate, nil, 0)
	r.Cleanup(func() {
		r.unmountAll()
		order(dmRemove, nil, 0)
	})
	order(dmLoad, targets, len(table))
	order(dmSuspend, nil, 0)
	return fmt.Sprintf("dm-%d", unix.Minor(made.dev))
}

// turn reboots the recovery into sideload mode, or back.
func (r *realRecovery) turn(packages bool) {
	r.mu.Lock()
	r.packages = packages
	open := r.open
	r.open = nil
	r.mu.Unlock()
	time.Sleep(50 * time.Millisecond) // what was said arrives before the connection ends
	for _, c := range open {
		c.Close()
	}
}

// install takes a package, in blocks or whole, and has the real shell run its update program.
func (r *realRecovery) install(arg string, s *adb.Stream) {
	pkg, err := takePackage(arg, s)
	if err != nil {
		return // the computer let go
	}
	said, err := r.update(pkg)
	word, result := "DONEDONE", 1
	if err != nil {
		word, result, said = "FAILFAIL", 0, fmt.Sprintf("%s\nE: %v\n", said, err)
	}
	at := filepath.Join(r.root, "tmp")
	if err := errors.Join(os.WriteFile(filepath.Join(at, "recovery.log"), []byte(said), 0o644),
		os.WriteFile(filepath.Join(at, "last_install"), fmt.Appendf(nil, "/sideload/package.zip\n%d\n",
			result),
			0o644)); err != nil {
		r.Errorf("the recovery's log: %v", err)
	}
	if strings.Contains(arg, ":") {
		_, _ = io.WriteString(s, word) // the other end may be gone
	}
}

// takePackage reads the blocks in their order, or the whole.
func takePackage(arg string, s *adb.Stream) ([]byte, error) {
	sizeText, blockText, inBlocks := strings.Cut(arg, ":")
	size, err := strconv.ParseInt(sizeText, 10, 64)
	if err != nil || size <= 0 || size > 64<<20 {
		return nil, fmt.Errorf("a package of %q bytes: %w", sizeText, err)
	}
	pkg := make([]byte, size)
	if !inBlocks {
		if _, err := io.ReadFull(s, pkg); err != nil {
			return nil, err
		}
		_, err := io.WriteString(s, "OKAY")
		return pkg, err
	}
	block, err := strconv.ParseInt(blockText, 10, 64)
	if err != nil || block <= 0 {
		return nil, fmt.Errorf("blocks of %q bytes: %w", blockText, err)
	}
	for n := int64(0); n*block < size; n++ {
		if _, err := fmt.Fprintf(s, "%08d", n); err != nil {
			return nil, err
		}
		if _, err := io.ReadFull(s, pkg[n*block:min(size, (n+1)*block)]); err != nil {
			return nil, err
		}
	}
	return pkg, nil
}

// update runs a package's update program, as recovery does: with the version of its interface, a descriptor
// for what it says, and the package (install.cpp).
func (r *realRecovery) update(pkg []byte) (said string, err error) {
	z, err := zip.NewReader(bytes.NewReader(pkg), int64(len(pkg)))
	if err != nil {
		return "", err
	}
	program, err := z.Open("META-INF/com/google/android/update-binary")
	if err != nil {
		return "", err
	}
	b, err := io.ReadAll(program)
	tmp := filepath.Join(r.root, "tmp")
	if err = errors.Join(err, os.WriteFile(filepath.Join(tmp, "update-binary"), b, 0o755),
		os.WriteFile(filepath.Join(tmp, "package.zip"), pkg, 0o644)); err != nil {
		return "", err
	}
	cmd := exec.Command("/bin/sh", "/tmp/update-binary", "3", "1", "/tmp/package.zip")
	cmd.Env = []string{"PATH=/bin", "LD_LIBRARY_PATH=/lib"}
	cmd.Dir, cmd.SysProcAttr = "/", &syscall.SysProcAttr{Chroot: r.root}
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func (r *realRecovery) greet(ctx context.Context, c net.Conn) {
	defer c.Close()
	r.mu.Lock()
	kind := map[bool]string{false: "recovery", true: "sideload"}[r.packages]
	r.open = append(r.open, c)
	r.mu.Unlock()
	d := &adb.Device{Version: adb.VersionNoSum, MaxPayload: adb.MaxPayload,
		Banner: adb.Banner{Kind: kind, Props: map[string]string{"ro.product.device": r.seed.kind.device}}}
	if r.seed.old {
		d.Version, d.MaxPayload = adb.VersionOld, 4096
	} else if kind == "recovery" {
		d.Banner.Features = []string{"shell_v2", "stat_v2", "ls_v2", "sendrecv_v2"}
	}
	d.Serve = func(service string, s *adb.Stream) bool {
		name, arg, _ := strings.Cut(service, ":")
		takes := map[bool]string{false: "sideload-host", true: "sideload"}[r.seed.old]
		if name != "sync" && !strings.HasPrefix(name, "shell") && service != "reboot:sideload" ||
			kind == "sideload" {
			if kind != "sideload" || name != takes {
				return false
			}
		}
		go func() {
			defer s.Close()
			s.With(ctx)
			if s.Accept() != nil {
				return
			}
			switch name {
			case "sync":
				_ = adb.ServeSync(s, &realFiles{r})
			case "reboot":
				r.turn(true)
			case "sideload", "sideload-host":
				r.install(arg, s)
				s.Drain()
				r.turn(false)
			default:
				r.shell(ctx, arg, s, name != "shell")
			}
			s.Drain()
		}()
		return true
	}
	conn, err := d.Accept(ctx, c)
	if err != nil {
		return
	}
	defer conn.Close()
	select {
	case <-ctx.Done():
	case <-conn.Done():
	}
}
