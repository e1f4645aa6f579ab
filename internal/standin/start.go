package standin

import (
	"fmt"
	"io/fs"
	"slices"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/standin/scenario"
)

// running is the recovery or system that was started.
type running struct {
	slot   string
	props  map[string]string
	traits traits
	log    []string // the recovery's log
	record string   // its record of the last install
	vault  *vault   // the system's opened data
	key    []byte
}

// traits say how a recovery behaves; its image carries them.
type traits struct {
	Shell   bool   `yaml:"shell"`   // a root shell over ADB, and the restart service
	Closing string `yaml:"closing"` // honest, always-done, mute
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
	case string(card.Sideload):
		if p.run != nil || p.startRecovery() == nil {
			return card.Sideload
		}
		return card.Bootloader
	case string(card.Recovery):
		if p.run != nil && p.st.Mode == card.Sideload {
			return card.Recovery // back from sideload to its own menu
		}
		return p.recoveryOrStay()
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

func (p *Phone) stopped() {
	p.mu.Lock()
	p.run, p.st.Started = nil, ""
	p.mu.Unlock()
}

// coldStart does what the message in misc says.
func (p *Phone) coldStart() card.Mode {
	p.stopped()
	misc, err := p.store.head("misc", bcb.Size)
	if err != nil {
		p.show("misc can't be read: %v", err)
		return card.Bootloader
	}
	m, _ := bcb.ParseMessage(misc)
	switch m.Command {
	case bcb.CommandBootloader:
		p.message(bcb.Message{})
		return card.Bootloader
	case bcb.CommandRecovery:
		mode := p.recoveryOrStay()
		if mode == card.Recovery && slices.Contains(m.Recovery, "--sideload") {
			return card.Sideload
		}
		return mode
	}
	return p.startSystem()
}

// message changes the bootloader message and nothing else in misc.
func (p *Phone) message(m bcb.Message) error {
	return p.misc(func(b []byte) error { return m.Put(b) })
}

func (p *Phone) misc(change func([]byte) error) error {
	b, err := p.store.head("misc", bcb.Size)
	if err == nil {
		if err = change(b); err == nil {
			err = p.store.put("misc", b)
		}
	}
	if err != nil {
		p.show("misc could not be changed: %v", err)
	}
	return err
}

// control reads the slot control block. A damaged or erased one is made anew,
// slot a first, as bootloaders do.
func (p *Phone) control() *bcb.Control {
	b, err := p.store.head("misc", bcb.Size)
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
	if p.store.slots[base] {
		return base + "_" + slot
	}
	return base
}

func (p *Phone) recoveryOrStay() card.Mode {
	if err := p.startRecovery(); err != nil {
		p.show("No recovery: %v", err)
		return card.Bootloader
	}
	return card.Recovery
}

// startRecovery starts what is in the recovery partition of the next slot.
func (p *Phone) startRecovery() error {
	i := p.nextSlot()
	if i < 0 {
		return fmt.Errorf("no slot can be started")
	}
	name := p.on(p.model.RecoveryPartition(), slotName(i))
	rd, err := p.readBoot(name)
	if err != nil {
		return err
	}
	if !rd.Recovery {
		return fmt.Errorf("%s holds no recovery", name)
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.model.Is(d) {
		return fmt.Errorf("%s is made for %s and hangs on this board", name, d)
	}
	r := &running{slot: slotName(i), props: rd.Props}
	if b, ok := rd.Wanted[scenario.TraitsFile]; ok {
		if err := yaml.Unmarshal(b, &r.traits); err != nil {
			return fmt.Errorf("%s: its traits are damaged: %w", name, err)
		}
	} else {
		// A recovery nobody here made: it behaves as its properties say.
		r.traits = traits{Shell: rd.Props["ro.debuggable"] == "1"}
	}
	p.started(r)
	p.show("%s", orElse(ident.BuildOf(r.props), "a recovery without a name"))
	return nil
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
	r.props["ro.serialno"] = p.st.Serial
	r.props["ro.boot.serialno"] = p.st.Serial
	r.props["ro.boot.flash.locked"], r.props["ro.boot.verifiedbootstate"] = "1", "green"
	if p.st.Unlocked {
		r.props["ro.boot.flash.locked"], r.props["ro.boot.verifiedbootstate"] = "0", "orange"
	}
	if r.vault != nil {
		r.props["ro.crypto.state"], r.props["sys.boot_completed"] = "encrypted", "1"
	}
	p.mu.Lock()
	p.run, p.st.Started = r, r.slot
	p.mu.Unlock()
}

// readBoot reads a boot or recovery image and what its ramdisk holds; the
// files named in want are kept.
func (p *Phone) readBoot(name string, want ...string) (*boot.Ramdisk, error) {
	v, err := p.store.open(name)
	if err != nil {
		return nil, err
	}
	defer v.Close()
	m, err := boot.Parse(v, v.size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if m.Section("kernel").Size == 0 {
		return nil, fmt.Errorf("%s has no kernel", name)
	}
	rd, err := boot.ReadRamdisk(m.Open(v, "ramdisk"), append(want, scenario.TraitsFile)...)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return rd, nil
}

// startSystem tries slots until one starts: each try costs one of its tries,
// and a slot without any left gives way to the other one.
func (p *Phone) startSystem() card.Mode {
	for {
		i := p.nextSlot()
		if i < 0 {
			p.show("No slot can be started.")
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
			p.message(bcb.Message{Command: bcb.CommandRecovery, Recovery: []string{"recovery", "--prompt_and_wipe_data", "--reason=data_unreadable"}})
			p.stopped()
			mode := p.recoveryOrStay()
			if mode == card.Recovery {
				p.show("Can't load the system: its data can't be read. Try again, or erase all data.")
			}
			return mode
		}
		p.show("Slot %s did not start: %v", slot, err)
		if p.model.Slots < 2 {
			p.stopped()
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

// trySystem starts the system of one slot.
func (p *Phone) trySystem(slot string) error {
	rd, err := p.readBoot(p.on("boot", slot))
	if err != nil {
		return err
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.model.Is(d) {
		return fmt.Errorf("its kernel is made for %s and hangs on this board", d)
	}
	props, err := p.systemProps(slot)
	if err != nil {
		return err
	}
	r := &running{slot: slot, props: props}
	first, err := p.openData(r)
	if err != nil {
		return err
	}
	if first {
		p.show("First start: preparing the data")
		time.Sleep(time.Duration(p.spec.Delays.FirstStart))
	}
	p.started(r)
	if p.model.Slots > 1 {
		c := p.control()
		i := int(slot[0] - 'a')
		c.Slots[i].Successful, c.Slots[i].TriesLeft = true, 0
		p.setControl(c)
	}
	if r.vault.Setup {
		p.show("%s", ident.BuildOf(props))
	} else {
		p.show("Welcome to %s", ident.BuildOf(props))
	}
	return nil
}

// systemProps reads the properties out of a slot's real file system.
func (p *Phone) systemProps(slot string) (map[string]string, error) {
	name := p.on("system", slot)
	v, err := p.store.open(name)
	if err != nil {
		return nil, err
	}
	defer v.Close()
	f, err := ext4.New(v, v.size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	b, err := fs.ReadFile(f, "system/build.prop")
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return boot.ParseProps(b), nil
}

// reachable tells whether the running recovery or system answers over ADB.
func (p *Phone) reachable(mode card.Mode) bool {
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
