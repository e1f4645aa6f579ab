package files

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/lift"
)

func put(t *testing.T, path string, b []byte) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatalf("os.MkdirAll(filepath.Dir(path), 0o755): %v", err)
	}
	if err := os.WriteFile(path, b, 0o644); err != nil {
		t.Fatalf("os.WriteFile(%v, b, 0o644): %v", path, err)
	}
	return path
}

// TestExpand: paths as they come out of a terminal: dragged with quotes, with blanks around,
// with patterns a shell has left alone.
func TestExpand(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	names := []string{"a.img", "b.img", "with blank.img", "'odd'.img", "C[1].img", ".hidden.img",
		"set [2]/x.img", "set [2]/y.img"}
	if runtime.GOOS != "windows" { // where no name has one
		names = append(names, "star*.img")
	}
	for _, name := range names {
		if err := os.MkdirAll(filepath.Dir(at(name)), 0o755); err != nil {
			t.Fatalf("os.MkdirAll(filepath.Dir(at(name)), 0o755): %v", err)
		}
		put(t, at(name), []byte(name))
	}
	sep := string(filepath.Separator)
	words := map[string][]string{
		at("a.img"):                      {at("a.img")},
		"'" + at("a.img") + "'":          {at("a.img")},
		`"` + at("with blank.img") + `"`: {at("with blank.img")},
		" " + at("a.img") + " ":          {at("a.img")},
		at("'odd'.img"):                  {at("'odd'.img")}, // a file of that very name
		at("?.img"):                      {at("a.img"), at("b.img")},
		at("set [2]/*.img"):              {at("set [2]/x.img"), at("set [2]/y.img")}, // brackets are letters
		at("set [2]") + sep:              {at("set [2]")},
		at("?[1].*"):                     {at("C[1].img")},
		at("missing.img"):                {at("missing.img")}, // whoever opens it says that it is not there
		"'":                              {"'"},
	}
	if runtime.GOOS == "windows" {
		words[at("?.IMG")] = []string{at("a.img"), at("b.img")}
		words[at("set [2]")+`"`] = []string{at("set [2]")} // "C:\set\" as a program gets it
	} else {
		words[at("star*.img")] = []string{at("star*.img")}
	}
	for word, want := range words {
		if got, err := Expand([]string{word}); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s is %q, %v; want %q", word, got, err, want)
		}
	}
	if got, err := Expand([]string{at("none") + sep + "*.img"}); err == nil ||
		!strings.Contains(err.Error(), "there is no folder") {
		t.Errorf("a pattern in no folder is %q, %v", got, err)
	}
	if got, err := Expand([]string{at("z*.img")}); err == nil ||
		!strings.Contains(err.Error(), at("z*.img")) {
		t.Errorf("a pattern of nothing is %q, %v", got, err)
	}
}

// TestOpen: what is no regular file is refused with its name.
func TestOpen(t *testing.T) {
	dir := t.TempDir()
	var missing *MissingError
	if _, _, err := Open(filepath.Join(dir, "none")); !errors.As(err, &missing) ||
		!errors.Is(err, fs.ErrNotExist) {
		t.Errorf("Open(filepath.Join(dir, 'none')): %v", err)
	}
	if _, _, err := Open(dir); err == nil || !strings.Contains(err.Error(), dir+" is a folder") {
		t.Errorf("Open(%v): %v", dir, err)
	}
	f, size, err := Open(put(t, filepath.Join(dir, "a"), []byte("12345")))
	if err != nil || size != 5 {
		t.Fatalf("Open(...): got %v, %v", size, err)
	}
	f.Close()
}

// TestOut: what is written in order leaves its zeros out and has its length all the same;
// what is written anywhere and zeroed again reads as zeros.
func TestOut(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatalf("os.Create(filepath.Join(t.TempDir(), 'out')): %v", err)
	}
	defer f.Close()
	want := bytes.Join([][]byte{bytes.Repeat([]byte{1}, 5000), make([]byte, 3<<20), []byte("end"),
		make([]byte, 10000)}, nil)
	o := NewOut(f)
	for r, buf := bytes.NewReader(want), make([]byte, 70001); ; {
		n, err := r.Read(buf)
		if err == io.EOF {
			break
		}
		if _, err := o.Write(buf[:n]); err != nil {
			t.Fatalf("o.Write(buf[:n]): %v", err)
		}
	}
	if err := o.Finish(); err != nil || o.Written() != int64(len(want)) {
		t.Fatalf("o.Finish(): got %v, %v", o.Written(), err)
	}
	got, err := os.ReadFile(f.Name())
	if err != nil || !bytes.Equal(got, want) {
		t.Errorf("%d bytes of %d came back the same, %v", len(got), len(want), err)
	}
	if err := o.Zero(1000, 3000); err != nil {
		t.Fatalf("o.Zero(1000, 3000): %v", err)
	}
	copy(want[1000:4000], make([]byte, 3000))
	if got, err = os.ReadFile(f.Name()); err != nil || !bytes.Equal(got, want) {
		t.Error("zeroed, it holds something else")
	}
	if err := o.SetSize(4096); err != nil {
		t.Fatalf("o.SetSize(4096): %v", err)
	}
	if st, err := f.Stat(); err != nil || st.Size() != 4096 {
		t.Errorf("f.Stat(): got %v, %v", st.Size(), err)
	}
}

