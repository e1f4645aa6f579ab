package standin

import (
	"errors"
	"os"
	"slices"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
)

// running is the recovery or system that was started.
type running struct {
	slot   string
	props  map[string]string
	traits traits
	files  func(want string) ([]byte, bool) // of a recovery's ramdisk
	log    []string                         // the recovery's log
	record string                           // its record of the last install
	vault  *vault                           // the system's opened data
	mounts []mounted                        // what a recovery has mounted, in its order
	since  time.Time                        // when it began
	key    []byte
}

// traits say how a recovery behaves; its image carries them.
type traits struct {
	Shell     bool     `yaml:"shell"`     // a root shell over ADB, and the restart service
	Lacks     []string `yaml:"lacks"`     // programs its shell does not have
	Unmapped  bool     `yaml:"unmapped"`  // does not map the logical partitions
	Fastbootd bool     `yaml:"fastbootd"` // holds userspace fastboot, where the phone has it
	Closing   string   `yaml:"closing"`   // honest, always-done, mute
	// Signature is what it does with a package that none of its keys signed:
	// nothing, ask, refuse.
	Signature string `yaml:"signature"`
	// Needs are marks that other partitions must hold for it to start: what its
	// manufacturers call pre-images.
	Needs map[string]string `yaml:"needs"`
}

// begin starts what a transition says and gives the mode reached.
func (p *Phone) begin(t transition) card.Mode {
	p.mu.Lock()
	p.menu = ""
	p.mu.Unlock()
	switch t.to {
	case string(card.Bootloader):
		p.stopped()
		return card.Bootloader
	case string(card.Loader):
		p.stopped()
		p.show("Maker's loader %s", p.loaderVersion())
		return card.Loader
	case string(card.Sideload):
		if p.run != nil || p.startRecovery(nil) == nil {
			return card.Sideload
		}
		return card.Bootloader
	case string(card.Fastbootd):
		if p.startRecovery(nil) == nil && p.hasFastbootd() {
			return card.Fastbootd
		}
		return card.Bootloader
	case string(card.Recovery):
		if p.run != nil && (p.st.Mode == card.Sideload || p.st.Mode == card.Fastbootd) {
			p.message(bcb.Message{})
			return card.Recovery // back to its own menu
		}
		return p.recoveryOrStay()
	case "image":
		return p.startImage(t.image)
	case "listen-again":
		return p.st.Mode
	case "off", "":
		p.stopped()
		return card.None
	case string(card.System):
		return p.startSystem()
	}
	return p.coldStart()
}

func (p *Phone) loaderVersion() string {
	if p.spec.Loader == nil {
		return ""
	}
	return p.spec.Loader.Version
}

func (p *Phone) hasFastbootd() bool {
	return p.spec.Userspace && p.run != nil && p.run.traits.Fastbootd
}

func (p *Phone) stopped() {
	p.mu.Lock()
	p.run, p.st.Started = nil, ""
	p.mu.Unlock()
	p.store.Slot.Store(int32(max(p.nextSlot(), 0)))
}

// coldStart does what the message in misc says.
func (p *Phone) coldStart() card.Mode {
	p.stopped()
	misc, err := p.store.Head("misc", bcb.Size)
	if err != nil {
		p.show("misc can't be read: %v", err)
		return card.Bootloader
	}
	m, _ := bcb.ParseMessage(misc)
	switch m.Command {
	case bcb.CommandBootloader:
		p.message(bcb.Message{})
		return card.Bootloader
	case bcb.CommandFastboot:
		p.message(bcb.Message{})
		mode := p.recoveryOrStay()
		if mode == card.Recovery && p.hasFastbootd() {
			return card.Fastbootd
		}
		return mode
	case bcb.CommandRecovery:
		mode := p.recoveryOrStay()
		if mode != card.Recovery {
			return mode
		}
		if slices.Contains(m.Recovery, "--sideload") {
			return card.Sideload
		}
		if !slices.Contains(m.Recovery, "--prompt_and_wipe_data") {
			return p.ordered(m)
		}
		return mode
	}
	return p.startSystem()
}

// ordered does what the message tells the recovery to do by itself: it wipes and
// starts the system. Without an order it shows its menu, which begins with taking
// the message away (recovery.cpp, PromptAndWait).
func (p *Phone) ordered(m bcb.Message) card.Mode {
	var err error
	switch {
	case slices.Contains(m.Recovery, "--wipe_data"):
		err = p.formatData()
	case slices.Contains(m.Recovery, "--wipe_cache"):
		err = p.wipeArea("caches")
	default:
		p.message(bcb.Message{})
		return card.Recovery
	}
	p.message(bcb.Message{})
	if err != nil {
		p.show("Wiping failed: %v", err)
		return card.Recovery
	}
	p.stopped()
	return p.startSystem()
}

// message changes the bootloader message and nothing else in misc.
func (p *Phone) message(m bcb.Message) error {
	return p.misc(func(b []byte) error { return m.Put(b) })
}

func (p *Phone) misc(change func([]byte) error) error {
	b, err := p.store.Head("misc", bcb.Size)
	if err == nil {
		if err = change(b); err == nil {
			err = p.store.Put("misc", b, 0)
		}
	}
	if err != nil {
		p.show("misc could not be changed: %v", err)
	}
	return err
}

