// Package files is what is on this computer: images and packages found, opened,
// extracted, digested and written. It knows no phone.
package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/host"
)

// MissingError is a file that is not there.
type MissingError struct{ Path string }

// Error names the file.
func (e *MissingError) Error() string { return "no such file: " + e.Path }

// Is says that it is an fs.ErrNotExist.
func (e *MissingError) Is(target error) bool { return target == fs.ErrNotExist }

// Open opens a regular file and gives its size in bytes. Errors: *MissingError.
func Open(path string) (*os.File, int64, error) {
	// What is no file may never open: a named pipe waits for somebody to write to it.
	st, err := os.Stat(path)
	if err == nil && !st.IsDir() && !st.Mode().IsRegular() {
		return nil, 0, fmt.Errorf("%s is %s, and no file", path, host.Special(st.Mode()))
	}
	f, err := host.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, &MissingError{path}
	}
	if err != nil {
		return nil, 0, err
	}
	st, err = f.Stat()
	if err == nil && st.IsDir() {
		err = fmt.Errorf("%s is a folder; name the files in it", path)
	}
	if err == nil && !st.Mode().IsRegular() {
		err = fmt.Errorf("%s is %s, and no file", path, host.Special(st.Mode()))
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, st.Size(), nil
}

// Identify says what a file is.
func Identify(path string, o ident.Options) (*ident.File, error) {
	f, size, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if o.Beside == nil {
		folder := BesideOf(path)
		defer folder.Close()
		o.Beside = folder
	}
	found := ident.Identify(f, size, path, o)
	return found, found.Failed
}

// Folder is the folder a file is in. It implements image.Folder.
type Folder struct {
	dir  string
	mu   sync.Mutex
	open []*os.File
}

// BesideOf gives what is beside a file.
func BesideOf(path string) *Folder { return &Folder{dir: filepath.Dir(path)} }

// Names gives the names of the regular files in it.
func (d *Folder) Names() ([]string, error) {
	list, err := os.ReadDir(d.dir)
	var names []string
	for _, e := range list {
		if e.Type().IsRegular() || e.Type()&fs.ModeSymlink != 0 {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// Open opens one by its name.
func (d *Folder) Open(name string) (io.ReaderAt, int64, error) {
	f, size, err := Open(filepath.Join(d.dir, filepath.Base(name)))
	if err != nil {
		return nil, 0, err
	}
	d.mu.Lock()
	d.open = append(d.open, f)
	d.mu.Unlock()
	return f, size, nil
}

// Close closes what was opened.
func (d *Folder) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, f := range d.open {
		f.Close()
	}
	d.open = nil
}

// IsPartitionName reports whether a word is no file but the name of a partition,
// by the phone's table or the usual names.
func IsPartitionName(word string, known func(name string) bool) bool {
	if _, err := os.Stat(word); !errors.Is(err, fs.ErrNotExist) || strings.ContainsAny(word, `./\`) {
		return false
	}
	usual := []string{"boot", "recovery", "system", "vendor", "product", "vbmeta", "dtbo", "init_boot",
		"vendor_boot", "super", "userdata", "radio", "modem"}
	base := card.Part(word).Base
	return slices.Contains(usual, base) || known(word) || known(base+"_a")
}

// IsFile reports whether a path names a regular file.
func IsFile(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.Mode().IsRegular()
}

// Source is a file that is being sent: it must stay the one that was checked.
type Source struct {
	*os.File
	Size int64
	st   os.FileInfo
	path string
	// pace is a digest that is shared, and made meanwhile; alone is what stands for it where there
	// is none.
	pace, alone *madeSum
	// verified is the SHA-256 it had when it was verified, "" where it was not; forget drops that.
	verified string
	forget   func()
}

// openSource opens a file that was identified as having size bytes.
func openSource(path string, size int64) (*Source, error) {
	f, _, err := Open(path)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && st.Size() != size {
		err = &ChangedError{Path: path, How: fmt.Sprintf("it has %d bytes now, not %d", st.Size(), size)}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Source{File: f, Size: size, st: st, path: path}, nil
}

// ReadAt reads, never ahead of a digest that several share: else many who send keep the one who
// digests from its work, and all wait for it at the end.
func (s *Source) ReadAt(b []byte, off int64) (int, error) {
	if s.pace != nil {
		s.pace.reach(off + int64(len(b)))
	}
	return s.File.ReadAt(b, off)
}

// Reader reads the file from its start.
func (s *Source) Reader() io.Reader { return io.NewSectionReader(s, 0, s.Size) }

// Info gives the file's times and size as it was opened.
func (s *Source) Info() os.FileInfo { return s.st }

// Sent compares the digest that was made while the file was sent with the one it had when it was verified,
// and its times with those it was opened with. Errors: *ChangedError.
func (s *Source) Sent(sum string) error {
	changed := &ChangedError{Path: s.path, Sent: true}
	st, err := os.Stat(s.path)
	switch {
	case err != nil:
		return err
	case s.verified != "" && s.verified != sum:
		changed.How = "what was sent has another SHA-256"
	case st.Size() != s.st.Size() || !st.ModTime().Equal(s.st.ModTime()):
		changed.How = "it was written while it was sent"
	default:
		return nil
	}
	if s.forget != nil {
		s.forget()
	}
	return changed
}

// digestOf hashes a whole file on a goroutine of its own, beside the sending;
// the file is in the system's cache for one of the two. The result waits for it and
// must be called.
func digestOf(ctx context.Context, f io.ReaderAt, size int64) func() (string, error) {
	type result struct {
		sum string
		err error
	}
	ch := make(chan result, 1)
	go func() {
		h := sha256.New()
		err := copyUntil(ctx, h, io.NewSectionReader(f, 0, size))
		ch <- result{hex.EncodeToString(h.Sum(nil)), err}
	}()
	return func() (string, error) {
		r := <-ch
		return r.sum, r.err
	}
}

func copyUntil(ctx context.Context, h hash.Hash, r io.Reader) error {
	buf := make([]byte, 1<<20)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := r.Read(buf)
		h.Write(buf[:n])
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// DigestOf gives the SHA-256 of a file, and how many bytes it has.
func DigestOf(ctx context.Context, name string) (sum string, n int64, err error) {
	f, size, err := Open(name)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	sum, err = digestOf(ctx, f, size)()
	return sum, size, err
}

// ReadSmall reads a file that a person writes or that is kept for one: of up to limit bytes.
// Errors: *MissingError, and what is no file or larger.
func ReadSmall(name string, limit int64) ([]byte, error) {
	f, size, err := Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if size > limit {
		return nil, fmt.Errorf("%s has %s; what is wanted here has at most %s", name, image.Size(size),
			image.Size(limit))
	}
	return io.ReadAll(io.LimitReader(f, limit))
}

// ReadText is ReadSmall for a text that a person wrote: in UTF-8, with an order mark or without, or in
// UTF-16, as some editors and shells on Windows write it.
func ReadText(name string, limit int64) (string, error) {
	b, err := ReadSmall(name, limit)
	return sums.Text(b), err
}
