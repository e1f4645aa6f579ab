package bcb

import (
	"bytes"
	"encoding/hex"
	"reflect"
	"testing"
)

// control is a bootloader_control put together by hand with Python's struct
// and zlib: suffix "_b", two slots, 5 recovery tries, merge status 3; slot a
// has priority 15 and is successful, slot b priority 14, 6 tries and a verity
// mark.
const control = "5f6200004243414201ea00008f006e010000000000000000000000007fc707dc"

func miscWith(t testing.TB) []byte {
	misc := bytes.Repeat([]byte{0x5a}, Size)
	clear(misc[:MessageSize])
	b, err := hex.DecodeString(control)
	if err != nil {
		t.Fatalf("hex.DecodeString(control): %v", err)
	}
	copy(misc[2048:], b)
	return misc
}

func TestControl(t *testing.T) {
	misc := miscWith(t)
	c, err := ParseControl(misc)
	want := &Control{Suffix: "_b", RecoveryTries: 5, MergeStatus: 3, Slots: []Slot{
		{Priority: 15, Successful: true}, {Priority: 14, TriesLeft: 6, VerityCorrupted: true}}}
	if err != nil || !reflect.DeepEqual(c, want) {
		t.Fatalf("ParseControl(misc): %+v, %v; unwanted: err != nil || !reflect.DeepEqual(c, want)", c, err)
	}
	if c.Next() != 0 {
		t.Errorf("slot %d is next, want 0", c.Next())
	}
	again := bytes.Clone(misc)
	if err := c.Put(again); err != nil || !bytes.Equal(again, misc) {
		t.Errorf("written back unchanged, the bytes differ: %v", err)
	}
	c.Activate(1)
	if err := c.Put(again); err != nil || c.Next() != 1 {
		t.Errorf("after choosing slot b: next %d, %v", c.Next(), err)
	}
	if !bytes.Equal(again[:2048], misc[:2048]) || !bytes.Equal(again[2080:], misc[2080:]) {
		t.Error("bytes of others were changed")
	}
	for at := 2048; at < 2080; at++ {
		bad := bytes.Clone(misc)
		bad[at] ^= 0x10
		if _, err := ParseControl(bad); err == nil {
			t.Errorf("a changed byte at %d is not noticed", at)
		}
	}
}

func TestMessage(t *testing.T) {
	misc := miscWith(t)
	before := bytes.Clone(misc)
	m := Message{Command: CommandRecovery, Recovery: []string{"recovery", "--wipe_data"}}
	if err := m.Put(misc); err != nil {
		t.Fatalf("m.Put(misc): %v", err)
	}
	// The fields' places and forms as bootloader_message.h has them.
	if string(misc[:14]) != "boot-recovery\x00" || string(misc[64:86]) != "recovery\n--wipe_data\n\x00" {
		t.Errorf("%q %q; unwanted: string(misc[:14]) != 'boot-recovery\\x00' || string(misc[64:86]) ...",
			misc[:14], misc[64:86])
	}
	if !bytes.Equal(misc[832:], before[832:]) {
		t.Error("bytes behind the message's fields were changed")
	}
	if got, err := ParseMessage(misc); err != nil || !reflect.DeepEqual(got, m) {
		t.Errorf("ParseMessage(misc): %+v, %v; unwanted: err != nil || !reflect.DeepEqual(got, m)", got, err)
	}
	if err := (Message{Command: string(make([]byte, 40))}).Put(misc); err == nil {
		t.Error("a command that does not fit was taken")
	}
	if got, err := ParseMessage(bytes.Repeat([]byte{0xff}, Size)); err != nil || got.Command != "" {
		t.Errorf("an erased partition gives %+v, %v", got, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(miscWith(f))
	f.Fuzz(func(t *testing.T, b []byte) {
		ParseMessage(b)
		c, err := ParseControl(b)
		if err == nil {
			again := bytes.Clone(b)
			if err := c.Put(again); err != nil || !bytes.Equal(again, b) {
				t.Errorf("written back unchanged, the bytes differ: %v", err)
			}
		}
	})
}
