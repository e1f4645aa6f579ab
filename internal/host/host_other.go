//go:build !windows

package host

import (
	"os"
	"path/filepath"

	"jarlid/internal/core/local"
)

// passing reports whether an error is one of a moment: here a file that is open can be renamed.
func passing(error) bool { return false }

// writable takes the mark off that keeps a file from being replaced; here none does.
func writable(string) bool { return false }

// Sparse lets a file have holes; here each can.
func Sparse(*os.File) error { return nil }

// OwnerOnly keeps others from reading a file.
func OwnerOnly(name string) error { return os.Chmod(name, 0o600) }

// DataFolder is where programs keep what belongs to this computer's user.
func DataFolder() (string, error) {
	if dir := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return dir, nil
	}
	dir, err := os.UserConfigDir() // the data folder on macOS
	if err != nil {
		return "", err
	}
	if home, err := os.UserHomeDir(); err == nil && dir == filepath.Join(home, ".config") {
		dir = filepath.Join(home, ".local", "share")
	}
	return dir, nil
}

// TypedIn is the shell commands are typed in here.
func TypedIn() local.Shell { return local.Posix }

// Folds reports whether names differ only by more than their case here; on macOS that is a matter of
// the disk, and patterns are typed to its shell.
const Folds = false

// Prepare makes the window show colours and texts as they are written; there is nothing to do.
func Prepare() (back func()) { return func() {} }

// Hold keeps the window and the computer from stopping a job: what is clicked there, and sleep.
// Systems that are not Windows have none of that in the window.
func Hold() (release func()) { return func() {} }

// Clicked reports whether the program was started by a double click, or by a file that was dropped on
// it: its window closes with it.
func Clicked() bool { return false }
