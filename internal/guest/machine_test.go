// Package guest tests phones on a cable through a real kernel: a QEMU guest with Debian's own
// kernel, in which stand-ins are USB devices. Its tests run when JARLID_USBVM is set; .ci/usbguest
// brings what they need. See README.md here.
package guest

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"jarlid/internal/demo"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

var keepGoing = flag.Duration("guest", 25*time.Minute, "the longest a guest may take")

func TestMain(m *testing.M) {
	if os.Getpid() == 1 {
		boot() // never returns
	}
	if os.Getenv(holding) != "" {
		holdOn() // neither
	}
	if path := os.Getenv(bare); path != "" {
		if err := sendBare(path); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	flag.Parse()
	os.Exit(m.Run())
}

// boots are the guests: which tests each runs, and with how much memory.
var boots = []struct {
	name, run string
	mem       int // MiB
	alone     bool
}{
	{"package", "^TestInFaultsPackage$", 3072, false}, // the longest first
	{"people", "^TestInPeople", 2048, false},
	{"write", "^TestInFaultsWrite$", 2048, false},
	{"homes", "^TestInHomes$", 3072, false},
	{"evening", "^TestInEvening$", 3072, false},
	{"speed", "^TestInSpeed$", 2048, true},
	{"wire", "^TestInWire", 1024, false},
	{"line", "^TestInLine", 2048, false},
	{"real", "^TestInReal$", 3072, false},
	{"picture", "^TestInPicture$", 1024, false}, // for docs/screenshots/make.sh alone
}

// onHost is the environment variable with the folder that has what a guest has in its root folder, where the
// recoveries of real parts run on this computer's own kernel.
const onHost = "JARLID_REAL"

// base is the root folder of a guest, or what takes its place.
var base = cmp.Or(os.Getenv(onHost), "/")

// modules are the kernel's that are loaded, in this order.
var modules = []string{"usb-common", "usbcore", "usbip-core", "vhci-hcd", "cdc-acm"}

// kernelDir is the cache folder with the guest's kernel and the real parts; the test ends where something is
// missing.
func kernelDir(t *testing.T, missing func(format string, args ...any)) string {
	t.Helper()
	cache, err := os.UserCacheDir()
	if err != nil {
		missing("there is no cache folder: %v", err)
	}
	kernel := filepath.Join(cache, "jarlid-usbguest")
	if _, err := os.Stat(filepath.Join(kernel, "ready")); err != nil {
		missing("there is no kernel for the guest here: run .ci/usbguest")
	}
	return kernel
}

// wished gives what ends a test that lacks something: an error where the guests are required.
func wished(t *testing.T) (missing func(format string, args ...any)) {
	t.Helper()
	wish := os.Getenv("JARLID_USBVM")
	if wish == "" {
		t.Skip("set JARLID_USBVM=1 to test on a real kernel; .ci/usbguest brings QEMU and the kernel")
	}
	return func(format string, args ...any) {
		t.Helper()
		if wish == "required" {
			t.Fatalf("the guest is required: "+format, args...)
		}
		t.Skipf(format, args...)
	}
}

// TestGuest boots the guests, two at a time.
func TestGuest(t *testing.T) {
	missing := wished(t)
	qemu, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		missing("there is no QEMU here: run .ci/usbguest")
	}
	kernel := kernelDir(t, missing)
	dir := t.TempDir()
	image := filepath.Join(dir, "initramfs")
	if err := makeImage(t, image, kernel, dir); err != nil {
		t.Fatalf("makeImage(image, kernel, %v): %v", dir, err)
	}
	turn := make(chan struct{}, 2)
	for _, b := range boots {
		if b.name == "picture" && os.Getenv("JARLID_USBVM_PICTURES") == "" {
			continue
		}
		t.Run(b.name, func(t *testing.T) {
			if !b.alone {
				t.Parallel()
				turn <- struct{}{}
				defer func() { <-turn }()
			}
			began := time.Now()
			console := filepath.Join(t.TempDir(), "console")
			ctx, cancel := context.WithTimeout(context.Background(), *keepGoing)
			defer cancel()
			// Software emulation always: /dev/kvm may open and a guest on it never start.
			cmd := exec.CommandContext(ctx, qemu, "-M", "pc", "-accel", "tcg,thread=multi", "-cpu", "max",
				"-smp", "1", "-m", fmt.Sprint(b.mem),
				"-nodefaults", "-no-user-config", "-display", "none", "-no-reboot", "-kernel",
				filepath.Join(kernel, "vmlinux"), "-initrd", image,
				"-append", "console=ttyS0 quiet panic=-1 reboot=t mitigations=off random.trust_cpu=on "+
					"usbcore.autosuspend=-1 tests="+b.run+realOfDay(),
				"-serial", "file:"+console, "-serial", "stdio", "-device",
				"isa-debug-exit,iobase=0xf4,iosize=0x1")
			out := &told{name: b.name}
			cmd.Stdout, cmd.Stderr = out, out
			err := cmd.Run()
			var exit *exec.ExitError
			if !errors.As(err, &exit) || exit.ExitCode() != passed {
				end, _ := os.ReadFile(console)
				t.Errorf("the guest ended with %v after %v:\n%s\nthe end of its console:\n%s", err,
					time.Since(began).Round(time.Second), out.all.String(), end[max(0, len(end)-3000):])
				return
			}
			if dir := os.Getenv("JARLID_USBVM_PICTURES"); dir != "" {
				keepPictures(t, dir, out.all.String())
			}
			t.Logf("%s passed in %v", b.name, time.Since(began).Round(time.Second))
		})
	}
}

