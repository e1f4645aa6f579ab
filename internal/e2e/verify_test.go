package e2e

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/standin/scenario"
	"jarlid/internal/task/sheet"
)

// eight changes eight bytes of a file in its middle; beside it lies the digest of what it was.
func (l *lab) eight(name, path string) string {
	l.Helper()
	b := must(os.ReadFile(path))
	l.file(name+".sha256", fmt.Appendf(nil, "%x", sha256.Sum256(b)))
	return l.file(name, garbled(b, len(b)/2))
}

// garbled changes eight bytes at an offset.
func garbled(b []byte, at int) []byte {
	out := bytes.Clone(b)
	for i := range 8 {
		out[at+i] ^= 0x5a
	}
	return out
}

// sending is how a command that sends files is typed, with a file that is damaged and one that is whole and
// was changed after it was signed; "" where a file of that command can't be that.
type sending struct {
	args             func(file string) []string
	damaged, altered string
}

// sendings has a row for every command that writes files to a phone.
func (l *lab) sendings() map[string]sending {
	kit := kitOf(l.T, "dunlin", 2)
	more := func(args ...string) func(string) []string {
		return func(file string) []string {
			out := []string{}
			for _, a := range args {
				out = append(out, strings.ReplaceAll(a, "FILE", file))
			}
			return out
		}
	}
	rom := must(os.ReadFile(files.Package))
	staleBoot := l.file("stale-boot.img", l.staleFooter("boot", l.setImage(kit, "boot")))
	vbmeta := l.setImage(kit, "vbmeta")
	staleRecovery := l.file("stale-recovery.img",
		l.staleFooter("recovery", must(os.ReadFile(files.Recovery))))
	badRom := l.file("bad-rom.zip", garbled(rom, len(rom)/2)) // by its own digests: nothing is beside it
	apk := l.file("fieldlog.apk", must(scenario.FieldLog.Package()))
	staleApp := must(os.ReadFile(apk))
	staleApp[40] ^= 1
	repacked := l.file("repacked.zip",
		must(scenario.Addon{Name: "Countsheet", Signer: "saltmarsh"}.Package()))
	b := must(os.ReadFile(repacked))
	b[60] ^= 1
	l.file("repacked.zip", b)
	l.want(0, nil, "backup", "take", "boot@a", "-o", l.dir+"/kept")
	taken := filepath.Join(l.dir, "kept", "boot_a.img")
	if err := os.WriteFile(taken, garbled(must(os.ReadFile(taken)), 9000), 0o600); err != nil {
		l.Fatalf("os.WriteFile(taken, ..., 0o600): %v", err)
	}
	return map[string]sending{
		"flash": {more("flash", "FILE", "--into", "boot@a"), l.eight("b.img", kit.more.Boot),
			staleBoot},
		"recovery install": {more("recovery", "install", "FILE"), l.eight("r.img", files.Recovery),
			staleRecovery},
		"recovery try": {more("recovery", "try", "FILE"), l.eight("t.img", files.Recovery),
			staleRecovery},
		"sideload": {more("sideload", "FILE"), badRom, repacked},
		"put":      {more("put", "FILE", "--to", "storage"), badRom, repacked},
		"app":      {more("app", "FILE"), l.eight("a.apk", apk), l.file("stale.apk", staleApp)},
		"vbmeta loosen": {more("vbmeta", "loosen", "hashtree", "--from", "FILE"),
			l.eight("v.img", l.file("vbmeta.img", vbmeta)), l.file("stale-vbmeta.img", garbled(vbmeta, 150))},
		"vbmeta tighten": {more("vbmeta", "tighten", "hashtree", "--from", "FILE"),
			l.eight("w.img", l.file("vbmeta.img", vbmeta)), l.file("stale-vbmeta.img", garbled(vbmeta, 150))},
		"backup restore": {more("backup", "restore", "boot@a", "-o", "FILE"), l.dir + "/kept", ""},
		// it verifies the whole chain
		"relock": {more("relock", "--images", "FILE"), l.eight("set.zip", kit.more.Set), ""},
	}
}

// staleFooter gives an image a verified boot footer of other contents.
func (l *lab) staleFooter(partition string, img []byte) []byte {
	l.Helper()
	return must(scenario.Footed(partition, img, append([]byte{1}, img...)))
}

