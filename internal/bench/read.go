package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
)

// Read reads what the phone tells in the mode it is in, and adds what the
// journal and the model file know. It never restarts or changes the phone.
func (p *Phone) Read(ctx context.Context, l *Link) (*card.Card, error) {
	c := &card.Card{}
	c.Set(card.FactMode, card.Fact{Value: string(l.Mode), Evidence: card.Read, Mode: l.Mode, At: now()})
	var err error
	switch {
	case l.FB != nil:
		err = readFastboot(ctx, l, c)
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
	if l.Mode != card.Recovery && l.Mode != card.Sideload {
		c.Set(card.FactTemporary, card.Fact{})
	}
	if other := past.Get(card.FactSerial); other.Known() && c.Get(card.FactSerial).Evidence == card.Read && other.Value != c.Value(card.FactSerial) {
		c.Set(card.FactOtherSerial, other)
	}
	p.model.Learn(c)
	p.learnBase(ctx, l, c)
	p.learnHeld(c)
	if c.Value(card.FactSerial) == "" && p.Serial != "" {
		c.Learn(card.FactSerial, p.Serial, card.Model)
	}
	return c, nil
}

// learnHeld turns what runs into what its slot holds. A recovery that was only
// tried is on no slot.
func (p *Phone) learnHeld(c *card.Card) {
	started := c.Get(card.FactStarted)
	if slots, known := c.Slots(); !known || len(slots) > 0 && started.Evidence != card.Read {
		return
	}
	if f := c.Get(card.FactVersion); f.Evidence == card.Read {
		if patch := c.Value(card.FactPatch); patch != "" {
			f.Value += ", patch level " + patch
		}
		c.Set(card.FactHolds+plan.Suffixed("system", started.Value), f)
	}
	tried, _ := c.Yes(card.FactTemporary)
	home := plan.RecoveryHome(c, p.model).Partition
	// What Jar Lid wrote there itself is kept: it is compared with what runs.
	if f := c.Get(card.FactRecovery); f.Evidence == card.Read && !tried && home != "" && !c.Get(card.FactHolds+plan.Suffixed(home, started.Value)).Known() {
		c.Set(card.FactHolds+plan.Suffixed(home, started.Value), f)
	}
}

// learnBase reads the version a model file's base is about.
func (p *Phone) learnBase(ctx context.Context, l *Link, c *card.Card) {
	if p.model == nil || p.model.Base == nil {
		return
	}
	switch {
	case l.vars != nil && l.Mode == card.Bootloader:
		learn(c, card.FactBase, l.vars.get(p.model.Base.Variable))
	case p.model.Base.Variable == "version-baseband" && c.Get(card.FactRadio).Evidence == card.Read:
		c.Set(card.FactBase, c.Get(card.FactRadio))
	}
}

// learn puts a fact the phone told just now.
func learn(c *card.Card, name, value string) {
	if value != "" {
		c.Set(name, card.Fact{Value: value, Evidence: card.Read, Mode: c.Mode(), At: now()})
	}
}

func learnYes(c *card.Card, name, word string) {
	if yes, ok := card.ParseYes(word); ok {
		learn(c, name, card.YesNo(yes))
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

// variables answers for one phone's variables: those it listed, and those it
// tells only when asked.
type variables struct {
	ctx    context.Context
	l      *Link
	listed map[string]string
	last   error
}

func (v *variables) get(name string) string {
	if s, ok := v.listed[name]; ok {
		return s
	}
	if v.last != nil {
		return ""
	}
	s, _, err := v.l.FB.GetVar(v.ctx, name)
	v.last = err
	v.listed[name] = s
	return s
}

// first gives the first of several names that tells something.
func (v *variables) first(names ...string) string {
	for _, n := range names {
		if s := v.get(n); s != "" {
			return s
		}
	}
	return ""
}

func readFastboot(ctx context.Context, l *Link, c *card.Card) error {
	listed, err := l.FB.Variables(ctx)
	if err != nil {
		return err
	}
	v := &variables{ctx: ctx, l: l, listed: listed}
	l.vars = v
	learn(c, card.FactProduct, v.get("product"))
	learn(c, card.FactSerial, v.get("serialno"))
	learnYes(c, card.FactUnlocked, v.get("unlocked"))
	if n, ok := card.ParseSize(v.get("max-download-size")); ok && n > 0 {
		learn(c, card.FactDownload, fmt.Sprint(n))
	}
	learnYes(c, card.FactCharged, v.get("battery-soc-ok"))
	if mv, ok := card.ParseMillivolts(v.get("battery-voltage")); ok {
		learn(c, card.FactVolts, fmt.Sprint(mv))
	}
	for _, name := range batteryVariables {
		if n, ok := percent(v.get(name)); ok {
			learn(c, card.FactPercent, n)
			break
		}
	}
	learn(c, card.FactBootloader, v.get("version-bootloader"))
	learn(c, card.FactRadio, v.get("version-baseband"))
	learn(c, card.FactVariant, v.first("variant", "hw-variant", "hw-revision"))
	readSlots(c, v.get)
	// What only newer ones have is asked for only where it was listed, or in
	// userspace, so that old bootloaders are not asked twenty questions.
	for name, fact := range map[string]string{"snapshot-update-status": card.FactSnapshot, "security-patch-level": card.FactPatch, "cpu-abi": card.FactCPU,
		"version-vndk": card.FactVNDK, "first-api-level": card.FactFirstAPI} {
		if s, ok := listed[name]; ok || l.Mode == card.Fastbootd {
			if !ok {
				s = v.get(name)
			}
			learn(c, fact, s)
		}
	}
	if l.Mode == card.Fastbootd {
		learn(c, card.FactUserspace, "yes")
		learnYes(c, card.FactTreble, v.get("treble-enabled"))
		if n, ok := card.ParseSize(v.get("max-fetch-size")); ok && n > 0 {
			learn(c, card.FactFetch, fmt.Sprint(n))
		}
	}
	readTable(c, listed)
	return v.last
}

func percent(text string) (string, bool) {
	var n int
	if _, err := fmt.Sscanf(text, "%d", &n); err != nil || n < 0 || n > 100 {
		return "", false
	}
	return fmt.Sprint(n), true
}

// readTable takes the partition table out of a list of variables.
func readTable(c *card.Card, listed map[string]string) {
	for name, value := range listed {
		name, part, _ := strings.Cut(name, ":")
		switch name {
		case "partition-size":
			if n, ok := card.ParseSize(value); ok {
				learn(c, card.FactSize+part, fmt.Sprint(n))
			}
		case "partition-type":
			learn(c, card.FactType+part, value)
		case "is-logical":
			learnYes(c, card.FactLogical+part, value)
		case "has-slot":
			learnYes(c, card.FactSlotted+part, value)
		}
	}
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
			learn(c, card.FactBootable+s, card.YesNo(!yes))
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

// ReadPartition asks for a partition's slots and sizes where the list of
// variables did not tell them. In modes without fastboot, and of a saved card, it does
// nothing.
func (p *Phone) ReadPartition(c *card.Card, l *Link, base string) error {
	if l == nil || l.FB == nil {
		return nil
	}
	v := l.vars
	names := []string{base}
	slotted, ok := card.ParseYes(v.get("has-slot:" + base))
	if ok {
		learn(c, card.FactSlotted+base, card.YesNo(slotted))
	}
	if slots, known := c.Slots(); known && len(slots) > 0 && (slotted || !ok) {
		names = nil
		for _, s := range slots {
			names = append(names, plan.Suffixed(base, s))
		}
		if _, plain := c.Number(card.FactSize + base); plain && !slotted {
			names = []string{base}
		}
	}
	for _, name := range names {
		if n, parsed := card.ParseSize(v.get("partition-size:" + name)); parsed {
			learn(c, card.FactSize+name, fmt.Sprint(n))
			continue
		}
		// A bootloader that tells the size of other partitions and not of this
		// one says that there is none; logical ones it never knows.
		if v.first("partition-size:userdata", "partition-size:boot", "partition-size:boot_a") != "" && !plan.Logical(c, base) {
			learn(c, card.FactSize+name, plan.Nothing)
		}
	}
	return v.last
}

// unlockAbility is the published command that asks whether the phone may be
// unlocked; it changes nothing.
const unlockAbility = "flashing get_unlock_ability"

// ReadUnlockAbility asks a bootloader whether it may be unlocked.
func (p *Phone) ReadUnlockAbility(ctx context.Context, l *Link, c *card.Card) error {
	if l == nil || l.Mode != card.Bootloader {
		return nil
	}
	a, err := l.FB.Command(ctx, unlockAbility, fastboot.LimitQuick)
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, line := range append(a.Lines, a.Text) {
		if _, v, ok := strings.Cut(line, ":"); ok {
			line = v
		}
		if yes, ok := card.ParseYes(line); ok {
			learn(c, card.FactMayUnlock, card.YesNo(yes))
		}
	}
	return nil
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
	learn(c, card.FactVerified, props["ro.boot.verifiedbootstate"])
	learn(c, card.FactVerity, props["ro.boot.veritymode"])
	learn(c, card.FactCPU, props["ro.product.cpu.abi"])
	learn(c, card.FactCPUs, props["ro.product.cpu.abilist"])
	learn(c, card.FactBootloader, props["ro.bootloader"])
	build := props["ro.build.display.id"]
	if l.Mode == card.Recovery {
		learn(c, card.FactRecovery, build)
	} else {
		learn(c, card.FactVersion, build)
		learn(c, card.FactBuild, ident.BuildOf(map[string]string{"ro.build.version.incremental": props["ro.build.version.incremental"]}))
		learn(c, card.FactDebugging, "on")
		learn(c, card.FactPatch, props["ro.build.version.security_patch"])
		learn(c, card.FactAPI, props["ro.build.version.sdk"])
		learn(c, card.FactRelease, props["ro.build.version.release"])
		learn(c, card.FactFirstAPI, props["ro.product.first_api_level"])
		learn(c, card.FactVNDK, props["ro.vndk.version"])
		learn(c, card.FactRadio, props["gsm.version.baseband"])
		if treble, ok := props["ro.treble.enabled"]; ok {
			learn(c, card.FactTreble, card.YesNo(treble == "true"))
		}
		switch props["ro.crypto.state"] {
		case "encrypted":
			learn(c, card.FactData, card.DataEncrypted)
			learn(c, card.FactCrypto, map[string]string{"file": card.CryptoFile, "block": card.CryptoWhole}[props["ro.crypto.type"]])
		case "unencrypted":
			learn(c, card.FactData, card.DataPlain)
			learn(c, card.FactCrypto, card.CryptoNone)
		}
	}
	if text, err := shell(ctx, l, "cat /sys/class/power_supply/battery/capacity"); err == nil {
		if n, ok := percent(text); ok {
			learn(c, card.FactPercent, n)
		}
	}
	id, err := shell(ctx, l, "id -u")
	if err != nil {
		return err
	}
	root := strings.TrimSpace(id) == "0"
	learn(c, card.FactRoot, card.YesNo(root))
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
	return readAt(ctx, l, partition, 0, n)
}

// readAt reads n bytes at a multiple of n.
func readAt(ctx context.Context, l *Link, partition string, off int64, n int) ([]byte, error) {
	return readDeviceAt(ctx, l, devicePath+partition, off, n)
}

// rootRecovery tells whether a recovery with a root shell is at the other end.
func rootRecovery(l *Link, c *card.Card) bool {
	return l != nil && l.Mode == card.Recovery && c.Value(card.FactRoot) == "yes"
}

// readDeviceAt reads n bytes at a multiple of n; nil where that can't be read.
func readDeviceAt(ctx context.Context, l *Link, dev string, off int64, n int) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, shellLimit)
	defer cancel()
	out, err := l.ADB.Shell(ctx, fmt.Sprintf("dd if=%s bs=%d skip=%d count=1 2>/dev/null", dev, n, off/int64(n)))
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
			learn(c, card.FactBootable+name, card.YesNo(s.Bootable()))
			learn(c, card.FactGood+name, card.YesNo(s.Successful))
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
	merge, err := readAt(ctx, l, "misc", bcb.MergeOffset, bcb.MergeSize)
	if err != nil {
		return err
	}
	if state, perr := bcb.ParseMerge(merge); perr == nil {
		learn(c, card.FactSnapshot, state)
	}
	data, err := dataState(ctx, l)
	learn(c, card.FactData, data)
	if err != nil {
		return err
	}
	if data == card.DataPlain {
		learn(c, card.FactCrypto, card.CryptoNone)
	}
	return readSuper(ctx, l, c)
}

// superHead is how much of super is read to find its metadata: the geometries
// and the first slots of the sizes phones have (liblp's default is 64 KiB a
// slot), in bytes.
const superHead = 512 << 10

// readSuper reads the sizes of the logical partitions and of their groups.
func readSuper(ctx context.Context, l *Link, c *card.Card) error {
	b, err := readBlock(ctx, l, "super", superHead)
	if err != nil || b == nil {
		return err
	}
	slot := 0
	if c.Value(card.FactStarted) == "b" {
		slot = 1
	}
	m, perr := super.Parse(bytes.NewReader(b), int64(len(b)), slot)
	if perr != nil {
		return nil // it can't be told, which is no fault of the phone
	}
	learnSuper(m, func(name, value string) { learn(c, name, value) })
	return nil
}

// learnSuper takes what the metadata of super says of room.
func learnSuper(m *super.Metadata, learn func(name, value string)) {
	for i := range m.Partitions {
		p := &m.Partitions[i]
		learn(card.FactSize+p.Name, fmt.Sprint(p.Size()))
		learn(card.FactLogical+p.Name, "yes")
		for _, g := range m.Groups {
			if g.Name == p.Group && g.MaxSize > 0 {
				learn(card.FactGroupMax, fmt.Sprint(g.MaxSize))
			}
		}
	}
	if len(m.Devices) == 1 {
		learn(card.FactSize+"super", fmt.Sprint(m.Devices[0].Size))
		learn(card.FactSuperFree, fmt.Sprint(m.Free()))
	}
}

// ReadFirmware reads the maker's firmware on both slots through a root shell,
// so that it can be compared. Elsewhere it does nothing.
func (p *Phone) ReadFirmware(ctx context.Context, l *Link, c *card.Card) error {
	if l == nil || p.model == nil || c.Value(card.FactRoot) != "yes" {
		return nil
	}
	for _, part := range p.model.Firmware {
		for _, slot := range []string{"a", "b"} {
			name := plan.Suffixed(part, slot)
			text, err := shell(ctx, l, "sha256sum /dev/block/by-name/"+name)
			if err != nil {
				return err
			}
			if sum, _, _ := strings.Cut(text, " "); len(sum) == 64 {
				learn(c, card.FactDigest+name, sum)
			}
		}
	}
	return nil
}
