package wire

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/link/usb"
	"jarlid/internal/say"
)

// trail is what was met on the way to a phone: where it was seen on a cable, to find it again when
// it comes back, and what it can't stand.
type trail struct {
	mu      sync.Mutex
	port    string          // the socket it was seen in last, "" for none
	peer    string          // the same on its other bus
	serials []string        // it reported, in any mode
	others  map[string]bool // devices that were there beside it, which it can't be
	ledger  *journal.Ledger // of the job in progress
	said    []string        // what was done to bring it round

	oneByOne atomic.Bool // its bootloader can't be asked for all variables at once
}

// DeviceKey tells one plugging of a device from the next.
func DeviceKey(d usb.Device) string { return fmt.Sprintf("%d/%d", d.Bus, d.Number) }

// CableAddress is the address of a device on a cable.
func CableAddress(d usb.Device) Address { return Address{Scheme: CableScheme, Place: d.Port} }

const CableScheme = "usb"

// Saw notes a device as this phone.
func (p *Phone) Saw(d usb.Device) {
	list, _ := p.Cable.List() // without it nothing is ruled out
	t := p.trail
	t.mu.Lock()
	defer t.mu.Unlock()
	t.port, t.peer, t.others = d.Port, d.Peer, map[string]bool{}
	if d.Serial != "" && !slices.Contains(t.serials, d.Serial) {
		t.serials = append(t.serials, d.Serial)
	}
	for _, o := range list {
		if p.Talks(o) && DeviceKey(o) != DeviceKey(d) {
			t.others[DeviceKey(o)] = true
		}
	}
}

// SeenAs gives the socket a phone was seen in last, and all serial numbers it is known by.
func (p *Phone) SeenAs() (port, peer string, serials []string) {
	t := p.trail
	t.mu.Lock()
	serials = slices.Clone(t.serials)
	port, peer = t.port, t.peer
	t.mu.Unlock()
	if p.Serial != "" {
		serials = append(serials, p.Serial)
	}
	for _, s := range slices.Clone(serials) {
		if p.Known != nil {
			serials = append(serials, p.Known(s)...)
		}
	}
	return port, peer, serials
}

// OnCable tells which of the devices on the cables are this phone: by its serial number, else
// by its socket when nothing is against it. maybe are those that could be it, but by nothing that
// decides: they came since it went away, or this program has not seen it yet, and a phone may have
// another number in each mode.
func (p *Phone) OnCable(list []usb.Device) (sure, maybe []usb.Device) {
	port, peer, serials := p.SeenAs()
	named := func(d usb.Device) bool {
		return slices.ContainsFunc(p.At, func(a Address) bool {
			return a.Scheme == CableScheme && d.At(a.Place)
		})
	}
	at := func(d usb.Device) bool {
		if port != "" {
			return d.At(port) || peer != "" && d.At(peer)
		}
		return named(d)
	}
	var here []usb.Device
	for _, d := range list {
		if !p.Talks(d) && (!d.HasLine() || !named(d)) {
			continue
		}
		switch {
		case d.Serial != "" && slices.Contains(serials, d.Serial):
			sure = append(sure, d)
		case p.Other != nil && d.Serial != "" && p.Other(p, d.Serial):
			// another phone of the bench
		case at(d):
			here = append(here, d)
		case (port != "" || len(serials) > 0) && !p.besides(d):
			maybe = append(maybe, d)
		}
	}
	if one := slices.IndexFunc(sure, at); len(sure) > 1 && one >= 0 {
		return sure[one : one+1], nil // two with one number: the one in its socket
	}
	if len(sure) == 0 {
		sure = here
	}
	if port == "" && len(sure) > 0 {
		maybe = nil
	}
	return sure, maybe
}

// besides reports whether a device was there beside the phone before it went away.
func (p *Phone) besides(d usb.Device) bool {
	p.trail.mu.Lock()
	defer p.trail.mu.Unlock()
	return p.trail.others[DeviceKey(d)]
}