// TestEverySentFile: whatever command it is, a damaged file is stopped before anything is changed, once and
// for good; one that was changed after it was signed by one stop, which is accepted by the file's name.
func TestEverySentFile(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.readyForPackages(files.Recovery)
		all := l.sendings()
		for _, name := range sheet.SendsFiles() {
			if _, ok := all[name]; !ok {
				t.Errorf("no row for %s", name)
			}
		}
		before := l.holds("dunlin")
		for name, s := range all {
			out := l.want(3, []string{"stop  damaged-file: ", "nothing was changed"},
				append(s.args(s.damaged), "--yes", "--accept", "damaged-file")...)
			if n := strings.Count(out, "stop  "); n != 1 {
				t.Errorf("%s: %d stops for one damage:\n%s", name, n, out)
			}
			if s.altered == "" {
				continue
			}
			out = l.want(3, []string{"stop  altered-file: "}, append(s.args(s.altered), "--dry-run", "--yes",
				"--accept", "altered-file")...)
			if n := strings.Count(out, "altered-file"); n < 1 || strings.Contains(out, "damaged-file") {
				t.Errorf("%s: %s; unwanted: n < 1 || strings.Contains(out, 'damaged-file')", name, out)
			}
			accept := "altered-file=" + filepath.Base(s.altered)
			if _, out := l.run(append(s.args(s.altered), "--dry-run", "--yes", "--accept",
				accept)...); !strings.Contains(out, "(accepted)") {
				t.Errorf("%s: it can't be accepted:\n%s", name, out)
			}
		}
		if after := l.holds("dunlin"); !maps.Equal(before, after) {
			t.Error("the phone was changed")
		}
	})
}

// TestDamagedEvening: eight bytes changed inside a ROM are found by the draft, the check and the run of a
// sheet, before the data is formatted.
func TestDamagedEvening(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		rom := must(os.ReadFile(files.Package))
		l.file("good.zip", rom)
		bad := l.file("bad.zip", garbled(rom, len(rom)/2))
		recovery := l.file("recovery.img", must(os.ReadFile(files.Recovery)))
		before := l.holds("dunlin")
		l.want(0, []string{"bad.zip is damaged: its payload has the SHA-256"}, "sheet", "draft", bad,
			recovery, "-o", l.dir+"/drafted.yaml")
		l.want(6, []string{"stop"}, "sheet", "check", l.dir+"/drafted.yaml")
		sheet := l.file("evening.yaml",
			[]byte("sheet: 1\nfiles: {rom: {path: bad.zip}, recovery: {path: recovery.img}}\ntasks:\n- "+
				"recovery install: recovery\n- go: recovery\n- wipe: userdata\n- sideload: rom\n"))
		out := l.want(6, []string{"stop  damaged-file: bad.zip is damaged: its payload has the SHA-256"},
			"sheet", "check", sheet)
		if n := strings.Count(out, "stop  "); n != 1 {
			t.Errorf("%d stops for one damage:\n%s", n, out)
		}
		l.want(3, []string{"stop  damaged-file", "nothing was changed"}, "sheet", "run", sheet, "--yes")
		l.want(3, []string{"stop  damaged-file"}, "sideload", bad, "--yes")
		stated := l.file("stated.yaml",
			fmt.Appendf(nil, "sheet: 1\nfiles: {rom: {path: good.zip, sha256: %064x}}\ntasks:\n- "+
				"sideload: rom\n", 1))
		l.want(6, []string{"stop  damaged-file: good.zip is damaged: its sha256 is", "the sheet states"},
			"sheet", "check", stated)
		missing := l.file("missing.yaml",
			[]byte("sheet: 1\nfiles: {rom: {path: nowhere.zip}}\ntasks:\n- sideload: rom\n"))
		l.want(6, []string{"stop  no-such-file"}, "sheet", "check", missing)
		if after := l.holds("dunlin"); !maps.Equal(before, after) {
			t.Error("the phone was changed")
		}
	})
}

// TestFileChanged: a file that is written after it was verified is not taken for the one that was, before its
// first byte and after its last.
func TestFileChanged(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		img := must(os.ReadFile(files.Recovery))
		for _, c := range []struct {
			when string // a piece of the line at which the file is written
			code int
		}{{"asks  ", 3}, {"send  recovery_a", 7}} {
			path := l.file("r.img", img)
			time.Sleep(time.Second)
			changed := false
			j := l.begin(true, "y\n", func(line string) {
				if strings.HasPrefix(line, c.when) && !changed {
					changed = true
					if err := os.WriteFile(path, garbled(img, len(img)/2), 0o644); err != nil {
						t.Errorf("os.WriteFile(%v, garbled(img, len(img)/2), 0o644): %v", path, err)
					}
				}
			}, "recovery", "install", path)
			<-j.done
			if out := j.out.String(); !changed || j.code != c.code ||
				!strings.Contains(out, "stop  file-changed: r.img changed since it was verified") {
				t.Errorf("written at %q: it ended with %d:\n%s", c.when, j.code, out)
			}
			l.want(0, nil, "recovery", "install", l.file("r.img", img), "--yes")
		}
	})
}
