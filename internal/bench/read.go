package bench

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// Read reads what the phone tells in the mode it is in, and adds what the
// journal and the model file know. It never restarts or changes the phone.
func (p *Phone) Read(ctx context.Context, l *Link) (*card.Card, error) {
	c := &card.Card{}
	c.Set(card.FactMode, card.Fact{Value: string(l.Mode), Evidence: card.Read, Mode: l.Mode, At: now()})
	var err error
	switch {
	case l.FB != nil:
		err = readBootloader(ctx, l, c)
	case l.Mode == card.Sideload:
		readBanner(l, c)
	default:
		readBanner(l, c)
		err = readShell(ctx, l, c)
	}
	if err != nil {
		return nil, err
	}
	p.settleModel(c)
	past, err := p.bench.recall(p, c.Value(card.FactSerial))
	if err != nil {
		return nil, err
	}
	if l.Mode == card.Bootloader || l.Mode == card.Fastbootd {
		past.Set(card.FactStarted, card.Fact{Why: "the bootloader does not start from a slot"})
	}
	c.Merge(past)
	p.model.Learn(c)
	if c.Value(card.FactSerial) == "" && p.Serial != "" {
		c.Learn(card.FactSerial, p.Serial, card.Model)
	}
	return c, nil
}

// learn puts a fact the phone told just now.
func learn(c *card.Card, name, value string) {
	if value != "" {
		c.Set(name, card.Fact{Value: value, Evidence: card.Read, Mode: c.Mode(), At: now()})
	}
}

func learnYes(c *card.Card, name, word string) {
	if yes, ok := card.ParseYes(word); ok {
		learn(c, name, map[bool]string{true: "yes", false: "no"}[yes])
	}
}

// settleModel finds the model the phone's own word means.
func (p *Phone) settleModel(c *card.Card) {
	product := c.Get(card.FactProduct)
	m := p.bench.Models.Find(product.Value)
	switch {
	case m != nil:
		p.model = m
		product.Value = m.Name
		c.Set(card.FactModel, product)
	case p.model != nil:
		// The bench list says what it is; boards have names of their own.
	case product.Known():
		c.Set(card.FactModel, product)
	}
}

// batteryVariables are the names under which bootloaders tell a percentage.
var batteryVariables = []string{"battery-soc", "battery-level", "battery-capacity", "battery-percentage"}

func readBootloader(ctx context.Context, l *Link, c *card.Card) error {
	var last error
	get := func(name string) string {
		if last != nil {
			return ""
		}
		v, _, err := l.FB.GetVar(ctx, name)
		last = err
		return v
	}
	learn(c, card.FactProduct, get("product"))
	learn(c, card.FactSerial, get("serialno"))
	learnYes(c, card.FactUnlocked, get("unlocked"))
	if n, ok := card.ParseSize(get("max-download-size")); ok && n > 0 {
		learn(c, card.FactDownload, fmt.Sprint(n))
	}
	learnYes(c, card.FactCharged, get("battery-soc-ok"))
	if mv, ok := card.ParseMillivolts(get("battery-voltage")); ok {
		learn(c, card.FactVolts, fmt.Sprint(mv))
	}
	for _, name := range batteryVariables {
		var n int
		if _, err := fmt.Sscanf(get(name), "%d", &n); err == nil && n >= 0 && n <= 100 {
			learn(c, card.FactPercent, fmt.Sprint(n))
			break
		}
	}
	readSlots(c, get)
	return last
}

func readSlots(c *card.Card, get func(string) string) {
	var n int
	current := get("current-slot")
	if _, err := fmt.Sscanf(get("slot-count"), "%d", &n); err != nil {
		if current == "" {
			return // an old bootloader: the model file may know
		}
		n = 2
	}
	learn(c, card.FactSlots, fmt.Sprint(n))
	if n < 2 {
		return
	}
	learn(c, card.FactNext, slotLetter(current))
	slots, _ := c.Slots()
	for _, s := range slots {
		if yes, ok := card.ParseYes(get("slot-unbootable:" + s)); ok {
			learn(c, card.FactBootable+s, map[bool]string{true: "no", false: "yes"}[yes])
		}
		learnYes(c, card.FactGood+s, get("slot-successful:"+s))
		learn(c, card.FactTries+s, get("slot-retry-count:"+s))
	}
}