// control reads the slot control block. A damaged or erased one is made again,
// slot a first, as bootloaders do.
func (p *Phone) control() *bcb.Control {
	b, err := p.store.Head("misc", bcb.Size)
	if err == nil {
		if c, err := bcb.ParseControl(b); err == nil && len(c.Slots) == 2 {
			return c
		}
	}
	full := bcb.Slot{Priority: bcb.MaxPriority, TriesLeft: bcb.MaxTries}
	second := full
	second.Priority--
	return &bcb.Control{Suffix: "_a", Slots: []bcb.Slot{full, second}}
}

func (p *Phone) setControl(c *bcb.Control) error {
	return p.misc(func(b []byte) error { return c.Put(b) })
}

func slotName(i int) string { return string(rune('a' + i)) }

// nextSlot is the slot that would start, -1 when none can.
func (p *Phone) nextSlot() int {
	if p.model.Slots < 2 {
		return 0
	}
	return p.control().Next()
}

// on gives a partition's full name on a slot.
func (p *Phone) on(base, slot string) string {
	if p.store.Slots[base] {
		return base + "_" + slot
	}
	return base
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

func (p *Phone) started(r *running) {
	if p.model.Slots > 1 {
		r.props["ro.boot.slot_suffix"] = "_" + r.slot
		c := p.control()
		c.Suffix = "_" + r.slot
		p.setControl(c)
	}
	serial := orElse(p.spec.ADBName, p.st.Serial)
	r.props["ro.serialno"], r.props["ro.boot.serialno"] = serial, serial
	r.props["ro.boot.flash.locked"], r.props["ro.boot.verifiedbootstate"] = "1", "green"
	if p.st.Unlocked {
		r.props["ro.boot.flash.locked"], r.props["ro.boot.verifiedbootstate"] = "0", "orange"
	}
	if r.vault != nil {
		r.props["ro.crypto.state"], r.props["ro.crypto.type"], r.props["sys.boot_completed"] = "encrypted",
			"block", "1"
		if p.spec.PlainData {
			r.props["ro.crypto.state"], r.props["ro.crypto.type"] = "unencrypted", ""
		}
	}
	for k, v := range p.spec.Props {
		r.props[k] = v
	}
	if p.model.Slots > 1 {
		p.store.Slot.Store(int32(r.slot[0] - 'a'))
	}
	for _, dir := range []string{tmpDir, ramdiskDir} { // memory is empty after a start
		if err := os.RemoveAll(p.dir(dir)); err != nil {
			p.show("%v", err)
		}
	}
	p.store.Unmapped.Store(r.traits.Unmapped)
	if r.vault == nil {
		r.mounts = p.recoveryMounts()
		if err := p.plainNames(); err != nil {
			p.show("%v", err)
		}
	}
	p.mu.Lock()
	p.run, p.st.Started = r, r.slot
	p.mu.Unlock()
}

// startSystem tries slots until one starts: each try costs one of its tries,
// and a slot without any left gives way to the other one.
func (p *Phone) startSystem() card.Mode {
	for {
		i := p.nextSlot()
		if i < 0 {
			p.show("Neither slot has anything left to start.")
			p.stopped()
			return card.Bootloader
		}
		slot := slotName(i)
		if p.model.Slots > 1 {
			c := p.control()
			if s := &c.Slots[i]; !s.Successful {
				s.TriesLeft--
			}
			if p.setControl(c) != nil {
				return card.Bootloader
			}
		}
		err := p.trySystem(slot)
		if err == nil {
			return card.System
		}
		if data, ok := err.(*dataError); ok {
			// The system gives up and asks for recovery, which asks the owner.
			p.show("The system can't read the data: %v. It restarts into recovery.", data)
			p.message(bcb.Message{Command: bcb.CommandRecovery,
				Recovery: []string{"recovery", "--prompt_and_wipe_data", "--reason=data_unreadable"}})
			p.stopped()
			mode := p.recoveryOrStay()
			if mode == card.Recovery {
				p.show("The system came up and could not use the data on this phone. Start it once more, " +
					"or erase all data?")
			}
			return mode
		}
		p.show("Slot %s did not start: %v", slot, err)
		if p.model.Slots < 2 {
			p.stopped()
			var loop *loopError
			if errors.As(err, &loop) {
				p.show("The maker's picture, again and again.")
				return card.None
			}
			return card.Bootloader
		}
		// A slot that worked before and does not now loses that mark at once:
		// what is on it has changed.
		c := p.control()
		if c.Slots[i].Successful {
			c.Slots[i].Successful = false
			c.Slots[i].TriesLeft = min(c.Slots[i].TriesLeft, 3)
			p.setControl(c)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// reachable reports whether the running recovery or system answers over ADB.
func (p *Phone) reachable(mode card.Mode) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch mode {
	case card.Sideload:
		return true
	case card.Recovery:
		return p.run != nil && p.run.traits.Shell
	case card.System:
		return p.run != nil && p.run.vault != nil && p.run.vault.Debugging
	}
	return false
}
