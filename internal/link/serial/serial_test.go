package serial

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

// TestSocket: the socket of a line is read from where its folder in sysfs leads
// (Documentation/ABI/testing/sysfs-bus-usb names interfaces PORT:CONFIG.INTERFACE).
func TestSocket(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("links like sysfs has them want rights there")
	}
	sys := t.TempDir()
	for name, at := range map[string]string{
		"ttyACM0": "devices/pci0000:00/0000:00:14.0/usb1/1-4/1-4.2/1-4.2:1.0",
		"ttyUSB0": "devices/pci0000:00/0000:00:14.0/usb1/1-3/1-3:1.0/ttyUSB0",
		"ttyS0":   "devices/pnp0/00:04",
	} {
		dir := filepath.Join(sys, "class", "tty", name)
		if err := errors.Join(os.MkdirAll(filepath.Join(sys, at), 0o755), os.MkdirAll(dir, 0o755),
			os.Symlink(filepath.Join(sys, at), filepath.Join(dir, "device"))); err != nil {
			t.Fatalf("errors.Join(..., os.MkdirAll(dir, 0o755), ...): %v", err)
		}
	}
	for path, want := range map[string]string{
		"/dev/ttyACM0": "1-4.2",
		"/dev/ttyUSB0": "1-3",
		"/dev/ttyS0":   "",
		"/dev/ttyACM9": "",
	} {
		if got := (system{sys: sys}).socket(path); got != want {
			t.Errorf("%s is in %q, want %q", path, got, want)
		}
	}
}

// TestOpen: what can't be opened has an error of this package, whatever the library says.
func TestOpen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "no-line")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatalf("os.WriteFile(%v, 0o600): %v", file, err)
	}
	for _, path := range []string{"/dev/nothing-there", file} {
		if s, err := System().Open(path); !errors.Is(err, ErrNone) || s != nil {
			t.Errorf("System().Open(%v): %s: %v; unwanted: !errors.Is(err, ErrNone) || s != nil", path, path,
				err)
		}
	}
	if err := meant(&fs.PathError{Op: "open", Path: "x", Err: fs.ErrPermission}); !errors.Is(err, ErrDenied) {
		t.Errorf("meant(...): %v", err)
	}
}
