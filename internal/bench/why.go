package bench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jarlid/internal/host"
	"jarlid/internal/link/usb"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
)

// Why finds out, for every phone of the bench or the one named, why it is not here, and what
// else is on the cables. Nothing is changed on a phone, and no phone is restarted.
func (b *Bench) Why(ctx context.Context, on string) ([]phone.Cause, error) {
	list, err := b.Meant(on)
	if err != nil {
		return nil, err
	}
	causes := make([]phone.Cause, len(list))
	var wg sync.WaitGroup
	for i, p := range list {
		wg.Go(func() { causes[i] = p.Why(ctx) })
	}
	wg.Wait()
	causes = twice(causes)
	if _, err := b.Devices(); b.cable == nil || errors.Is(err, usb.ErrUnsupported) {
		return causes, nil
	}
	last := b.lastLook()
	if slices.ContainsFunc(causes, missing) || len(causes) == 0 {
		flapping, err := b.flapping(ctx, last)
		if err != nil {
			return nil, err
		}
		causes = append(causes, flapping...)
	}
	devices, err := b.cable.List()
	if err != nil {
		return nil, err
	}
	for _, d := range devices {
		if b.host().Talks(d) || slices.ContainsFunc(causes, func(c phone.Cause) bool {
			return c.Phone == wire.CableAddress(d).String()
		}) {
			continue
		}
		c, ok := phone.NoPhone(d, !last.At.IsZero() && last.fresh(d))
		if i := slices.IndexFunc(list, func(p *phone.Phone) bool {
			return d.Serial != "" && p.Serial == d.Serial
		}); i >= 0 && missing(causes[i]) {
			// It is the missing one, by its number.
			c, _ = phone.NoPhone(d, true)
			c.Phone, c.Tested = list[i].Name, append(causes[i].Tested, c.Tested...)
			causes[i] = c
			continue
		}
		if ok && on == "" {
			causes = append(causes, c)
		}
	}
	for i := range causes {
		if causes[i].Cause == phone.CauseAbsent && !last.At.IsZero() {
			causes[i].Tested = append(causes[i].Tested, "the cables: "+last.news(devices))
		}
	}
	return causes, b.keepLook(devices)
}

// missing reports whether a phone can't be worked with as it is.
func missing(c phone.Cause) bool {
	return c.Cause != phone.CauseHere && c.Cause != phone.CauseSlowLink && c.Cause != phone.CauseBusy
}

// twice marks phones that report the same serial number.
func twice(causes []phone.Cause) []phone.Cause {
	first := map[string]string{}
	for i := range causes {
		c := &causes[i]
		if c.Serial == "" {
			continue
		}
		if other, ok := first[c.Serial]; ok {
			c.Cause = phone.CauseSameSerial
			c.Text = fmt.Sprintf("it reports the serial number %s, as %s does: the list may name one phone "+
				"twice, or two phones never had numbers of their own", c.Serial, other)
			c.Do = "name it by its address or bench name, never by its serial number"
			continue
		}
		first[c.Serial] = c.Phone
	}
	return causes
}

const (
	// flapWatch is how long the cables are watched for a device that comes and goes, and
	// flapTimes how often one has to come for that.
	flapWatch = 3 * time.Second
	flapTimes = 3
	// flapRecent is how old the last look may be for its device numbers to tell: they count on
	// with each time that something is plugged in.
	flapRecent = 2 * time.Minute
)

// flapping watches the cables for devices that come and go again and again.
func (b *Bench) flapping(ctx context.Context, last look) ([]phone.Cause, error) {
	ctx, cancel := context.WithTimeout(ctx, flapWatch)
	defer cancel()
	changed := b.cable.Watch(ctx)
	came := map[string]map[int]bool{} // the numbers seen in each socket
	name := map[string]string{}
	for {
		devices, err := b.cable.List()
		if err != nil {
			return nil, err
		}
		for _, d := range devices {
			if came[d.Port] == nil {
				came[d.Port] = map[int]bool{}
			}
			came[d.Port][d.Number], name[d.Port] = true, d.Name
		}
		select {
		case <-changed:
			continue
		case <-time.After(flapWatch / 30):
			continue
		case <-ctx.Done():
		}
		break
	}
	var causes []phone.Cause
	for port, numbers := range came {
		times := len(numbers)
		if before, ok := last.number(port); ok && time.Since(last.At) < flapRecent && len(numbers) > 1 {
			for n := range numbers {
				times = max(times, n-before)
			}
		}
		if times >= flapTimes {
			causes = append(causes, phone.Cause{Phone: "usb:" + port, Cause: phone.CauseFlapping,
				Tested: []string{fmt.Sprintf("usb:%s: watched for %v", port, flapWatch)},
				Text: fmt.Sprintf("what is plugged in there came and went %d times: the cable or the hub "+
					"has a bad contact, the battery is empty, or the phone restarts in a loop", times),
				Do: "take another cable and a port of the computer itself, and charge the phone for half " +
					"an hour"})
		}
	}
	slices.SortFunc(causes, func(x, y phone.Cause) int { return strings.Compare(x.Phone, y.Phone) })
	return causes, nil
}

// look is what was on the cables the last time somebody asked why.
type look struct {
	At      time.Time `json:"at"`
	Devices []plugged `json:"devices"`
}

type plugged struct {
	Port   string `json:"port"`
	Number int    `json:"number"`
	Serial string `json:"serial,omitempty"`
	Words  string `json:"words"`
}

func (b *Bench) lookPath() string { return filepath.Join(b.Home, "look.json") }

// lastLook reads it; an empty one when there was none, or it can't be read.
func (b *Bench) lastLook() look {
	var l look
	data, err := host.Read(b.lookPath())
	if err != nil || json.Unmarshal(data, &l) != nil {
		return look{}
	}
	return l
}

func (b *Bench) keepLook(devices []usb.Device) error {
	l := look{At: time.Now().UTC().Truncate(time.Second), Devices: []plugged{}}
	for _, d := range devices {
		l.Devices = append(l.Devices, plugged{d.Port, d.Number, d.Serial, phone.InterfaceWords(d)})
	}
	data, err := json.MarshalIndent(l, "", " ")
	if err != nil {
		return err
	}
	if _, err := host.Private(b.Home); err != nil {
		return err
	}
	return host.WriteWhole(b.lookPath(), append(data, '\n'), 0o600)
}

func (l look) number(port string) (int, bool) {
	i := slices.IndexFunc(l.Devices, func(p plugged) bool { return p.Port == port })
	if i < 0 {
		return 0, false
	}
	return l.Devices[i].Number, true
}

// fresh reports whether a device was not there then.
func (l look) fresh(d usb.Device) bool {
	n, ok := l.number(d.Port)
	return !ok || n != d.Number
}

// news says what has come since.
func (l look) news(devices []usb.Device) string {
	since := "the last look at " + l.At.Local().Format("15:04:05")
	var list string
	for _, d := range devices {
		if l.fresh(d) {
			list += fmt.Sprintf(", %s (%s)", wire.CableAddress(d), phone.InterfaceWords(d))
		}
	}
	if list == "" {
		return "nothing was plugged in since " + since
	}
	return "new since " + since + ": " + list[2:]
}
