package e2e

import (
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/boot"
)

// TestSetsAgree: what an image is, and where it goes, is the same alone, compressed, and in a set that
// general tools packed; a set of a phone without vendor misses none.
func TestSetsAgree(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		noise := make([]byte, 5<<18) // the ramdisk begins behind what of a compressed file is its head
		for i := range noise {
			noise[i] = byte(i*i>>7) ^ byte(i>>11)
		}
		recovery := ramdiskOf("system/bin/recovery", "x", "init", "x")
		bootOf := func(version uint32, kernel, ramdisk []byte) []byte {
			return must(boot.Build(boot.Image{HeaderVersion: version, PageSize: 4096},
				boot.Parts{Kernel: kernel, Ramdisk: ramdisk}))
		}
		images := map[string][]byte{"boot.img": bootOf(2, noise, ramdiskOf("init", "x")),
			"recovery.img": bootOf(2, noise, recovery), "init_boot.img": bootOf(4, nil, ramdiskOf("init",
				"x")),
			"vendor_boot.img": must(boot.BuildVendor(boot.Vendor{HeaderVersion: 4},
				[]boot.FragmentParts{{Type: boot.FragmentPlatform, Data: noise},
					{Type: boot.FragmentRecovery, Name: "recovery", Data: recovery}}, []byte("dtb"),
				nil))}
		type found struct {
			Kind   string
			GoesTo []ident.Destination `json:"goes_to"`
		}
		identify := func(path string) (f found, members map[string]found, notes string) {
			var r struct {
				Files []struct {
					found
					Details struct {
						Members []struct {
							Name string
							found
						}
					}
					Notes []string
				}
			}
			l.result(0, &r, "ident", path)
			members = map[string]found{}
			for _, m := range r.Files[0].Details.Members {
				members[m.Name] = m.found
			}
			return r.Files[0].found, members, strings.Join(r.Files[0].Notes, "\n")
		}
		l.tool("mke2fs", "-q", "-t", "ext4", "system.img", "512k")
		images["system.img"] = must(os.ReadFile(filepath.Join(l.dir, "system.img")))
		names := slices.Sorted(maps.Keys(images))
		alone := map[string]found{}
		for _, name := range names {
			path := l.file(name, images[name])
			alone[name], _, _ = identify(path)
			l.tool("gzip", "-k", name)
			if packed, _, _ := identify(path + ".gz"); !reflect.DeepEqual(packed, alone[name]) {
				t.Errorf("%s.gz is %+v, and %s %+v", name, packed, name, alone[name])
			}
		}
		if alone["recovery.img"].Kind != "recovery" {
			t.Errorf("recovery.img is %+v", alone["recovery.img"])
		}
		l.tool("zip", append([]string{"-q", "set.zip"}, names...)...)
		l.tool("7z", append([]string{"a", "-bso0", "-mx1", "set.7z"}, names...)...)
		l.tool("tar", append([]string{"cf", "set.tar"}, names...)...)
		for _, set := range []string{"set.zip", "set.7z", "set.tar"} {
			_, members, notes := identify(filepath.Join(l.dir, set))
			for _, name := range names {
				if !reflect.DeepEqual(members[name], alone[name]) {
					t.Errorf("in %s %s is %+v, and alone %+v", set, name, members[name], alone[name])
				}
			}
			if !strings.HasSuffix(notes, "missing: vbmeta") { // and not vendor, which not every phone has
				t.Errorf("of %s ident notes %q", set, notes)
			}
		}
	})
}
