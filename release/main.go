// Command release makes what a release consists of, from the commit that is checked out: archives
// for six systems, packages for Debian's and Red Hat's, and their digests. The same commit makes the
// same bytes. It has a module of its own, so that the program carries nothing of it.
//
//	cd release && go run . -version 1.0.0 -out ../dist
package main

import (
	"flag"
	"fmt"
	"os"
)

func main() {
	var r release
	flag.StringVar(&r.version, "version", "", "the version, such as 1.0.0 (needed)")
	flag.StringVar(&r.out, "out", "dist", "the folder the files are written to")
	flag.StringVar(&r.root, "root", "..", "the folder of the program's module")
	flag.StringVar(&r.only, "only", "", "one system alone, such as linux/amd64")
	flag.Parse()
	if err := r.run(); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}
