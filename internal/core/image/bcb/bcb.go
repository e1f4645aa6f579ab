// Package bcb reads and changes what the `misc` partition holds for the
// bootloader: the message that decides what starts, and on phones with slots
// the slot control block.
//
// The structures are published in the platform's bootloader_message.h
// (bootloader_message, bootloader_message_ab) and boot_control's
// bootloader_control. The partition is shared: functions here change the bytes
// of their own structure in a copy the caller read, and nothing else.
package bcb

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"slices"
	"strings"

	"jarlid/internal/core/image"
)

const (
	formatName = "misc partition"

	// MessageSize is the size of bootloader_message in bytes.
	MessageSize = 2048
	// Size is how much of misc this package reads, in bytes: bootloader_message_ab.
	Size = 4096

	// controlOffset is where bootloader_control lies: offsetof(struct
	// bootloader_message_ab, slot_suffix).
	controlOffset  = 2048
	controlSize    = 32
	controlMagic   = 0x42414342 // "BCAB", BOOT_CTRL_MAGIC
	controlVersion = 1          // BOOT_CTRL_VERSION

	// MaxPriority and MaxTries are the largest values the bit fields hold.
	MaxPriority = 15
	MaxTries    = 7
)

// Commands of the message the platform's bootloaders know.
const (
	CommandRecovery   = "boot-recovery"
	CommandFastboot   = "boot-fastboot"
	CommandBootloader = "bootonce-bootloader"
)

// Message is the bootloader message.
type Message struct {
	Command  string   // what to start next; empty for the system
	Status   string   // written by some bootloaders, read by recovery
	Recovery []string // arguments for the recovery, the first being "recovery"
}

// ParseMessage reads the message from the first bytes of misc. Bytes that are
// not a message (never written, or erased to ones) give an empty one.
func ParseMessage(misc []byte) (Message, error) {
	if len(misc) < MessageSize {
		return Message{}, image.Truncated(formatName, 0, MessageSize, int64(len(misc)))
	}
	m := Message{Command: text(misc[:32]), Status: text(misc[32:64])}
	if s := text(misc[64:832]); s != "" {
		m.Recovery = strings.Split(strings.TrimRight(s, "\n"), "\n")
	}
	return m, nil
}

// Put writes the message's fields into misc and leaves every other byte alone.
func (m Message) Put(misc []byte) error {
	if len(misc) < MessageSize {
		return image.Truncated(formatName, 0, MessageSize, int64(len(misc)))
	}
	args := ""
	if len(m.Recovery) > 0 {
		args = strings.Join(m.Recovery, "\n") + "\n"
	}
	if len(m.Command) > 31 || len(m.Status) > 31 || len(args) > 767 {
		return image.Errorf(formatName, 0, "the message is longer than its field")
	}
	for _, f := range []struct {
		field []byte
		text  string
	}{{misc[:32], m.Command}, {misc[32:64], m.Status}, {misc[64:832], args}} {
		clear(f.field)
		copy(f.field, f.text)
	}
	return nil
}

// GaveUp reports whether a system that gave up asks its recovery to have the owner erase all data: init and
// the rescue party leave that (recovery.cpp, --prompt_and_wipe_data, and --reason with why).
func (m *Message) GaveUp() bool {
	return m.Command == CommandRecovery && len(m.Recovery) > 1 && slices.Contains(m.Recovery[1:],
		"--prompt_and_wipe_data")
}

func text(b []byte) string {
	if b[0] == 0xff {
		return ""
	}
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return string(b)
}

// Slot is what the control block keeps of one slot.
type Slot struct {
	Priority        int // 0 to 15; 0 is not bootable, the highest starts
	TriesLeft       int // 0 to 7, counted down at each start until one succeeds
	Successful      bool
	VerityCorrupted bool
}

// Bootable reports whether a bootloader may start the slot.
func (s Slot) Bootable() bool { return s.Priority > 0 && (s.Successful || s.TriesLeft > 0) }

