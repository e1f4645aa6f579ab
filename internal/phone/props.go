package phone

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/place"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// readShell reads what a shell tells. A phone without one is no error.
func (s *Session) readShell(ctx context.Context) error {
	props, err := s.Shell().Props(ctx)
	var unread *shell.UnreadError
	if errors.As(err, &unread) { // what it is stays unknown; the rest is asked all the same
		s.Obs.Say(say.Note, "%v", err)
	} else if err != nil {
		return s.noShell(err)
	}
	s.learnProps(props)
	s.Card.Conclude() // what is read next goes by the slots
	text, err := s.Shell().Charge(ctx)
	if err != nil && !shell.Unknown(err) {
		return err
	}
	if n, ok := percent(text); ok {
		s.learn(card.FactPercent, n)
	}
	user, err := s.Shell().User(ctx)
	switch {
	case shell.Unknown(err):
		return nil // whether it is root's stays unknown
	case err != nil:
		return err
	}
	s.learn(card.FactRoot, card.YesNo(user == 0))
	if user == 0 {
		return s.readRoot(ctx)
	}
	return nil
}

// learnProps learns from the properties of a system or recovery.
func (s *Session) learnProps(props map[string]string) {
	s.learn(card.FactProduct, ident.PhoneOf(props))
	for _, k := range []string{"ro.serialno", "ro.boot.serialno"} {
		s.learn(card.FactSerial, props[k])
	}
	s.learn(card.FactStarted, slotLetter(props["ro.boot.slot_suffix"]))
	switch {
	case props["ro.boot.flash.locked"] == "0" || props["ro.boot.verifiedbootstate"] == "orange":
		s.learn(card.FactUnlocked, "yes")
	case props["ro.boot.flash.locked"] == "1":
		s.learn(card.FactUnlocked, "no")
	}
	s.learn(card.FactVerified, props["ro.boot.verifiedbootstate"])
	s.learn(card.FactVerity, props["ro.boot.veritymode"])
	s.learn(card.FactCPU, props["ro.product.cpu.abi"])
	s.learn(card.FactCPUs, props["ro.product.cpu.abilist"])
	s.learn(card.FactBootloader, props["ro.bootloader"])
	if s.Mode() == card.Recovery {
		s.learn(card.FactRecovery, props["ro.build.display.id"])
	} else {
		s.learnSystem(props)
	}
}

// learnSystem learns what a running system's properties report.
func (s *Session) learnSystem(props map[string]string) {
	s.learn(card.FactVersion, props["ro.build.display.id"])
	s.learn(card.FactBuild,
		ident.BuildOf(map[string]string{
			"ro.build.version.incremental": props["ro.build.version.incremental"]}))
	s.learn(card.FactDebugging, "on")
	s.learn(card.FactAPI, props["ro.build.version.sdk"])
	started := s.Card.Value(card.FactStarted)
	place.LearnRelease(props, started, s.learn)
	s.learn(card.FactBooted, card.YesNo(props["sys.boot_completed"] == "1"))
	if props["sys.boot_completed"] == "1" {
		s.learn(card.FactCameUp.Of(started), "yes")
		s.Card.Set(card.FactForeign.Of(started), card.Fact{}) // it uses the data
	}
	s.learn(card.FactFirstAPI, props["ro.product.first_api_level"])
	s.learn(card.FactVNDK, props["ro.vndk.version"])
	s.learn(card.FactRadio, props["gsm.version.baseband"])
	if treble, ok := props["ro.treble.enabled"]; ok {
		s.learn(card.FactTreble, card.YesNo(treble == "true"))
	}
	switch props["ro.crypto.state"] {
	case "encrypted":
		s.learn(card.FactData, card.DataEncrypted)
		s.learn(card.FactCrypto, map[string]string{"file": card.CryptoFile,
			"block": card.CryptoWhole}[props["ro.crypto.type"]])
	case "unencrypted":
		s.learn(card.FactData, card.DataPlain)
		s.learn(card.FactCrypto, card.CryptoNone)
	}
}

// noShell takes a shell that was refused for what it is: a phone that tells nothing, and that can
// still be restarted.
func (s *Session) noShell(err error) error {
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		s.learn(card.FactRoot, "no")
		return nil
	}
	return s.unread(err)
}

