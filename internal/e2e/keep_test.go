package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	keepfiles "jarlid/internal/files"
)

// share puts files into the shared storage of a stand-in, by name and contents.
func (l *lab) share(phone string, files ...string) string {
	l.Helper()
	dir := filepath.Join(l.dir, phone, "shared")
	for i := 0; i < len(files); i += 2 {
		name := filepath.Join(dir, filepath.FromSlash(files[i]))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			l.Fatalf("os.MkdirAll(filepath.Dir(name), 0o755): %v", err)
		}
		if err := os.WriteFile(name, []byte(files[i+1]), 0o644); err != nil {
			l.Fatalf("os.WriteFile(%v, []byte(files[i+1]), 0o644): %v", name, err)
		}
	}
	return dir
}

// inWiped brings a dunlin into its recovery with an empty storage that can be read.
func (l *lab) inWiped() {
	l.Helper()
	l.standin("dunlin")
	l.inRecovery("dunlin", files.Recovery)
	l.want(0, nil, "wipe", "userdata", "--yes")
}

// TestBackupIsOfNow: what an interrupted backup left counts only where the phone holds the same now, and a
// finished one is never written again, whatever the phone holds by then.
func TestBackupIsOfNow(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inWiped()
		shared := l.share("dunlin", "counts.csv", strings.Repeat("dunlin 214\n", 40000), "notes.txt",
			"low tide 7:30")
		dir := filepath.Join(l.dir, "kept")
		l.fault("dunlin", "file-short", 1)
		l.want(1, []string{"could not be kept: counts.csv"}, "backup", "take", "boot@a", "storage", "-o", dir)
		before := l.stored("dunlin", "boot_a")
		l.want(0, nil, "wipe", "part:boot@a", "--yes")
		now := l.stored("dunlin", "boot_a")
		if bytes.Equal(before, now) {
			t.Fatal("the boot image is the same")
		}
		l.inRecovery("dunlin", files.Recovery)
		st := must(os.Stat(filepath.Join(shared, "notes.txt")))
		l.share("dunlin", "notes.txt", "low tide 9:30") // as long as before, and by its time as old
		if err := os.Chtimes(filepath.Join(shared, "notes.txt"), st.ModTime(), st.ModTime()); err != nil {
			t.Fatalf("os.Chtimes(filepath.Join(shared, 'notes.txt'), st.ModTime(), st.ModTime()): %v", err)
		}
		l.want(0, nil, "backup", "take", "boot@a", "storage", "-o", dir)
		if got := must(os.ReadFile(filepath.Join(dir, "boot_a.img"))); !bytes.Equal(got, now) {
			t.Error("the boot image of before the change is kept")
		}
		if got := must(os.ReadFile(filepath.Join(dir, "storage", "notes.txt"))); string(
			got) != "low tide 9:30" {
			t.Errorf("the notes are those of before: %q", got)
		}
		l.want(3, []string{"stop  backup-exists"}, "backup", "take", "-o", dir)
		l.want(3, []string{"stop  backup-exists"}, "backup", "take", "-o", dir, "--yes", "--accept",
			"backup-exists")
	})
}

// TestBackupShort: what arrives short, can't be read or can't have its name here is named, the rest is kept,
// and a repeat gets what was missing.
func TestBackupShort(t *testing.T) {
	long := strings.Repeat("n", 251)
	for _, c := range []struct {
		name, fault string
		skipped     string // "" for none
		code        int
	}{
		{"whole", "clear", "", 0},
		{"short once", "file-short", "a.jpg", 1},
		{"refused once", "file-refused", "a.jpg", 1},
		{"listed as a folder too", "listed-twice", "a.jpg", 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.inWiped()
				photo := strings.Repeat("photo", 1000)
				l.share("dunlin", "a.jpg", photo, "b.jpg", photo, long+".txt", "a long name")
				dir := filepath.Join(l.dir, "kept")
				l.fault("dunlin", c.fault, 0)
				out := l.want(c.code, nil, "backup", "take", "storage", "-o", dir)
				if c.skipped != "" && !strings.Contains(out, "could not be kept: "+c.skipped) {
					t.Errorf("%s is not named:\n%s", c.skipped, out)
				}
				l.fault("dunlin", "clear", 0)
				if c.code != 0 {
					l.want(0, nil, "backup", "take", "storage", "-o", dir)
				}
				for name, want := range map[string]string{"a.jpg": photo, "b.jpg": photo,
					long + ".txt": "a long name"} {
					if got, err := os.ReadFile(filepath.Join(dir, "storage", name)); err != nil ||
						string(got) != want {
						t.Errorf("%.20s: %d bytes, %v", name, len(got), err)
					}
				}
				if runtime.GOOS != "windows" {
					for _, name := range []string{"", "storage", "backup.yaml", "storage/a.jpg"} {
						if st := must(os.Stat(filepath.Join(dir, name))); st.Mode().Perm()&0o077 != 0 {
							t.Errorf("%q can be read by others: %v", name, st.Mode())
						}
					}
				}
				if list := must(filepath.Glob(filepath.Join(dir, ".jarlid*"))); len(list) > 0 {
					t.Errorf("left over: %v", list)
				}
			})
		})
	}
}