// TestSpool: a stream that is longer than allowed stops there and leaves nothing behind.
func TestSpool(t *testing.T) {
	tmp := t.TempDir()
	for _, name := range []string{"TMPDIR", "TMP", "TEMP"} {
		t.Setenv(name, tmp)
	}
	body := bytes.Repeat([]byte("tide"), 4000)
	r, n, done, err := Spool(int64(len(body)))(bytes.NewReader(body))
	if err != nil || n != int64(len(body)) {
		t.Fatalf("Spool(int64(len(body)))(bytes.NewReader(body)): got %v, %v", n, err)
	}
	if b, err := io.ReadAll(io.NewSectionReader(r, 0, n)); err != nil || !bytes.Equal(b, body) {
		t.Errorf("io.ReadAll(io.NewSectionReader(r, 0, n)): got %v, %v", "it holds something else", err)
	}
	done()
	var large *lift.TooLargeError
	if _, _, _, err := Spool(int64(len(body) - 1))(bytes.NewReader(body)); !errors.As(err, &large) {
		t.Errorf("a byte too much: %v", err)
	}
	if left, err := filepath.Glob(filepath.Join(os.TempDir(), "*")); err != nil || len(left) > 0 {
		t.Errorf("%v is left, %v", left, err)
	}
}

// TestSource: a file that changes while it is sent is noticed, whichever way it changed.
func TestSource(t *testing.T) {
	for what, change := range map[string]func(path string) error{
		"longer":  func(p string) error { return os.WriteFile(p, []byte("tide and more"), 0o644) },
		"touched": func(p string) error { return os.Chtimes(p, time.Time{}, time.Now().Add(time.Hour)) },
		"removed": os.Remove,
		"another": func(p string) error {
			if err := os.WriteFile(p+".new", []byte("ebbs"), 0o644); err != nil {
				return err
			}
			if err := os.Chtimes(p+".new", time.Time{}, time.Now().Add(time.Minute)); err != nil {
				return err
			}
			return os.Rename(p+".new", p)
		},
	} {
		path := put(t, filepath.Join(t.TempDir(), "x.img"), []byte("tide"))
		s, err := openSource(path, 4)
		if err != nil {
			t.Fatalf("OpenSource(%v, 4): %v", path, err)
		}
		if err := s.Sent(""); err != nil {
			t.Errorf("as it was: %v", err)
		}
		if err := change(path); err != nil {
			s.Close()
			if runtime.GOOS == "windows" {
				continue // the system itself keeps an open file from that
			}
			t.Fatalf("change(%v): %v", path, err)
		}
		if s.Sent("") == nil {
			t.Errorf("%s: it counts as the same", what)
		}
		s.Close()
	}
	path := put(t, filepath.Join(t.TempDir(), "x.img"), []byte("tide"))
	if s, err := openSource(path, 5); err == nil {
		s.Close()
		t.Error("a file of another size than the one that was checked is sent")
	}
}

