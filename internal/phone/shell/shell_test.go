package shell

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// scripted answers what a test has for the command inside the frame: what is between the marks, and what is
// around.
type scripted struct {
	before, out, after, errs string
	code                     int
	split, pty               bool
	err                      error
	sent                     string
}

func (s *scripted) SplitsStreams() bool { return s.split }

// Shell finds the marks in the line, as a shell that runs it would print them.
func (s *scripted) Shell(_ context.Context, line string, _ time.Duration) (adb.Output, error) {
	s.sent = line
	if s.err != nil {
		return adb.Output{}, s.err
	}
	_, rest, _ := strings.Cut(line, "echo '")
	begin, rest, _ := strings.Cut(rest, "';")
	_, rest, _ = strings.Cut(rest, "\n}")
	_, rest, _ = strings.Cut(rest, "echo; echo '")
	end, _, _ := strings.Cut(rest, "' $c")
	join := func(m string) string { return strings.ReplaceAll(m, "''", "") }
	text := fmt.Sprintf("%s%s\n%s\n%s %d\n%s", s.before, join(begin), s.out, join(end), s.code, s.after)
	if s.pty {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	out := adb.Output{Stdout: []byte(text), Code: -1}
	if s.split {
		out.Code, out.Stderr = 0, []byte(s.before+join(begin)+"\n"+s.errs)
	}
	return out, nil
}

// TestFrame: what a shell prints around an answer never reaches who reads it.
func TestFrame(t *testing.T) {
	for name, s := range map[string]*scripted{
		"plain":                      {out: "0\n", split: true},
		"a banner":                   {before: "Welcome!\nuid=5(x)\n", out: "0\n", split: true},
		"a linker warning":           {before: "WARNING: linker: unused DT entry\n", out: "0\n"},
		"a prompt behind it":         {out: "0\n", after: "phone:/ # "},
		"a terminal in between":      {before: "hello\n", out: "0\n", pty: true},
		"no line break at its end":   {out: "0"},
		"an old id":                  {out: "uid=0(root) gid=0(root) groups=0(root)\n"},
		"an id that knows no option": {out: "id: unknown option\nuid=0(root) gid=0(root)\n"},
		"the kernel's word":          {out: "uid=0\n"},
	} {
		if n, err := New(s).User(t.Context()); n != 0 || err != nil {
			t.Errorf("%s: user %d, %v", name, n, err)
		}
	}
	for name, s := range map[string]*scripted{
		"nothing":       {},
		"another word":  {out: "permission denied\n", split: true},
		"no such shell": {err: &link.RefusedError{Command: "shell", Message: "closed"}},
	} {
		if _, err := New(s).User(t.Context()); !Unknown(err) {
			t.Errorf("%s: %v is no answer, and not unknown", name, err)
		}
	}
	a, err := New(&scripted{out: "\x00\r\n\n\xff", pty: true}).ask(t.Context(), readBlock, "/dev/x", "1, 2",
		"1:2", "4", "0")
	if err != nil || string(a.out) != "\x00\r\n\n\xff" {
		t.Errorf("bytes over a terminal: %q, %v", a.out, err)
	}
	var refused *link.RefusedError
	err = New(&scripted{errs: "umount: busy\n", code: 1, split: true}).Unmount(t.Context(), "/data")
	if !errors.As(err, &refused) || refused.Message != "umount: busy" {
		t.Errorf("a failure with errors apart: %v", err)
	}
	err = New(&scripted{out: "umount: busy\n", code: 1}).Unmount(t.Context(), "/data")
	if !errors.As(err, &refused) || refused.Message != "umount: busy" {
		t.Errorf("a failure with all in one: %v", err)
	}
	echo := &scripted{out: "yes\n"}
	if _, err := New(echo).Exists(t.Context(), "/it's"); err != nil ||
		!strings.HasPrefix(echo.sent, `set -- '/it'\''s'; `) {
		t.Errorf("a quoted word: %q, %v", echo.sent, err)
	}
}

// TestSilence: a command that is silent costs its answer where the shell still answers, and the phone where
// not.
func TestSilence(t *testing.T) {
	silent := &link.LostError{During: "x", Err: link.ErrSilent}
	alive := true
	s := New(senderFunc(func(line string) (adb.Output, error) {
		if !alive || !strings.Contains(line, "{ echo yes\n") {
			return adb.Output{}, silent
		}
		return (&scripted{out: "yes\n", split: true}).Shell(t.Context(), line, 0)
	}))
	if _, err := s.Props(t.Context()); !Unknown(err) {
		t.Errorf("a silent command: %v", err)
	}
	alive = false
	var lost *link.LostError
	if _, err := s.Props(t.Context()); Unknown(err) || !errors.As(err, &lost) {
		t.Errorf("a silent phone: %v", err)
	}
}

type senderFunc func(line string) (adb.Output, error)

func (f senderFunc) SplitsStreams() bool { return true }

func (f senderFunc) Shell(_ context.Context, line string, _ time.Duration) (adb.Output, error) {
	return f(line)
}

// inSys is what grep prints of a device's files.
func inSys(device string, lines ...string) (text string) {
	for _, line := range lines {
		text += "/sys/class/block/" + device + "/" + line + "\n"
	}
	return text
}

// TestBlocks: names, numbers and sizes come from whichever of the kernel's files there are, and a plain
// file under a name is no device.
func TestBlocks(t *testing.T) {
	sys := inSys("sda3", "dev:259:3", "size:131072", "uevent:PARTNAME=boot_a") +
		inSys("sda4", "dev:259:4", "size:8192", "uevent:PARTNAME=misc") +
		inSys("dm-0", "dev:253:0", "size:4096", "dm/name:system_a") + "=partitions\n"
	for _, c := range []struct{ name, text, want string }{
		{"names from the folder", sys + "=dir /dev/block/by-name\n" +
			"brw------- 1 root root 259, 3 2009-01-01 00:00 boot_a\nbrw-rw----    1 root     root      " +
			"259,   4 Jan  1 00:00 misc\n" +
			"=dir /dev/block/mapper\nbrw------- 1 0 0 253,   0 1970-01-01 00:00 system_a\ndrwxr-xr-x " +
			"2 root " +
			"root 80 x y by-uuid\n",
			"/dev/block/by-name/boot_a 259:3 67108864, /dev/block/by-name/misc 259:4 4194304, " +
				"/dev/block/mapper/system_a 253:0 2097152"},
		{"names from the kernel alone", sys, "/dev/block/sda3 259:3 67108864, /dev/block/sda4 259:4 " +
			"4194304, " +
			"/dev/block/dm-0 253:0 2097152"},
		{"one name is missing in the folder", sys + "=dir /dev/block/by-name\nbrw------- 1 root root " +
			"259, 3 " +
			"d t boot_a\n",
			"/dev/block/by-name/boot_a 259:3 67108864, /dev/block/sda4 259:4 4194304, /dev/block/dm-0 " +
				"253:0 2097152"},
		{"sizes from the table of partitions",
			"=partitions\n 259        3      65536 sda3\n=dir /dev/block/platform/soc/by-name\n" +
				"brw------- 1 root root 259, 3 d t boot_a\n",
			"/dev/block/platform/soc/by-name/boot_a 259:3 67108864"},
		{"an old ls without links", "=partitions\n 259 3 4 sda3\n=dir /dev/block/by-name\nbrw------- root " +
			"root 259, 3 " +
			"d t boot_a\n",
			"/dev/block/by-name/boot_a 259:3 4096"},
		{"no sizes", "=dir /dev/block/by-name\nbrw------- 1 root root 259, 3 d t boot_a\n",
			"/dev/block/by-name/boot_a 259:3 0"},
		{"a plain file", "=dir /dev/block/by-name\n-rw-r--r-- 1 root root 17 d t recovery\n",
			"/dev/block/by-name/recovery is a plain file"},
		{"a plain file, and the kernel knows the device",
			sys + "=dir /dev/block/by-name\n-rw-r--r-- 1 root root 17 d t misc\n",
			"/dev/block/sda3 259:3 67108864, /dev/block/sda4 259:4 4194304, /dev/block/dm-0 253:0 2097152"},
		{"nothing", "sh: syntax error\n", ""},
	} {
		var got []string
		for _, d := range parseBlocks(strings.Split(c.text, "\n")) {
			text := fmt.Sprintf("%s %s %d", d.Path, d.Number, d.Size)
			if d.Target != "" {
				text = d.Target
			}
			got = append(got, text)
		}
		slices.Sort(got)
		want := strings.Split(c.want, ", ")
		slices.Sort(want)
		if strings.Join(got, ", ") != strings.Join(want, ", ") {
			t.Errorf("%s:\n%s, want\n%s", c.name, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

// TestMounts: a path is on what was mounted last over it, bind mounts are known by their device.
func TestMounts(t *testing.T) {
	const info = `21 1 0:1 / / rw - rootfs rootfs rw
30 21 0:20 / /tmp rw - tmpfs tmpfs rw
31 21 259:9 / /data rw,noatime shared:3 - f2fs /dev/block/dm-8 rw
32 21 259:9 /media/0 /sdcard rw - f2fs /dev/block/dm-8 rw
33 21 179:1 / /my\040card rw - vfat /dev/block/mmcblk1p1 rw
`
	const plain = "rootfs / rootfs rw 0 0\n/dev/block/sda9 /data ext4 ro,seclabel 0 0\n"
	data := Device{Path: "/dev/block/by-name/userdata", Number: "259:9", Kernel: "sda9"}
	for _, c := range []struct{ name, text, path, at, root string }{
		{"a folder of the data", info, "/data/media/0/a", "/data", "/"},
		{"a bind mount", info, "/sdcard/a", "/sdcard", "/media/0"},
		{"a name that begins alike", info, "/database", "/", "/"},
		{"an escaped name", info, "/my card/x", "/my card", "/"},
		{"the older table", "=mounts\n" + plain, "/data/x", "/data", "/"},
	} {
		list := parseMounts(c.text)
		if m, ok := list.Under(c.path); !ok || m.At != c.at || m.Root != c.root {
			t.Errorf("%s: %s is on %+v", c.name, c.path, m)
		}
	}
	if mine := parseMounts(info).Of(data); len(mine) != 2 || mine[1].At != "/sdcard" {
		t.Errorf("of the data are %+v", mine)
	}
	mine := parseMounts("=mounts\n" + plain).Of(data)
	if len(mine) != 1 || mine[0].Writable() || mine[0].InMemory() {
		t.Errorf("of the data are %+v in the older table", mine)
	}
	if m, _ := parseMounts(info).Under("/tmp/x"); !m.InMemory() {
		t.Errorf("%+v is not in memory", m)
	}
}

// TestAnswers: the forms that other answers have.
func TestAnswers(t *testing.T) {
	for text, want := range map[string]int64{
		"Filesystem 1K-blocks Used Available Use% Mounted on\n/dev/block/dm-1 100 40 60 40% " +
			"/data\n": 60 << 10,
		"Filesystem 1K-blocks Used Available Use% Mounted on\n/dev/a/long/name\n 100 40 7 4% /d\n": 7 << 10,
		"df: /data: No such file or directory\n":                                                   -1,
	} {
		if n, ok := parseFree(text); ok != (want >= 0) || ok && n != want {
			t.Errorf("parseFree(%q): %d, %v", text, n, ok)
		}
	}
	for _, c := range []struct{ table, at, want string }{
		{"/dev/block/by-name/userdata /data f2fs noatime wait,check\n", "/data", "f2fs"},
		{"/data ext4 /dev/block/by-name/userdata\n", "/data", "ext4"},
		{"# nothing\n", "/data", ""},
	} {
		if got := fsOf(c.table, c.at); got != c.want {
			t.Errorf("fsOf(%q): %q", c.table, got)
		}
	}
	props := parseProps("[ro.a]: [b]\r\n[ro.c]: []\nnoise\n")
	if props["ro.a"] != "b" || len(props) != 2 {
		t.Errorf("parseProps: %v", props)
	}
}

// FuzzAnswers: no answer of a phone makes a parser fail, and no device comes from it without a number.
func FuzzAnswers(f *testing.F) {
	f.Add(
		inSys("sda3", "dev:259:3", "size:131072", "uevent:PARTNAME=boot_a") +
			"=dir /d\nbrw 1 r r 259, 3 x y boot_a")
	f.Add("21 1 0:1 / / rw - rootfs rootfs rw\n=mounts\n/dev/a /b\\040c ext4 rw 0 0")
	f.Fuzz(func(t *testing.T, text string) {
		for _, d := range parseBlocks(strings.Split(text, "\n")) {
			if d.Target == "" && d.Number == "" || d.Size < 0 || d.Name == "" {
				t.Errorf("%q gives %+v", text, d)
			}
		}
		parseMounts(text)
		parseProps(text)
		parseFree(text)
		fsOf(text, "/data")
		digestLines(strings.Split(text, "\n"))
		unframe(adb.Output{Stdout: []byte(text)}, "a", "b")
		userIn(text)
	})
}

// TestTable: every command says what it is for, what it answers and what is done without it.
func TestTable(t *testing.T) {
	for _, c := range Commands() {
		if c.Name == "" || c.Purpose == "" || c.Line == "" || c.Answer == "" || c.Without == "" {
			t.Errorf("%+v lacks a column", c)
		}
		if len(c.Line) > 2500 {
			t.Errorf("%s has %d bytes: the oldest shells take 4096 in all", c.Name, len(c.Line))
		}
	}
}
