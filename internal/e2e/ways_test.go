package e2e

import (
	"bytes"
	"compress/gzip"
	"os"
	"path/filepath"
)

// way is one way a mistake is made, and what Jar Lid says to it.
type way struct {
	words []string
	code  int
	says  string
	first func() // what comes before it; nil for nothing
}

// zipped gives a file packed by gzip.
func (l *lab) zipped(path string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	must(z.Write(must(os.ReadFile(path))))
	z.Close()
	return l.file(filepath.Base(path)+".gz", b.Bytes())
}

// half gives the first half of a file.
func (l *lab) half(path string) string {
	b := must(os.ReadFile(path))
	return l.file("half-"+filepath.Base(path), b[:len(b)/2])
}

// bySheet is the way by a sheet with one task; x is its file.
func (l *lab) bySheet(code int, says, verb, task, path string) way {
	head := "sheet: 1\n"
	words := []string{"sheet", verb, filepath.Join(l.dir, "way.yaml")}
	if path != "" {
		head += "files: {x: x.img}\n"
		words = append(words, "--file", "x="+path)
	}
	if verb == "run" {
		words = append(words, "--yes")
	}
	l.file("way.yaml", []byte(head+"tasks:\n"+task))
	return w(code, says, words...)
}

// wipingPackage is a package that formats the data by its script.
func wipingPackage() []byte {
	return zipOf("META-INF/com/google/android/updater-script",
		`format("ext4", "EMMC", "/dev/block/by-name/userdata", "0", "/data");`,
		"META-INF/com/android/metadata", "pre-device=dunlin\nota-wipe=yes\n",
		"system.transfer.list", "1\n1\nnew 2,0,1\n", "system.new.dat", string(make([]byte, 4096)))
}
