//go:build !linux && !windows

package phone

// Lines gives the serial lines on USB: on this system they are named by --on alone.
func Lines() ([]Line, error) { return nil, nil }
