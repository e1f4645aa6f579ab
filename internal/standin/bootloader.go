package standin

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
	"jarlid/internal/link/fastboot"
	"jarlid/internal/standin/disk"
)

// bootloader is one computer's session with the bootloader, or with userspace
// fastboot.
type bootloader struct {
	p    *Phone
	t    fastboot.Transport
	ctx  context.Context
	user bool   // userspace
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
	if err == nil {
		p.fastboot(ctx, t)
	}
}

// serveUDP takes sessions over UDP, one after the other.
func (p *Phone) serveUDP(ctx context.Context, conn net.PacketConn) {
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
func (p *Phone) fastboot(ctx context.Context, t fastboot.Transport) {
	p.mu.Lock()
	b := &bootloader{p: p, t: t, ctx: ctx, user: p.st.Mode == card.Fastbootd}
	p.mu.Unlock()
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
	case p.spec.Unlock:
		return "", b.unlock()
	case "flashing lock":
		return "", b.lock()
	case "flashing get_unlock_ability":
		if strings.HasPrefix(p.spec.Unlock, "flashing") {
			return "", b.say("INFO", "get_unlock_ability: "+map[bool]string{true: "1",
				false: "0"}[p.mayUnlock()])
		}
	}
	if p.faulty("drop-next") {
		if p.o.Cable != nil {
			p.pull(replugAfter, false)
		}
		return "", errors.New("the cable was pulled")
	}
	verb, arg, _ := strings.Cut(cmd, ":")
	arg = b.named(verb, arg)
	if verb != "getvar" && p.faulty("refuse") {
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
		if err := p.store.Erase(arg); err != nil {
			return "", refusal(err.Error())
		}
		p.o.Log("erased " + arg)
	case "boot":
		if !p.spec.Boot || b.user {
			return "", unknown
		}
		return "", b.boot()
	case "set_active":
		return b.setActive(arg)
	case "reboot", "continue":
		b.then = p.restart
	case "reboot-bootloader":
		p.message(bcb.Message{Command: bcb.CommandBootloader})
		b.then = p.restart
	case "reboot-recovery":
		if !p.spec.RebootRecovery {
			return "", unknown
		}
		p.message(bcb.Message{Command: bcb.CommandRecovery})
		b.then = p.restart
	case "reboot-fastboot":
		if !p.spec.Userspace {
			return "", unknown
		}
		p.message(bcb.Message{Command: bcb.CommandFastboot})
		b.then = p.restart
	case "fetch", "resize-logical-partition", "create-logical-partition", "delete-logical-partition",
		"snapshot-update":
		if !b.user && verb != "snapshot-update" || !p.spec.Userspace {
			return "", unknown
		}
		return b.userspace(verb, arg)
	default:
		return "", unknown
	}
	return "", nil
}

// named gives an argument with its partition's name as the storage has it.
func (b *bootloader) named(verb, arg string) string {
	name, rest, more := strings.Cut(arg, ":")
	switch {
	case slices.Contains([]string{"flash", "erase", "fetch", "resize-logical-partition",
		"create-logical-partition", "delete-logical-partition"}, verb):
		name = b.p.spec.inside(name)
	case verb == "getvar" && slices.Contains(ofPartitions, name):
		rest = b.p.spec.inside(rest)
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
				name = what + ":" + b.p.spec.outside(part)
			}
			if err := b.say("INFO", name+":"+v); err != nil {
				return "", err
			}
		}
		return "", nil
	}
	v, ok := b.variable(arg)
	if !ok && b.p.spec.Spelling.Unknown != "empty" {
		return "", refusal("unknown variable")
	}
	return v, nil
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
	if !b.p.unlocked() {
		return lockedText
	}
	if b.p.store.Has(name) {
		return nil
	}
	if m, err := b.p.store.Super(); b.user && err == nil && m.Partition(name) != nil {
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
	if err := b.p.store.Flash(name, b.data); err != nil {
		return "", refusal(err.Error())
	}
	b.p.o.Log(fmt.Sprintf("wrote %d bytes to %s", len(b.data), name))
	return "", nil
}

// boot starts what was downloaded, after the answer.
func (b *bootloader) boot() error {
	if !b.p.unlocked() {
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
		b.p.next <- transition{to: "image", delay: time.Duration(b.p.spec.Delays.Restart), image: data}
	}
	return nil
}

func (b *bootloader) setActive(arg string) (string, error) {
	if b.p.model.Slots < 2 {
		return "", unknown
	}
	if !b.p.unlocked() {
		return "", lockedText
	}
	slot := strings.TrimPrefix(arg, "_")
	if slot != "a" && slot != "b" {
		return "", refusal("no such slot")
	}
	c := b.p.control()
	c.Activate(int(slot[0] - 'a'))
	if b.p.setControl(c) != nil {
		return "", refusal("misc could not be written")
	}
	if !b.user {
		b.p.store.Slot.Store(int32(slot[0] - 'a'))
	}
	return "", nil
}

