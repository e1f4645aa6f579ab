package e2e

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/base64"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"jarlid/internal/core/image/payload"
	verifier "jarlid/internal/files"
)

// BenchmarkVerify verifies an A/B package of 2 GiB by what it carries itself. Metric ratio: its time over
// that of sha256sum in the same run; again: the time of a second program, in milliseconds.
func BenchmarkVerify(b *testing.B) {
	dir := b.TempDir()
	path := filepath.Join(dir, "rom.zip")
	verifiedPackage(b, path, 2*gib)
	for range b.N {
		start := time.Now()
		if err := exec.Command("sha256sum", path).Run(); err != nil {
			b.Skip("sha256sum is not here: ", err)
		}
		alone := time.Since(start)
		home := b.TempDir()
		v := &verifier.Verifier{Home: home}
		start = time.Now()
		r, err := v.Verify(b.Context(), path, nil, nil)
		took := time.Since(start)
		if err != nil || len(r.Faults) > 0 || len(r.Passed) == 0 {
			b.Fatalf("v.Verify(b.Context(), %v): got %v, %v", path, r, err)
		}
		v.Save()
		start = time.Now()
		if _, err := (&verifier.Verifier{Home: home}).Verify(b.Context(), path, nil, nil); err != nil {
			b.Fatalf("(&verifier.Verifier{Home: home}).Verify(b.Context(), %v): %v", path, err)
		}
		b.ReportMetric(took.Seconds()/alone.Seconds(), "ratio")
		b.ReportMetric(float64(time.Since(start).Microseconds())/1000, "again-ms")
	}
}

// verifiedPackage writes a package whose payload has so many bytes that do not compress.
func verifiedPackage(b *testing.B, path string, size int64) {
	b.Helper()
	data := make([]byte, size)
	must(rand.NewChaCha8([32]byte{1}).Read(data))
	tmp := must(os.Create(path + ".payload"))
	if err := payload.Write(tmp, 1, []payload.Source{{Name: "system", Data: data}}); err != nil {
		b.Fatalf("payload.Write(tmp, 1, ...): %v", err)
	}
	must(tmp.Seek(0, 0))
	h := sha256.New()
	out := must(os.Create(path))
	z := zip.NewWriter(out)
	w := must(z.CreateHeader(&zip.FileHeader{Name: "payload.bin", Method: zip.Store}))
	must(io.Copy(io.MultiWriter(w, h), tmp))
	w = must(z.Create("payload_properties.txt"))
	must(w.Write([]byte("FILE_HASH=" + base64.StdEncoding.EncodeToString(h.Sum(nil)) + "\n")))
	w = must(z.Create("META-INF/com/android/metadata"))
	must(w.Write([]byte("pre-device=dunlin\n")))
	if err := z.Close(); err != nil {
		b.Fatalf("z.Close(): %v", err)
	}
	out.Close()
	tmp.Close()
	os.Remove(tmp.Name())
}
