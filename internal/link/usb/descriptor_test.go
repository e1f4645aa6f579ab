package usb

import (
	"encoding/hex"
	"errors"
	"strings"
	"testing"
)

// bytesOf takes hexadecimal digits with blanks.
func bytesOf(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.Join(strings.Fields(s), ""))
	if err != nil {
		t.Fatalf("hex.DecodeString(...): %v", err)
	}
	return b
}

// The descriptors below are worked out by hand after USB 2.0, chapter 9.6.
const (
	deviceHex = "12 01 0002 00 00 00 40 0912 0100 0001 01 02 03 01 "
	fastboot1 = "09 02 2000 01 01 00 80 fa  09 04 00 00 02 ff 42 03 04  07 05 81 02 0002 00  07 05 01 02 " +
		"0002 00"
	// A system: its files (two bulk, one interrupt endpoint), then ADB.
	system2 = "09 02 4700 02 01 00 80 fa  09 04 00 00 03 06 01 01 04  07 05 81 02 0002 00  07 05 01 02 " +
		"0002 00  07 05 82 03 1c00 06" +
		"09 04 01 00 02 ff 42 01 05  07 05 83 02 0002 00  07 05 02 02 0002 00"
	// The same interface in two settings, each endpoint with a SuperSpeed companion.
	super1 = "09 02 4300 01 01 00 80 70  09 04 00 00 02 ff 42 01 04  07 05 81 02 0004 00  06 30 0f 00 0000 " +
		" 07 05 01 02 0004 00  06 30 0f 00 0000" +
		"09 04 00 01 02 ff 42 03 04  07 05 85 02 0004 00  07 05 05 02 0004 00"
)

func TestParseDescriptors(t *testing.T) {
	for name, c := range map[string]struct {
		hex     string
		config  byte
		kinds   string // of the interfaces: f, a, or another one's class
		in, out byte
		packet  int
		usable  bool
		broken  int // the offset of the error, -1 for none
	}{
		"a bootloader":             {deviceHex + fastboot1, 0, "f", 0x81, 0x01, 512, true, -1},
		"a system":                 {deviceHex + system2, 1, "6a", 0x83, 0x02, 512, true, -1},
		"SuperSpeed, two settings": {deviceHex + super1, 1, "a", 0x81, 0x01, 1024, true, -1},
		"the second configuration": {deviceHex + fastboot1 + strings.Replace(system2, "02 01 00 80",
			"02 02 00 80", 1), 2, "6a", 0x83, 0x02, 512, true, -1},
		"another configuration only":    {deviceHex + fastboot1, 7, "", 0, 0, 0, false, -1},
		"nothing":                       {"", 0, "", 0, 0, 0, false, 0},
		"a device descriptor alone":     {deviceHex, 0, "", 0, 0, 0, false, -1},
		"too short a device descriptor": {"0a 01 0002 00 00 00 40 0912", 0, "", 0, 0, 0, false, 0},
		"a descriptor of no length": {deviceHex + "09 02 2000 01 01 00 80 fa 00 04 00 00 02 ff 42 03 04",
			0, "", 0, 0, 0, false, 27},
		"a descriptor of one byte": {deviceHex + "01", 0, "", 0, 0, 0, false, 18},
		"longer than what is there": {deviceHex + "09 02 2000 01 01 00 80 fa  09 04 00 00 02 ff 42 03 " +
			"04  ff 05 81", 0, "f", 0, 0, 0, false, 36},
		"an interface cut short": {deviceHex + "09 02 2000 01 01 00 80 fa  05 04 00 00 02", 0, "", 0,
			0, 0, false, 27},
		"an endpoint cut short": {deviceHex + "09 02 2000 01 01 00 80 fa  09 04 00 00 02 ff 42 03 " +
			"04  04 05 81 02", 0, "f", 0, 0, 0, false, 36},
		"endpoints numbered 0": {deviceHex + strings.NewReplacer("05 81", "05 80", "05 01",
			"05 00").Replace(fastboot1), 0, "f", 0, 0, 0, false, -1},
		"an endpoint that can't be": {deviceHex + strings.Replace(fastboot1, "05 81", "05 f1", 1), 0, "f",
			0, 0x01, 512, false, -1},
		"packets of no bytes": {deviceHex + strings.ReplaceAll(fastboot1, "02 0002 00",
			"02 0000 00"), 0, "f", 0, 0, 0, false, -1},
		"packets of 7 bytes": {deviceHex + strings.ReplaceAll(fastboot1, "02 0002 00",
			"02 0700 00"), 0, "f", 0x81, 0x01, 7, false, -1},
		"packets that differ": {deviceHex + strings.Replace(fastboot1, "05 01 02 0002",
			"05 01 02 4000", 1), 0, "f", 0x81, 0, 512, false, -1},
		"interrupt in place of bulk": {deviceHex + strings.ReplaceAll(fastboot1, "02 0002 00",
			"03 0002 00"), 0, "f", 0, 0, 0, false, -1},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := ParseDescriptors(bytesOf(t, c.hex), c.config)
			at := -1
			var wrong *DescriptorError
			if errors.As(err, &wrong) {
				at = wrong.Offset
			}
			kinds := ""
			var phone Interface
			for _, i := range d.Interfaces {
				switch {
				case i.Fastboot():
					kinds += "f"
					phone = i
				case i.ADB():
					kinds += "a"
					phone = i
				default:
					kinds += string('0' + rune(i.Class))
				}
			}
			if at != c.broken || kinds != c.kinds || phone.In != c.in || phone.Out != c.out ||
				phone.Packet != c.packet || phone.usable() != c.usable {
				t.Errorf("%q, wrong at %d, %+v", kinds, at, phone)
			}
			if c.broken != 0 && (d.Vendor != 0x1209 || d.Product != 1 || d.Version != 0x0200) {
				t.Errorf("ParseDescriptors(bytesOf(t, c.hex), c.config): %+v", d)
			}
		})
	}
}

func TestText(t *testing.T) {
	for in, want := range map[string]string{"WL-DU-0007\n": "WL-DU-0007", " a b ": "a b",
		"\x1b[31mred\x07": "?[31mred?", "\xff\xfe": "??", "a\u202eb": "a?b", "": "", "\x00\x00": "",
		strings.Repeat("é", 300): strings.Repeat("é", 126)} {
		if got := Text(in); got != want {
			t.Errorf("%q is %q, want %q", in, got, want)
		}
	}
}

func FuzzParseDescriptors(f *testing.F) {
	for _, s := range []string{fastboot1, system2, super1} {
		f.Add(bytesOf(f, deviceHex+s), byte(1))
	}
	f.Fuzz(func(t *testing.T, b []byte, config byte) {
		d, err := ParseDescriptors(b, config)
		var wrong *DescriptorError
		if err != nil && (!errors.As(err, &wrong) || wrong.Offset > len(b)) {
			t.Errorf("ParseDescriptors(b, config): %v; unwanted: err != nil && (!errors.As(err, &wrong) || "+
				"wrong.Offset > len(b))", err)
		}
		if len(d.Interfaces) > len(b)/sizeInterface {
			t.Errorf("%d interfaces out of %d bytes", len(d.Interfaces), len(b))
		}
		for _, i := range d.Interfaces {
			if i.usable() && (i.In&0x8f == 0x80 || i.Out&0x0f == 0 || i.Out&0x80 != 0) {
				t.Errorf("%+v is usable", i)
			}
		}
	})
}