// realOfDay is the first seed of the recoveries of real parts: each day others (JARLID_SEED, as CI sets it).
func realOfDay() string {
	day, err := strconv.Atoi(os.Getenv("JARLID_SEED"))
	if err != nil {
		return ""
	}
	return fmt.Sprintf(" real=%d", day*10)
}

// holding is set in a process that holds a phone as another program would.
const holding = "JARLID_HOLDS"

// bare is set in a process that sends an image as a bare loop would.
const bare = "JARLID_SENDS"

// pictureWord begins a line with what a terminal showed: a name and the bytes in base64.
const pictureWord = "PICTURE "

func keepPictures(t *testing.T, dir, out string) {
	for line := range strings.Lines(out) {
		_, rest, ok := strings.Cut(line, pictureWord)
		name, text, _ := strings.Cut(strings.TrimSpace(rest), " ")
		b, err := base64.StdEncoding.DecodeString(text)
		if ok && err == nil {
			err = os.WriteFile(filepath.Join(dir, name), b, 0o644)
		}
		if ok && err != nil {
			t.Errorf("base64.StdEncoding.DecodeString(text): %v", err)
		}
	}
}

// told keeps what a guest says, and with -v says it on.
type told struct {
	all  bytes.Buffer
	name string
	rest []byte
}

func (w *told) Write(p []byte) (int, error) {
	if testing.Verbose() {
		w.rest = append(w.rest, p...)
		for {
			line, rest, ok := bytes.Cut(w.rest, []byte("\n"))
			if !ok {
				break
			}
			fmt.Printf("%-8s %s\n", w.name, line)
			w.rest = rest
		}
	}
	return w.all.Write(p)
}

// passed is QEMU's exit status when the guest wrote codePassed to its exit device. A panic or a
// hang never gives it.
const (
	codePassed = 0x10
	codeFailed = 0x11
	passed     = codePassed<<1 | 1
)