// TestDigest is compared with the standard's own example (FIPS 180-4: "abc"), and ends with
// its context.
func TestDigest(t *testing.T) {
	path := put(t, filepath.Join(t.TempDir(), "abc"), []byte("abc"))
	if sum, n, err := DigestOf(t.Context(), path); err != nil || n != 3 ||
		sum != "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad" {
		t.Errorf("%s of %d bytes, %v", sum, n, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, _, err := DigestOf(ctx, path); !errors.Is(err, context.Canceled) {
		t.Errorf("DigestOf(%v): %v; unwanted: !errors.Is(err, context.Canceled)", path, err)
	}
}

// TestGather: single images stay where they are; of a folder or an archive every image counts,
// what is none is left and named, and what was extracted is gone in the end.
func TestGather(t *testing.T) {
	dir := t.TempDir()
	ext4 := make([]byte, 64<<10)
	copy(ext4[1024+56:], []byte{0x53, 0xef}) // the magic number of ext4, at 0x438
	var set bytes.Buffer
	z := zip.NewWriter(&set)
	for name, b := range map[string][]byte{
		"boot.img":         append([]byte("ANDROID!"), make([]byte, 4088)...),
		"android-info.txt": []byte("require product=dunlin\n"),
		"readme.txt":       []byte("a word\n"),
	} {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write(b)
		}
		if err != nil {
			t.Fatalf("z.Create(%v): %v", name, err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatalf("z.Close(): %v", err)
	}
	put(t, filepath.Join(dir, "folder", "system.img"), ext4)
	put(t, filepath.Join(dir, "folder", "notes.txt"), []byte("a word\n"))
	zipped := put(t, filepath.Join(dir, "set.zip"), set.Bytes())
	home := filepath.Join(dir, "home")
	for what, c := range map[string]struct {
		path   string
		images int
		left   string
		set    bool
	}{
		"an image":   {filepath.Join(dir, "folder", "system.img"), 1, "", false},
		"a folder":   {filepath.Join(dir, "folder"), 1, "notes.txt", true},
		"an archive": {zipped, 1, "readme.txt", true},
	} {
		m, err := Gather(t.Context(), []string{c.path}, Gathering{Home: home})
		if err != nil {
			t.Errorf("Gather(..., ...): %s: %v; want no error", what, err)
			continue
		}
		if len(m.Images) != c.images || strings.Join(m.Left, " ") != c.left || (m.Set != "") != c.set {
			t.Errorf("%s: %d images, left %q, set %q", what, len(m.Images), m.Left, m.Set)
		}
		m.Close()
	}
	if left, err := filepath.Glob(filepath.Join(home, "*", "*")); err != nil || len(left) > 0 {
		t.Errorf("%v is left, %v", left, err)
	}
	if _, err := Gather(t.Context(), []string{zipped, filepath.Join(dir, "none.img")},
		Gathering{Home: home}); !errors.Is(err, fs.ErrNotExist) || err.Error() != "no such file: "+
		filepath.Join(dir, "none.img") {
		t.Errorf("one that is not there: %v", err)
	}
	if left, err := filepath.Glob(filepath.Join(home, "*", "*")); err != nil || len(left) > 0 {
		t.Errorf("behind an error %v is left, %v", left, err)
	}
}

// TestReadSums: a digest as it was pasted, a file of them, and what is neither.
func TestReadSums(t *testing.T) {
	sum := sha256.Sum256([]byte("abc"))
	hexed := hex.EncodeToString(sum[:])
	dir := t.TempDir()
	list := put(t, filepath.Join(dir, "SHA256SUMS"), []byte(hexed+"  abc.img\n"))
	for _, word := range []string{hexed, "SHA-256: " + strings.ToUpper(hexed), list} {
		got, err := ReadSums([]string{word})
		if err != nil || len(got) != 1 || len(got[0].List) != 1 || got[0].Loose != (word != list) {
			t.Errorf("ReadSums(...): %s: %+v, %v", word, got, err)
		}
	}
	var none *NotSumsError
	if _, err := ReadSums([]string{"abc"}); !errors.As(err, &none) || none.Word != "abc" {
		t.Errorf("ReadSums(...): %v; unwanted: !errors.As(err, &none) || none.Word != 'abc'", err)
	}
	if _, err := ReadSums([]string{put(t, filepath.Join(dir, "text"), []byte("a word\n"))}); err == nil {
		t.Error("a text without digests is taken")
	}
	// The digest of "abc" (FIPS 180-2) in base64.
	payload := put(t, filepath.Join(dir, "payload.bin"), []byte("abc"))
	put(t, filepath.Join(dir, "payload_properties.txt"),
		[]byte("FILE_HASH=ungWv48Bz+pBQUDeXa4iI7ADYaOWF3qctBD/YfIAFa0=\nFILE_SIZE=3\n"))
	if got := Beside(payload, func(err error) {
		t.Errorf("lists beside %s: %v", payload, err)
	}); len(got) != 2 || !got[0].Loose || !got[1].Aside ||
		got[0].List[0].Digest != "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad" {
		t.Errorf("beside the payload lies %+v", got)
	}
	put(t, filepath.Join(dir, "payload_properties.txt"), []byte("FILE_HASH=nonsense\n"))
	told := 0
	if got := Beside(payload, func(error) { told++ }); len(got) != 1 || !got[0].Aside || told != 1 {
		t.Errorf("beside the payload lies %+v, told %d", got, told)
	}
	path := put(t, filepath.Join(dir, "rom.zip"), []byte("abc"))
	put(t, path+".sha256", []byte(hexed+"\n"))
	if got := Beside(path, func(err error) {
		t.Errorf("lists beside %s: %v", payload, err)
	}); len(got) != 2 || !got[0].Loose || got[0].From != "rom.zip.sha256" {
		t.Errorf("beside it lies %+v", got)
	}
}

// TestReadText: what an editor put before a text, and UTF-16 as Windows' shells write it, are read.
func TestReadText(t *testing.T) {
	for in, want := range map[string]string{
		"plain":                "plain",
		"\xef\xbb\xbfsheet: 1": "sheet: 1",
		"\xff\xfea\x00b\x00":   "ab",
	} {
		if got, err := ReadText(put(t, filepath.Join(t.TempDir(), "x"), []byte(in)), 100); err != nil ||
			got != want {
			t.Errorf("ReadText(..., 100): %q: %q, %v; unwanted: err != nil || got != want", in, got, err)
		}
	}
}
