package files

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/graft"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/wrap"
	"jarlid/internal/core/place"
)

// ErrEmptySlot says that there is no image on a slot that could be changed.
var ErrEmptySlot = errors.New("there is no image on it")

// ramdiskOf takes the recovery's ramdisk out of what a person gave: a boot image, a
// vendor boot image, or the ramdisk itself.
func ramdiskOf(path string) ([]byte, error) {
	f, size, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if size > graft.MaxImage {
		return nil, fmt.Errorf("%s has %d bytes, more than any image with a recovery", path, size)
	}
	var r io.Reader = io.NewSectionReader(f, 0, size)
	if m, err := boot.Parse(f, size); err == nil {
		r = m.Open(f, "ramdisk")
	} else if v, verr := boot.ParseVendor(f, size); verr == nil {
		if v.Recovery() == nil {
			return nil, fmt.Errorf("%s is a vendor boot image without a recovery in it", path)
		}
		r = io.NewSectionReader(f, v.Recovery().Offset, v.Recovery().Size)
	}
	b, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	rd, err := boot.ReadRamdisk(bytes.NewReader(b))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if !rd.Recovery {
		return nil, fmt.Errorf("%s holds no recovery", path)
	}
	return b, nil
}

// oldRamdisk gives the ramdisk that is replaced; nil when there is none.
func oldRamdisk(h place.Home, img []byte) ([]byte, error) {
	r := bytes.NewReader(img)
	if h.Form != "fragment" {
		m, err := boot.Parse(r, int64(len(img)))
		if err != nil {
			return nil, err
		}
		s := m.Section("ramdisk")
		return img[s.Offset : s.Offset+s.Size], nil
	}
	m, err := boot.ParseVendor(r, int64(len(img)))
	if err != nil {
		return nil, err
	}
	f := m.Recovery()
	if m.HeaderVersion == 3 && len(m.Fragments) > 0 {
		f = &m.Fragments[0]
	}
	if f == nil {
		return nil, nil
	}
	return img[f.Offset : f.Offset+f.Size], nil
}

// packedAs compresses a ramdisk as the old one is: kernels are built to extract one
// form. Forms that can't be made here stay as they were given, and are named.
func packedAs(old, ramdisk []byte) (out []byte, changed string, err error) {
	want, have := wrap.Detect(old), wrap.Detect(ramdisk)
	if want == have {
		return ramdisk, "", nil
	}
	var b bytes.Buffer
	w, err := wrap.NewWriter(want, &b)
	if errors.Is(err, wrap.ErrNotMade) {
		return ramdisk, fmt.Sprintf("it stays %s, the old one is %s, which is not made here", formName(have),
			formName(want)), nil
	}
	if err != nil {
		return nil, "", err
	}
	if err = boot.Contents(w, bytes.NewReader(ramdisk)); err == nil {
		err = w.Close()
	}
	return b.Bytes(), fmt.Sprintf("it was %s and is %s now, as the phone's is", formName(have),
		formName(want)), err
}

func formName(k wrap.Kind) string {
	if k == wrap.None {
		return "not compressed"
	}
	return string(k)
}

// usualRoots are the folders that a ramdisk's root has of the platform's own (system/core/rootdir
// and bootable/recovery): a recovery brings its own of them.
var usualRoots = []string{"acct", "apex", "bin", "cache", "config", "data", "data_mirror", "debug_ramdisk",
	"dev", "etc", "linkerconfig", "metadata", "mnt", "odm", "odm_dlkm",
	"oem", "postinstall", "proc", "product", "res", "sbin", "sdcard", "second_stage_resources", "storage",
	"sys", "system", "system_dlkm", "system_ext", "tmp", "vendor", "vendor_dlkm"}

// neededToStart reports whether a normal start may need a file of the ramdisk: its first stage's
// table of mounts, kernel modules, init itself ("Ramdisk partitions" in the platform's
// documentation), and whatever is in a folder the platform does not know: somebody has put it
// there for the start.
func neededToStart(name string) bool {
	base := filepath.Base(name)
	if strings.HasPrefix(base, "fstab.") || strings.HasPrefix(name, "first_stage_ramdisk/") ||
		strings.HasPrefix(name, "lib/modules/") || name == "init" || base == "first_stage.fstab" {
		return true
	}
	root, _, deeper := strings.Cut(name, "/")
	return deeper && root != "lib" && root != "first_stage_ramdisk" && !slices.Contains(usualRoots, root)
}

// lostFor compares two ramdisks: what the old one has for a normal start and the new
// one lacks.
func lostFor(old, ramdisk []byte) ([]string, error) {
	a, err := boot.ReadRamdisk(bytes.NewReader(old))
	if err != nil {
		return nil, fmt.Errorf("the ramdisk that is there: %w", err)
	}
	b, err := boot.ReadRamdisk(bytes.NewReader(ramdisk))
	if err != nil {
		return nil, err
	}
	has := map[string]bool{}
	for _, n := range b.Names {
		has[n] = true
	}
	var lost []string
	for _, n := range a.Names {
		if neededToStart(n) && !has[n] {
			lost = append(lost, n)
		}
	}
	return lost, nil
}

// Grafting says which recovery goes into which image.
type Grafting struct {
	Home    place.Home
	Into    card.Partition
	Room    int64  // of the partition, in bytes; 0 when it is not known
	Ramdisk []byte // the recovery's, as RamdiskOf gives it
	Base    string // the file with the image it goes into
	// Packing is called before something that may take a minute.
	Packing func(why string)
}

// Grafted is an image with another ramdisk.
type Grafted struct {
	Path   string   // of the new image
	Lost   []string // what a normal start may need and the new ramdisk lacks
	Packed string   // how the ramdisk is compressed, where it had to be changed
}

// graftOne makes the image with the recovery's ramdisk in it, in the folder dir, and makes
// sure that the result reads as what was meant. Errors: ErrEmptySlot.
func graftOne(g Grafting, dir string) (*Grafted, error) {
	f, size, err := Open(g.Base)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if size > graft.MaxImage {
		return nil, fmt.Errorf("%s is larger than any boot partition", g.Base)
	}
	base, err := io.ReadAll(io.NewSectionReader(f, 0, size))
	if err != nil {
		return nil, err
	}
	name := g.Into.String()
	out := &Grafted{Path: filepath.Join(dir, name+".img")}
	if image.IsZero(base[:min(len(base), blockSize)]) {
		return nil, fmt.Errorf("%s: %w", name, ErrEmptySlot)
	}
	old, err := oldRamdisk(g.Home, base)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	ramdisk := g.Ramdisk
	if len(old) > 0 {
		if wrap.Detect(old) == wrap.Xz && wrap.Detect(ramdisk) != wrap.Xz && g.Packing != nil {
			g.Packing("compressing the ramdisk with xz, as the phone's is; that may take a minute")
		}
		if ramdisk, out.Packed, err = packedAs(old, ramdisk); err != nil {
			return nil, err
		}
		if g.Home.Form == "ramdisk" {
			if out.Lost, err = lostFor(old, ramdisk); err != nil {
				return nil, err
			}
		}
	}
	put := graft.Ramdisk
	if g.Home.Form == "fragment" {
		put = graft.Fragment
	}
	img, err := put(bytes.NewReader(base), int64(len(base)), ramdisk, g.Room)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	again, err := oldRamdisk(g.Home, img)
	if err != nil || !bytes.Equal(again, ramdisk) {
		return nil, fmt.Errorf("%s: read again, the image does not hold the ramdisk it was given (%v)", name,
			err)
	}
	return out, os.WriteFile(out.Path, img, 0o600)
}
