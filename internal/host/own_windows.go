package host

import (
	"errors"
	"io/fs"

	"golang.org/x/sys/windows"
)

// ownFlags: names of pipes are a space of their own on Windows, and making links takes a right of its own.
const ownFlags = 0

// NoWait: see ownFlags.
const NoWait = 0

func aboutName(err error) bool {
	for _, e := range []error{windows.ERROR_INVALID_NAME, windows.ERROR_FILENAME_EXCED_RANGE,
		windows.ERROR_DIRECTORY, windows.ERROR_ALREADY_EXISTS,
		windows.ERROR_FILE_EXISTS, windows.ERROR_DIR_NOT_EMPTY, windows.ERROR_PATH_NOT_FOUND} {
		if errors.Is(err, e) {
			return true
		}
	}
	return escapes(err)
}

// private: a user's data and temporary folders are closed to others by what they inherit.
func private(string, fs.FileInfo) (closed bool, err error) { return false, nil }

func mine(fs.FileInfo) bool { return true }

func readable(fs.FileInfo) bool { return false }
