package shell

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/link"
)

// Device is a block device of the phone, as it was when it was listed. What is read and written names it by
// its number, so that a name that leads elsewhere is noticed.
type Device struct {
	Path   string // by the partition's name, otherwise as the kernel has it
	Number string // major:minor
	Kernel string // the kernel's name: sda5, dm-3
	Size   int64  // bytes; 0 where nothing tells
	Mapped bool   // by the device mapper: a logical partition
	// Target says why the device can't be used; "" where it can: its name leads to no block device.
	Target string
}

// asListed gives the number as ls prints it.
func (d Device) asListed() string { return strings.Replace(d.Number, ":", ", ", 1) }

// args are the first three arguments of the commands that make sure of their device.
func (d Device) args(more ...string) []string {
	return append([]string{d.Path, d.asListed(), d.Number}, more...)
}

// NamedDevice is a device under a partition's name.
type NamedDevice struct {
	Name string
	Device
}

const (
	sectorSize = 512 // the unit of /sys/class/block/*/size, whatever the device (Documentation/ABI)
	kibSize    = 1024
	deviceDir  = "/dev/block/"
	mappedDir  = "/dev/block/mapper"
)

// known is the name and size that the kernel's files have for a device.
type known struct {
	name string
	size int64
}

// Blocks lists the devices that have a partition's name, physical ones before mapped ones. A name is listed
// once: where by-name folders have it that counts, otherwise the name the kernel has from the partition
// table.
func (s *Shell) Blocks(ctx context.Context) ([]NamedDevice, error) {
	a, err := s.ask(ctx, blocks)
	if err != nil {
		return nil, err
	}
	list := parseBlocks(a.lines())
	if len(list) == 0 {
		return nil, &UnreadError{blocks.Name, a.says()}
	}
	return list, nil
}

