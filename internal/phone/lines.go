//go:build linux || windows

package phone

import "go.bug.st/serial/enumerator"

// Lines gives the serial lines on USB, as the system lists them.
func Lines() ([]Line, error) {
	list, err := enumerator.GetDetailedPortsList()
	if err != nil {
		return nil, err
	}
	var lines []Line
	for _, p := range list {
		if p.IsUSB {
			lines = append(lines, Line{Path: p.Name, USB: lowered(p.VID, p.PID), Serial: p.SerialNumber})
		}
	}
	return lines, nil
}
