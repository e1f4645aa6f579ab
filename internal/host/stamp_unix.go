//go:build !windows

package host

import (
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// StampOf gives the stamp of an open file.
func StampOf(f *os.File) (Stamp, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return Stamp{}, &os.PathError{Op: "stat", Path: f.Name(), Err: err}
	}
	return Stamp{Device: uint64(st.Dev), Inode: uint64(st.Ino), Size: st.Size,
		Modified: st.Mtim.Nano(), Changed: st.Ctim.Nano()}, nil
}

// clock is the system's clock, which stamps files; time.Now is another one in a test's bubble.
func clock() time.Time {
	var tv syscall.Timeval
	if syscall.Gettimeofday(&tv) != nil {
		return time.Now()
	}
	return time.Unix(tv.Unix())
}
