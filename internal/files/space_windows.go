package files

import "golang.org/x/sys/windows"

// freeSpace gives the bytes a folder's disk has free for this user.
func freeSpace(dir string) (int64, bool) {
	p, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return 0, false
	}
	var free uint64
	if windows.GetDiskFreeSpaceEx(p, &free, nil, nil) != nil {
		return 0, false
	}
	return int64(min(free, 1<<62)), true
}
