package standin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sort"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/image/bcb"
	"jarlid/internal/link/fastboot"
)

// bootloader is one computer's session with the bootloader.
type bootloader struct {
	p    *Phone
	t    *fastboot.TCP
	ctx  context.Context
	data []byte // what was downloaded last
	then func() // what happens once the answer is out
}

// refusal is a FAIL with its text.
type refusal string

func (r refusal) Error() string { return string(r) }

func (p *Phone) serveFastboot(ctx context.Context, conn net.Conn) {
	hctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	t, err := fastboot.NewTCP(hctx, conn)
	cancel()
	if err != nil {
		return
	}
	b := &bootloader{p: p, t: t, ctx: ctx}
	buf := make([]byte, fastboot.MaxCommand)
	for {
		n, err := t.ReadPacket(ctx, buf)
		if err != nil {
			return
		}
		text, err := b.command(string(buf[:n]))
		var no refusal
		switch {
		case errors.As(err, &no):
			err = b.say("FAIL", string(no))
		case err != nil:
			return // the connection broke
		default:
			err = b.say("OKAY", text)
		}
		if err != nil {
			return
		}
		if b.then != nil {
			b.then()
			return
		}
	}
}

func (b *bootloader) say(word, text string) error {
	return b.t.WritePacket(b.ctx, []byte(word+text[:min(len(text), fastboot.MaxResponse-4)]))
}

func (b *bootloader) command(cmd string) (string, error) {
	p := b.p
	verb, arg, _ := strings.Cut(cmd, ":")
	switch verb {
	case "getvar":
		if arg == "all" {
			for _, name := range b.variables() {
				v, _ := b.variable(name)
				if err := b.say("INFO", name+":"+v); err != nil {
					return "", err
				}
			}
			return "", nil
		}
		v, ok := b.variable(arg)
		if !ok {
			return "", refusal("unknown variable")
		}
		return v, nil
	case "download":
		return b.download(arg)
	case "flash":
		return b.flash(arg)
	case "erase":
		if err := b.writable(arg); err != nil {
			return "", err
		}
		if err := p.store.erase(arg); err != nil {
			return "", refusal(err.Error())
		}
		p.o.Log("erased " + arg)
		return "", nil
	case "set_active":
		return b.setActive(arg)
	case "reboot", "continue":
		b.then = p.restart
	case "reboot-bootloader":
		p.message(bcb.Message{Command: bcb.CommandBootloader})
		b.then = p.restart
	case "reboot-recovery":
		if !p.spec.RebootRecovery {
			return "", refusal("unknown command")
		}
		p.message(bcb.Message{Command: bcb.CommandRecovery})
		b.then = p.restart
	default:
		return "", refusal("unknown command")
	}
	return "", nil
}

// download takes the announced number of bytes, in packets of any length.
func (b *bootloader) download(arg string) (string, error) {
	n, err := strconv.ParseUint(arg, 16, 32)
	if err != nil || len(arg) != 8 || n == 0 {
		return "", refusal("bad size")
	}
	if int64(n) > int64(b.p.spec.MaxDownload) {
		return "", refusal("data too large")
	}
	b.data = nil // the old download is gone even if the new one breaks off
	if err := b.say("DATA", fmt.Sprintf("%08x", n)); err != nil {
		return "", err
	}
	data := make([]byte, n)
	for got := uint64(0); got < n; {
		m, err := b.t.ReadPacket(b.ctx, data[got:])
		if err != nil {
			return "", err
		}
		got += uint64(m)
	}
	b.data = data
	return "", nil
}

func (b *bootloader) unlocked() bool {
	b.p.mu.Lock()
	defer b.p.mu.Unlock()
	return b.p.st.Unlocked
}

func (b *bootloader) writable(name string) error {
	if !b.unlocked() {
		return refusal("not allowed while the device is locked")
	}
	if !b.p.store.has(name) {
		return refusal("no such partition")
	}
	return nil
}

