package files

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
)

// Material is a set of files made ready to be written: wrapped ones unwrapped to
// a temporary place, a set's members taken out.
type Material struct {
	Images   []place.Image
	Manifest plan.Manifest
	Set      string   // the file or folder that was a whole set; "" for single images
	Left     []string // members that are no images, which are left alone
	dir      string   // the temporary folder; "" while nothing was unwrapped
}

// Close removes what was unwrapped.
func (m *Material) Close() {
	if m.dir != "" {
		os.RemoveAll(m.dir)
	}
}

// Gathering says how files are made ready.
type Gathering struct {
	Home    string // under which the temporary folder is made
	MaxSize int64  // the most one file may unpack to, in bytes; 0: the usual limit
	// Single keeps an archive as it is: a person named one partition for it.
	Single bool
	// Working is told what is being unwrapped, and how far it is.
	Working func(what string, total int64) (moved func(int64), end func())
}

// maxManifest bounds the text files of a set, in bytes.
const maxManifest = 1 << 20

// Gather makes files ready: images as they are, wrapped images unwrapped, and of
// folders, archives, payloads and super images every image inside.
func Gather(ctx context.Context, paths []string, g Gathering) (*Material, error) {
	m := &Material{}
	for _, p := range paths {
		st, err := os.Stat(p)
		if errors.Is(err, fs.ErrNotExist) {
			err = &MissingError{p}
		}
		if err == nil && st.IsDir() {
			err = m.folder(p)
		} else if err == nil {
			err = m.file(ctx, p, g, 0)
		}
		if err != nil {
			m.Close()
			return nil, err
		}
	}
	return m, nil
}

// folder takes the images that lie in a folder, not below it.
func (m *Material) folder(dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	m.Set = dir
	for _, e := range list {
		name := filepath.Join(dir, e.Name())
		if st, err := os.Stat(name); err != nil || !st.Mode().IsRegular() { // a link counts as what it leads to
			if err != nil {
				m.Left = append(m.Left, e.Name())
			}
			continue
		}
		if manifest(e.Name()) {
			b, err := readSmall(name)
			if err != nil {
				return err
			}
			m.note(e.Name(), b)
			continue
		}
		f, err := Identify(name, ident.Options{})
		if err != nil {
			return err
		}
		if !isImage(f) {
			m.Left = append(m.Left, e.Name())
			continue
		}
		if err := sparseSums(name, f); err != nil {
			return err
		}
		m.Images = append(m.Images, place.Image{File: f})
	}
	return nil
}

// isImage tells whether a set's member is something to be written.
func isImage(f *ident.File) bool {
	if f.IsArchive() || f.Kind == ident.Text || f.Kind == ident.Sums || len(f.Wrapped) > 0 && f.Wrapped[0] != "sparse" {
		return false
	}
	return f.Kind != ident.Unknown || strings.HasSuffix(strings.ToLower(f.Path), ".img") || len(f.GoesTo) > 0
}

func manifest(name string) bool {
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	return base == "android-info.txt" || base == "fastboot-info.txt"
}

func readSmall(name string) ([]byte, error) {
	return ReadSmall(name, maxManifest)
}

func (m *Material) note(name string, b []byte) {
	if strings.HasSuffix(name, "android-info.txt") {
		m.Manifest.ParseInfo(string(b))
	} else {
		m.Manifest.ParseOrder(string(b))
	}
}

// maxNesting is how many wrappings are taken off one file.
const maxNesting = 4

// file takes one file: as it is, or what is inside.
func (m *Material) file(ctx context.Context, name string, g Gathering, depth int) error {
	f, err := Identify(name, ident.Options{})
	if err != nil {
		return err
	}
	raw := len(f.Wrapped) == 0 || f.Wrapped[0] == "sparse"
	set := f.Kind == ident.OTAAB || f.Kind == ident.Payload || f.Kind == ident.FirmwareSet || f.Kind == ident.Images
	switch {
	case raw && !set, f.Short, depth > maxNesting, g.Single && set, f.Kind == ident.Addon, f.Kind == ident.App, f.Kind == ident.OTABlock, f.Kind == ident.Archive:
		if err := sparseSums(name, f); err != nil {
			return err
		}
		m.Images = append(m.Images, place.Image{File: f})
		return nil
	}
	if set {
		m.Set = name
	}
	return m.unwrap(ctx, name, f, g, depth)
}

// sparseSums holds the sums a sparse image states against its contents.
func sparseSums(name string, f *ident.File) error {
	if f.Short || len(f.Wrapped) == 0 || f.Wrapped[0] != "sparse" {
		return nil
	}
	r, size, err := Open(name)
	if err != nil {
		return err
	}
	defer r.Close()
	if err := sparse.Verify(r, size); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// unwrap takes what is inside a file to a temporary place.
func (m *Material) unwrap(ctx context.Context, name string, f *ident.File, g Gathering, depth int) error {
	src, _, err := Open(name)
	if err != nil {
		return err
	}
	defer src.Close()
	s, err := lift.Open(src, f.Size, name, lift.Options{MaxSize: g.MaxSize})
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if m.dir == "" {
		if err := os.MkdirAll(g.Home, 0o700); err != nil {
			return err
		}
		if m.dir, err = os.MkdirTemp(g.Home, "unwrapped-"); err != nil {
			return err
		}
	}
	sub, err := os.MkdirTemp(m.dir, "")
	if err != nil {
		return err
	}
	taken := map[string]string{}
	for _, it := range s.Items {
		if !it.Image && !manifest(it.Name) {
			m.Left = append(m.Left, it.Name)
			continue
		}
		base := strings.ToLower(path.Base(it.Name))
		if other, twice := taken[base]; twice {
			return finding.Stopped(finding.TwoAlike, filepath.Base(name), fmt.Sprintf("%s holds two files called %s, %s and %s, and which is meant is not guessed", filepath.Base(name), path.Base(it.Name), other, it.Name),
				"take out the one that is meant: jarlid lift "+place.Quote(name)+" "+place.Quote(it.Name)+" -o DIR")
		}
		taken[base] = it.Name
		out := filepath.Join(sub, local.Name(path.Base(it.Name)))
		if err := take(ctx, it, out, g); err != nil {
			return fmt.Errorf("%s, %s: %w", name, it.Name, err)
		}
		if manifest(it.Name) {
			b, err := readSmall(out)
			if err != nil {
				return err
			}
			m.note(it.Name, b)
			continue
		}
		at := len(m.Images)
		if err := m.file(ctx, out, g, depth+1); err != nil {
			return err
		}
		for i := range m.Images[at:] {
			if im := &m.Images[at+i]; im.Label == "" {
				im.Label = it.Name
				if len(s.Items) == 1 {
					im.Label = filepath.Base(name)
				}
			}
		}
	}
	return nil
}

// take writes one item to a new file.
func take(ctx context.Context, it lift.Item, out string, g Gathering) error {
	f, err := os.OpenFile(out, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	moved, end := func(int64) {}, func() {}
	if g.Working != nil && !manifest(it.Name) {
		moved, end = g.Working("unwrapping "+it.Name, max(it.Size, 0))
	}
	_, err = it.Write(ctx, NewOut(f), moved)
	end()
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}
