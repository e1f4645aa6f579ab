package guest

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"os"
	"os/exec"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"jarlid/internal/link/usb/soft"
)

// TestInPicture shows what bench --why says of a phone that another program holds, of one that
// does not know this computer, and of one with debugging off, on a terminal.
func TestInPicture(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	d.standin("avocet", "--mode", "system")
	plug(t, soft.Gadget{Vendor: 0x1209, Product: 3, Maker: "Wickerlight", Name: "Wickerlight Sanderling",
		Serial: "WL-SA-0440", Functions: []soft.Function{soft.Files()}})
	d.run("bench", "--why") // the last look
	d.hold("WL-DU-0007")
	fmt.Printf("\n%swhy %s\n", pictureWord,
		base64.StdEncoding.EncodeToString(onTerminal(t, 100, 38, d.command("bench", "--why"))))
}

// onTerminal runs a command on a terminal and gives what it wrote there.
func onTerminal(t *testing.T, columns, rows uint16, cmd *exec.Cmd) []byte {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatalf("os.OpenFile('/dev/ptmx', os.O_RDWR|unix.O_NOCTTY, 0): %v", err)
	}
	defer master.Close()
	fd := int(master.Fd())
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0)
	}
	if err == nil {
		err = unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{Row: rows, Col: columns})
	}
	if err != nil {
		t.Fatalf("unix.IoctlGetInt(fd, unix.TIOCGPTN): %v", err)
	}
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatalf("os.OpenFile(fmt.Sprintf('/dev/pts/%%d', n), os.O_RDWR|unix.O_NOCTTY, 0): %v", err)
	}
	for i := range cmd.Env {
		if cmd.Env[i] == "NO_COLOR=1" {
			cmd.Env[i] = "TERM=xterm-256color"
		}
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		t.Fatalf("cmd.Start(): %v", err)
	}
	slave.Close()
	var out bytes.Buffer
	_, _ = io.Copy(&out, master) // it ends with an error when nobody has the terminal open any more
	_ = cmd.Wait()
	return out.Bytes()
}
