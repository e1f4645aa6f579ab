package standin

import (
	"context"
	"io"
	"net"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

var bannerKinds = map[card.Mode]string{
	card.System:   "device",
	card.Recovery: "recovery",
	card.Sideload: "sideload",
}

// serveADB is what listens in a system with debugging on, in a recovery and in
// sideload mode.
func (p *Phone) serveADB(ctx context.Context, conn net.Conn) {
	p.debug(ctx, conn, &adb.Device{}, func() { conn.Close() })
}

// debug is one connection over a wire; drop pulls it.
func (p *Phone) debug(ctx context.Context, wire link.Stream, d *adb.Device, drop func()) {
	p.mu.Lock()
	mode, r := p.st.Mode, p.run
	p.mu.Unlock()
	d.Version, d.MaxPayload = adb.VersionNoSum, adb.MaxPayload
	d.Banner = adb.Banner{Kind: bannerKinds[mode], Props: map[string]string{}}
	for _, k := range []string{"ro.product.name", "ro.product.model", "ro.product.device"} {
		if v, ok := r.props[k]; ok {
			d.Banner.Props[k] = v
		}
	}
	if mode != card.Sideload && !p.spec.OldADB {
		d.Banner.Features = []string{"shell_v2", "stat_v2", "ls_v2", "sendrecv_v2"}
	}
	if mode == card.System || r.props["ro.adb.secure"] == "1" {
		d.Knows = p.knownKeys
		d.Ask = p.askKey
	}
	var c *adb.Conn
	d.Serve = func(service string, s *adb.Stream) bool {
		name, arg, _ := strings.Cut(service, ":")
		if p.faulty("drop-next") {
			drop()
			return false
		}
		if p.faulty("refuse") {
			return false
		}
		run := func(f func()) bool {
			go func() {
				defer s.Close()
				s.With(ctx)
				if s.Accept() == nil {
					f()
					s.Drain()
				}
			}()
			return true
		}
		switch {
		case name == "reboot":
			return run(func() { p.rebootService(arg, s) })
		case mode == card.Sideload && name == "sideload" && p.spec.OldADB:
			return run(func() { p.sideloadWhole(ctx, arg, s) })
		case mode == card.Sideload && name == "sideload-host" && !p.spec.OldADB:
			return run(func() { p.sideloadService(ctx, arg, s) })
		case mode == card.Sideload:
			return false // what serves a package serves nothing else
		case name == "sync":
			return run(func() { _ = adb.ServeSync(s, phoneFiles{p, mode}) })
		case strings.HasPrefix(name, "shell,v2"):
			return run(func() { p.shellService(ctx, mode, arg, s, true) })
		case name == "shell":
			return run(func() { p.shellService(ctx, mode, arg, s, false) })
		}
		return false
	}
	c, err := d.Accept(ctx, wire)
	if err != nil {
		return
	}
	defer c.Close()
	select {
	case <-ctx.Done():
	case <-c.Done():
	}
}

// knownKeys is what the owner allowed; it is in the data and is gone with it.
func (p *Phone) knownKeys() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.run == nil || p.run.vault == nil {
		return nil
	}
	return p.run.vault.Keys
}

// askKey asks the owner and waits for the answer.
func (p *Phone) askKey(ctx context.Context, public string) bool {
	public = strings.TrimRight(public, "\x00")
	yes := p.askOwner(ctx, "Allow debugging by the computer with the key "+adb.Fingerprint(public)+"?")
	p.mu.Lock()
	defer p.mu.Unlock()
	if yes && p.run != nil && p.run.vault != nil {
		p.run.vault.Keys = append(p.run.vault.Keys, public)
		if err := p.saveVault(p.run.vault, p.run.key); err != nil {
			return false
		}
	}
	return yes
}

// askOwner puts a question on the phone's screen and waits for its owner; no
// answer in five minutes is no.
func (p *Phone) askOwner(ctx context.Context, text string) bool {
	q := &question{text: text, answer: make(chan bool, 1)}
	p.mu.Lock()
	p.ask = q
	p.mu.Unlock()
	p.show("%s", text)
	yes := false
	select {
	case yes = <-q.answer:
	case <-ctx.Done():
	case <-time.After(5 * time.Minute):
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ask == q {
		p.ask = nil
	}
	return yes
}

// rebootService restarts into what is asked for, by way of misc.
func (p *Phone) rebootService(target string, s io.Writer) {
	var m bcb.Message
	switch target {
	case "", "system":
	case "bootloader":
		m.Command = bcb.CommandBootloader
	case "recovery":
		m.Command = bcb.CommandRecovery
		// A message that is there already is kept with its orders (init's reboot.cpp);
		// in sideload mode it is the recovery that restarts, and takes it away first.
		p.mu.Lock()
		waiting := p.st.Mode == card.Sideload
		p.mu.Unlock()
		if misc, err := p.store.Head("misc", bcb.Size); err == nil && !waiting {
			if old, _ := bcb.ParseMessage(misc); old.Command == m.Command {
				m = old
			}
		}
	case "fastboot":
		if !p.spec.Userspace {
			io.WriteString(s, "unknown target\n")
			return
		}
		m.Command = bcb.CommandFastboot
	case "sideload":
		m = bcb.Message{Command: bcb.CommandRecovery, Recovery: []string{"recovery", "--sideload"}}
		p.mu.Lock()
		can := p.run != nil && (p.run.vault != nil || p.run.traits.Shell)
		p.mu.Unlock()
		if !can {
			io.WriteString(s, "this recovery is put into sideload mode from its menu\n")
			return
		}
	default:
		io.WriteString(s, "unknown target\n")
		return
	}
	if p.message(m) == nil {
		p.restart()
	}
}