// DeviceWords names a device for a person who has it in front of them.
func DeviceWords(d usb.Device) string {
	words := CableAddress(d).String()
	if d.Serial != "" {
		words += ", serial number " + d.Serial
	}
	if d.Name != "" {
		words += ", " + d.Name
	}
	return words
}

// Devices lists what is on the cables; nothing where they can't be checked.
func (h *Host) Devices() []usb.Device {
	if h.Cable == nil {
		return nil
	}
	list, _ := h.Cable.List()
	return list
}

// openCable connects to the phone in a socket. What keeps a program from it is a finding only while the
// phone is there: one that is pulled meanwhile is just gone.
func openCable(ctx context.Context, p *Phone, a Address, offered func()) (Conn, error) {
	if p.Cable == nil {
		return nil, &NotHereError{Name: p.Name, Text: "there are no cables here"}
	}
	list, err := p.Cable.List()
	if err != nil {
		return nil, &NotHereError{Name: p.Name, Text: say.Text("%s can't be reached: %v", a, err)}
	}
	at := slices.IndexFunc(list, func(d usb.Device) bool { return d.At(a.Place) })
	if at < 0 {
		return nil, link.Lost("connecting", errors.New("nothing is plugged in at "+a.String()))
	}
	w, err := p.openDevice(ctx, a, list[at], offered)
	var stop *finding.StopError
	if errors.As(err, &stop) {
		if now, still := p.Device(a); !still || DeviceKey(now) != DeviceKey(list[at]) {
			return nil, link.Lost("connecting", errors.New("what was plugged in at "+a.String()+" is gone"))
		}
	}
	return w, err
}

// openDevice connects to what is in a socket, by whatever it speaks there.
func (p *Phone) openDevice(ctx context.Context, a Address, d usb.Device, offered func()) (Conn, error) {
	i, ok := d.Phone()
	if _, line := p.lineOf(d); !ok && (line || d.HasLine()) {
		w, err := p.openDeviceLine(ctx, a, d)
		if err == nil && p.Talks(d) { // else its numbers are a bridge's, which phones have in turn
			p.Saw(d)
		}
		return w, err
	}
	if !ok {
		return nil, link.Lost("connecting", errors.New("what is plugged in at "+a.String()+
			" is in no mode that takes commands"))
	}
	pipe, err := p.Cable.Open(ctx, d, i)
	if err != nil {
		return nil, p.cableError(a, err)
	}
	var w Conn
	if i.Fastboot() {
		w, err = p.cableLoader(ctx, pipe, a, d.Serial)
	} else {
		w, err = p.cableDebug(ctx, pipe, a, offered)
	}
	if err != nil {
		pipe.Close()
		return nil, err
	}
	p.Saw(d)
	return w, nil
}

// cableError gives what keeps a program from the cable its finding.
func (p *Phone) cableError(a Address, err error) error {
	var denied *usb.PermissionError
	var held *usb.HeldError
	var none *usb.NoDriverError
	switch {
	case errors.As(err, &none):
		return finding.Stopped(finding.NoDriver, p.Name, fmt.Sprintf("%s at %s is plugged in, and %v",
			p.Name, a, none),
			"in the device manager, give it the driver \"WinUsb Device\" of \"Universal Serial Bus "+
				"devices\", then pull the cable and put it back")
	case errors.As(err, &denied):
		return finding.Stopped(finding.NoPermission, p.Name,
			fmt.Sprintf("this user may not use %s at %s (%s)", p.Name, a, denied.Node), ruleRemedy)
	case errors.As(err, &held):
		return finding.Stopped(finding.HeldByAnother, p.Name, fmt.Sprintf("%s at %s is in use by %s", p.Name,
			a, held.Holder()), heldRemedy(held))
	}
	return link.Lost("connecting", err)
}