// TestBackupFolder: nothing is written through links, two programs do not share a folder, and one that others
// can read is asked about.
func TestBackupFolder(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("links and modes are of other systems")
	}
	inLab(t, func(t *testing.T, l *lab) {
		l.inWiped()
		l.share("dunlin", "a.jpg", "photo")
		mine := l.file("mine.txt", []byte("mine"))
		elsewhere := filepath.Join(l.dir, "elsewhere")
		for _, dir := range []string{elsewhere, filepath.Join(l.dir, "linked"),
			filepath.Join(l.dir, "open")} {
			if err := os.Mkdir(dir, 0o700); err != nil {
				t.Fatalf("os.Mkdir(%v, 0o700): %v", dir, err)
			}
		}
		linked := filepath.Join(l.dir, "linked")
		for name, to := range map[string]string{"boot_a.img": mine, "storage": elsewhere,
			"boot_a.img.part": mine} {
			if err := os.Symlink(to, filepath.Join(linked, name)); err != nil {
				t.Fatalf("os.Symlink(%v, filepath.Join(linked, name)): %v", to, err)
			}
		}
		l.want(1, []string{"could not be kept: a.jpg"}, "backup", "take", "boot@a", "storage", "-o", linked)
		if got := must(os.ReadFile(mine)); string(got) != "mine" {
			t.Error("it was written through a link")
		}
		if list := must(os.ReadDir(elsewhere)); len(list) > 0 {
			t.Error("it was written through a link to a folder")
		}
		open := filepath.Join(l.dir, "open")
		if err := os.Chmod(open, 0o755); err != nil {
			t.Fatalf("os.Chmod(open, 0o755): %v", err)
		}
		l.want(3, []string{"warn  readable-by-others", "not-confirmed"}, "backup", "take", "boot@a",
			"-o", open)
		l.want(0, []string{"warn  readable-by-others"}, "backup", "take", "boot@a", "-o", open, "--yes")
		if st := must(os.Stat(open)); st.Mode().Perm() != 0o755 {
			t.Errorf("somebody's folder has another mode now: %v", st.Mode())
		}
		busy := filepath.Join(l.dir, "busy")
		held := must(keepfiles.OpenFolder(busy))
		l.want(3, []string{"stop  output-shared"}, "backup", "take", "boot@a", "-o", busy)
		if err := held.Close(); err != nil {
			t.Fatalf("held.Close(): %v", err)
		}
		l.want(0, nil, "backup", "take", "boot@a", "-o", busy)
	})
}

// TestSheetSeries: the output of a sheet names a series, so that a second run keeps a backup of its own, and
// two phones of one run never share a folder.
func TestSheetSeries(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inWiped()
		l.share("dunlin", "a.jpg", "the first photo")
		sheet := func(name, output string) string {
			return l.file(name, []byte("sheet: 1\nname: keep\ntasks:\n- backup take: {items: [storage], "+
				"output: \""+output+"\"}\n- backup restore: {items: [storage], output: \""+output+"\"}\n"))
		}
		one := sheet("one.yaml", "kept-${name}")
		l.want(0, []string{"what the backup of task 1 holds is known once it is taken"}, "sheet", "check",
			one, "--on", "dunlin")
		l.want(0, nil, "sheet", "run", one, "--on", "dunlin", "--yes")
		l.share("dunlin", "a.jpg", "the second photo")
		l.want(0, nil, "sheet", "run", one, "--on", "dunlin", "--yes")
		first := filepath.Join(l.dir, "kept-dunlin")
		runs := must(filepath.Glob(first + "-*"))
		if len(runs) != 1 {
			t.Fatalf("the second run's own folder: %v", runs)
		}
		for dir, want := range map[string]string{first: "the first photo", runs[0]: "the second photo"} {
			if got := must(os.ReadFile(filepath.Join(dir, "storage", "a.jpg"))); string(got) != want {
				t.Errorf("%s holds %q", dir, got)
			}
		}
		if got := must(os.ReadFile(filepath.Join(l.dir, "dunlin", "shared", "a.jpg"))); string(
			got) != "the second photo" {
			t.Errorf("the restore put %q back", got)
		}
		l.standin("godwit")
		two := l.file("two.yaml",
			[]byte("sheet: 1\nname: keep\ntasks:\n- backup take: {items: [boot], output: kept}\n"))
		l.want(6, []string{"stop  dunlin: output-shared", "stop  godwit: output-shared",
			"dunlin, godwit would all write to"}, "sheet", "check", two, "--all")
		code, out := l.run("sheet", "run", two, "--all", "--yes")
		if code != 3 || !strings.Contains(out, "output-shared") || there(filepath.Join(l.dir, "kept")) {
			t.Errorf("the run ended with %d:\n%s", code, out)
		}
	})
}
