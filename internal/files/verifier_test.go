package files

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
	"jarlid/internal/core/verify"
)

// reads counts how often a verifier begins to read a file.
type reads int

func (r *reads) working(string, string, int64) (func(int64), func()) {
	*r++
	return func(int64) {}, func() {}
}

// settle waits until a change would give a file another stamp.
func settle() { time.Sleep(30 * time.Millisecond) }

// TestVerifierRemembers: a file is verified once, in this program and in later ones with the same home
// folder, until its bytes, its times or what a list states of it change.
func TestVerifierRemembers(t *testing.T) {
	dir, home := t.TempDir(), t.TempDir()
	path := put(t, filepath.Join(dir, "rom.zip"), []byte("abc"))
	// The SHA-256 of "abc" (FIPS 180-4, example), and of "abd" (Python's hashlib).
	const abc, abd = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
		"a52d159f262b2c6ddb724a61840befc36eb30c88877a4030b65cbe86298449c9"
	list := func(sum string) { put(t, filepath.Join(dir, "SHA256SUMS"), []byte(sum+"  rom.zip\n")) }
	list(abc)
	settle()
	st, err := os.Stat(path)
	if err != nil {
		t.Fatalf("os.Stat(%v): %v", path, err)
	}
	v := &Verifier{Home: home}
	for _, step := range []struct {
		name   string
		change func()
		reads  reads
		faults int
	}{
		{"the first time", func() {}, 1, 0},
		{"again", func() {}, 0, 0},
		{"in a later program", func() { v.Save(); v = &Verifier{Home: home} }, 0, 0},
		{"its list states another digest", func() { list(abd) }, 0, 1},
		{"its list is as before", func() { list(abc) }, 0, 0},
		{"other bytes under the old time", func() {
			put(t, path, []byte("abd"))
			if err := os.Chtimes(path, st.ModTime(), st.ModTime()); err != nil {
				t.Fatalf("os.Chtimes(%v, st.ModTime(), st.ModTime()): %v", path, err)
			}
			settle()
		}, 1, 1},
		{"what is damaged is read again", func() { list(abd) }, 1, 0},
		{"the memory is damaged", func() {
			v.Save()
			put(t, filepath.Join(home, memoryName), []byte(`{"form":1,"files":[null,{"size":-1}],`))
			v = &Verifier{Home: home}
		}, 1, 0},
		// A time that is still to come stands for one within the last tick, however slow this computer is.
		{"it may be written again under the same stamp", func() {
			put(t, path, []byte("abc"))
			list(abc)
			soon := time.Now().Add(time.Hour)
			if err := os.Chtimes(path, soon, soon); err != nil {
				t.Fatalf("setting the time of %s: %v", path, err)
			}
		}, 1, 0},
		{"so a later program reads it again", func() { v.Save(); v = &Verifier{Home: home} }, 1, 0},
	} {
		step.change()
		var n reads
		r, err := v.Verify(t.Context(), path, nil, n.working)
		if err != nil || n != step.reads || len(r.Faults) != step.faults {
			t.Errorf("%s: read %d times, want %d; %+v, want %d faults; %v", step.name, n, step.reads, r,
				step.faults, err)
		}
	}
}

// TestSourceChanged: what is sent must be what was verified, by its digest too, and is verified again after.
func TestSourceChanged(t *testing.T) {
	path := put(t, filepath.Join(t.TempDir(), "x.img"), []byte("tide"))
	settle()
	v := &Verifier{}
	if _, err := v.Verify(t.Context(), path, nil, nil); err != nil {
		t.Fatalf("v.Verify(%v): %v", path, err)
	}
	s, err := v.Source(path, 4)
	if err != nil {
		t.Fatalf("v.Source(%v, 4): %v", path, err)
	}
	defer s.Close()
	sum, _, err := v.SHA256(t.Context(), path, nil)
	if err != nil {
		t.Fatalf("v.SHA256(%v): %v", path, err)
	}
	if err := s.Sent(sum); err != nil {
		t.Errorf("as it was: %v", err)
	}
	var changed *ChangedError
	if err := s.Sent(strings.Repeat("0", 64)); !errors.As(err, &changed) || !changed.Sent {
		t.Errorf("another digest: %v", err)
	}
	if _, err := v.Source(path, 4); !errors.As(err, &changed) || changed.Sent {
		t.Errorf("what changed is not verified any more: %v", err)
	}
	put(t, path, []byte("ebbs"))
	if _, err := (&Verifier{}).Source(path, 4); !errors.As(err, &changed) {
		t.Errorf("a file that was never verified is sent: %v", err)
	}
}

// TestVerifiedFindings: one finding for one file, and a change that is meant is accepted by the file's name.
func TestVerifiedFindings(t *testing.T) {
	fault := func(k verify.Kind) verify.Fault {
		return verify.Fault{Kind: k, Check: "footer", Text: "it is so"}
	}
	both := &verify.Result{Faults: []verify.Fault{fault(verify.Altered), fault(verify.Damaged)}}
	f, err := Identify(put(t, filepath.Join(t.TempDir(), "boot.img"), []byte("boot")), ident.Options{})
	if err != nil {
		t.Fatalf("Identify(...): %v", err)
	}
	if list := place.Verified("boot.img", f, both); len(list) != 1 || list[0].Name != "damaged-file" ||
		!list[0].Final {
		t.Errorf("Identify(..., ...): %+v; unwanted: len(list) != 1 || list[0].Name != 'damaged-file' || "+
			"!list[0].Final", list)
	}
	altered := &verify.Result{Faults: both.Faults[:1]}
	list := place.Verified("boot.img", f, altered)
	if len(list) != 1 || list[0].Name != "altered-file" || list[0].Final || !list[0].Named ||
		!strings.Contains(list[0].Remedy, "altered-file=boot.img") {
		t.Errorf("Identify(..., ...): %+v", list)
	}
	if list := place.Verified("boot.img", f, &verify.Result{}); len(list) != 0 {
		t.Errorf("Identify(..., ...): %+v; unwanted: len(list) != 0", list)
	}
}
