package standin

import (
	"errors"
	"slices"
	"time"

	"jarlid/internal/core/card"
)

// Keys of a phone with a loader: its own are others than its twin's.
const (
	keyLoader  = "volume-down+side+power"
	keyRescue  = "volume-up+side+power"
	keyYes     = "volume-up"
	keyNo      = "volume-down"
	batteryOut = "battery-out"
	batteryIn  = "battery-in"
)

var loaderKeys = []string{keyLoader, keyRescue, keyYes, keyNo, batteryOut, batteryIn}

// loaderKey is one of the keys of a phone with a loader; done is false for others.
func (p *Phone) loaderKey(what string) (done bool, err error) {
	if !slices.Contains(loaderKeys, what) && what != keyPower {
		return false, nil
	}
	p.Mu.Lock()
	mode, out, asks := p.State.Mode, p.NoBattery, p.AsksLoader
	p.AsksLoader = false
	p.Mu.Unlock()
	set := func(at *bool, v bool) {
		p.Mu.Lock()
		*at = v
		p.Mu.Unlock()
	}
	switch {
	case what == batteryOut:
		set(&p.NoBattery, true)
		p.Move("off", 0)
	case what == batteryIn:
		set(&p.NoBattery, false)
	case out:
		return true, errors.New("the phone stays dark: its battery is out")
	case what == keyLoader:
		if mode != card.None {
			return true, errors.New("the keys count while the phone is off: take its battery out and put " +
				"it back")
		}
		set(&p.AsksLoader, true)
		p.Show("Loader? Volume up: yes. Volume down: no, start as usual.")
	case what == keyYes && asks:
		p.Move(string(card.Loader), time.Duration(p.Spec.Delays.Restart))
	case what == keyNo && asks:
		p.Move("start", time.Duration(p.Spec.Delays.Restart))
	case what == keyRescue:
		if mode != card.None {
			return true, errors.New("the keys count while the phone is off: take its battery out and put " +
				"it back")
		}
		p.Move(string(card.Recovery), time.Duration(p.Spec.Delays.Restart))
	case what == keyPower:
		if mode == card.None {
			p.Move(string(card.System), time.Duration(p.Spec.Delays.Restart))
		}
	default:
		return true, errors.New("nothing happens")
	}
	return true, nil
}
