package e2e

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"jarlid/internal/standin/scenario"
)

// TestVBMeta: a chain is shown and verified against its images, flags are changed in
// files and on phones, and the phone does what was said.
func TestVBMeta(t *testing.T) {
	t.Parallel()
	t.Run("files", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "avocet", 2)
			stock := must(scenario.Images(scenario.Stock, kit.phone))
			top := l.file("vbmeta.img", stock["vbmeta"])
			var show struct {
				Algorithm   string `json:"algorithm_type"`
				Flags       int
				Signature   string
				Rollback    uint64 `json:"rollback_index"`
				Descriptors []struct {
					Tag       string
					Partition string `json:"partition_name"`
				}
			}
			l.result(0, &show, "vbmeta", "show", top)
			if show.Algorithm != "SHA256_RSA2048" || show.Flags != 0 || show.Signature != "good" ||
				show.Rollback != scenario.Stock.Rollback || len(show.Descriptors) != 6 {
				t.Errorf("%+v; unwanted: show.Algorithm != 'SHA256_RSA2048' || show.Flags != 0 || ...", show)
			}
			var check struct {
				Unlocked bool
				Locked   *string `json:"locked_if_trusts"`
				Checks   []struct {
					Partition, Kind string
					OK              bool
				}
			}
			l.result(0, &check, "vbmeta", "check", top, "--images", kit.more.Set)
			if !check.Unlocked || check.Locked == nil || len(check.Checks) != 9 {
				t.Errorf("%+v; unwanted: !check.Unlocked || check.Locked == nil || len(check.Checks) != 9",
					check)
			}
			// The ROM's images under the manufacturer's vbmeta: another vendor tree is enforced.
			l.result(6, &check, "vbmeta", "check", top, "--images", kit.more.Package)
			if check.Unlocked || check.Locked != nil {
				t.Errorf("%+v; unwanted: check.Unlocked || check.Locked != nil", check)
			}
			loose := filepath.Join(l.dir, "loose.img")
			l.want(0, []string{"only its flags differ"}, "vbmeta", "loosen", "hashtree", top, "-o", loose)
			b := must(os.ReadFile(loose))
			want := bytes.Clone(stock["vbmeta"])
			want[123] = 1 // flags: the last byte of four at 120 (AvbVBMetaImageHeader)
			if !bytes.Equal(b, want) {
				t.Error("more than the flags was changed")
			}
			// Now an unlocked phone starts them, and no locked one.
			l.result(0, &check, "vbmeta", "check", loose, "--images", kit.more.Package)
			if !check.Unlocked || check.Locked != nil {
				t.Errorf("%+v; unwanted: !check.Unlocked || check.Locked != nil", check)
			}
			l.want(0, []string{"the signature fits the image again"}, "vbmeta", "tighten", "hashtree", loose,
				"-o",
				loose+".2")
			if !bytes.Equal(must(os.ReadFile(loose+".2")), stock["vbmeta"]) {
				t.Error("tightened again it is not the same")
			}
			for name, args := range map[string][]string{
				"no vbmeta": {"vbmeta", "show", kit.recovery},
				"cut short": {"vbmeta", "show", l.file("cut.img", stock["vbmeta"][:300])},
				"wild lengths": {"vbmeta", "show",
					l.file("wild.img", append(append(bytes.Clone(stock["vbmeta"][:12]),
						bytes.Repeat([]byte{0xff}, 16)...), stock["vbmeta"][28:]...))},
				"not there": {"vbmeta", "show", "./nosuch.img"},
				"no such image": {"vbmeta", "check", filepath.Join(l.dir, "none.img"), "--images",
					kit.more.Set},
			} {
				if code, out := l.run(args...); code != 1 && code != 6 {
					t.Errorf("%s ended with %d:\n%s", name, code, out)
				}
			}
			l.want(3, []string{"chained from another"}, "vbmeta", "loosen", "hashtree",
				l.file("chained.img", chained(stock["vbmeta"])), "-o", loose)
			l.want(2, []string{"hashtree, verification"}, "vbmeta", "loosen", "all", top, "-o", loose)
		})
	})
	t.Run("on the phone", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.standin("dunlin")
			stock := l.file("vbmeta.img", must(scenario.Images(scenario.Stock, dunlin))["vbmeta"])
			l.want(3, []string{"stop  not-in-this-mode", "can't give out vbmeta_a"}, "vbmeta",
				"show", "vbmeta")
			l.want(3, []string{"stop  not-in-this-mode", "--from FILE"}, "vbmeta", "loosen", "hashtree")
			// An empty one has the flag that was asked for, and no other.
			l.want(0, []string{"flags before: not known; after: 1, hash trees are not enforced"}, "vbmeta",
				"loosen",
				"hashtree", "--make-blank", "--slot", "b", "--yes")
			if b := l.stored("dunlin", "vbmeta_b"); binary.BigEndian.Uint32(b[120:]) != 1 {
				t.Errorf("after loosen hashtree --make-blank the flags of vbmeta_b are %x, want 1",
					b[120:124])
			}
			l.want(0, nil, "flash", stock, "--into", "@b", "--yes")
			// A changed system under an enforced tree is known to be one.
			l.want(3, []string{"stop  verity-would-reject"}, "flash",
				l.file("system.img", must(scenario.System(scenario.GSI, dunlin))), "--into", "system@b")
			l.inRecovery("dunlin", files.Recovery)
			l.want(0, []string{"SHA256_RSA2048", "everything is enforced"}, "vbmeta", "show", "vbmeta")
			l.want(0, []string{"an unlocked phone starts it"}, "vbmeta", "check")
			before := l.stored("dunlin", "vbmeta_a")
			l.want(3, []string{"stop  verity-would-reject", "jarlid vbmeta loosen hashtree"}, "shelve",
				"/system/etc/about.txt")
			l.want(0, []string{"vbmeta_a and vbmeta_b written", "what was there before"}, "vbmeta", "loosen",
				"hashtree", "--yes")
			dirs := must(filepath.Glob(filepath.Join(l.home, "jobs", "*", "previous-vbmeta_a.img")))
			if len(dirs) != 1 || !bytes.HasPrefix(before, must(os.ReadFile(dirs[0]))) {
				t.Errorf("what was there before is not kept: %v", dirs)
			}
			l.want(0, nil, "go", "recovery", "--yes")
			l.want(0, []string{"nothing has to be changed"}, "vbmeta", "loosen", "hashtree")
			l.want(0, []string{"moved aside"}, "shelve", "/system/etc/about.txt", "--yes")
			l.did("dunlin", "", []string{"Wickerlight Stock 9.1"}, "go", "system", "--wait", "30s", "--yes")
		})
	})
	t.Run("none", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.standin("turnstone")
			l.want(0, []string{"has no vbmeta"}, "vbmeta", "show", "vbmeta")
			l.want(0, []string{"nothing has to be switched off"}, "vbmeta", "loosen", "hashtree")
		})
	})
}

// chained makes a vbmeta that says that its rollback index is stored at location 1.
func chained(b []byte) []byte {
	b = bytes.Clone(b)
	b[127] = 1
	return b
}
