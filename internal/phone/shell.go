package phone

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
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/place"
	"jarlid/internal/files"
	"jarlid/internal/link"
)

// shellLimit is how long one reading command in the phone's shell may take.
const shellLimit = 20 * time.Second

// Text runs a command that only reads, and gives what it prints.
func (s *Session) Text(ctx context.Context, command string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, shellLimit)
	defer cancel()
	out, err := s.Shell(ctx, command)
	return strings.TrimRight(strings.ReplaceAll(string(out.Stdout), "\r\n", "\n"), "\n"), err
}

// readShell reads what a shell tells. A phone without one is no error.
func (s *Session) readShell(ctx context.Context) error {
	text, err := s.Text(ctx, "getprop")
	if err != nil {
		return s.noShell(err)
	}
	props := parseGetprop(text)
	s.learn(card.FactProduct, ident.DeviceOf(props))
	for _, k := range []string{"ro.serialno", "ro.boot.serialno"} {
		s.learn(card.FactSerial, props[k])
	}
	s.learn(card.FactStarted, slotLetter(props["ro.boot.slot_suffix"]))
	if s.Card.Value(card.FactStarted) != "" {
		s.learn(card.FactSlots, "2")
	}
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
	build := props["ro.build.display.id"]
	if s.Mode() == card.Recovery {
		s.learn(card.FactRecovery, build)
	} else {
		s.learn(card.FactVersion, build)
		s.learn(card.FactBuild,
			ident.BuildOf(map[string]string{
				"ro.build.version.incremental": props["ro.build.version.incremental"]}))
		s.learn(card.FactDebugging, "on")
		s.learn(card.FactPatch, props["ro.build.version.security_patch"])
		s.learn(card.FactAPI, props["ro.build.version.sdk"])
		started := s.Card.Value(card.FactStarted)
		place.LearnRelease(props, started, s.learn)
		s.learn(card.FactBooted, card.YesNo(props["sys.boot_completed"] == "1"))
		if props["sys.boot_completed"] == "1" {
			s.learn(card.FactCameUp.Of(started), "yes")
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
	if text, err := s.Text(ctx, "cat /sys/class/power_supply/battery/capacity"); err == nil {
		if n, ok := percent(text); ok {
			s.learn(card.FactPercent, n)
		}
	}
	id, err := s.Text(ctx, "id -u")
	if err != nil {
		return err
	}
	root := strings.TrimSpace(id) == "0"
	s.learn(card.FactRoot, card.YesNo(root))
	if root {
		return s.readRoot(ctx)
	}
	return nil
}

// noShell takes a shell that was refused for what it is: a phone that tells nothing, and that can
// still be restarted.
func (s *Session) noShell(err error) error {
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		s.learn(card.FactRoot, "no")
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

// ReadBlock reads the first n bytes of a partition through a root shell; nil
// when the phone has no such partition or does not let it be read.
func (s *Session) ReadBlock(ctx context.Context, partition string, n int) ([]byte, error) {
	return s.readAt(ctx, partition, 0, n)
}

// readAt reads n bytes at a multiple of n.
func (s *Session) readAt(ctx context.Context, partition string, off int64, n int) ([]byte, error) {
	dev, err := s.Device(ctx, card.Part(partition), false)
	if err != nil {
		return nil, err
	}
	return s.readDeviceAt(ctx, dev, off, n)
}

// readDeviceAt reads n bytes at a multiple of n; nil where that can't be read.
func (s *Session) readDeviceAt(ctx context.Context, dev string, off int64, n int) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, shellLimit)
	defer cancel()
	out, err := s.Shell(ctx, fmt.Sprintf("dd if=%s bs=%d skip=%d count=1 2>/dev/null", dev, n, off/int64(n)))
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
func (s *Session) readRoot(ctx context.Context) error {
	misc, err := s.ReadBlock(ctx, "misc", bcb.Size)
	if err != nil {
		return err
	}
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
		text, err := s.Text(ctx, "bootctl get-active-boot-slot")
		if err != nil {
			return err
		}
		if n := strings.TrimSpace(text); len(n) == 1 && n >= "0" && n <= "3" {
			s.learn(card.FactNext, string(rune('a'+n[0]-'0')))
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
		return nil // it can't be told, which is no fault of the phone
	}
	files.LearnSuper(m, s.learn)
	return nil
}

// readFirmware reads the manufacturer's firmware on both slots through a root shell, so that
// it can be compared.
func (s *Session) readFirmware(ctx context.Context) error {
	if s.model == nil || s.Card.Value(card.FactRoot) != "yes" {
		return nil
	}
	for _, base := range s.model.Firmware {
		for _, slot := range []string{"a", "b"} {
			p := card.At(base, slot)
			sum, err := s.DigestOf(ctx, p)
			if err != nil {
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
		out, err := s.Shell(ctx, "cat /"+name)
		if err != nil {
			return err
		}
		// What an old shell says of a file that is not there is no list of keys either.
		if trusts = zipsig.Trusted(map[string][]byte{name: out.Stdout}); trusts != "none" {
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
	text, err := s.Text(ctx, "dumpsys account 2>/dev/null")
	if err != nil {
		return s.noShell(err)
	}
	total, told := 0, false
	for line := range strings.Lines(text) {
		var n int
		if _, err := fmt.Sscanf(strings.TrimSpace(line), "Accounts: %d", &n); err == nil && n >= 0 {
			// one line for each user
			total, told = total+n, true
		}
	}
	if told {
		s.learn(card.FactAccounts, fmt.Sprint(total))
	}
	if text, err = s.Text(ctx, "locksettings get-disabled 2>/dev/null"); err != nil {
		return s.noShell(err)
	}
	if yes, ok := card.ParseYes(strings.TrimSpace(text)); ok {
		s.learn(card.FactLock, card.YesNo(!yes))
	}
	return nil
}

// doLimit is how long a command that changes something may take: formatting takes
// minutes.
const doLimit = 10 * time.Minute

// Do runs one command in the shell and makes sure that it went well, also on
// shells without exit codes.
func (s *Session) Do(ctx context.Context, command, what string) error {
	sctx, cancel := context.WithTimeout(ctx, doLimit)
	defer cancel()
	out, err := s.Shell(sctx, "{ "+command+"; } 2>&1 && echo it-went-well")
	if err != nil {
		return err
	}
	text := strings.TrimSpace(string(out.Stdout))
	if !strings.HasSuffix(text, "it-went-well") {
		return &link.RefusedError{Command: what, Message: text}
	}
	return nil
}

// QuoteShell quotes a word for the phone's shell.
func QuoteShell(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
