// Package device is a stand-in's storage and state, which all that runs on the phone shares: its
// partitions, data, slot control and screen, and what goes wrong on demand.
package device

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"path/filepath"
	"sync"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/host"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin/disk"
)

// Options say how a stand-in is set up.
type Options struct {
	Dir      string // where its storage and state are kept
	Fastboot string // address to listen on; "": a free port of 127.0.0.1
	ADB      string
	Loader   string // of a phone that has one instead of fastboot
	Control  string
	Locked   bool            // a new one comes with its bootloader locked
	Battery  int             // a new one's charge in percent; 0: the model's
	Serial   string          // a new one's serial number; "": the model's
	Mode     string          // the mode it comes up in; "": where it was, or the model's
	Log      func(string)    // what happens on the phone, a sentence each
	Ready    func(Addresses) // called when it can be reached
	Net      Net             // where it listens; nil: the loopback interface
	Quirks   *Quirks         // of its recoveries; nil: the model's
	Cable    soft.Plug       // where its cable ends; nil: it has none and is reached over Net
}

// Net is where stand-ins listen and are reached.
type Net interface {
	Listen(network, address string) (net.Listener, error)
	ListenPacket(network, address string) (net.PacketConn, error)
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Loopback is the computer's own network.
type Loopback struct{ net.Dialer }

// Listen listens.
func (*Loopback) Listen(network, address string) (net.Listener, error) {
	return net.Listen(network, address)
}

// ListenPacket listens for datagrams.
func (*Loopback) ListenPacket(network, address string) (net.PacketConn, error) {
	return net.ListenPacket(network, address)
}

// Addresses are where a running stand-in is reached.
type Addresses struct {
	Serial, Fastboot, ADB, Loader, Control string
}

// At are the addresses of its modes, as they are typed.
func (a Addresses) At() []string {
	if a.Loader != "" {
		return []string{"loader:" + a.Loader, "adb:" + a.ADB}
	}
	return []string{"tcp:" + a.Fastboot, "adb:" + a.ADB}
}

// State is what of the phone is not in its partitions.
type State struct {
	Serial   string    `json:"serial"`
	Unlocked bool      `json:"unlocked"`
	Percent  int       `json:"battery_percent"`
	Mode     card.Mode `json:"mode"`
	Started  string    `json:"started_slot"` // of the running system or recovery
	Fastboot string    `json:"fastboot"`
	ADB      string    `json:"adb"`
	Loader   string    `json:"loader,omitempty"`
	Control  string    `json:"control"`

	Owner     bool                 `json:"owner"`      // accounts were signed in when the data was last there
	MayUnlock bool                 `json:"may_unlock"` // allowed in the developer settings
	Snapshot  string               `json:"snapshot"`   // none, snapshotted, merging
	Cows      map[string]disk.Span `json:"cows,omitempty"`
	Rollback  map[uint32]uint64    `json:"rollback,omitempty"` // by location
}

// Phone is a phone's storage and state, which all that runs on it shares.
type Phone struct {
	Model   *model.Model
	Spec    *Spec
	Options Options
	Store   *disk.Disk

	Mu      sync.Mutex
	State   State
	Screen  []string // what the display shows, the newest last
	Menu    string   // the submenu that is open in the recovery
	Running *Running // the recovery or system that runs
	Asked   *Question
	// Of one with a loader: whether its battery is out, and whether it asks about its loader.
	NoBattery, AsksLoader bool

	// FaultMu guards Fault: cables count while the phone is held.
	FaultMu sync.Mutex
	Fault   *Fault // what goes wrong next

	Next chan Transition // what to start now
}

// Transition is what ends a mode.
type Transition struct {
	// "start": by misc; "bootloader", "recovery": by keys; or a card.Mode within a recovery
	To    string
	Delay time.Duration // how long it takes
	Image []byte        // for "image": what was sent to be started
}

// Question is one the phone's screen asks its owner.
type Question struct {
	Text   string
	Answer chan bool
}

func (p *Phone) statePath() string { return filepath.Join(p.Options.Dir, "state.json") }

// Save keeps the state; p.Mu is held. A killed stand-in never leaves half a
// file.
func (p *Phone) Save() {
	b, err := json.MarshalIndent(p.State, "", "  ")
	if err == nil {
		err = host.WriteWhole(p.statePath(), b, 0o644)
	}
	if err != nil {
		p.Options.Log("the stand-in's state could not be kept: " + err.Error())
	}
}

// ModeWord names a mode; a phone in none is off.
func ModeWord(m card.Mode) string {
	if m == card.None {
		return "off"
	}
	return string(m)
}

// Move goes on to another mode; the first wish counts.
func (p *Phone) Move(to string, delay time.Duration) {
	select {
	case p.Next <- Transition{To: to, Delay: delay}:
	default:
	}
}

// Restart ends the mode and starts what misc says.
func (p *Phone) Restart() { p.Move("start", time.Duration(p.Spec.Delays.Restart)) }

// Show puts a line on the phone's screen.
func (p *Phone) Show(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	p.Mu.Lock()
	p.Screen = append(p.Screen, line)
	if len(p.Screen) > 200 {
		p.Screen = p.Screen[len(p.Screen)-200:]
	}
	p.Mu.Unlock()
	p.Options.Log("screen: " + line)
}

// AskOwner puts a question on the phone's screen and waits for its owner; no
// answer in five minutes is no.
func (p *Phone) AskOwner(ctx context.Context, text string) bool {
	q := &Question{Text: text, Answer: make(chan bool, 1)}
	p.Mu.Lock()
	p.Asked = q
	p.Mu.Unlock()
	p.Show("%s", text)
	yes := false
	select {
	case yes = <-q.Answer:
	case <-ctx.Done():
	case <-time.After(5 * time.Minute):
	}
	p.Mu.Lock()
	defer p.Mu.Unlock()
	if p.Asked == q {
		p.Asked = nil
	}
	return yes
}

// Mode is the mode the phone is in.
func (p *Phone) Mode() card.Mode {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	return p.State.Mode
}
