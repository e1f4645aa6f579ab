package standintest

import "golang.org/x/sys/unix"

// memoryDir is where Linux has its file system in memory (glibc's shm_open(3)).
const memoryDir = "/dev/shm"

// memoryFree is how many bytes are free there; 0 where there is none.
func memoryFree() int64 {
	var st unix.Statfs_t
	if unix.Statfs(memoryDir, &st) != nil || st.Type != unix.TMPFS_MAGIC {
		return 0
	}
	return int64(st.Bavail) * st.Bsize
}
