package e2e

import (
	"testing"
)

// TestCable: a phone that is plugged in is on the bench, and a job runs on it over the cable.
func TestCable(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--usb", "--mode", "bootloader")
		l.want(0, []string{"usb:1-1"}, "bench")
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
	})
}
