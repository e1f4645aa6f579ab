package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/pe"
	"encoding/hex"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
)

func made(t *testing.T, system string) string {
	t.Helper()
	out := t.TempDir()
	if err := (&release{version: "0.9.1", out: out, root: "..", only: system}).run(); err != nil {
		t.Fatalf("....run(): %v", err)
	}
	return out
}

// TestRelease: the same commit makes the same bytes; the digests are theirs; an archive holds the
// program and what goes beside it, all of one folder and one time; the .deb installs into an empty
// root and the demo runs there.
func TestRelease(t *testing.T) {
	a, b := made(t, "linux/amd64"), made(t, "linux/amd64")
	sums, err := os.ReadFile(filepath.Join(a, "SHA256SUMS"))
	if err != nil {
		t.Fatalf("os.ReadFile(filepath.Join(a, 'SHA256SUMS')): %v", err)
	}
	lines := strings.Split(strings.TrimSpace(string(sums)), "\n")
	if len(lines) != 3 { // an archive, a .deb and an .rpm
		t.Fatalf("os.ReadFile(filepath.Join(a, 'SHA256SUMS')): %s; unwanted: len(lines) != 3", sums)
	}
	for _, line := range lines {
		digest, name, _ := strings.Cut(line, "  ")
		one, err := os.ReadFile(filepath.Join(a, name))
		if err != nil {
			t.Fatalf("os.ReadFile(filepath.Join(a, name)): %v", err)
		}
		two, err := os.ReadFile(filepath.Join(b, name))
		if err != nil {
			t.Fatalf("os.ReadFile(filepath.Join(b, name)): %v", err)
		}
		if !bytes.Equal(one, two) {
			t.Errorf("%s differs from one run to the next", name)
		}
		if s := sha256.Sum256(one); hex.EncodeToString(s[:]) != digest {
			t.Errorf("%s has another digest", name)
		}
	}
	f, err := os.Open(filepath.Join(a, "jarlid-0.9.1-linux-amd64.tar.gz"))
	if err != nil {
		t.Fatalf("os.Open(...): %v", err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatalf("gzip.NewReader(f): %v", err)
	}
	have := map[string]bool{}
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatalf("r.Next(): %v", err)
		}
		name, below := strings.CutPrefix(h.Name, "jarlid-0.9.1-linux-amd64/")
		if !below || h.Uid != 0 || h.Uname != "" {
			t.Errorf("r.Next(): %+v; unwanted: !below || h.Uid != 0 || h.Uname != ''", h)
		}
		have[name] = true
	}
	for _, want := range []string{"jarlid", "man/man1/jarlid-flash.1", "completions/_jarlid",
		"completions/jarlid.bash", "60-jarlid.rules", "LICENSE", "CHANGELOG.md"} {
		if !have[want] {
			t.Errorf("the archive has no %s", want)
		}
	}
	t.Run("deb", func(t *testing.T) { installs(t, filepath.Join(a, "jarlid_0.9.1_amd64.deb")) })
}

// installs puts a .deb into a root that has nothing else, and runs the demo in it.
func installs(t *testing.T, deb string) {
	if _, err := exec.LookPath("dpkg"); err != nil || os.Getuid() != 0 || runtime.GOOS != "linux" ||
		runtime.GOARCH != "amd64" {
		t.Skip("it wants dpkg, root and a Linux of the package's kind")
	}
	root := t.TempDir()
	for _, dir := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates", "tmp", "root"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			t.Fatalf("os.MkdirAll(filepath.Join(root, dir), 0o755): %v", err)
		}
	}
	if err := os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644); err != nil {
		t.Fatalf("os.WriteFile(..., 0o644): %v", err)
	}
	if out, err := exec.Command("dpkg", "--root="+root, "-i", deb).CombinedOutput(); err != nil {
		t.Fatalf("....CombinedOutput(): %v; want no error\n%s", err, out)
	}
	for _, name := range []string{"usr/bin/jarlid", "usr/lib/udev/rules.d/60-jarlid.rules",
		"usr/share/man/man1/jarlid.1.gz", "usr/share/bash-completion/completions/jarlid"} {
		if _, err := os.Stat(filepath.Join(root, name)); err != nil {
			t.Errorf("os.Stat(filepath.Join(root, name)): %v", err)
		}
	}
	c := exec.Command("chroot", root, "/usr/bin/jarlid", "demo", "--at", "/tmp/demo")
	c.Env = []string{"HOME=/root"}
	out, err := c.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "That was the whole evening.") {
		t.Errorf("c.CombinedOutput(): %v\n%s", err, out)
	}
	out, err = exec.Command("chroot", root, "/usr/bin/jarlid", "--version", "--home",
		"/tmp/h").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "jarlid 0.9.1, commit ") {
		t.Errorf("....CombinedOutput(): %v\n%s", err, out)
	}
}

// TestWindows: the program for Windows is one still, and has its resources.
func TestWindows(t *testing.T) {
	out := made(t, "windows/amd64")
	z, err := zip.OpenReader(filepath.Join(out, "jarlid-0.9.1-windows-amd64.zip"))
	if err != nil {
		t.Fatalf("zip.OpenReader(...): %v", err)
	}
	defer z.Close()
	f, err := z.Open("jarlid-0.9.1-windows-amd64/jarlid.exe")
	if err != nil {
		t.Fatalf("z.Open(...): %v", err)
	}
	b, err := io.ReadAll(f)
	if err != nil {
		t.Fatalf("io.ReadAll(f): %v", err)
	}
	p, err := pe.NewFile(bytes.NewReader(b))
	if err != nil {
		t.Fatalf("pe.NewFile(bytes.NewReader(b)): %v", err)
	}
	s := p.Section(".rsrc")
	if s == nil {
		t.Fatal("it has no resources")
	}
	data, err := s.Data()
	if err != nil || !bytes.Contains(data, []byte("longPathAware")) ||
		!bytes.Contains(data, []byte("J\x00a\x00r\x00 \x00L\x00i\x00d\x00")) {
		t.Errorf("%v: no manifest or no name in %d bytes", err, len(data))
	}
}

func TestWords(t *testing.T) {
	for _, r := range []release{{version: "one"}, {version: "1.0"}, {version: "1.0.0", only: "plan9/386"}} {
		if err := r.run(); err == nil {
			t.Errorf("%+v is taken", r)
		}
	}
}