// slotLetter reads a slot's name with or without its underscore.
func slotLetter(s string) string {
	s = strings.TrimLeft(strings.ToLower(strings.TrimSpace(s)), "_")
	if len(s) == 1 && s >= "a" && s <= "d" {
		return s
	}
	return ""
}

// ReadPartition asks the bootloader for a partition's slots and sizes. In
// other modes it does nothing.
func (p *Phone) ReadPartition(ctx context.Context, l *Link, c *card.Card, base string) error {
	if l.FB == nil {
		return nil
	}
	v, _, err := l.FB.GetVar(ctx, "has-slot:"+base)
	if err != nil {
		return err
	}
	names := []string{base}
	if yes, ok := card.ParseYes(v); ok {
		learnYes(c, card.FactSlotted+base, v)
		if slots, known := c.Slots(); yes && known {
			names = nil
			for _, s := range slots {
				names = append(names, plan.Suffixed(base, s))
			}
		}
	} else if slots, known := c.Slots(); known && len(slots) > 0 {
		for _, s := range slots {
			names = append(names, plan.Suffixed(base, s))
		}
	}
	for _, name := range names {
		v, ok, err := l.FB.GetVar(ctx, "partition-size:"+name)
		if err != nil {
			return err
		}
		if n, parsed := card.ParseSize(v); ok && parsed {
			learn(c, card.FactSize+name, fmt.Sprint(n))
			continue
		}
		// A bootloader that tells the size of other partitions and not of this
		// one says that there is none.
		tells, err := tellsSizes(ctx, l)
		if err != nil {
			return err
		}
		if tells {
			learn(c, card.FactSize+name, plan.Nothing)
		}
	}
	return nil
}

// tellsSizes tries partitions that every phone has.
func tellsSizes(ctx context.Context, l *Link) (bool, error) {
	for _, name := range []string{"userdata", "boot", "boot_a"} {
		v, ok, err := l.FB.GetVar(ctx, "partition-size:"+name)
		if err != nil {
			return false, err
		}
		if _, parsed := card.ParseSize(v); ok && parsed {
			return true, nil
		}
	}
	return false, nil
}

func readBanner(l *Link, c *card.Card) {
	learn(c, card.FactProduct, l.ADB.Peer.Props["ro.product.device"])
}

// shellLimit is how long one reading command in the phone's shell may take.
const shellLimit = 20 * time.Second

func shell(ctx context.Context, l *Link, command string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, shellLimit)
	defer cancel()
	out, err := l.ADB.Shell(ctx, command)
	return strings.TrimRight(strings.ReplaceAll(string(out.Stdout), "\r\n", "\n"), "\n"), err
}

// readShell reads what a shell tells. A phone without one is no error.
func readShell(ctx context.Context, l *Link, c *card.Card) error {
	text, err := shell(ctx, l, "getprop")
	if err != nil {
		return noShell(err, c)
	}
	props := parseGetprop(text)
	learn(c, card.FactProduct, ident.DeviceOf(props))
	for _, k := range []string{"ro.serialno", "ro.boot.serialno"} {
		learn(c, card.FactSerial, props[k])
	}
	learn(c, card.FactStarted, slotLetter(props["ro.boot.slot_suffix"]))
	if c.Value(card.FactStarted) != "" {
		learn(c, card.FactSlots, "2")
	}
	switch {
	case props["ro.boot.flash.locked"] == "0" || props["ro.boot.verifiedbootstate"] == "orange":
		learn(c, card.FactUnlocked, "yes")
	case props["ro.boot.flash.locked"] == "1":
		learn(c, card.FactUnlocked, "no")
	}
	build := props["ro.build.display.id"]
	if l.Mode == card.Recovery {
		learn(c, card.FactRecovery, build)
	} else {
		learn(c, card.FactVersion, build)
		learn(c, card.FactBuild, ident.BuildOf(map[string]string{"ro.build.version.incremental": props["ro.build.version.incremental"]}))
		learn(c, card.FactDebugging, "on")
		if props["ro.crypto.state"] == "encrypted" {
			learn(c, card.FactData, card.DataEncrypted)
		}
	}
	if text, err := shell(ctx, l, "cat /sys/class/power_supply/battery/capacity"); err == nil {
		var n int
		if _, err := fmt.Sscanf(text, "%d", &n); err == nil && n >= 0 && n <= 100 {
			learn(c, card.FactPercent, fmt.Sprint(n))
		}
	}
	id, err := shell(ctx, l, "id -u")
	if err != nil {
		return err
	}
	root := strings.TrimSpace(id) == "0"
	learn(c, card.FactRoot, map[bool]string{true: "yes", false: "no"}[root])
	if root {
		return readRoot(ctx, l, c)
	}
	return nil
}

