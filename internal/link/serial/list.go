//go:build linux || windows

package serial

import (
	"strings"

	"go.bug.st/serial/enumerator"
)

// List gives the lines on USB, as the system lists them.
func (s system) List() ([]Line, error) {
	list, err := enumerator.GetDetailedPortsList()
	if err != nil {
		return nil, err
	}
	var lines []Line
	for _, p := range list {
		if p.IsUSB {
			lines = append(lines, Line{Path: p.Name, USB: strings.ToLower(p.VID + ":" + p.PID),
				Serial: p.SerialNumber, Socket: s.socket(p.Name)})
		}
	}
	return lines, nil
}
