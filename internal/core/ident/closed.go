package ident

import (
	"archive/zip"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"regexp"
	"strings"
	"sync"

	"github.com/bodgit/sevenzip"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sparse"
)

// encrypted says why a protected archive stays shut.
const encrypted = "it is protected with a password; unwrap it with the program that made it, and name what " +
	"comes out"

// zipEncrypted is bit 0 of a member's general purpose flags (APPNOTE.TXT, 4.4.4).
const zipEncrypted = 1

// OpenZip gives the opening of a zip's member. Errors: *ClosedError for one that is protected.
func OpenZip(m *zip.File) func() (io.ReadCloser, error) {
	if m.Flags&zipEncrypted != 0 {
		return func() (io.ReadCloser, error) { return nil, &ClosedError{encrypted} }
	}
	return m.Open
}

// OpenSevenZip reads the table of a 7z archive. Errors: *ClosedError for one that is protected,
// *image.Error.
func OpenSevenZip(r io.ReaderAt, size int64) (*sevenzip.Reader, error) {
	z, err := sevenzip.NewReader(r, size)
	if err != nil {
		return nil, sevenError(err)
	}
	return z, nil
}

// closed takes up that n of an archive's files are protected, of those that were checked.
func (f *File) closed(n, of int) {
	switch {
	case n == 0 || f.Closed != "":
	case n == of:
		f.damaged(&ClosedError{encrypted})
	default:
		f.Notes = append(f.Notes, fmt.Sprintf("%d of its files are protected with a password and stay shut",
			n))
	}
}

// OpenSevenZipMember gives the opening of a 7z archive's member. Errors: *ClosedError for one that
// is protected.
func OpenSevenZipMember(m *sevenzip.File) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		r, err := m.Open()
		if err != nil {
			return nil, sevenError(err)
		}
		return &sevenMember{ReadCloser: r, name: m.Name, want: m.CRC32, sum: crc32.NewIEEE()}, nil
	}
}

// sevenMember is a member that is read. The library gives what comes out and compares no checksum of it.
type sevenMember struct {
	io.ReadCloser
	name string
	want uint32 // its CRC-32; 0 where the archive states none
	sum  hash.Hash32
}

// Read gives the library's way of saying "protected" its name, and compares the checksum at the end.
func (m *sevenMember) Read(b []byte) (int, error) {
	n, err := m.ReadCloser.Read(b)
	m.sum.Write(b[:n])
	switch {
	case err == nil:
	case !errors.Is(err, io.EOF):
		err = sevenError(err)
	case m.want != 0 && m.sum.Sum32() != m.want:
		err = image.Errorf("7z archive", -1, "the checksum of its member %s does not match: it is damaged",
			m.name)
	}
	return n, err
}

func sevenError(err error) error {
	var read *sevenzip.ReadError
	if errors.As(err, &read) && read.Encrypted || strings.Contains(err.Error(), "password") {
		return &ClosedError{encrypted}
	}
	bad := &image.Error{Format: "7z archive", Offset: -1,
		What: "its contents can't be read, the file may be cut short", Err: err}
	// The library reports the end of the file by its own name for it, where it begins to read its table too.
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		strings.HasSuffix(err.Error(), ": EOF") {
		bad.What, bad.Err, bad.Short = "its table of contents, which is at its end, is missing: the file "+
			"was cut short", nil, true
	}
	return bad
}

var volumeName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)^(.+\.(?:7z|zip|rar|tar|gz|tgz|xz|zst|img))\.(\d{3})$|^(.+)\.z(\d{2})$|` +
			`^(.+)\.(?:part(\d+)\.rar|r(\d{2}))$`)
})

// volume tells of a file that was cut into volumes by a general archiver, of which no piece alone
// can be read. One that begins as a sparse image is a piece of that kind instead.
func (f *File) volume(head []byte) bool {
	if f.depth > 0 || len(head) == 0 || word(sparse.Magic)(head) {
		return false
	}
	m := volumeName().FindStringSubmatch(f.Name())
	if m == nil {
		return false
	}
	f.Kind = Archive
	how := "put them together first with the archiver that made them"
	if m[1] != "" {
		how = fmt.Sprintf("put them together first, in their order, into %s", m[1])
	}
	f.damaged(&ClosedError{"it is one volume of several that an archiver cut: " + how})
	return true
}
