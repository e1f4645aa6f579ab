package host

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/gofrs/flock"

	"jarlid/internal/core/local"
)

// ForeignError says that a folder that has to be this user's alone is not.
type ForeignError struct {
	Path string
	Why  string // what is wrong, as a clause about the folder
	Mend string // the command that mends it, "" where there is none
}

// Error gives the reason and the command.
func (e *ForeignError) Error() string {
	if e.Mend == "" {
		return fmt.Sprintf("%s %s, and is not used", e.Path, e.Why)
	}
	return fmt.Sprintf("%s %s, and is not used; to mend that: %s", e.Path, e.Why, e.Mend)
}

// Private makes sure that a folder is there, belongs to this user, and nobody else writes to it. One that
// others can read is closed to them: closed says so. A link is followed, and it is what it leads to that
// counts. Errors: *ForeignError.
func Private(dir string) (closed bool, err error) {
	st, err := os.Stat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return false, os.MkdirAll(dir, 0o700)
	}
	if err != nil {
		return false, err
	}
	if !st.IsDir() {
		return false, &ForeignError{Path: dir, Why: "is no folder"}
	}
	return private(dir, st)
}

// OwnFolder makes a folder where others can make some too, such as the one for temporary files, or takes one
// that is there: never through a link. Errors: *ForeignError.
func OwnFolder(dir string) error {
	st, err := os.Lstat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		st, err = os.Lstat(dir)
	}
	if err != nil {
		return err
	}
	if !st.IsDir() {
		return &ForeignError{Path: dir, Why: "is " + Special(st.Mode()) + " and no folder", Mend: "rm " +
			local.Quote(dir)}
	}
	_, err = private(dir, st)
	return err
}

// escapes reports whether a path led out of the folder it belongs to (os.Root has no name for that error).
func escapes(err error) bool { return err != nil && strings.Contains(err.Error(), "path escapes") }

// Mine reports whether there is a folder of this user's at a path, and no link to one.
func Mine(dir string) bool {
	st, err := os.Lstat(dir)
	return err == nil && st.IsDir() && mine(st)
}

// Special names what is no regular file and no folder.
func Special(m fs.FileMode) string {
	switch {
	case m&fs.ModeSymlink != 0:
		return "a link"
	case m&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	case m&fs.ModeDevice != 0:
		return "a device"
	case m.IsDir():
		return "a folder"
	}
	return "a file of another kind"
}

// KindError says that something else is where a file of the program's own should be.
type KindError struct{ What string }

// Error names what is there.
func (e *KindError) Error() string { return "it is " + e.What + " and no file of Jar Lid's" }

// OpenOwn opens a file that the program keeps for itself: not through a link, and never waiting for
// somebody at the other end. What is no regular file is an error.
func OpenOwn(name string, flag int, mode fs.FileMode) (f *os.File, err error) {
	err = Retry(func() error {
		f, err = os.OpenFile(name, flag|ownFlags, mode)
		return err
	})
	var st fs.FileInfo
	if err == nil {
		st, err = f.Stat()
	} else if at, lerr := os.Lstat(name); lerr == nil && !at.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: &KindError{Special(at.Mode())}}
	}
	if err == nil && !st.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: &KindError{Special(st.Mode())}}
	}
	if err != nil {
		if f != nil {
			f.Close()
		}
		return nil, err
	}
	return f, nil
}

// AboutName reports whether an error is about one file's name or place: it is too long, something of another
// kind is there, or it leads out of its folder. Other files beside it are not touched by that.
func AboutName(err error) bool {
	var path *fs.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &path):
		return aboutName(path.Err)
	case errors.As(err, &link):
		return aboutName(link.Err)
	}
	return false
}

// Read reads a file that the program keeps for itself, as OpenOwn opens it.
func Read(name string) ([]byte, error) {
	f, err := OpenOwn(name, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// Lock gives the lock that is a file of the program's own.
func Lock(name string) *flock.Flock {
	return flock.New(name, flock.SetFlag(os.O_CREATE|os.O_RDWR|ownFlags), flock.SetPermissions(0o600))
}

// Readable reports whether other users can read a folder.
func Readable(dir string) bool {
	st, err := os.Stat(dir)
	return err == nil && readable(st)
}