// ruleRemedy is how a user gets the right to use phones.
const ruleRemedy = "install the rule that jarlid bench --rule prints, load it as said there, and pull the " +
	"cable and put it back"

func heldRemedy(h *usb.HeldError) string {
	switch {
	case h.Driver != "":
		return "unload that driver as root (modprobe -r " + h.Driver +
			"), then pull the cable and put it back"
	case h.PID > 0:
		return fmt.Sprintf("end %s (process %d), then run the command again", h.Program, h.PID)
	}
	return "end the other program, or have its user do so, then run the command again"
}

func (p *Phone) cableLoader(ctx context.Context, pipe usb.Pipe, a Address, serial string) (Conn, error) {
	t, err := fastboot.NewUSB(ctx, pipe)
	if err != nil {
		return nil, err
	}
	c := fastboot.New(t)
	broken, some, err := journal.Broken(p.Home, p.Who(serial))
	if err != nil {
		return nil, err
	}
	if some { // there may be much to fill up
		var done func()
		ctx, done = longer(ctx, fillLimit)
		defer done()
	}
	filled, err := c.Sync(ctx, broken.Announced, broken.Taken)
	if err != nil {
		return nil, err
	}
	if filled {
		p.say("the bootloader was waiting for the rest of a transfer that broke off; it was filled up with " +
			"zeros, and nothing of it was written")
	}
	if some {
		if err := broken.Over(); err != nil {
			return nil, err
		}
	}
	return newLoader(ctx, p, c, a)
}

// fillLimit is how long the rest of a transfer that was interrupted may take.
const fillLimit = 10 * time.Minute

// longer gives a context that outlives ctx's own limit, and still ends when a person stops.
func longer(ctx context.Context, limit time.Duration) (context.Context, func()) {
	long, cancel := context.WithTimeout(context.WithoutCancel(ctx), limit)
	stop := context.AfterFunc(ctx, func() {
		if errors.Is(ctx.Err(), context.Canceled) {
			cancel()
		}
	})
	return long, func() { stop(); cancel() }
}

func (p *Phone) cableDebug(ctx context.Context, pipe usb.Pipe, a Address, offered func()) (Conn, error) {
	key, err := p.Key()
	if err != nil {
		return nil, err
	}
	c, err := adb.Connect(ctx, usb.NewStream(pipe), adb.Options{Key: key, Offer: offered != nil,
		Offered: offered,
		Revived: func(did string) { p.say("it did not answer, and " + did) }})
	if err != nil {
		return nil, err
	}
	return newDebug(c, a, key)
}

// say keeps a word for whoever can tell it.
func (p *Phone) say(text string) {
	p.trail.mu.Lock()
	p.trail.said = append(p.trail.said, text)
	p.trail.mu.Unlock()
}

// Said gives what was done to bring the phone round since it was last asked.
func (p *Phone) Said() []string {
	p.trail.mu.Lock()
	defer p.trail.mu.Unlock()
	said := p.trail.said
	p.trail.said = nil
	return said
}

// KeepLedger keeps transfers in a job's ledger from now on; nil for no more.
func (p *Phone) KeepLedger(l *journal.Ledger) {
	p.trail.mu.Lock()
	p.trail.ledger = l
	p.trail.mu.Unlock()
}

// note notes how far a transfer over a cable is.
func (p *Phone) note(announced, taken int64) {
	p.trail.mu.Lock()
	l := p.trail.ledger
	p.trail.mu.Unlock()
	_ = l.Note(announced, taken) // without it a killed program's phone needs its keys
}

// Device gives the device a phone is on a cable now, at an address.
func (p *Phone) Device(a Address) (usb.Device, bool) {
	if a.Scheme != CableScheme {
		return usb.Device{}, false
	}
	for _, d := range p.Devices() {
		if d.At(a.Place) {
			return d, true
		}
	}
	return usb.Device{}, false
}
