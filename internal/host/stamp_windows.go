package host

import (
	"os"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// basicInfo is FILE_BASIC_INFO (winbase.h): times in units of 100 ns since 1601.
type basicInfo struct {
	creation, access, write, change int64
	attributes                      uint32
	_                               uint32
}

// StampOf gives the stamp of an open file.
func StampOf(f *os.File) (Stamp, error) {
	var id windows.ByHandleFileInformation
	var basic basicInfo
	h := windows.Handle(f.Fd())
	err := windows.GetFileInformationByHandle(h, &id)
	if err == nil {
		err = windows.GetFileInformationByHandleEx(h, windows.FileBasicInfo, (*byte)(unsafe.Pointer(&basic)),
			uint32(unsafe.Sizeof(basic)))
	}
	if err != nil {
		return Stamp{}, &os.PathError{Op: "stat", Path: f.Name(), Err: err}
	}
	nanos := func(t int64) int64 {
		ft := windows.Filetime{LowDateTime: uint32(t), HighDateTime: uint32(t >> 32)}
		return ft.Nanoseconds()
	}
	return Stamp{Device: uint64(id.VolumeSerialNumber), Inode: uint64(id.FileIndexHigh)<<32 |
		uint64(id.FileIndexLow),
		Size:     int64(id.FileSizeHigh)<<32 | int64(id.FileSizeLow),
		Modified: nanos(basic.write), Changed: nanos(basic.change)}, nil
}

// clock is the system's clock, which stamps files; time.Now is another one in a test's bubble.
func clock() time.Time {
	var ft windows.Filetime
	windows.GetSystemTimePreciseAsFileTime(&ft)
	return time.Unix(0, ft.Nanoseconds())
}
