package standin

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/interp"

	"jarlid/internal/core/card"
	"jarlid/internal/standin/disk"
)

// The programs of the recovery's shell that change files.

// operands gives the operands and the options of a program.
func operands(args []string) (names []string, options string) {
	for _, a := range args {
		if strings.HasPrefix(a, "-") {
			options += a[1:]
		} else {
			names = append(names, a)
		}
	}
	return names, options
}

// mountTable is what /proc/mounts says.
func (sh *shell) mountTable() string {
	all := sh.mounts()
	text := "rootfs / rootfs rw 0 0\n"
	for _, dir := range slices.Sorted(maps.Keys(all)) {
		m := all[dir]
		how := "ro"
		if m.Write {
			how = "rw"
		}
		text += fmt.Sprintf("%s%s %s %s %s,relatime 0 0\n", byName, m.Partition, dir, m.Type, how)
	}
	if sh.root && sh.p.spec.Card > 0 {
		text += fmt.Sprintf("/dev/block/mmcblk1p1 %s vfat rw,relatime,fmask=0000,dmask=0000 0 0\n",
			cardPaths[card.Recovery][0])
	}
	return text
}

// device gives the partition a block device stands for.
func (p *Phone) device(name string) (string, bool) {
	for _, dir := range []string{byName, "/dev/block/mapper/"} {
		if part, ok := strings.CutPrefix(name, dir); ok && part != "" {
			return p.spec.inside(part), true
		}
	}
	return "", false
}

// openDevice opens a partition by its device: physical ones by their names,
// logical ones where they are mapped.
func openDevice(p *Phone, name string) (*disk.Volume, error) {
	st := p.store
	part, ok := p.device(name)
	if logical := !strings.HasPrefix(name, byName); !ok || st.Has(part) == logical ||
		logical && st.Unmapped.Load() {
		return nil, errNotMounted
	}
	return st.Open(part)
}

func (p *Phone) isDevice(name string) bool { _, ok := p.device(name); return ok }

// mount knows mount [-t TYPE] [-o ro|rw[,...]] DEVICE FOLDER.
func (sh *shell) mount(_ context.Context, h interp.HandlerContext, args []string) error {
	if len(args) == 0 {
		fmt.Fprint(h.Stdout, sh.mountTable())
		return nil
	}
	m := mounted{Type: "ext4", Write: true}
	var names []string
	again := false
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "-t" && i+1 < len(args):
			i++
			m.Type = args[i]
		case args[i] == "-o" && i+1 < len(args):
			i++
			options := strings.Split(args[i], ",")
			m.Write, again = !slices.Contains(options, "ro"), slices.Contains(options, "remount")
		default:
			names = append(names, args[i])
		}
	}
	if again && len(names) == 1 {
		return sh.remount(names[0], m.Write)
	}
	if !sh.root || len(names) != 2 {
		return errors.New("Operation not permitted")
	}
	fail := func(why string) error { return fmt.Errorf("'%s'->'%s': %s", names[0], names[1], why) }
	v, err := openDevice(sh.p, names[0])
	if err != nil {
		return fail("No such file or directory")
	}
	v.Close()
	part, _ := sh.p.device(names[0])
	w, err := sh.p.store.Mount(part)
	if err != nil {
		return fail(err.Error())
	}
	defer w.Close()
	if m.Write && w.ReadOnly != nil {
		return fail(w.ReadOnly.Error())
	}
	m.Partition = part
	sh.p.mu.Lock()
	defer sh.p.mu.Unlock()
	if sh.r.mounts == nil {
		sh.r.mounts = map[string]mounted{}
	}
	dir := path.Clean(names[1])
	if _, busy := sh.r.mounts[dir]; busy {
		return fail("Device or resource busy")
	}
	sh.r.mounts[dir] = m
	return nil
}

// remount makes what is mounted writable, or no longer.
func (sh *shell) remount(dir string, write bool) error {
	dir = path.Clean(dir)
	sh.p.mu.Lock()
	defer sh.p.mu.Unlock()
	m, ok := sh.r.mounts[dir]
	if !ok {
		return fmt.Errorf("'%s': Invalid argument", dir)
	}
	m.Write = write
	sh.r.mounts[dir] = m
	return nil
}

// readlink gives a path as it is: nothing here is a link.
func (sh *shell) readlink(_ context.Context, h interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	for _, n := range names {
		fmt.Fprintln(h.Stdout, n)
	}
	return nil
}

// blockdev knows --getsize64.
func (sh *shell) blockdev(_ context.Context, h interp.HandlerContext, args []string) error {
	names, options := operands(args)
	if options != "-getsize64" || len(names) != 1 || !sh.root {
		return errors.New("Operation not permitted")
	}
	v, err := openDevice(sh.p, names[0])
	if err != nil {
		return errors.New("No such file or directory")
	}
	defer v.Close()
	fmt.Fprintln(h.Stdout, v.Size)
	return nil
}

func (sh *shell) umount(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	for _, name := range names {
		dir := path.Clean(name)
		sh.p.mu.Lock()
		_, ok := sh.r.mounts[dir]
		delete(sh.r.mounts, dir)
		sh.p.mu.Unlock()
		if !ok {
			return fmt.Errorf("%s: Invalid argument", name)
		}
	}
	return nil
}

// mkdir makes folders; those of the ramdisk itself leave no trace.
func (sh *shell) mkdir(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	for _, name := range names {
		name = sh.path(name)
		if local, ok := sh.storage(name); ok {
			if err := os.MkdirAll(local, 0o755); err != nil {
				return err
			}
			continue
		}
		if _, _, ok := sh.at(name); !ok {
			continue
		}
		if err := sh.change(name, func(w *disk.View, rel string) error { return w.Mkdir(rel) }); err != nil {
			return err
		}
	}
	return nil
}

func (sh *shell) mv(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	if len(names) != 2 {
		return errors.New("Needs 2 arguments")
	}
	from, to := sh.path(names[0]), sh.path(names[1])
	a, _, ok := sh.at(from)
	b, rel, _ := sh.at(to)
	if !ok || a != b {
		return fmt.Errorf("bad '%s': Invalid cross-device link", names[0])
	}
	return sh.change(from, func(w *disk.View, old string) error { return w.Rename(old, rel) })
}

// rm takes files away: those of mounted file systems, of the storages, and the
// recovery's record of the last install.
func (sh *shell) rm(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, options := operands(args)
	for _, name := range names {
		name = sh.path(name)
		_, stored := sh.storage(name)
		switch {
		case !sh.root:
			return fmt.Errorf("%s: Permission denied", name)
		case name == "/tmp/last_install":
			sh.p.mu.Lock()
			sh.r.record = ""
			sh.p.mu.Unlock()
		case stored:
			if err := (phoneFiles{sh.p, sh.mode()}).Remove(name); err != nil {
				return err
			}
		default:
			err := sh.change(name, func(w *disk.View, rel string) error { return w.Remove(rel) })
			if err != nil && !strings.Contains(options, "f") {
				return err
			}
		}
	}
	return nil
}
