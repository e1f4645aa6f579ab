package shell

import (
	"context"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Mount is one file system in the phone's tree of folders.
type Mount struct {
	At      string
	Number  string // major:minor of the device; "" where it is unknown
	Source  string // the device as it was mounted
	Root    string // the folder of the file system that is seen there; "/" is all of it
	Type    string
	Options string // ro or rw first
}

// Writable reports whether it is mounted to be written.
func (m Mount) Writable() bool { return slices.Contains(strings.Split(m.Options, ","), "rw") }

// memory are file systems that are in the phone's memory: what is put there is gone with the next boot.
var memory = []string{"rootfs", "tmpfs", "ramfs", "devtmpfs", "overlay"}

// InMemory reports whether it is a file system in the phone's memory, as a recovery's own root folder is.
func (m Mount) InMemory() bool { return slices.Contains(memory, m.Type) }

// Of reports whether it shows a device.
func (m Mount) Of(d Device) bool {
	return d.Number != "" && m.Number == d.Number || m.Source == d.Path || d.Kernel != "" && m.Source ==
		deviceDir+d.Kernel
}

// Mounts are what is mounted, in the order it was.
type Mounts []Mount

// Under gives the file system that a path is on: what was mounted last over the longest part of it.
func (list Mounts) Under(name string) (m Mount, ok bool) {
	for _, x := range list {
		if rest, cut := strings.CutPrefix(name, strings.TrimSuffix(x.At, "/")); cut && (rest == "" ||
			rest[0] == '/') && (!ok || len(x.At) >= len(m.At)) {
			m, ok = x, true
		}
	}
	return m, ok
}

// At gives what is mounted at a folder itself.
func (list Mounts) At(dir string) (m Mount, ok bool) {
	m, ok = list.Under(dir)
	return m, ok && m.At == path.Clean(dir)
}

// Of gives what shows a device, in the order it was mounted.
func (list Mounts) Of(d Device) (mine Mounts) {
	for _, m := range list {
		if m.Of(d) {
			mine = append(mine, m)
		}
	}
	return mine
}

// Mounts reads what is mounted where. *UnreadError where neither table can be read.
func (s *Shell) Mounts(ctx context.Context) (Mounts, error) {
	a, err := s.ask(ctx, mounts)
	if err != nil {
		return nil, err
	}
	list := parseMounts(a.text())
	if len(list) == 0 {
		return nil, &UnreadError{mounts.Name, a.says()}
	}
	return list, nil
}

// parseMounts reads the tables of proc(5): mountinfo (number, parent, device, root, mount point, options,
// fields up to a hyphen, type, source, options), otherwise mounts (source, mount point, type, options).
func parseMounts(text string) (list Mounts) {
	info, plain, _ := strings.Cut(text, "=mounts")
	for line := range strings.Lines(info) {
		f := strings.Fields(line)
		dash := slices.Index(f, "-")
		if len(f) < 9 || dash < 6 || dash+2 >= len(f) {
			continue
		}
		list = append(list, Mount{At: unescape(f[4]), Number: f[2], Source: unescape(f[dash+2]),
			Root: unescape(f[3]),
			Type: f[dash+1], Options: f[5]})
	}
	if len(list) > 0 {
		return list
	}
	for line := range strings.Lines(plain) {
		if f := strings.Fields(line); len(f) >= 4 && strings.HasPrefix(f[1], "/") {
			list = append(list, Mount{At: unescape(f[1]), Source: unescape(f[0]), Root: "/", Type: f[2],
				Options: f[3]})
		}
	}
	return list
}

// unescape undoes the octal escapes of proc(5) for space, tab, line break and backslash.
func unescape(s string) string {
	for i := 0; i+3 < len(s); i++ {
		if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); s[i] == '\\' && err == nil {
			s = s[:i] + string(rune(n)) + s[i+4:]
		}
	}
	return s
}

// Mount mounts a device.
func (s *Shell) Mount(ctx context.Context, d Device, at, fs, options string) error {
	return s.do(ctx, "mount "+d.Path, mount, d.args(at, fs, options)...)
}

// Bind shows a folder at another place too.
func (s *Shell) Bind(ctx context.Context, from, at string) error {
	return s.do(ctx, "mount "+at, bind, from, at)
}

// Remount makes what is mounted writable (rw) or no longer (ro).
func (s *Shell) Remount(ctx context.Context, at, how string) error {
	return s.do(ctx, "remount "+at, remount, at, how)
}

// Unmount unmounts.
func (s *Shell) Unmount(ctx context.Context, at string) error {
	return s.do(ctx, "unmount "+at, unmount, at)
}

// Fstab gives the type of file system that the recovery's own table names for a mount point, in whichever
// order the table has its columns; "" where it names none.
func (s *Shell) Fstab(ctx context.Context, at string) (string, error) {
	a, err := s.ask(ctx, fstab)
	if err != nil {
		if Unknown(err) {
			err = nil
		}
		return "", err
	}
	return fsOf(a.text(), at), nil
}

func fsOf(table, at string) string {
	for line := range strings.Lines(table) {
		if f := strings.Fields(line); slices.Contains(f, at) {
			for _, t := range []string{"f2fs", "ext4"} {
				if slices.Contains(f, t) {
					return t
				}
			}
		}
	}
	return ""
}
