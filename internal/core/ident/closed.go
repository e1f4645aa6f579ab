package ident

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"path"
	"regexp"
	"strings"
	"sync"

	"github.com/bodgit/sevenzip"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/wrap"
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
	if m.Method == zip.Store || m.Method == zip.Deflate {
		return m.Open
	}
	return func() (io.ReadCloser, error) {
		raw, err := m.OpenRaw()
		if err != nil {
			return nil, err
		}
		size := int64(min(m.UncompressedSize64, 1<<62))
		z, err := wrap.NewZipMember(m.Method, raw, size, 0)
		if err != nil {
			return nil, zipError(m.Name, err)
		}
		return &member{ReadCloser: z, want: m.CRC32, size: size, sum: crc32.NewIEEE(),
			failed: func(err error) error { return zipError(m.Name, err) }}, nil
	}
}

// zipError is the error of a member that could not be read.
func zipError(name string, err error) error {
	if image.AboutNoDamage(err) {
		return err
	}
	return &image.Error{Format: "zip archive", Offset: -1, What: "its member " + name + " is damaged",
		Err: err}
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
		return &member{ReadCloser: r, want: m.CRC32, none: m.CRC32 == 0, size: -1, sum: crc32.NewIEEE(),
			failed: func(err error) error {
				if errors.Is(err, errSum) {
					return image.Errorf("7z archive", -1, "the checksum of its member %s does not match: "+
						"it is damaged", m.Name)
				}
				return sevenError(err)
			}}, nil
	}
}

// member is a member of an archive that is read by a decoder that compares no checksum of what comes out.
type member struct {
	io.ReadCloser
	want   uint32 // its CRC-32
	none   bool   // the archive states none
	size   int64  // what comes out, in bytes; -1 where the decoder makes sure of it
	sum    hash.Hash32
	read   int64
	failed func(error) error // gives the decoder's error our words
}

var errSum = errors.New("its checksum does not match")

// Read decompresses, and compares size and checksum at the end.
func (m *member) Read(b []byte) (int, error) {
	n, err := m.ReadCloser.Read(b)
	m.sum.Write(b[:n])
	m.read += int64(n)
	switch {
	case m.size >= 0 && m.read > m.size:
		err = m.failed(errSum)
	case err == nil:
	case !errors.Is(err, io.EOF):
		err = m.failed(err)
	case m.size >= 0 && m.read != m.size, !m.none && m.sum.Sum32() != m.want:
		err = m.failed(errSum)
	}
	return n, err
}

func sevenError(err error) error {
	var method *wrap.MethodError
	if errors.As(err, &method) {
		return method
	}
	if image.AboutNoDamage(err) {
		return err
	}
	var read *sevenzip.ReadError
	if errors.As(err, &read) && read.Encrypted || strings.Contains(err.Error(), "password") {
		return &ClosedError{encrypted}
	}
	if strings.Contains(err.Error(), "unsupported compression algorithm") {
		return &wrap.MethodError{Archive: "7z", Method: "a method it has no name for"}
	}
	bad := &image.Error{Format: "7z archive", Offset: -1, What: "its contents can't be read", Err: err}
	// The library reports the end of the file by its own name for it, where it begins to read its table too.
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		strings.HasSuffix(err.Error(), ": EOF") {
		bad.What, bad.Err, bad.Short = "its table of contents, which is at its end, is missing: the file "+
			"was cut short", nil, true
	}
	return bad
}

// lastVolume reports whether a file ends as the last of several volumes of a zip: the record at its end names
// the disk it is on, from 0 (APPNOTE 6.3.10, 4.3.16).
func lastVolume(r io.ReaderAt, size int64) bool {
	b := make([]byte, min(size, 22+1<<16))
	if n, err := r.ReadAt(b, size-int64(len(b))); n < len(b) && err != nil {
		return false
	}
	at := bytes.LastIndex(b, []byte("PK\x05\x06"))
	if at < 0 || len(b)-at < 22 {
		return false
	}
	disk := binary.LittleEndian.Uint16(b[at+4:])
	return disk != 0 && disk != 0xffff // which says that it is elsewhere
}

var volumeName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)^(.+\.(?:7z|zip|rar|tar|gz|tgz|xz|zst|img))\.(\d{3})$|^(.+)\.z(\d{2})$|` +
			`^(.+)\.(?:part(\d+)\.rar|r(\d{2}))$`)
})

// volume tells of a file that was cut into volumes by a general archiver, of which no piece alone
// can be read. One that begins as a sparse image is a piece of that kind instead.
func (f *File) volume(r io.ReaderAt, size int64, head []byte) bool {
	if f.depth > 0 || len(head) == 0 || word(sparse.Magic)(head) {
		return false
	}
	m := volumeName().FindStringSubmatch(f.Name())
	if m == nil && strings.EqualFold(path.Ext(f.Name()), ".zip") && lastVolume(r, size) {
		m = make([]string, 2)
	}
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