// makeImage makes the guest's file system: this test as its first process, the program, the
// kernel's modules, and the scenario's files.
func makeImage(t *testing.T, image, kernel, dir string) error {
	test, err := os.Executable()
	if err != nil {
		return err
	}
	if linked(test) {
		// The guest has no C library: built again without.
		test = filepath.Join(dir, "guest.test")
		if err := build("test", "-c", "-o", test, "jarlid/internal/guest"); err != nil {
			return err
		}
	}
	program := filepath.Join(dir, "jarlid")
	if err := build("build", "-trimpath", "-o", program, "jarlid/cmd/jarlid"); err != nil {
		return err
	}
	if err := makeFiles(filepath.Join(dir, "files")); err != nil {
		return err
	}
	c := &cpio{mode: 0o100644}
	for _, d := range []string{"dev", "proc", "sys", "tmp", "bin", "modules", "etc"} {
		c.add(d, 0o40755, nil)
	}
	c.add("etc/passwd", 0o100644, []byte("root:x:0:0::/tmp:/bin/sh\nplover:x:1000:1000::/tmp:/bin/sh\n"))
	c.add("etc/group", 0o100644, []byte("root:x:0:\nplugdev:x:46:\nplover:x:1000:\n"))
	for to, from := range map[string]string{"init": test, "bin/jarlid": program} {
		if err := c.addFile(to, 0o100755, from); err != nil {
			return err
		}
	}
	for _, m := range modules {
		if err := c.addFile("modules/"+m+".ko", 0o100644,
			filepath.Join(kernel, "modules", m+".ko")); err != nil {
			return err
		}
	}
	if err := addParts(c, kernel); err != nil {
		return err
	}
	if err := c.addTree("files", filepath.Join(dir, "files")); err != nil {
		return err
	}
	model, err := os.ReadFile("../core/model/models/dunlin.yaml")
	if err != nil {
		return err
	}
	c.add("files/twin.yaml", 0o100644, bytes.Replace(model, []byte("serial: WL-DU-0007"),
		[]byte("serial: WL-DU-0008"), 1))
	for name, sizes := range smaller {
		model, err := os.ReadFile("../core/model/models/" + name + ".yaml")
		if err != nil {
			return err
		}
		c.add("files/"+name+".yaml", 0o100644, []byte(strings.NewReplacer(sizes...).Replace(string(model))))
	}
	if err := c.addFile("files/key.pem", 0o100600, "../link/adb/testdata/key.pem"); err != nil {
		return err
	}
	c.add("TRAILER!!!", 0, nil)
	return os.WriteFile(image, c.b.Bytes(), 0o644)
}

// addParts adds the real parts of recoveries, and the modules for disks in the order they are loaded in.
func addParts(c *cpio, kernel string) error {
	order, err := os.ReadFile(filepath.Join(kernel, "modules", "disks"))
	if err != nil {
		return err
	}
	c.add("modules/disks", 0o100644, order)
	for m := range strings.FieldsSeq(string(order)) {
		if err := c.addFile("modules/"+m+".ko", 0o100644,
			filepath.Join(kernel, "modules", m+".ko")); err != nil {
			return err
		}
	}
	c.mode = 0o100755 // they are programs
	defer func() { c.mode = 0o100644 }()
	if err := c.addTree("parts", filepath.Join(kernel, "parts")); err != nil {
		return err
	}
	for _, dir := range []string{"lib", "lib64"} { // for those that run outside a recovery
		if err := c.addTree(dir, filepath.Join(kernel, "parts", dir)); err != nil {
			return err
		}
	}
	return nil
}

// smaller are the partitions of models that are read or written whole here, which takes a minute for 24 MiB.
var smaller = map[string][]string{
	"godwit": {"{name: boot, size: 24MiB", "{name: boot, size: 6MiB"},
	"knot": {"{name: boot, size: 12MiB", "{name: boot, size: 6MiB",
		"{name: recovery, size: 12MiB", "{name: recovery, size: 6MiB"},
}

func build(args ...string) error {
	cmd := exec.Command("go", args...)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=linux", "GOARCH=amd64")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("go %s: %w\n%s", strings.Join(args, " "), err, out)
	}
	return nil
}

// linked reports whether a program wants a loader.
func linked(path string) bool {
	b, err := os.ReadFile(path)
	return err != nil || bytes.Contains(b[:min(len(b), 4096)], []byte("ld-linux"))
}