func (p *Phone) mayUnlock() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.st.MayUnlock
}

// unlock asks the owner on the screen; what the answer does follows it.
func (b *bootloader) unlock() error {
	switch {
	case b.p.unlocked():
		return refusal("already unlocked")
	case !b.p.mayUnlock():
		return refusal("flashing unlock is not allowed: allow it in the developer settings")
	}
	b.p.askLock("Unlock the bootloader? All data will be erased.", true)
	return nil
}

func (b *bootloader) lock() error {
	if !b.p.unlocked() {
		return refusal("already locked")
	}
	b.p.askLock("Lock the bootloader? All data will be erased.", false)
	return nil
}

// askLock asks the owner whether the lock is to be changed, and does it.
func (p *Phone) askLock(text string, open bool) {
	q := &question{text: text, answer: make(chan bool, 1)}
	p.mu.Lock()
	p.ask = q
	p.mu.Unlock()
	p.show("%s", text)
	go func() {
		select {
		case yes := <-q.answer:
			if yes {
				p.setLock(open)
			}
		case <-time.After(5 * time.Minute):
		}
	}()
}

func (p *Phone) setLock(open bool) {
	for _, name := range []string{"userdata", "metadata"} {
		if p.store.Has(name) {
			if err := p.store.Erase(name); err != nil {
				p.show("Erasing failed: %v", err)
				return
			}
		}
	}
	p.mu.Lock()
	p.st.Unlocked = open
	p.save()
	p.mu.Unlock()
	p.show("The bootloader is %s, all data is erased.",
		map[bool]string{true: "unlocked", false: "locked"}[open])
	p.message(bcb.Message{Command: bcb.CommandBootloader})
	time.Sleep(lockLinger)
	p.restart()
}

// lockLinger is how long a bootloader goes on after its lock has changed, and says so, before it restarts.
const lockLinger = 400 * time.Millisecond

// userspace are the commands of userspace fastboot.
func (b *bootloader) userspace(verb, arg string) (string, error) {
	p := b.p
	if verb == "fetch" {
		return b.fetch(arg)
	}
	if !p.unlocked() {
		return "", lockedText
	}
	name, sizeText, _ := strings.Cut(arg, ":")
	size, err := strconv.ParseInt(sizeText, 10, 64)
	switch verb {
	case "resize-logical-partition":
		if err != nil || size < 0 {
			return "", refusal("bad size")
		}
		err = p.changeSuper(func(m *superMeta) error { return resize(m, name, size) })
	case "create-logical-partition":
		if err != nil || size < 0 {
			return "", refusal("bad size")
		}
		err = p.createLogical(name, size)
	case "delete-logical-partition":
		err = p.deleteLogical(name)
	case "snapshot-update":
		err = b.snapshotUpdate(arg)
	}
	if err != nil {
		return "", refusal(err.Error())
	}
	p.o.Log(verb + " " + arg)
	return "", nil
}

// fetch gives a partition out: only those that may be, as published.
func (b *bootloader) fetch(arg string) (string, error) {
	parts := strings.Split(arg, ":")
	name := parts[0]
	base := strings.TrimSuffix(strings.TrimSuffix(name, "_a"), "_b")
	if !b.p.unlocked() || !slices.Contains(b.p.spec.Fetch, base) {
		return "", refusal("fetching " + name + " is not allowed")
	}
	if !b.p.store.Has(name) && b.p.store.Slots[name] {
		name += "_" + slotName(int(b.p.store.Slot.Load()))
	}
	off, size := int64(0), b.p.store.Sizes[name]
	var err error
	if len(parts) > 1 {
		off, err = strconv.ParseInt(strings.TrimPrefix(parts[1], "0x"), 16, 64)
		size -= off
	}
	if len(parts) > 2 && err == nil {
		size, err = strconv.ParseInt(strings.TrimPrefix(parts[2], "0x"), 16, 64)
	}
	if err != nil || off < 0 || size <= 0 || off+size > b.p.store.Sizes[name] {
		return "", refusal("bad range")
	}
	if err := b.say("DATA", fmt.Sprintf("%08x", size)); err != nil {
		return "", err
	}
	for at := int64(0); at < size; at += 1 << 20 {
		p, err := b.p.store.Piece(name, off+at, min(1<<20, size-at))
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
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.st.Snapshot == snapMerging {
			return fmt.Errorf("a merge has begun and can't be cancelled")
		}
		p.setSnapshot(snapNone)
		p.st.Cows = nil
		p.store.Cows.Store(&map[string]disk.Span{})
		p.save()
		return nil
	case "merge":
		if p.st.Snapshot != snapMerging {
			return fmt.Errorf("no merge has begun")
		}
		return p.merge()
	}
	return fmt.Errorf("unknown argument %q", what)
}