func (b *bootloader) flash(name string) (string, error) {
	if err := b.writable(name); err != nil {
		return "", err
	}
	if b.data == nil {
		return "", refusal("nothing was downloaded")
	}
	if err := b.p.store.flash(name, b.data); err != nil {
		return "", refusal(err.Error())
	}
	b.p.o.Log(fmt.Sprintf("wrote %d bytes to %s", len(b.data), name))
	return "", nil
}

func (b *bootloader) setActive(arg string) (string, error) {
	if !b.unlocked() {
		return "", refusal("not allowed while the device is locked")
	}
	slot := strings.TrimPrefix(arg, "_")
	if b.p.model.Slots < 2 || slot != "a" && slot != "b" {
		return "", refusal("no such slot")
	}
	c := b.p.control()
	c.Activate(int(slot[0] - 'a'))
	if b.p.setControl(c) != nil {
		return "", refusal("misc could not be written")
	}
	return "", nil
}

func (b *bootloader) variables() []string {
	names := []string{"version", "product", "serialno", "unlocked", "secure", "max-download-size", "is-userspace"}
	for v := range b.p.spec.Battery.Variables {
		names = append(names, v)
	}
	if b.p.spec.SlotVariables && b.p.model.Slots > 1 {
		names = append(names, "slot-count", "current-slot")
		for _, s := range []string{"a", "b"} {
			names = append(names, "slot-successful:"+s, "slot-unbootable:"+s, "slot-retry-count:"+s)
		}
		for base := range b.p.store.slots {
			names = append(names, "has-slot:"+base)
		}
	}
	for name := range b.p.store.sizes {
		names = append(names, "partition-size:"+name, "partition-type:"+name)
	}
	sort.Strings(names)
	return names
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// variable answers getvar; every value is worked out from the phone's state.
func (b *bootloader) variable(name string) (string, bool) {
	p := b.p
	name, arg, _ := strings.Cut(name, ":")
	if what, ok := p.spec.Battery.Variables[name]; ok {
		return b.battery(what), true
	}
	switch name {
	case "version":
		return "0.4", true
	case "product":
		return p.spec.Product, true
	case "serialno":
		return p.st.Serial, true
	case "unlocked":
		return yesNo(b.unlocked()), true
	case "secure":
		return yesNo(!b.unlocked()), true
	case "is-userspace":
		return "no", true
	case "max-download-size":
		return fmt.Sprintf("0x%x", int64(p.spec.MaxDownload)), true
	case "partition-size":
		n, ok := p.store.sizes[arg]
		return fmt.Sprintf("0x%x", n), ok
	case "partition-type":
		t, ok := p.store.kinds[arg]
		return orElse(t, "raw"), ok
	}
	if p.spec.SlotVariables && p.model.Slots > 1 {
		return b.slotVariable(name, arg)
	}
	return "", false
}

func (b *bootloader) slotVariable(name, arg string) (string, bool) {
	c := b.p.control()
	switch name {
	case "slot-count":
		return fmt.Sprint(len(c.Slots)), true
	case "current-slot":
		if i := c.Next(); i >= 0 {
			return slotName(i), true
		}
		return "", true
	case "has-slot":
		slotted, ok := b.p.store.slots[arg]
		return yesNo(slotted), ok
	}
	if arg != "a" && arg != "b" {
		return "", false
	}
	s := c.Slots[arg[0]-'a']
	switch name {
	case "slot-successful":
		return yesNo(s.Successful), true
	case "slot-unbootable":
		return yesNo(!s.Bootable()), true
	case "slot-retry-count":
		return fmt.Sprint(s.TriesLeft), true
	}
	return "", false
}

func (b *bootloader) battery(what string) string {
	b.p.mu.Lock()
	percent := b.p.st.Percent
	b.p.mu.Unlock()
	switch what {
	case "millivolts":
		// A straight line from 3.3 V empty to full comes near enough.
		return fmt.Sprintf("%dmV", 3300+percent*(b.p.spec.Battery.FullMV-3300)/100)
	case "verdict":
		return yesNo(percent >= 15)
	}
	return fmt.Sprint(percent)
}
