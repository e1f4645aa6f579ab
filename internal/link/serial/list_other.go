//go:build !linux && !windows

package serial

// List gives the lines on USB: on this system they are named by --on alone.
func (system) List() ([]Line, error) { return nil, nil }