// makeFiles makes the scenario's files, outside: the guest is slow.
func makeFiles(dir string) error {
	scenario.Keep()
	scenario.Small(4) // a slow line is cut in the middle of what is larger than a tenth
	if err := demo.MakeFor(filepath.Join(dir, "knot"), "knot"); err != nil {
		return err
	}
	scenario.Small(16)
	if _, err := demo.MakeFiles(filepath.Join(dir, "dunlin"), scenario.PhoneOf("dunlin")); err != nil {
		return err
	}
	for name, size := range map[string]int{
		"large-1.img":  1 << 20,
		"large-4.img":  4 << 20,
		"large-16.img": 16 << 20,
	} {
		b, err := standintest.LargeRecovery(size)
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, "dunlin", name), b, 0o644)
		}
		if err != nil {
			return err
		}
	}
	if err := makeReal(dir); err != nil {
		return err
	}
	for _, name := range []string{"godwit", "avocet"} {
		if err := demo.MakeFor(filepath.Join(dir, name), name); err != nil {
			return err
		}
	}
	// The guest's files are in its memory: what no test of a phone uses is not brought.
	all, err := filepath.Glob(filepath.Join(dir, "knot", "*"))
	for _, path := range all {
		if name := filepath.Base(path); !strings.HasPrefix(name, "tideline-3.1") && !strings.HasPrefix(name,
			"saltmarsh-4.2") {
			err = errors.Join(err, os.Remove(path))
		}
	}
	return err
}

// makeReal makes the recoveries that are installed through recoveries of real parts, and what their phones
// hold and are sent.
func makeReal(dir string) error {
	scenario.Small(16)
	write := func(name string, b []byte, err error) error {
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(dir, name), b, 0o644)
	}
	for device, p := range map[string]scenario.Phone{"ts6735": scenario.PhoneOf("turnstone"),
		"sandpiper": {Device: "sandpiper", Model: "Wickerlight Sandpiper", ABI: "arm64-v8a"},
		"godwit":    scenario.PhoneOf("godwit"), "avocet": scenario.PhoneOf("avocet")} {
		img, err := scenario.Recovery(scenario.Tideline, p)
		if err = write("real-"+device+".img", img, err); err != nil {
			return err
		}
		set, err := scenario.Images(scenario.Stock, p)
		for _, name := range []string{"boot", "vendor_boot", "vbmeta", "dtbo"} {
			if b := set[name]; err == nil && b != nil {
				err = write("stock-"+device+"-"+name+".img", b, nil)
			}
		}
		if err != nil {
			return err
		}
	}
	pkg, err := realPackage()
	return write("real-package.zip", pkg, err)
}

// realMark is what the package of realPackage writes to the start of misc.
const realMark = "counted by a real shell\n"

// realPackage is a package whose update program is a shell script.
func realPackage() ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{"META-INF/com/google/android/update-binary": "#!/sbin/sh\n" +
		"for d in /dev/block/by-name /dev/block/bootdevice/by-name /dev/block/platform/wk/by-name; do\n" +
		"[ -b \"$d/misc\" ] && at=$d/misc; done\n" +
		"[ -n \"$at\" ] || { echo \"no partition misc\"; exit 1; }\n" +
		"echo \"ui_print Counting birds\"\necho \"counted by a real shell\" | dd of=\"$at\" conv=notrunc " +
		"&& sync\n",
		"META-INF/com/google/android/updater-script": "# in the other file\n"} {
		w, err := z.Create(name)
		if err == nil {
			_, err = io.WriteString(w, text)
		}
		if err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}

// cpio writes the archive the kernel extracts its first file system from ("newc",
// Documentation/driver-api/early-userspace/buffer-format.rst).
type cpio struct {
	b    bytes.Buffer
	ino  int
	mode uint32 // of the files of a tree
}

func (c *cpio) add(name string, mode uint32, data []byte) {
	c.ino++
	fmt.Fprintf(&c.b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00", c.ino, mode, 0, 0,
		1, 0, len(data), 0, 0, 0, 0, len(name)+1, 0, name)
	c.pad()
	c.b.Write(data)
	c.pad()
}

func (c *cpio) pad() {
	for c.b.Len()%4 != 0 {
		c.b.WriteByte(0)
	}
}

func (c *cpio) addFile(name string, mode uint32, path string) error {
	b, err := os.ReadFile(path)
	if err == nil {
		c.add(name, mode, b)
	}
	return err
}

func (c *cpio) addTree(name, dir string) error {
	return filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		to := filepath.ToSlash(filepath.Join(name, rel))
		if d.IsDir() {
			c.add(to, 0o40755, nil)
			return nil
		}
		return c.addFile(to, c.mode, p)
	})
}