func noShell(err error, c *card.Card) error {
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		learn(c, card.FactRoot, "no")
		return nil
	}
	return err
}

// parseGetprop reads the lines "[name]: [value]".
func parseGetprop(text string) map[string]string {
	props := map[string]string{}
	for line := range strings.Lines(text) {
		k, v, ok := strings.Cut(strings.TrimSpace(line), "]: [")
		if ok && strings.HasPrefix(k, "[") {
			props[k[1:]] = strings.TrimSuffix(v, "]")
		}
	}
	return props
}

// readBlock reads the first n bytes of a partition through a root shell; nil
// when the phone has no such partition or does not let it be read.
func readBlock(ctx context.Context, l *Link, partition string, n int) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, shellLimit)
	defer cancel()
	out, err := l.ADB.Shell(ctx, fmt.Sprintf("dd if=/dev/block/by-name/%s bs=%d count=1 2>/dev/null", partition, n))
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		return nil, nil
	}
	if err != nil || len(out.Stdout) != n || out.Code > 0 {
		return nil, err
	}
	return out.Stdout, nil
}

// readRoot reads what only root can: slot control and the state of the data.
func readRoot(ctx context.Context, l *Link, c *card.Card) error {
	misc, err := readBlock(ctx, l, "misc", bcb.Size)
	if err != nil {
		return err
	}
	ctl, cerr := bcb.ParseControl(misc)
	if cerr == nil && len(ctl.Slots) > 1 {
		learn(c, card.FactSlots, fmt.Sprint(len(ctl.Slots)))
		for i, s := range ctl.Slots {
			name := string(rune('a' + i))
			learn(c, card.FactBootable+name, map[bool]string{true: "yes", false: "no"}[s.Bootable()])
			learn(c, card.FactGood+name, map[bool]string{true: "yes", false: "no"}[s.Successful])
			learn(c, card.FactTries+name, fmt.Sprint(s.TriesLeft))
		}
		if n := ctl.Next(); n >= 0 {
			learn(c, card.FactNext, string(rune('a'+n)))
		}
	} else if c.Value(card.FactStarted) != "" {
		// Phones that keep their slots elsewhere have the platform's tool.
		text, err := shell(ctx, l, "bootctl get-active-boot-slot")
		if err != nil {
			return err
		}
		if n := strings.TrimSpace(text); len(n) == 1 && n >= "0" && n <= "3" {
			learn(c, card.FactNext, string(rune('a'+n[0]-'0')))
		}
	}
	data, err := dataState(ctx, l)
	learn(c, card.FactData, data)
	return err
}

// dataState looks at the start of userdata: never written, freshly formatted,
// encrypted as a whole, or (empty) something that can't be judged from there,
// as file by file encryption can't.
func dataState(ctx context.Context, l *Link) (string, error) {
	const look = 8192
	b, err := readBlock(ctx, l, "userdata", look)
	if err != nil || b == nil {
		return "", err
	}
	if image.IsZero(b) {
		return card.DataFormatted, nil
	}
	le := binary.LittleEndian
	if ext4.IsMagic(b) {
		// s_mtime and s_mnt_count (Documentation/filesystems/ext4, super block):
		// zero until the first mount.
		sb := b[ext4.SuperblockOffset:]
		if le.Uint32(sb[44:]) == 0 && le.Uint16(sb[52:]) == 0 {
			return card.DataFormatted, nil
		}
		return "", nil
	}
	const f2fsMagic = 0xf2f52010 // Documentation/filesystems/f2fs.rst
	if le.Uint32(b[1024:]) == f2fsMagic {
		return "", nil
	}
	return card.DataEncrypted, nil
}
