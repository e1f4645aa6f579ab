package ident

import (
	"io"
	"io/fs"
	"strings"

	"jarlid/internal/core/image/erofs"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/core/image/filesystem"
)

func (f *File) ext4(r io.ReaderAt, size int64) {
	f.Kind = Ext4
	s, err := ext4.ParseSuper(r, size)
	f.damaged(err)
	if s == nil {
		return
	}
	f.Details["volume_name"], f.Details["last_mounted"], f.Details["block_size"],
		f.Details["size"] = s.Volume, s.LastMounted, s.BlockSize, s.Size()
	if s.SharedBlocks() {
		f.Notes = append(f.Notes, "its files share blocks, so it can only be mounted read-only")
	}
	f.footer(r, size)
	f.fileSystem(firstWord(s.LastMounted, s.Volume), f.tree(r, size))
}

func (f *File) erofs(r io.ReaderAt, size int64) {
	f.Kind = EROFS
	s, err := erofs.ParseSuper(r, size)
	f.damaged(err)
	if s == nil {
		return
	}
	f.Details["volume_name"], f.Details["block_size"], f.Details["size"] = s.Volume, s.BlockSize, s.Size()
	f.footer(r, size)
	f.fileSystem(firstWord(s.Volume), f.tree(r, size))
}

// tree opens the file system; nil where it is damaged or only its start is here.
func (f *File) tree(r io.ReaderAt, size int64) fs.FS {
	if f.partial {
		return nil
	}
	tree, err := filesystem.Open(r, size)
	f.damaged(err)
	if err != nil {
		return nil
	}
	return tree
}

func firstWord(list ...string) string {
	for _, s := range list {
		if s = strings.Trim(s, "/"); s != "" {
			return s
		}
	}
	return ""
}

// buildProps are where a partition keeps the properties of its build, and
// which partition that makes it.
var buildProps = []struct{ path, partition string }{
	{"system/build.prop", "system"},
	{"build.prop", ""},
	{"etc/build.prop", ""},
	{"product/etc/build.prop", "product"},
}

// fileSystem reads the build's properties out of a tree and works out which
// partition it is. label is what the file system says of itself.
func (f *File) fileSystem(label string, tree fs.FS) {
	part, why := "", ""
	if tree != nil {
		for _, p := range buildProps {
			props, err := filesystem.Props(tree, p.path, nil)
			if err != nil {
				continue
			}
			f.Props = props
			if own := partitionOfProps(props); p.partition == "" && own != "" {
				f.Props, _ = filesystem.Props(tree, p.path, map[string]fs.FS{own: tree})
			}
			part, why = p.partition, "it holds "+p.path
			if part == "" {
				part = partitionOfProps(f.Props)
				why += ", whose properties are those of " + part
			}
			if f.Restores = "no"; restoring(tree) {
				f.Restores = "yes"
			}
			break
		}
		f.properties()
		if v := f.Props["ro.treble.enabled"]; v != "" {
			f.Details["treble"] = v
		}
	}
	for _, p := range namedPartitions {
		if part == "" && (label == p || label == p+"_a" || label == p+"_b") {
			part, why = p, "the file system calls itself "+label
		}
	}
	if len(f.GoesTo) == 0 && part != "" {
		f.goes(part, "both", "content", why)
	}
}

// partitionOfProps tells a partition by the prefix its properties have.
func partitionOfProps(props map[string]string) string {
	for _, p := range []string{"vendor_dlkm", "odm_dlkm", "system_dlkm", "system_ext", "product", "vendor",
		"odm", "system"} {
		for _, k := range []string{"ro." + p + ".build.fingerprint", "ro.product." + p + ".device",
			"ro." + p + ".build.date.utc"} {
			if props[k] != "" {
				return p
			}
		}
	}
	if props["ro.build.fingerprint"] != "" || props["ro.build.display.id"] != "" {
		return "system"
	}
	return ""
}
