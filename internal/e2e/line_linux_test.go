package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// TestSerialLine: the loader over a line of the system's own kind, by its path: a pseudo terminal
// whose other end is a stand-in's line.
func TestSerialLine(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	_, dead := pseudoTerminal(t) // nothing is behind it, which takes its time to be sure of
	var said bytes.Buffer
	silent := l.command("card", "--on", "serial:"+dead)
	silent.Stdout = &said
	if err := silent.Start(); err != nil {
		t.Fatalf("silent.Start(): %v", err)
	}
	kit := kitOf(t, "knot", 1)
	l.startProcess(t, "knot")
	b := string(must(os.ReadFile(filepath.Join(l.home, "bench.yaml"))))
	_, rest, _ := strings.Cut(b, "loader:")
	at := strings.FieldsFunc(rest, func(r rune) bool {
		return r == '\n' || r == '"' || r == '\'' || r == ']' || r == ','
	})[0]
	master, slave := pseudoTerminal(t)
	conn, err := net.Dial("tcp", strings.TrimSpace(at))
	if err != nil {
		t.Fatalf("net.Dial('tcp', strings.TrimSpace(at)): %v", err)
	}
	go func() { _, _ = io.Copy(master, conn) }()
	go func() { _, _ = io.Copy(conn, master) }()
	time.Sleep(200 * time.Millisecond)
	line := "serial:" + slave
	l.home = filepath.Join(l.dir, "other") // where nobody knows it by another address
	l.want(0, []string{"in its maker's loader", "recovery"}, "card", "--on", line)
	l.want(0, []string{"recovery written, read back, it matches"}, "recovery", "install", kit.recovery,
		"--yes", "--on", line)
	l.want(4, nil, "card", "--on", "serial:/dev/nothing-there")
	conn.Close()
	silent.Wait() // its code is checked
	if silent.ProcessState.ExitCode() != 3 || !strings.Contains(said.String(), "stop  line-silent") {
		t.Errorf("net.Dial('tcp', strings.TrimSpace(at)): %v\n%s", silent.ProcessState, said.String())
	}
}

// pseudoTerminal gives both ends of one (pty(7)); what goes through is left as it is.
func pseudoTerminal(t *testing.T) (*os.File, string) {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Skip("there are no pseudo terminals here")
	}
	fd := int(master.Fd())
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0)
	}
	if err != nil {
		t.Fatalf("unix.IoctlGetInt(fd, unix.TIOCGPTN): %v", err)
	}
	name := fmt.Sprintf("/dev/pts/%d", n)
	slave, err := os.OpenFile(name, os.O_RDWR|unix.O_NOCTTY, 0) // while it is open, the line stays
	if err != nil {
		t.Fatalf("os.OpenFile(%v, os.O_RDWR|unix.O_NOCTTY, 0): %v", name, err)
	}
	at, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
	if err == nil {
		at.Iflag, at.Oflag, at.Lflag = 0, 0, 0
		err = unix.IoctlSetTermios(int(slave.Fd()), unix.TCSETS, at)
	}
	if err != nil {
		t.Fatalf("unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS): %v", err)
	}
	t.Cleanup(func() { slave.Close(); master.Close() })
	return master, name
}
