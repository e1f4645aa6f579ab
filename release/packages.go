package main

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb" // a form of package
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm" // another
)

// places are where a Linux system keeps what goes beside a program (the Filesystem Hierarchy
// Standard 3.0; udev(7); the shells' own manuals for completions).
var places = []struct{ prefix, to string }{
	{"man/man1/", "/usr/share/man/man1/"},
	{"completions/jarlid.bash", "/usr/share/bash-completion/completions/jarlid"},
	{"completions/_jarlid", "/usr/share/zsh/vendor-completions/_jarlid"},
	{"completions/jarlid.fish", "/usr/share/fish/vendor_completions.d/jarlid.fish"},
	{"60-jarlid.rules", "/usr/lib/udev/rules.d/60-jarlid.rules"},
	{"LICENSE", "/usr/share/doc/jarlid/copyright"},
	{"CHANGELOG.md", "/usr/share/doc/jarlid/CHANGELOG.md"},
	{"README.md", "/usr/share/doc/jarlid/README.md"},
	{"docs/", "/usr/share/doc/jarlid/docs/"},
}

// packages makes a .deb and an .rpm.
func (r *release) packages(arch string, program []byte) (names []string, err error) {
	dir, err := os.MkdirTemp(r.work, "package-")
	if err != nil {
		return nil, err
	}
	var contents files.Contents
	add := func(to string, data []byte, mode os.FileMode) error {
		from := filepath.Join(dir, fmt.Sprint(len(contents)))
		contents = append(contents, &files.Content{Source: from, Destination: to,
			FileInfo: &files.ContentFileInfo{Owner: "root", Group: "root", Mode: mode, MTime: r.time}})
		return os.WriteFile(from, data, 0o600)
	}
	if err := add("/usr/bin/jarlid", program, 0o755); err != nil {
		return nil, err
	}
	for _, f := range r.with {
		for _, p := range places {
			rest, found := strings.CutPrefix(f.name, p.prefix)
			if !found {
				continue
			}
			to, data := p.to, f.data
			if strings.HasSuffix(p.to, "/") {
				to += rest
			}
			if strings.HasPrefix(f.name, "man/") {
				to += ".gz"
				if data, err = gzipped(data); err != nil {
					return nil, err
				}
			}
			if err := add(to, data, 0o644); err != nil {
				return nil, err
			}
			break
		}
	}
	for _, form := range []string{"deb", "rpm"} {
		p, err := nfpm.Get(form)
		if err != nil {
			return nil, err
		}
		info := nfpm.WithDefaults(&nfpm.Info{Name: "jarlid", Arch: arch, Platform: "linux",
			Version:    r.version,
			Section:    "utils",
			Priority:   "optional",
			Maintainer: "The Jar Lid project <jarlid@localhost>",
			Description: "Puts custom firmware on unlocked phones\nLooks at files and phones before it " +
				"touches them, says what happened, and loses nothing.",
			License: "Apache-2.0",
			MTime:   r.time,
			Overridables: nfpm.Overridables{Contents: contents, Deb: nfpm.Deb{Compression: "gzip"},
				RPM: nfpm.RPM{BuildHost: "localhost", Compression: "gzip"}}})
		if err := nfpm.Validate(info); err != nil {
			return nil, err
		}
		info = nfpm.WithDefaults(info)
		name := p.ConventionalFileName(info)
		var b bytes.Buffer
		if err := p.Package(info, &b); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if err := os.WriteFile(filepath.Join(r.out, name), b.Bytes(), 0o644); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, nil
}

func gzipped(data []byte) ([]byte, error) {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := z.Write(data); err != nil {
		return nil, err
	}
	err = z.Close()
	return b.Bytes(), err
}