// Control is the slot control block.
type Control struct {
	Suffix        string // of the slot that was started last: "_a" or "_b"
	RecoveryTries int
	MergeStatus   int
	Slots         []Slot // in the order a, b, ...
}

// ParseControl reads the control block from the first bytes of misc. A phone
// that keeps its slots elsewhere has none: the error then is an *image.Error.
func ParseControl(misc []byte) (*Control, error) {
	if len(misc) < controlOffset+controlSize {
		return nil, image.Truncated(formatName, controlOffset, controlSize, int64(len(misc)-controlOffset))
	}
	b := misc[controlOffset : controlOffset+controlSize]
	le := binary.LittleEndian
	if le.Uint32(b[4:]) != controlMagic {
		return nil, image.Errorf(formatName, controlOffset+4, "there is no slot control block")
	}
	if b[8] != controlVersion {
		return nil, image.Errorf(formatName, controlOffset+8, "slot control block version %d is not known",
			b[8])
	}
	if got, want := crc32.ChecksumIEEE(b[:28]), le.Uint32(b[28:]); got != want {
		return nil, image.Errorf(formatName, controlOffset+28,
			"the slot control block's checksum is %08x, its bytes give %08x", want, got)
	}
	bits := int(b[9]) | int(b[10])<<8
	n := bits & 7
	if n < 1 || n > 4 {
		return nil, image.Errorf(formatName, controlOffset+9, "%d slots are not possible", n)
	}
	c := &Control{Suffix: text(b[:4]), RecoveryTries: bits >> 3 & 7, MergeStatus: bits >> 6 & 7}
	for i := range n {
		v := b[12+2*i:]
		c.Slots = append(c.Slots, Slot{Priority: int(v[0] & 15), TriesLeft: int(v[0] >> 4 & 7),
			Successful: v[0]&0x80 != 0, VerityCorrupted: v[1]&1 != 0})
	}
	return c, nil
}

// Put writes the block with a fresh checksum into misc; reserved bits and all
// bytes around it stay.
func (c *Control) Put(misc []byte) error {
	if len(misc) < controlOffset+controlSize {
		return image.Truncated(formatName, controlOffset, controlSize, int64(len(misc)-controlOffset))
	}
	if len(c.Slots) < 1 || len(c.Slots) > 4 || len(c.Suffix) > 3 {
		return image.Errorf(formatName, controlOffset, "%d slots, started from %q: that does not fit",
			len(c.Slots), c.Suffix)
	}
	b := misc[controlOffset : controlOffset+controlSize]
	le := binary.LittleEndian
	clear(b[:4])
	copy(b, c.Suffix)
	le.PutUint32(b[4:], controlMagic)
	b[8] = controlVersion
	bits := len(c.Slots) | c.RecoveryTries&7<<3 | c.MergeStatus&7<<6
	b[9], b[10] = byte(bits), b[10]&^1|byte(bits>>8)
	for i, s := range c.Slots {
		v := b[12+2*i:]
		v[0] = byte(min(s.Priority, MaxPriority) | min(s.TriesLeft, MaxTries)<<4)
		if s.Successful {
			v[0] |= 0x80
		}
		v[1] &^= 1
		if s.VerityCorrupted {
			v[1] |= 1
		}
	}
	le.PutUint32(b[28:], crc32.ChecksumIEEE(b[:28]))
	return nil
}

// Next gives the index of the slot that would start: the bootable one with
// the highest priority, the first of equals; -1 when none is.
func (c *Control) Next() int {
	best := -1
	for i, s := range c.Slots {
		if s.Bootable() && (best < 0 || s.Priority > c.Slots[best].Priority) {
			best = i
		}
	}
	return best
}

// Activate makes slot i the next one to start, with all tries and not yet
// known to work; the others step back behind it.
func (c *Control) Activate(i int) {
	for j := range c.Slots {
		if j != i && c.Slots[j].Priority >= MaxPriority {
			c.Slots[j].Priority = MaxPriority - 1
		}
	}
	c.Slots[i] = Slot{Priority: MaxPriority, TriesLeft: MaxTries}
}
