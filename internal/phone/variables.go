package phone

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/phone/wire"
)

// batteryVariables are the names under which bootloaders tell a percentage.
var batteryVariables = []string{"battery-soc", "battery-level", "battery-capacity", "battery-percentage"}

// ofPartition reports whether a variable is one of a partition, whose name is behind the colon.
func ofPartition(name string) (what, partition string, ok bool) {
	what, partition, ok = strings.Cut(name, ":")
	return what, partition, ok && slices.Contains([]string{"partition-size", "partition-type", "is-logical",
		"has-slot"}, what)
}

// listing is the variables a phone listed, as they can be asked.
func (s *Session) listing(ctx context.Context, c wire.Lister, listed map[string]string) *variables {
	v := &variables{ctx: ctx, c: c, listed: make(map[string]string, len(listed)), spell: s.spell,
		unknown: map[string]bool{}}
	for _, name := range slices.Sorted(maps.Keys(listed)) { // a name in small letters comes last, and counts
		what, part, ok := ofPartition(name)
		if !ok {
			v.listed[name] = listed[name]
		} else if p, ok := s.told(part); ok {
			v.listed[what+":"+p.String()] = listed[name]
		}
	}
	return v
}

func (v *variables) get(name string) string {
	if s, ok := v.listed[name]; ok {
		return s
	}
	if v.last != nil || v.earlier[name] {
		return ""
	}
	asked := name
	what, part, ofOne := ofPartition(name)
	if ofOne {
		asked = what + ":" + v.spell(part)
	}
	s, unknown, err := v.c.Variable(v.ctx, asked)
	v.last = err
	v.listed[name] = s
	if unknown && !ofOne {
		v.unknown[name] = true
	}
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

// unasked gives the variables that this version of the bootloader was found not to know, so that it is not
// asked for them each time. past is what is known of the phone by the number it is listed with.
func unasked(version string, past *card.Card) map[string]bool {
	list := map[string]bool{}
	if version == "" || past.Value(card.FactBootloader) != version {
		return list
	}
	for _, i := range past.IDs() {
		if i.Name == card.Name(card.FactVariable) && past.Value(i) == "no" {
			list[i.Key] = true
		}
	}
	return list
}

func (s *Session) readVariables() error {
	v := s.vars
	if s.Serial != "" && s.Mode() == card.Bootloader {
		past, err := s.recall(s.Serial)
		if err != nil {
			return err
		}
		v.earlier = unasked(v.get("version-bootloader"), past)
	}
	s.learn(card.FactProduct, v.get("product"))
	s.learn(card.FactSerial, v.get("serialno"))
	s.learnYes(card.FactUnlocked, v.get("unlocked"))
	if n, ok := card.ParseSize(v.get("max-download-size")); ok && n > 0 {
		s.learn(card.FactDownload, fmt.Sprint(n))
	}
	s.learnYes(card.FactCharged, v.get("battery-soc-ok"))
	if mv, ok := card.ParseMillivolts(v.get("battery-voltage")); ok {
		s.learn(card.FactMillivolts, fmt.Sprint(mv))
	}
	for _, name := range batteryVariables {
		if n, ok := percent(v.get(name)); ok {
			s.learn(card.FactPercent, n)
			break
		}
	}
	s.learn(card.FactBootloader, v.get("version-bootloader"))
	s.learn(card.FactRadio, v.get("version-baseband"))
	s.learn(card.FactVariant, v.first("variant", "hw-variant", "hw-revision"))
	s.readSlots(v.get)
	// What only newer ones have is asked for only where it was listed, or in
	// userspace, so that old bootloaders are not asked twenty questions.
	for name, fact := range map[string]card.Which{"snapshot-update-status": card.FactSnapshot,
		"security-patch-level": card.FactPatch.Of(s.Card.Value(card.FactNext)), "cpu-abi": card.FactCPU,
		"version-vndk": card.FactVNDK, "first-api-level": card.FactFirstAPI} {
		if text, ok := v.listed[name]; ok || s.Mode() == card.Fastbootd {
			if !ok {
				text = v.get(name)
			}
			s.learn(fact, text)
		}
	}
	if s.Mode() == card.Fastbootd {
		s.learn(card.FactUserspace, "yes")
		s.learnYes(card.FactTreble, v.get("treble-enabled"))
		if n, ok := card.ParseSize(v.get("max-fetch-size")); ok && n > 0 {
			s.learn(card.FactFetch, fmt.Sprint(n))
		}
	}
	s.readTable()
	if s.Mode() == card.Bootloader {
		for name := range v.unknown {
			s.learn(card.FactVariable.Of(name), "no")
		}
	}
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
func (s *Session) readTable() {
	for name, value := range s.vars.listed {
		name, part, _ := strings.Cut(name, ":")
		switch name {
		case "partition-size":
			if n, ok := card.ParseSize(value); ok {
				s.learn(card.FactSize.Of(card.Part(part)), fmt.Sprint(n))
			}
		case "partition-type":
			s.learn(card.FactType.Of(card.Part(part)), value)
		case "is-logical":
			s.learnYes(card.FactLogical.Of(card.Part(part)), value)
		case "has-slot":
			s.learnYes(card.FactSlotted.Of(card.Part(part)), value)
		}
	}
	for name := range s.vars.listed {
		base, is := strings.CutPrefix(name, "has-slot:")
		if no := card.FactSlotted.Of(card.At(base, "")); is && s.Card.Value(no) == "no" && s.onSlots(base) {
			s.learn(no, "yes")
		}
	}
}

// onSlots reports whether the phone gives a partition a size with a slot's suffix and none without, whatever
// it says of has-slot.
func (s *Session) onSlots(base string) bool {
	size := func(slot string) string { return s.vars.get("partition-size:" + card.At(base, slot).String()) }
	return size("") == "" && size("a") != ""
}

func (s *Session) readSlots(get func(string) string) {
	current := get("current-slot")
	count, err := strconv.ParseUint(strings.TrimSpace(get("slot-count")), 0, 8) // also 0x2
	n := int(count)
	if err != nil {
		if current == "" {
			return // an old bootloader: the model file may know
		}
		n = 2
	}
	s.learn(card.FactSlots, fmt.Sprint(n))
	if n < 2 {
		return
	}
	s.learn(card.FactNext, slotLetter(current))
	slots, _ := s.Card.Slots()
	for _, slot := range slots {
		if yes, ok := card.ParseYes(get("slot-unbootable:" + slot)); ok {
			s.learn(card.FactBootable.Of(slot), card.YesNo(!yes))
		}
		s.learnYes(card.FactGood.Of(slot), get("slot-successful:"+slot))
		s.learn(card.FactTries.Of(slot), get("slot-retry-count:"+slot))
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

// readPartition asks for a partition's slots and sizes where the list of variables did
// not tell them.
func (s *Session) readPartition(base string) error {
	v, c := s.vars, s.Card
	list := []card.Partition{card.At(base, "")}
	slotted, ok := card.ParseYes(v.get("has-slot:" + base))
	if s.Mode() == card.Bootloader && place.Logical(c, base) {
		ok = false // it does not know the partition, and some say "no" then
	}
	if slots, known := c.Slots(); ok && !slotted && known && len(slots) > 1 {
		slotted = s.onSlots(base)
	}
	if ok {
		s.learn(card.FactSlotted.Of(card.At(base, "")), card.YesNo(slotted))
	}
	_, plain := c.Number(card.FactSize.Of(card.At(base, "")))
	if slots, known := c.Slots(); known && len(slots) > 0 && (slotted || !ok) && (slotted || !plain) {
		list = nil
		for _, slot := range slots {
			list = append(list, card.At(base, slot))
		}
	}
	for _, p := range list {
		text := v.get("partition-size:" + p.String())
		if n, parsed := card.ParseSize(text); parsed {
			s.learn(card.FactSize.Of(p), fmt.Sprint(n))
			continue
		}
		if text != "" {
			continue // it is there, and how large it is can't be read
		}
		// A bootloader that tells the size of other partitions and not of this
		// one says that there is none; logical ones it never knows.
		if v.first("partition-size:userdata", "partition-size:boot", "partition-size:boot_a") != "" &&
			!place.Logical(c, base) {
			s.learn(card.FactSize.Of(p), card.Nothing)
		}
	}
	return v.last
}

// Variables are the phone's fastboot variables by name, as far as it told them; nil in
// other modes.
func (s *Session) Variables(names ...string) map[string]string {
	if s.vars == nil {
		return nil
	}
	for _, n := range names {
		s.vars.get(n)
	}
	return s.vars.listed
}

// unlockAbility is the published command that asks whether the phone may be
// unlocked; it changes nothing.
const unlockAbility = "flashing get_unlock_ability"

// readUnlockAbility asks a bootloader whether it may be unlocked.
func (s *Session) readUnlockAbility(ctx context.Context) error {
	lines, err := s.Command(ctx, unlockAbility, fastboot.LimitQuick)
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, line := range lines {
		if _, v, ok := strings.Cut(line, ":"); ok {
			line = v
		}
		s.learnYes(card.FactMayUnlock, line)
	}
	return nil
}
