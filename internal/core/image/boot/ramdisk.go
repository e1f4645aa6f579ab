package boot

import (
	"errors"
	"io"
	"path"
	"strings"

	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/wrap"
)

// MaxRamdisk is how many bytes a ramdisk may extract to. Phones of today have
// ramdisks of up to some 200 MiB; a gigabyte is a bomb.
const MaxRamdisk = 1 << 30

// maxNames is how many names of files are kept.
const maxNames = 20000

// maxProps is the size up to which a property file inside is kept, in bytes.
const maxProps = 1 << 20

// Ramdisk is what a ramdisk is found to hold.
type Ramdisk struct {
	Compression wrap.Kind // of the first archive
	Files       int
	Names       []string          // of the files, without a leading slash; at most maxNames
	Recovery    bool              // holds the recovery program
	NormalStart bool              // also holds what a normal start needs (first-stage mounts)
	Props       map[string]string // of the property files inside
	Wanted      map[string][]byte // the files asked for by name
}

// ReadRamdisk extracts a ramdisk as a stream, all archives of it, and checks what is in it. The
// contents of files named in want (without a leading slash) are kept, up to a
// mebibyte each.
func ReadRamdisk(r io.Reader, want ...string) (*Ramdisk, error) {
	rd := &Ramdisk{Props: map[string]string{}, Wanted: map[string][]byte{}}
	c := NewInitramfs(r, MaxRamdisk)
	defer c.Close()
	for {
		h, err := c.Next()
		if len(c.Kinds) > 0 {
			rd.Compression = c.Kinds[0]
		}
		if errors.Is(err, io.EOF) {
			return rd, nil
		}
		if len(c.Kinds) == 0 {
			return nil, err
		}
		if err != nil {
			return rd, err
		}
		rd.Files++
		if err := rd.take(h, c, want); err != nil {
			return rd, err
		}
	}
}

func (rd *Ramdisk) take(h *cpio.Header, data io.Reader, want []string) error {
	name := strings.TrimPrefix(path.Clean("/"+h.Name), "/")
	if len(rd.Names) < maxNames {
		rd.Names = append(rd.Names, name)
	}
	switch name {
	case "sbin/recovery", "system/bin/recovery":
		rd.Recovery = true
	}
	// A ramdisk that serves both starts keeps the normal one's first stage in
	// this folder ("Ramdisk partitions" in the architecture documentation).
	if name == "first_stage_ramdisk" || strings.HasPrefix(name, "first_stage_ramdisk/") {
		rd.NormalStart = true
	}
	wanted := false
	for _, w := range want {
		wanted = wanted || w == name
	}
	isProps := path.Base(name) == "prop.default" || path.Base(name) == "default.prop" ||
		path.Base(name) == "build.prop"
	if !wanted && !isProps || h.Mode&cpio.TypeMask != cpio.TypeFile || h.Size > maxProps {
		return nil
	}
	b, err := io.ReadAll(data)
	if err != nil {
		return err
	}
	if wanted {
		rd.Wanted[name] = b
	}
	if isProps {
		for k, v := range ParseProps(b) {
			if _, ok := rd.Props[k]; !ok {
				rd.Props[k] = v
			}
		}
	}
	return nil
}
