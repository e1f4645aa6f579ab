//go:build !windows

package host

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"jarlid/internal/core/local"
)

// ownFlags keep an open from following a link and from waiting for the other end of a pipe.
const ownFlags = syscall.O_NOFOLLOW | syscall.O_NONBLOCK

// NoWait keeps an open from waiting for the other end of a pipe.
const NoWait = syscall.O_NONBLOCK

func aboutName(err error) bool {
	for _, e := range []syscall.Errno{syscall.ENAMETOOLONG, syscall.EISDIR, syscall.ENOTDIR, syscall.EEXIST,
		syscall.ENOTEMPTY, syscall.EINVAL,
		syscall.ELOOP, syscall.EILSEQ} {
		if errors.Is(err, e) {
			return true
		}
	}
	return escapes(err)
}

func private(dir string, st fs.FileInfo) (closed bool, err error) {
	if !mine(st) {
		return false, &ForeignError{Path: dir, Why: "belongs to another user",
			Mend: fmt.Sprintf("sudo chown -R %d %s", os.Geteuid(), local.Quote(dir))}
	}
	if st.Mode().Perm()&0o022 != 0 {
		return false, &ForeignError{Path: dir, Why: "can be written by other users", Mend: "chmod -R go-w " +
			local.Quote(dir)}
	}
	if !readable(st) {
		return false, nil
	}
	return true, os.Chmod(dir, 0o700)
}

func mine(st fs.FileInfo) bool {
	owner, ok := st.Sys().(*syscall.Stat_t)
	return !ok || int(owner.Uid) == os.Geteuid()
}

func readable(st fs.FileInfo) bool { return st.Mode().Perm()&0o055 != 0 }