func parseBlocks(lines []string) (list []NamedDevice) {
	bySys := map[string]map[string]string{} // kernel's name, file, content
	kernel := map[string]known{}
	parts, mapped := map[string]string{}, map[string]string{} // number to name
	var order []string
	part, dir := "", ""
	for _, line := range lines {
		f := strings.Fields(line)
		switch {
		case len(f) > 0 && strings.HasPrefix(f[0], "="):
			part, dir = f[0], strings.TrimPrefix(line, "=dir ")
		case part == "=dir":
			if d, ok := listedDevice(dir, f); ok {
				list = append(list, d)
			}
		case part == "=partitions" && len(f) == 4:
			if n, err := strconv.ParseInt(f[2], 10, 64); err == nil && n > 0 && n < 1<<50 {
				kernel[f[0]+":"+f[1]] = known{f[3], n * kibSize}
			}
		case part == "":
			if name, file, content, ok := sysLine(line); ok {
				if bySys[name] == nil {
					bySys[name] = map[string]string{}
				}
				bySys[name][file] = content
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(bySys)) {
		has := bySys[name]
		number := has["dev"]
		n, err := strconv.ParseInt(has["size"], 10, 64)
		if number == "" || err != nil || n <= 0 || n >= 1<<50 {
			continue
		}
		kernel[number] = known{name, n * sectorSize} // exact, where the table counts in 1 KiB
		if p, ok := strings.CutPrefix(has["uevent"], "PARTNAME="); ok {
			order, parts[number] = append(order, number), p
		} else if m := has["dm/name"]; m != "" {
			order, mapped[number] = append(order, number), m
		}
	}
	for i, d := range list {
		k := kernel[d.Number]
		list[i].Kernel, list[i].Size = k.name, k.size
	}
	has := func(name string) bool {
		return slices.ContainsFunc(list, func(d NamedDevice) bool { return d.Name == name && d.Target == "" })
	}
	for _, number := range order { // names the folders do not have
		name, logical := parts[number], false
		if name == "" {
			name, logical = mapped[number], true
		}
		if k := kernel[number]; name != "" && !has(name) && k.name != "" {
			list = append(slices.DeleteFunc(list, func(d NamedDevice) bool {
				return d.Name == name
			}), NamedDevice{name,
				Device{Path: deviceDir + k.name, Number: number, Kernel: k.name, Size: k.size,
					Mapped: logical}})
		}
	}
	return once(list)
}

// sysLine reads /sys/class/block/KERNEL-NAME/FILE:CONTENT.
func sysLine(line string) (name, file, content string, ok bool) {
	line, is := strings.CutPrefix(line, "/sys/class/block/")
	at, content, cut := strings.Cut(line, ":")
	name, file, slash := strings.Cut(at, "/")
	return name, file, strings.TrimSpace(content), is && cut && slash && name != ""
}

// listedDevice reads a line of ls -lL: mode, links, owner, group, major and minor, date, name. What is
// neither a block device nor a plain file in its place is not of interest.
func listedDevice(dir string, f []string) (d NamedDevice, ok bool) {
	if len(f) < 6 {
		return d, false
	}
	name := f[len(f)-1]
	d = NamedDevice{name, Device{Path: path.Join(dir, name), Mapped: dir == mappedDir}}
	if strings.ContainsAny(name, "/'\"$`;&|") || name == "" {
		return d, false
	}
	switch f[0][0] {
	case 'b':
		for i := 2; i+1 < len(f); i++ {
			major, cut := strings.CutSuffix(f[i], ",")
			if _, err := strconv.ParseUint(major, 10, 32); !cut || err != nil {
				continue
			}
			if _, err := strconv.ParseUint(f[i+1], 10, 32); err == nil {
				d.Number = major + ":" + f[i+1]
				return d, true
			}
		}
		return d, false
	case '-':
		d.Target = d.Path + " is a plain file"
		return d, true
	}
	return d, false
}

// once keeps the first device of each name in either place, the ones that can be used before the others.
func once(list []NamedDevice) (out []NamedDevice) {
	slices.SortStableFunc(list, func(a, b NamedDevice) int {
		switch {
		case a.Mapped != b.Mapped:
			return map[bool]int{true: 1, false: -1}[a.Mapped]
		case (a.Target == "") != (b.Target == ""):
			return map[bool]int{true: -1, false: 1}[a.Target == ""]
		}
		return 0
	})
	seen := map[string]bool{}
	for _, d := range list {
		if key := fmt.Sprint(d.Name, d.Mapped); !seen[key] {
			seen[key] = true
			out = append(out, d)
		}
	}
	return out
}

// Sized gives a device with its size, which is asked for where the kernel's files do not tell it.
// *link.RefusedError where nothing does, and of a device that can't be used.
func (s *Shell) Sized(ctx context.Context, d Device) (Device, error) {
	if d.Target != "" {
		return d, &link.RefusedError{Command: "use " + d.Path, Message: d.Target + ", and no block device"}
	}
	if d.Size > 0 {
		return d, nil
	}
	a, err := s.ask(ctx, size, d.Path)
	if err != nil {
		return d, err
	}
	n, perr := strconv.ParseInt(a.text(), 10, 64)
	if perr != nil || n <= 0 || a.code != 0 {
		return d, &link.RefusedError{Command: "read " + d.Path,
			Message: "the recovery does not report its size"}
	}
	d.Size = n
	return d, nil
}

// Same makes sure that a device's name still leads to it. *link.RefusedError where it does not.
func (s *Shell) Same(ctx context.Context, d Device) error {
	return s.do(ctx, "read "+d.Path, sameAsRead, d.args()...)
}

// ReadBlock reads block number n of size bytes. nil where the device has no such block or can't be read.
func (s *Shell) ReadBlock(ctx context.Context, d Device, size int, n int64) ([]byte, error) {
	a, err := s.ask(ctx, readBlock, d.args(strconv.Itoa(size), strconv.FormatInt(n, 10))...)
	if err != nil || a.code != 0 {
		return nil, err
	}
	return a.out, nil
}

// Write writes a file of the phone to a device, from block number block of 4096 bytes on.
func (s *Shell) Write(ctx context.Context, file string, d Device, block int64) error {
	return s.do(ctx, "write "+d.Path, writeBlocks, d.args(file, strconv.FormatInt(block, 10))...)
}

// Copy copies one device to another.
func (s *Shell) Copy(ctx context.Context, from, to Device) error {
	return s.do(ctx, "copy "+from.Path, copyDevice, to.args(from.args()...)...)
}

// DropCaches has the kernel forget what it holds of a device in memory, where it can.
func (s *Shell) DropCaches(ctx context.Context, d Device) error {
	_, err := s.ask(ctx, dropCaches, d.Path)
	if Unknown(err) {
		return nil
	}
	return err
}

// NoMakerError says that a recovery has no program that makes a file system.
type NoMakerError struct{ FS string }

// Error names the file system.
func (e *NoMakerError) Error() string { return "this recovery has no program that makes " + e.FS }

// Format makes a file system on a device: ext4 or f2fs. said is what the program printed. Errors:
// *NoMakerError, *link.RefusedError with the program's words.
func (s *Shell) Format(ctx context.Context, d Device, fs string) (said string, err error) {
	err = &NoMakerError{fs}
	for _, m := range ways {
		if m.fs != fs {
			continue
		}
		a, terr := s.ask(ctx, m.try, d.Path)
		if terr != nil && !Unknown(terr) {
			return "", terr
		}
		if terr != nil || m.works == "" && a.code != 0 ||
			m.works != "" && !strings.Contains(strings.ToLower(string(a.out)+a.errs), m.works) {
			continue
		}
		if a, err = s.ask(ctx, m.make, d.args()...); err != nil {
			return "", err
		}
		if a.code == 0 {
			return strings.TrimSpace(a.errs), nil
		}
		err = &link.RefusedError{Command: m.make.Name + " " + d.Path, Message: a.says()}
	}
	return "", err
}
