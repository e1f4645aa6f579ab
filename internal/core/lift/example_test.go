package lift_test

import (
	"archive/zip"
	"bytes"
	"fmt"

	"jarlid/internal/core/lift"
)

// Open lists what is in a file; nothing is written until an item is asked to write itself.
func ExampleOpen() {
	for _, names := range [][]string{{"boot.img", "vbmeta.img"}, {"boot.img", "../escape.img"}} {
		var set bytes.Buffer
		z := zip.NewWriter(&set)
		for _, name := range names {
			w, err := z.Create(name)
			if err != nil {
				fmt.Println(err)
				return
			}
			fmt.Fprint(w, "bytes of ", name)
		}
		if err := z.Close(); err != nil {
			fmt.Println(err)
			return
		}
		s, err := lift.Open(bytes.NewReader(set.Bytes()), int64(set.Len()), "set.zip", lift.Options{})
		if err != nil {
			fmt.Println(err)
			continue
		}
		for _, i := range s.Items {
			fmt.Println(i.Name)
		}
	}
	// Output:
	// boot.img
	// vbmeta.img
	// the archive holds a file named "../escape.img", which would be written outside the folder: nothing is taken out of it
}
