package wire

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/super"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/disk"
)

// bootloader is one computer's session with the bootloader, or with userspace
// fastboot.
type bootloader struct {
	p    *Ends
	t    fastboot.Transport
	ctx  context.Context
	user bool   // userspace
	data []byte // what was downloaded last
	then func() // what happens once the answer is out
}

// refusal is a FAIL with its text.
type refusal string

func (r refusal) Error() string { return string(r) }

// ServeFastboot is one connection over TCP.
func (p *Ends) ServeFastboot(ctx context.Context, conn net.Conn) {
	hctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	t, err := fastboot.NewTCP(hctx, conn)
	cancel()
	if err == nil {
		p.fastboot(ctx, t)
	}
}

// ServeUDP takes sessions over UDP, one after the other.
func (p *Ends) ServeUDP(ctx context.Context, conn net.PacketConn) {
	d := fastboot.NewUDPDevice(conn)
	for {
		t, err := d.Accept(ctx)
		if err != nil {
			return
		}
		p.fastboot(ctx, t)
	}
}

// fastboot is one session.
func (p *Ends) fastboot(ctx context.Context, t fastboot.Transport) {
	p.Mu.Lock()
	b := &bootloader{p: p, t: t, ctx: ctx, user: p.State.Mode == card.Fastbootd}
	p.Mu.Unlock()
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

// unknown is what this bootloader says to a command it does not have.
const unknown = refusal("unknown command")

func (b *bootloader) command(cmd string) (string, error) {
	p := b.p
	switch cmd {
	case p.Spec.Unlock:
		return "", b.unlock()
	case "flashing lock":
		return "", b.lock()
	case "flashing get_unlock_ability":
		if strings.HasPrefix(p.Spec.Unlock, "flashing") {
			return "", b.say("INFO", "get_unlock_ability: "+map[bool]string{true: "1",
				false: "0"}[p.mayUnlock()])
		}
	}
	if p.Faulty("drop-next") {
		if p.Options.Cable != nil {
			p.pull(replugAfter, false)
		}
		return "", errors.New("the cable was pulled")
	}
	verb, arg, _ := strings.Cut(cmd, ":")
	arg = b.named(verb, arg)
	if verb != "getvar" && p.Faulty("refuse") {
		return "", refusal("the fault was ordered")
	}
	switch verb {
	case "getvar":
		return b.getvar(arg)
	case "download":
		return b.download(arg)
	case "flash":
		return b.flash(arg)
	case "erase":
		if err := b.writable(arg); err != nil {
			return "", err
		}
		if err := p.Store.Erase(arg); err != nil {
			return "", refusal(err.Error())
		}
		p.Options.Log("erased " + arg)
	case "boot":
		if !p.Spec.Boot || b.user {
			return "", unknown
		}
		return "", b.boot()
	case "set_active":
		return b.setActive(arg)
	case "reboot", "continue", "reboot-bootloader", "reboot-recovery", "reboot-fastboot":
		return "", b.restart(verb)
	case "fetch", "resize-logical-partition", "create-logical-partition", "delete-logical-partition",
		"snapshot-update":
		if !b.user && verb != "snapshot-update" || !p.Spec.Userspace {
			return "", unknown
		}
		return b.userspace(verb, arg)
	default:
		return "", unknown
	}
	return "", nil
}

// restart orders a restart, which comes once the command is answered.
func (b *bootloader) restart(verb string) error {
	p := b.p
	message := map[string]string{"reboot-bootloader": bcb.CommandBootloader,
		"reboot-recovery": bcb.CommandRecovery, "reboot-fastboot": bcb.CommandFastboot}[verb]
	if verb == "reboot-recovery" && !p.Spec.RebootRecovery || verb == "reboot-fastboot" && !p.Spec.Userspace {
		return unknown
	}
	if message != "" {
		p.Message(bcb.Message{Command: message})
	}
	b.then = p.Restart
	return nil
}

// named gives an argument with its partition's name as the storage has it.
func (b *bootloader) named(verb, arg string) string {
	name, rest, more := strings.Cut(arg, ":")
	switch {
	case slices.Contains([]string{"flash", "erase", "fetch", "resize-logical-partition",
		"create-logical-partition", "delete-logical-partition"}, verb):
		name = b.p.Spec.Inside(name)
	case verb == "getvar" && slices.Contains(ofPartitions, name):
		rest = b.p.Spec.Inside(rest)
	}
	if more {
		return name + ":" + rest
	}
	return name
}

func (b *bootloader) getvar(arg string) (string, error) {
	if arg == "all" {
		for _, name := range b.variables() {
			v, _ := b.variable(name)
			if what, part, ok := strings.Cut(name, ":"); ok && slices.Contains(ofPartitions, what) {
				name = what + ":" + b.p.Spec.Outside(part)
			}
			if err := b.say("INFO", name+":"+v); err != nil {
				return "", err
			}
		}
		return "", nil
	}
	v, ok := b.variable(arg)
	if !ok && b.p.Spec.Spelling.Unknown != "empty" {
		return "", refusal("unknown variable")
	}
	return v, nil // of what it does not know: "no" or nothing, as some have it
}

// download takes the announced number of bytes, in packets of any length.
func (b *bootloader) download(arg string) (string, error) {
	n, err := strconv.ParseUint(arg, 16, 32)
	if err != nil || len(arg) != 8 || n == 0 {
		return "", refusal("bad size")
	}
	if int64(n) > int64(b.p.Spec.MaxDownload) {
		return "", refusal("data too large")
	}
	b.data = nil // the old download is gone even if the new one is interrupted
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

const lockedText = refusal("not allowed while the device is locked")

// writable reports whether a partition may be written: logical ones in userspace
// alone.
func (b *bootloader) writable(name string) error {
	if !b.p.Unlocked() {
		return lockedText
	}
	if b.p.Store.Has(name) {
		return nil
	}
	if m, err := b.p.Store.Super(); b.user && err == nil && m.Partition(name) != nil {
		return nil
	}
	return refusal("no such partition")
}

func (b *bootloader) flash(name string) (string, error) {
	if err := b.writable(name); err != nil {
		return "", err
	}
	if b.data == nil {
		return "", refusal("nothing was downloaded")
	}
	if err := b.p.Store.Flash(name, b.data); err != nil {
		return "", refusal(err.Error())
	}
	b.p.Options.Log(fmt.Sprintf("wrote %d bytes to %s", len(b.data), name))
	return "", nil
}

// boot starts what was downloaded, after the answer.
func (b *bootloader) boot() error {
	if !b.p.Unlocked() {
		return lockedText
	}
	if b.data == nil {
		return refusal("nothing was downloaded")
	}
	data := b.data
	if !bytes.HasPrefix(data, []byte(boot.Magic)) {
		return refusal("this is no boot image")
	}
	b.then = func() {
		b.p.Next <- device.Transition{To: "image", Delay: time.Duration(b.p.Spec.Delays.Restart), Image: data}
	}
	return nil
}

func (b *bootloader) setActive(arg string) (string, error) {
	if b.p.Model.Slots < 2 {
		return "", unknown
	}
	if !b.p.Unlocked() {
		return "", lockedText
	}
	slot := strings.TrimPrefix(arg, "_")
	if slot != "a" && slot != "b" {
		return "", refusal("no such slot")
	}
	c := b.p.Control()
	c.Activate(int(slot[0] - 'a'))
	if b.p.SetControl(c) != nil {
		return "", refusal("misc could not be written")
	}
	if !b.user {
		b.p.Store.Slot.Store(int32(slot[0] - 'a'))
	}
	return "", nil
}

func (p *Ends) mayUnlock() bool {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	return p.State.MayUnlock
}

// unlock asks the owner on the screen; what the answer does follows it.
func (b *bootloader) unlock() error {
	switch {
	case b.p.Unlocked():
		return refusal("already unlocked")
	case !b.p.mayUnlock():
		return refusal("flashing unlock is not allowed: allow it in the developer settings")
	}
	b.p.askLock("Unlock the bootloader? All data will be erased.", true)
	return nil
}

func (b *bootloader) lock() error {
	if !b.p.Unlocked() {
		return refusal("already locked")
	}
	b.p.askLock("Lock the bootloader? All data will be erased.", false)
	return nil
}

// askLock asks the owner whether the lock is to be changed, and does it.
func (p *Ends) askLock(text string, open bool) {
	q := &device.Question{Text: text, Answer: make(chan bool, 1)}
	p.Mu.Lock()
	p.Asked = q
	p.Mu.Unlock()
	p.Show("%s", text)
	go func() {
		select {
		case yes := <-q.Answer:
			if yes {
				p.setLock(open)
			}
		case <-time.After(5 * time.Minute):
		}
	}()
}

func (p *Ends) setLock(open bool) {
	for _, name := range []string{"userdata", "metadata"} {
		if p.Store.Has(name) {
			if err := p.Store.Erase(name); err != nil {
				p.Show("Erasing failed: %v", err)
				return
			}
		}
	}
	p.Mu.Lock()
	p.State.Unlocked = open
	p.Save()
	p.Mu.Unlock()
	p.Show("The bootloader is %s, all data is erased.",
		map[bool]string{true: "unlocked", false: "locked"}[open])
	p.Message(bcb.Message{Command: bcb.CommandBootloader})
	time.Sleep(lockLinger)
	p.Restart()
}

// lockLinger is how long a bootloader goes on after its lock has changed, and says so, before it restarts.
const lockLinger = 400 * time.Millisecond

// userspace are the commands of userspace fastboot.
func (b *bootloader) userspace(verb, arg string) (string, error) {
	p := b.p
	if verb == "fetch" {
		return b.fetch(arg)
	}
	if !p.Unlocked() {
		return "", lockedText
	}
	name, sizeText, _ := strings.Cut(arg, ":")
	size, err := strconv.ParseInt(sizeText, 10, 64)
	switch verb {
	case "resize-logical-partition":
		if err != nil || size < 0 {
			return "", refusal("bad size")
		}
		err = p.ChangeSuper(func(m *super.Metadata) error { return device.Resize(m, name, size) })
	case "create-logical-partition":
		if err != nil || size < 0 {
			return "", refusal("bad size")
		}
		err = p.CreateLogical(name, size)
	case "delete-logical-partition":
		err = p.DeleteLogical(name)
	case "snapshot-update":
		err = b.snapshotUpdate(arg)
	}
	if err != nil {
		return "", refusal(err.Error())
	}
	p.Options.Log(verb + " " + arg)
	return "", nil
}

// fetch gives a partition out: only those that may be, as published.
func (b *bootloader) fetch(arg string) (string, error) {
	parts := strings.Split(arg, ":")
	name := parts[0]
	base := strings.TrimSuffix(strings.TrimSuffix(name, "_a"), "_b")
	if !b.p.Unlocked() || !slices.Contains(b.p.Spec.Fetch, base) {
		return "", refusal("fetching " + name + " is not allowed")
	}
	if !b.p.Store.Has(name) && b.p.Store.Slots[name] {
		name += "_" + device.SlotName(int(b.p.Store.Slot.Load()))
	}
	off, size := int64(0), b.p.Store.Sizes[name]
	var err error
	if len(parts) > 1 {
		off, err = strconv.ParseInt(strings.TrimPrefix(parts[1], "0x"), 16, 64)
		size -= off
	}
	if len(parts) > 2 && err == nil {
		size, err = strconv.ParseInt(strings.TrimPrefix(parts[2], "0x"), 16, 64)
	}
	if err != nil || off < 0 || size <= 0 || off+size > b.p.Store.Sizes[name] {
		return "", refusal("bad range")
	}
	if err := b.say("DATA", fmt.Sprintf("%08x", size)); err != nil {
		return "", err
	}
	for at := int64(0); at < size; at += 1 << 20 {
		p, err := b.p.Store.Piece(name, off+at, min(1<<20, size-at))
		if err == nil {
			err = b.t.WritePacket(b.ctx, p)
		}
		if err != nil {
			return "", err
		}
	}
	return "", nil
}

// snapshotUpdate ends an install that waits for its merge: cancel throws the new
// slot away, merge does what the first good start would do.
func (b *bootloader) snapshotUpdate(what string) error {
	p := b.p
	switch what {
	case "cancel":
		p.Mu.Lock()
		defer p.Mu.Unlock()
		if p.State.Snapshot == device.SnapMerging {
			return fmt.Errorf("a merge has begun and can't be cancelled")
		}
		p.SetSnapshot(device.SnapNone)
		p.State.Cows = nil
		p.Store.Cows.Store(&map[string]disk.Span{})
		p.Save()
		return nil
	case "merge":
		if p.State.Snapshot != device.SnapMerging {
			return fmt.Errorf("no merge has begun")
		}
		return p.Merge()
	}
	return fmt.Errorf("unknown argument %q", what)
}
