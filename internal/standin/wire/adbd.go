package wire

import (
	"context"
	"io"
	"net"
	"strings"

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

// ServeADB is what listens in a system with debugging on, in a recovery and in
// sideload mode.
func (p *Ends) ServeADB(ctx context.Context, conn net.Conn) {
	p.debug(ctx, conn, &adb.Device{}, func() { conn.Close() })
}

// debug is one connection over a wire; drop pulls it.
func (p *Ends) debug(ctx context.Context, wire link.Stream, d *adb.Device, drop func()) {
	p.Mu.Lock()
	mode, r := p.State.Mode, p.Running
	p.Mu.Unlock()
	d.Version, d.MaxPayload = adb.VersionNoSum, adb.MaxPayload
	d.Banner = adb.Banner{Kind: bannerKinds[mode], Props: map[string]string{}}
	for _, k := range []string{"ro.product.name", "ro.product.model", "ro.product.device"} {
		if v, ok := r.Props[k]; ok {
			d.Banner.Props[k] = v
		}
	}
	if mode != card.Sideload && !p.Spec.OldADB {
		d.Banner.Features = []string{"shell_v2", "stat_v2", "ls_v2", "sendrecv_v2"}
	}
	if mode == card.System || r.Props["ro.adb.secure"] == "1" {
		d.Knows = p.knownKeys
		d.Ask = p.askKey
	}
	var c *adb.Conn
	d.Serve = func(service string, s *adb.Stream) bool {
		name, arg, _ := strings.Cut(service, ":")
		if p.Faulty("drop-next") {
			drop()
			return false
		}
		if p.Faulty("refuse") {
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
		case mode == card.Sideload && name == "sideload" && p.Spec.OldADB:
			return run(func() { p.SideloadWhole(ctx, arg, s) })
		case mode == card.Sideload && name == "sideload-host" && !p.Spec.OldADB:
			return run(func() { p.SideloadService(ctx, arg, s) })
		case mode == card.Sideload:
			return false // what serves a package serves nothing else
		case name == "sync":
			return run(func() { _ = adb.ServeSync(s, p.Files(mode)) })
		case strings.HasPrefix(name, "shell,v2"):
			return run(func() { p.ShellService(ctx, mode, arg, s, true) })
		case name == "shell":
			return run(func() { p.ShellService(ctx, mode, arg, s, false) })
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
func (p *Ends) knownKeys() []string {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	if p.Running == nil || p.Running.Vault == nil {
		return nil
	}
	return p.Running.Vault.Keys
}

// askKey asks the owner and waits for the answer.
func (p *Ends) askKey(ctx context.Context, public string) bool {
	public = strings.TrimRight(public, "\x00")
	yes := p.AskOwner(ctx, "Allow debugging by the computer with the key "+adb.Fingerprint(public)+"?")
	p.Mu.Lock()
	defer p.Mu.Unlock()
	if yes && p.Running != nil && p.Running.Vault != nil {
		p.Running.Vault.Keys = append(p.Running.Vault.Keys, public)
		if err := p.SaveVault(p.Running.Vault, p.Running.Key); err != nil {
			return false
		}
	}
	return yes
}

// rebootService restarts into what is asked for, by way of misc.
func (p *Ends) rebootService(target string, s io.Writer) {
	var m bcb.Message
	switch target {
	case "", "system":
	case "bootloader":
		m.Command = bcb.CommandBootloader
	case "recovery":
		m.Command = bcb.CommandRecovery
		// A message that is there already is kept with its orders (init's reboot.cpp);
		// in sideload mode it is the recovery that restarts, and takes it away first.
		p.Mu.Lock()
		waiting := p.State.Mode == card.Sideload
		p.Mu.Unlock()
		if misc, err := p.Store.Head("misc", bcb.Size); err == nil && !waiting {
			if old, _ := bcb.ParseMessage(misc); old.Command == m.Command {
				m = old
			}
		}
	case "fastboot":
		if !p.Spec.Userspace {
			io.WriteString(s, "unknown target\n")
			return
		}
		m.Command = bcb.CommandFastboot
	case "sideload":
		m = bcb.Message{Command: bcb.CommandRecovery, Recovery: []string{"recovery", "--sideload"}}
		p.Mu.Lock()
		can := p.Running != nil && (p.Running.Vault != nil || p.Running.Traits.Shell)
		p.Mu.Unlock()
		if !can {
			io.WriteString(s, "this recovery is put into sideload mode from its menu\n")
			return
		}
	default:
		io.WriteString(s, "unknown target\n")
		return
	}
	if p.Message(m) == nil {
		p.Restart()
	}
}
