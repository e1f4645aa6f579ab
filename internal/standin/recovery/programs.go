package recovery

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/standin/device"

	"mvdan.cc/sh/v3/interp"
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

// mount knows mount [-t TYPE] [-o ro|rw[,...]] DEVICE FOLDER.
func (sh *shell) mount(_ context.Context, h interp.HandlerContext, args []string) error {
	if len(args) == 0 {
		_, plain := sh.mountTables()
		fmt.Fprint(h.Stdout, plain)
		return nil
	}
	m := device.Mounted{Type: "ext4", Write: true, Root: "/"}
	var names, options []string
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "-t" && i+1 < len(args):
			i++
			m.Type = args[i]
		case args[i] == "-o" && i+1 < len(args):
			i++
			options = strings.Split(args[i], ",")
			m.Write = !slices.Contains(options, "ro")
		default:
			names = append(names, args[i])
		}
	}
	if slices.Contains(options, "remount") && len(names) == 1 {
		return sh.remount(names[0], m.Write)
	}
	if !sh.root || len(names) != 2 {
		return errors.New("Operation not permitted")
	}
	fail := func(why string) error { return fmt.Errorf("'%s'->'%s': %s", names[0], names[1], why) }
	m.At = path.Clean(names[1])
	if slices.Contains(options, "bind") {
		under, rel := sh.place(names[0])
		if _, err := sh.stat(names[0], true); err != nil {
			return fail("No such file or directory")
		}
		under.At, under.Root = m.At, rel
		return sh.addMount(under)
	}
	d, ok := sh.deviceAt(path.Clean(names[0]))
	if !ok {
		return fail("No such file or directory")
	}
	w, err := sh.p.Store.Mount(d.Partition)
	if err != nil {
		return fail(err.Error())
	}
	defer w.Close()
	if m.Write && w.ReadOnly != nil {
		return fail(w.ReadOnly.Error())
	}
	if m.Write && sh.p.Quirks().ReadOnly {
		return fail("Read-only file system")
	}
	if sh.p.Quirks().MountFails && d.Partition == "userdata" {
		return fail("Invalid argument")
	}
	m.Partition = d.Partition
	if slices.ContainsFunc(sh.mounts(), func(x device.Mounted) bool { return x.At == m.At }) {
		return fail("Device or resource busy")
	}
	return sh.addMount(m)
}

func (sh *shell) addMount(m device.Mounted) error {
	sh.p.Mu.Lock()
	defer sh.p.Mu.Unlock()
	sh.r.Mounts = append(sh.r.Mounts, m)
	return nil
}

// remount makes what is mounted writable, or no longer.
func (sh *shell) remount(dir string, write bool) error {
	dir = path.Clean(dir)
	sh.p.Mu.Lock()
	defer sh.p.Mu.Unlock()
	i := slices.IndexFunc(sh.r.Mounts, func(m device.Mounted) bool { return m.At == dir })
	if i < 0 {
		return fmt.Errorf("'%s': Invalid argument", dir)
	}
	sh.r.Mounts[i].Write = write
	return nil
}

// readlink knows -f.
func (sh *shell) readlink(_ context.Context, h interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	for _, n := range names {
		fmt.Fprintln(h.Stdout, sh.real(n))
	}
	return nil
}

// blockdev knows --getsize64; --flushbufs has nothing to do.
func (sh *shell) blockdev(_ context.Context, h interp.HandlerContext, args []string) error {
	names, options := operands(args)
	if len(names) != 1 || !sh.root {
		return errors.New("Operation not permitted")
	}
	d, ok := sh.deviceAt(path.Clean(names[0]))
	switch {
	case !ok:
		return errors.New("No such file or directory")
	case options == "-getsize64":
		fmt.Fprintln(h.Stdout, d.Size)
	}
	return nil
}

func (sh *shell) umount(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	for _, name := range names {
		dir := path.Clean(name)
		sh.p.Mu.Lock()
		i := slices.IndexFunc(sh.r.Mounts, func(m device.Mounted) bool { return m.At == dir && dir != "/" })
		if i >= 0 {
			sh.r.Mounts = slices.Delete(sh.r.Mounts, i, i+1)
		}
		sh.p.Mu.Unlock()
		if i < 0 {
			return fmt.Errorf("%s: Invalid argument", name)
		}
	}
	return nil
}

// said gives an error as a program prints it.
func said(name string, err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = errors.New("No such file or directory")
	}
	return fmt.Errorf("%s: %w", name, err)
}

// mkdir makes folders.
func (sh *shell) mkdir(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	for _, name := range names {
		if err := sh.tree.mkdir(name); err != nil {
			return said(name, err)
		}
	}
	return nil
}

func (sh *shell) mv(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, _ := operands(args)
	if len(names) != 2 {
		return errors.New("Needs 2 arguments")
	}
	a, _ := sh.place(names[0])
	b, rel := sh.place(names[1])
	if a.Partition == "" || a.At != b.At {
		return fmt.Errorf("bad '%s': Invalid cross-device link", names[0])
	}
	w, old, err := sh.view(names[0])
	if err != nil {
		return said(names[0], err)
	}
	defer w.Close()
	if err := w.Rename(old, rel); err != nil {
		return said(names[0], err)
	}
	return nil
}

// rm takes files away: those of mounted file systems, of the storages, and the
// recovery's record of the last install.
func (sh *shell) rm(_ context.Context, _ interp.HandlerContext, args []string) error {
	names, options := operands(args)
	for _, name := range names {
		switch {
		case !sh.root && !strings.HasPrefix(path.Clean(name), tmpPath+"/"):
			return fmt.Errorf("%s: Permission denied", name)
		case path.Clean(name) == "/tmp/last_install":
			sh.p.Mu.Lock()
			sh.r.Record = ""
			sh.p.Mu.Unlock()
		default:
			err := sh.remove(name)
			if err != nil && (!strings.Contains(options, "f") || !errors.Is(err, fs.ErrNotExist)) {
				return said(name, err)
			}
		}
	}
	return nil
}

// RecoveryMounts is what a recovery mounts by itself as it comes up.
func (p *Runner) RecoveryMounts() (list []device.Mounted) {
	list = []device.Mounted{{At: "/", Type: "rootfs", Root: "/", Write: true, Local: p.Dir(RamdiskDir),
		Size: 64 << 20},
		{At: "/tmp", Type: "tmpfs", Root: "/", Write: true, Local: p.Dir(TmpDir), Size: 64 << 20}}
	if p.Store.Has("cache") {
		list = append(list, device.Mounted{At: "/cache", Partition: "cache", Type: "ext4", Root: "/",
			Write: true})
	}
	if p.Spec.Card > 0 {
		list = append(list, device.Mounted{At: CardPaths[card.Recovery][0], Type: "vfat", Root: "/",
			Write: true,
			Local: p.Dir(cardDir), Size: int64(p.Spec.Card)})
	}
	if s := p.DataState(); (s == device.DataPlain || s == "formatted") && !p.Quirks().Unmounted {
		list = append(list, dataMounts(p.Quirks().Bind)...)
	}
	return list
}

func dataMounts(bind bool) []device.Mounted {
	list := []device.Mounted{{At: "/data", Partition: "userdata", Type: "ext4", Root: "/", Write: true}}
	if bind {
		list = append(list, device.Mounted{At: SharedPaths[0], Partition: "userdata", Type: "ext4",
			Root:  mediaRoot,
			Write: true})
	}
	return list
}