// readRoot reads what only root can: slot control and the state of the data.
func (s *Session) readRoot(ctx context.Context) error {
	if err := s.learnDevices(ctx); err != nil { // an unknown phone is known by its partitions
		return err
	}
	misc, err := s.ReadBlock(ctx, "misc", bcb.Size)
	if err != nil {
		return err
	}
	s.learnMessage(misc)
	ctl, cerr := bcb.ParseControl(misc)
	if cerr == nil && len(ctl.Slots) > 1 {
		s.learn(card.FactSlots, fmt.Sprint(len(ctl.Slots)))
		for i, slot := range ctl.Slots {
			name := string(rune('a' + i))
			s.learn(card.FactBootable.Of(name), card.YesNo(slot.Bootable()))
			s.learn(card.FactGood.Of(name), card.YesNo(slot.Successful))
			s.learn(card.FactTries.Of(name), fmt.Sprint(slot.TriesLeft))
		}
		if n := ctl.Next(); n >= 0 {
			s.learn(card.FactNext, string(rune('a'+n)))
		}
	} else if s.Card.Value(card.FactStarted) != "" {
		// Phones that keep their slots elsewhere have the platform's tool.
		n, err := s.Shell().ActiveSlot(ctx)
		if err != nil && !shell.Unknown(err) {
			return err
		}
		if n >= 0 {
			s.learn(card.FactNext, string(rune('a'+n)))
		}
	}
	merge, err := s.readAt(ctx, "misc", bcb.MergeOffset, bcb.MergeSize)
	if err != nil {
		return err
	}
	if state, perr := bcb.ParseMerge(merge); perr == nil {
		s.learn(card.FactSnapshot, state)
	}
	data, err := s.DataState(ctx)
	s.learn(card.FactData, data)
	if err != nil {
		return err
	}
	if data == card.DataPlain {
		s.learn(card.FactCrypto, card.CryptoNone)
	}
	return s.readSuper(ctx)
}

// learnMessage learns what a system that gave up left for the recovery in the bootloader message.
func (s *Session) learnMessage(misc []byte) {
	m, err := bcb.ParseMessage(misc)
	if err != nil {
		return
	}
	value := "none"
	if m.GaveUp() {
		value = strings.Join(m.Recovery[1:], " ")
	}
	s.learn(card.FactReason, value)
}

// superHead is how much of super is read to find its metadata: the geometries
// and the first slots of the sizes phones have (liblp's default is 64 KiB a
// slot), in bytes.
const superHead = 512 << 10

// readSuper reads the sizes of the logical partitions and of their groups.
func (s *Session) readSuper(ctx context.Context) error {
	b, err := s.ReadBlock(ctx, "super", superHead)
	if err != nil || b == nil {
		return err
	}
	slot := 0
	if s.Card.Value(card.FactStarted) == "b" {
		slot = 1
	}
	m, perr := super.Parse(bytes.NewReader(b), int64(len(b)), slot)
	if perr != nil {
		return nil // it stays unknown, which is no fault of the phone
	}
	files.LearnSuper(m, s.learn)
	return nil
}

// readFirmware reads the manufacturer's firmware on both slots through a root shell, so that
// it can be compared.
func (s *Session) readFirmware(ctx context.Context) error {
	if s.Model() == nil || s.Card.Value(card.FactRoot) != "yes" {
		return nil
	}
	for _, base := range s.Model().Firmware {
		for _, slot := range []string{"a", "b"} {
			p := card.At(base, slot)
			sum, err := s.DigestOf(ctx, p)
			if err != nil && !shell.Unknown(err) && !errors.Is(err, wire.ErrNoPartition) {
				return err
			}
			s.learn(card.FactDigest.Of(p), sum)
		}
	}
	return nil
}

// readTrusted reads which keys the running recovery trusts, through its shell.
// A recovery that has none trusts "none"; where it can't be read nothing is learnt.
func (s *Session) readTrusted(ctx context.Context) error {
	if !s.RootRecovery() {
		return nil
	}
	trusts := "none"
	for _, name := range zipsig.KeysFiles {
		b, _, err := s.Shell().File(ctx, "/"+name)
		if err != nil {
			return s.unread(err)
		}
		if trusts = zipsig.Trusted(map[string][]byte{name: b}); trusts != "none" {
			break
		}
	}
	s.learn(card.FactTrusts, trusts)
	return nil
}

// readOwner asks a system what of its owner would be in the way: accounts and a
// lock of the screen. What it does not tell, and in other modes, stays unknown.
func (s *Session) readOwner(ctx context.Context) error {
	if s.Mode() != card.System {
		return nil
	}
	total, told, err := s.Shell().Accounts(ctx)
	if err != nil {
		return s.noShell(err)
	}
	if told {
		s.learn(card.FactAccounts, fmt.Sprint(total))
	}
	text, err := s.Shell().LockDisabled(ctx)
	if err != nil {
		return s.noShell(err)
	}
	if yes, ok := card.ParseYes(text); ok {
		s.learn(card.FactLock, card.YesNo(!yes))
	}
	return nil
}

// unread takes an answer that can't be read for a fact that stays unknown.
func (s *Session) unread(err error) error {
	if shell.Unknown(err) {
		return nil
	}
	return err
}
