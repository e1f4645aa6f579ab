package guest

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/sys/unix"
)

// boot is the guest's first process: it mounts what is needed, loads the modules, runs this very
// program again with the tests named on the kernel's command line, and leaves QEMU.
func boot() {
	os.Setenv("PATH", "/bin")
	os.Setenv("HOME", "/tmp")
	for _, m := range [][2]string{
		{"/dev", "devtmpfs"},
		{"/proc", "proc"},
		{"/sys", "sysfs"},
		{"/tmp", "tmpfs"},
	} {
		if err := unix.Mount(m[1], m[0], m[1], 0, ""); err != nil && err != unix.EBUSY {
			fmt.Println("mount", m[0], err)
		}
	}
	_ = os.Chmod("/tmp", 0o1777)
	_ = os.Mkdir("/dev/pts", 0o755)
	if err := unix.Mount("devpts", "/dev/pts", "devpts", 0, "ptmxmode=0666"); err != nil {
		fmt.Println("mount devpts", err)
	}
	out := result()
	code := codePassed
	fail := func(what string, err error) {
		if err != nil {
			fmt.Fprintln(out, "the guest:", what, err)
			code = codeFailed
		}
	}
	fail("lo", loopback())
	for _, m := range modules {
		fail(m, load("/modules/"+m+".ko"))
	}
	disks, err := os.ReadFile("/modules/disks")
	fail("modules for disks", err)
	for m := range strings.FieldsSeq(string(disks)) {
		fail(m, load("/modules/"+m+".ko"))
	}
	line, err := os.ReadFile("/proc/cmdline")
	fail("command line", err)
	_, run, _ := strings.Cut(string(line), "tests=")
	run, more, _ := strings.Cut(strings.TrimSpace(run), " ")
	c := exec.Command("/init", "-test.run", run, "-test.v", "-test.timeout", "24m")
	if seed, ok := strings.CutPrefix(strings.TrimSpace(more), "real="); ok {
		c.Args = append(c.Args, "-real", seed)
	}
	c.Env = append(os.Environ(), inside+"=1")
	c.Stdout, c.Stderr, c.Dir = out, out, "/tmp"
	fail("tests", c.Run())
	if f, ok := out.(*os.File); ok {
		_ = unix.IoctlSetInt(int(f.Fd()), unix.TCSBRK, 1) // wait until all of it is out
	}
	// QEMU's isa-debug-exit makes exit status v<<1|1 of v.
	if p, err := os.OpenFile("/dev/port", os.O_WRONLY, 0); err == nil {
		_, _ = p.WriteAt([]byte{byte(code)}, 0xf4)
	}
	_ = unix.Reboot(unix.LINUX_REBOOT_CMD_RESTART)
}

// inside is set where the guest's tests run.
const inside = "JARLID_IN_GUEST"

// result is the second serial port; the first is the kernel's console.
func result() io.Writer {
	f, err := os.OpenFile("/dev/ttyS1", os.O_WRONLY|unix.O_NOCTTY, 0)
	if err != nil {
		return os.Stdout
	}
	if t, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS); err == nil {
		t.Oflag &^= unix.OPOST // a line feed is one
		_ = unix.IoctlSetTermios(int(f.Fd()), unix.TCSETS, t)
	}
	return f
}

func load(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err = unix.FinitModule(int(f.Fd()), "", 0); err == unix.EEXIST {
		return nil
	}
	return err
}

func loopback() error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	r, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	r.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, r)
}
