package e2e

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"
)

// watchPeak gives, once the process has ended, its peak memory in MiB. The
// kernel's own figure for a child counts what its parent had at the fork.
func watchPeak(pid int) func() float64 {
	done := make(chan float64, 1)
	stop := make(chan struct{})
	go func() {
		var kib float64
		for {
			if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)); err == nil {
				if _, rest, ok := strings.Cut(string(b), "VmHWM:"); ok {
					fmt.Sscan(rest, &kib)
				}
			}
			select {
			case <-stop:
				done <- kib / 1024
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	return func() float64 { close(stop); return <-done }
}

// mkfifo makes a named pipe.
func mkfifo(path string) error { return syscall.Mkfifo(path, 0o600) }
