package script

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"jarlid/internal/core/image"
)

// show writes a tree with brackets.
func show(n *Node) string {
	if n == nil {
		return "-"
	}
	var args []string
	for _, a := range n.Args {
		args = append(args, show(a))
	}
	switch n.Op {
	case "string":
		return fmt.Sprintf("%q", n.Text)
	case "call":
		return n.Text + "(" + strings.Join(args, ", ") + ")"
	}
	return "[" + n.Op + " " + strings.Join(args, " ") + "]"
}

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		`ui_print("hello");`:                   `ui_print("hello")`,
		`a() ; b(c, "d e")`:                    `[; a() b("c", "d e")]`,
		"# a comment\nx(); # another\n":        `x()`,
		`a() || b() && !c() == d + "e"`:        `[|| a() [&& b() [== [! c()] [+ "d" "e"]]]]`,
		`if a() then b(); c() else d() endif;`: `[if a() [; b() c()] d()]`,
		`if (a() != "1") then b() endif`:       `[if [!= a() "1"] b()]`,
		`x("\x41\n\"\\");`:                     `x("A\n\"\\")`,
		`f((a(); b()), /system/bin:x)`:         `f([; a() b()], "/system/bin:x")`,
		``:                                     `[; ]`,
		`ifelse(is_mounted("/system"), ` +
			`unmount("/system"));`: `ifelse(is_mounted("/system"), unmount("/system"))`,
	} {
		n, err := Parse(text)
		if err != nil || show(n) != want {
			t.Errorf("%s: %s, %v, want %s", text, show(n), err, want)
		}
	}
	var bad *image.Error
	for text, at := range map[string]int64{`a(`: 2, `a("x`: 2, `a() b()`: 4, `if a() b() endif`: 7,
		`if a() then b()`: 15, `)`: 0, `a(,)`: 2, `"\x4`: 0, `==`: 0,
		strings.Repeat("(", 5000): 0, strings.Repeat("!", 5000): 0} {
		if _, err := Parse(text); !errors.As(err, &bad) {
			t.Errorf("Parse(%.20q): %v, want a syntax error", text, err)
		} else if len(text) < 100 && bad.Offset != at {
			t.Errorf("%q: the error is at %d, want %d: %v", text, bad.Offset, at, err)
		}
	}
}

// TestWrites: what a script writes on any phone, and nothing that it may write.
func TestWrites(t *testing.T) {
	n,
		err := Parse(
		`block_image_update("/dev/block/platform/soc/by-name/system", ` +
			`package_extract_file("system.transfer.list"), "system.new.dat", "system.patch.dat") || ` +
			`abort("no");
package_extract_file("boot.img", "/dev/block/by-name/boot");
(write_raw_image("/tmp/a.img", "/dev/block/bootdevice/by-name/recovery"); ui_print("x"));
package_extract_file("boot.img", "/dev/block/by-name/boot");
package_extract_file("tool", "/tmp/tool"); package_extract_file("tool");
package_extract_file("x.img", concat("/dev/block/by-name/vendor", getprop("ro.boot.slot_suffix")));
if getprop("a") == "b" then package_extract_file("x.img", "/dev/block/by-name/one") else ` +
			`write_raw_image("x", "/dev/block/by-name/two") endif;
ifelse(is_mounted("/x"), package_extract_file("x.img", "/dev/block/by-name/three"), ` +
			`package_extract_file("x.img", "/dev/block/by-name/four"));
is_mounted("/x") || package_extract_file("x.img", "/dev/block/by-name/five");`)
	if got := fmt.Sprint(n.Writes()); err != nil || got != "[system boot recovery]" {
		t.Errorf("Parse(...): %s, %v; unwanted: err != nil || got != '[system boot recovery]'", got, err)
	}
}

// TestWipes: what erases the owner's data on any phone, and what may or does not.
func TestWipes(t *testing.T) {
	for text, want := range map[string]bool{
		`format("ext4", "EMMC", "/dev/block/platform/soc/by-name/userdata", "0", "/data");`: true,
		`format("ext4", "EMMC", "/dev/block/mmcblk0p9", "0", "/data");`:                     true,
		`ui_print("x"); wipe_block_device("/dev/block/by-name/USERDATA", 4096);`:            true,
		`delete_recursive("/cache", "/data/");`:                                             true,
		`format("ext4", "EMMC", "/dev/block/by-name/system", "0", "/system");`:              false,
		`delete_recursive("/data/dalvik-cache");`:                                           false,
		`if getprop("a") == "b" then delete_recursive("/data") endif;`:                      false,
		`format("ext4");`: false,
	} {
		n, err := Parse(text)
		if err != nil || n.Wipes() != want {
			t.Errorf("Parse(text): %s: %v, %v; unwanted: err != nil || n.Wipes() != want", text, !want, err)
		}
	}
}

func TestDemands(t *testing.T) {
	n,
		err := Parse(
		`assert(getprop("ro.product.device") == "dunlin" || getprop("ro.build.product") == "dunlin" || ` +
			`"WL-DU" == getprop("ro.product.device") ||
		abort("This package is for another phone: " + getprop("ro.product.device")););
		ui_print("x"); if getprop("ro.debuggable") == "1" then assert(getprop("ro.build.version.release") ` +
			`== "14") endif; package_extract_dir("system", "/system");`)
	if err != nil {
		t.Fatalf("Parse(...): %v", err)
	}
	if got, want := fmt.Sprint(n.Demands()), "[{ro.product.device [dunlin WL-DU]} {ro.build.product "+
		"[dunlin]} {ro.build.version.release [14]}]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`assert(getprop("a") == "b" || c()); if x() then y() else z() endif;`)
	f.Fuzz(func(t *testing.T, s string) {
		if n, err := Parse(s); err == nil {
			n.Demands()
			n.Writes()
		}
	})
}
