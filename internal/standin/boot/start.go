// Package boot starts a stand-in's systems and recoveries, with verified boot and the checks by
// which a real phone ends in a loop.
package boot

import (
	"errors"
	"os"
	"slices"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/recovery"
)

// Starter starts a phone's systems and recoveries.
type Starter struct{ *recovery.Runner }

// Begin starts what a transition says and gives the mode reached.
func (p *Starter) Begin(t device.Transition) card.Mode {
	p.Mu.Lock()
	p.Menu = ""
	p.Mu.Unlock()
	switch t.To {
	case string(card.Bootloader):
		p.Stopped()
		return card.Bootloader
	case string(card.Loader):
		p.Stopped()
		p.Show("Maker's loader %s", p.LoaderVersion())
		return card.Loader
	case string(card.Sideload):
		if p.Running != nil || p.startRecovery(nil) == nil {
			return card.Sideload
		}
		return card.Bootloader
	case string(card.Fastbootd):
		if p.startRecovery(nil) == nil && p.HasFastbootd() {
			return card.Fastbootd
		}
		return card.Bootloader
	case string(card.Recovery):
		if p.Running != nil && (p.State.Mode == card.Sideload || p.State.Mode == card.Fastbootd) {
			p.Message(bcb.Message{})
			return card.Recovery // back to its own menu
		}
		return p.recoveryOrStay()
	case "image":
		return p.startImage(t.Image)
	case "listen-again":
		return p.State.Mode
	case "off", "":
		p.Stopped()
		return card.None
	case string(card.System):
		return p.startSystem()
	}
	return p.coldStart()
}

// coldStart does what the message in misc says.
func (p *Starter) coldStart() card.Mode {
	p.Stopped()
	misc, err := p.Store.Head("misc", bcb.Size)
	if err != nil {
		p.Show("misc can't be read: %v", err)
		return card.Bootloader
	}
	m, _ := bcb.ParseMessage(misc)
	switch m.Command {
	case bcb.CommandBootloader:
		p.Message(bcb.Message{})
		return card.Bootloader
	case bcb.CommandFastboot:
		p.Message(bcb.Message{})
		mode := p.recoveryOrStay()
		if mode == card.Recovery && p.HasFastbootd() {
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
func (p *Starter) ordered(m bcb.Message) card.Mode {
	var err error
	switch {
	case slices.Contains(m.Recovery, "--wipe_data"):
		err = p.FormatData()
	case slices.Contains(m.Recovery, "--wipe_cache"):
		err = p.WipeArea("caches")
	default:
		p.Message(bcb.Message{})
		return card.Recovery
	}
	p.Message(bcb.Message{})
	if err != nil {
		p.Show("Wiping failed: %v", err)
		return card.Recovery
	}
	p.Stopped()
	return p.startSystem()
}

func (p *Starter) started(r *device.Running) {
	if p.Model.Slots > 1 {
		r.Props["ro.boot.slot_suffix"] = "_" + r.Slot
		c := p.Control()
		c.Suffix = "_" + r.Slot
		p.SetControl(c)
	}
	serial := device.OrElse(p.Spec.ADBName, p.State.Serial)
	r.Props["ro.serialno"], r.Props["ro.boot.serialno"] = serial, serial
	r.Props["ro.boot.flash.locked"], r.Props["ro.boot.verifiedbootstate"] = "1", "green"
	if p.State.Unlocked {
		r.Props["ro.boot.flash.locked"], r.Props["ro.boot.verifiedbootstate"] = "0", "orange"
	}
	if r.Vault != nil {
		r.Props["ro.crypto.state"], r.Props["ro.crypto.type"], r.Props["sys.boot_completed"] = "encrypted",
			"block", "1"
		if p.Spec.PlainData {
			r.Props["ro.crypto.state"], r.Props["ro.crypto.type"] = "unencrypted", ""
		}
	}
	for k, v := range p.Spec.Props {
		r.Props[k] = v
	}
	if p.Model.Slots > 1 {
		p.Store.Slot.Store(int32(r.Slot[0] - 'a'))
	}
	for _, dir := range []string{recovery.TmpDir, recovery.RamdiskDir} { // memory is empty after a start
		if err := os.RemoveAll(p.Dir(dir)); err != nil {
			p.Show("%v", err)
		}
	}
	p.Store.Unmapped.Store(r.Traits.Unmapped)
	if r.Vault == nil {
		r.Mounts = p.RecoveryMounts()
		if err := p.PlainNames(); err != nil {
			p.Show("%v", err)
		}
	}
	p.Mu.Lock()
	p.Running, p.State.Started = r, r.Slot
	p.Mu.Unlock()
}

// startSystem tries slots until one starts: each try costs one of its tries,
// and a slot without any left gives way to the other one.
func (p *Starter) startSystem() card.Mode {
	for {
		i := p.NextSlot()
		if i < 0 {
			p.Show("Neither slot has anything left to start.")
			p.Stopped()
			return card.Bootloader
		}
		slot := device.SlotName(i)
		if p.Model.Slots > 1 {
			c := p.Control()
			if s := &c.Slots[i]; !s.Successful {
				s.TriesLeft--
			}
			if p.SetControl(c) != nil {
				return card.Bootloader
			}
		}
		err := p.trySystem(slot)
		if err == nil {
			return card.System
		}
		if data, ok := err.(*device.DataError); ok {
			// The system gives up and asks for recovery, which asks the owner.
			p.Show("The system can't read the data: %v. It restarts into recovery.", data)
			p.Message(bcb.Message{Command: bcb.CommandRecovery,
				Recovery: []string{"recovery", "--prompt_and_wipe_data", "--reason=data_unreadable"}})
			p.Stopped()
			mode := p.recoveryOrStay()
			if mode == card.Recovery {
				p.Show("The system came up and could not use the data on this phone. Start it once more, " +
					"or erase all data?")
			}
			return mode
		}
		p.Show("Slot %s did not start: %v", slot, err)
		if p.Model.Slots < 2 {
			p.Stopped()
			var loop *device.LoopError
			if errors.As(err, &loop) {
				p.Show("The maker's picture, again and again.")
				return card.None
			}
			return card.Bootloader
		}
		// A slot that worked before and does not now loses that mark at once:
		// what is on it has changed.
		c := p.Control()
		if c.Slots[i].Successful {
			c.Slots[i].Successful = false
			c.Slots[i].TriesLeft = min(c.Slots[i].TriesLeft, 3)
			p.SetControl(c)
		}
		time.Sleep(20 * time.Millisecond)
	}
}
