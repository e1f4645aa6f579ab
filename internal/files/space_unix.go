//go:build unix

package files

import "golang.org/x/sys/unix"

// freeSpace gives the bytes a folder's disk has free for this user.
func freeSpace(dir string) (int64, bool) {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return 0, false
	}
	return int64(st.Bavail) * int64(st.Bsize), true
}
