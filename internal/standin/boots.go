package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/standin/disk"
	"jarlid/internal/standin/scenario"
)

// loopError says that a start got as far as the kernel and restarts again and
// again.
type loopError struct{ error }

func loops(format string, args ...any) error { return &loopError{fmt.Errorf(format, args...)} }

func (p *Phone) recoveryOrStay() card.Mode {
	if err := p.startRecovery(nil); err != nil {
		p.show("No recovery: %v", err)
		return card.Bootloader
	}
	return card.Recovery
}

// bootPart reads what starts from one partition: the image and the files of
// its ramdisk named in want.
func (p *Phone) bootPart(name string, want ...string) (*boot.Image, *boot.Ramdisk, error) {
	v, err := p.store.Open(name)
	if err != nil {
		return nil, nil, err
	}
	defer v.Close()
	return readBoot(name, v, v.Size, want...)
}

func readBoot(name string, r io.ReaderAt, size int64, want ...string) (*boot.Image, *boot.Ramdisk, error) {
	m, err := boot.Parse(r, size)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	if m.Section("ramdisk").Size == 0 {
		return m, &boot.Ramdisk{Props: map[string]string{}}, nil
	}
	rd, err := boot.ReadRamdisk(m.Open(r, "ramdisk"), append(want, scenario.TraitsFile)...)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return m, rd, nil
}

// fragment reads the ramdisk of one type out of a slot's vendor_boot.
func (p *Phone) fragment(slot string, typ uint32, want ...string) (*boot.Ramdisk, error) {
	name := p.on("vendor_boot", slot)
	v, err := p.store.Open(name)
	if err != nil {
		return nil, err
	}
	defer v.Close()
	m, err := boot.ParseVendor(v, v.Size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, f := range m.Fragments {
		if f.Type == typ {
			rd, err := boot.ReadRamdisk(io.NewSectionReader(v, f.Offset, f.Size),
				append(want, scenario.TraitsFile)...)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			return rd, nil
		}
	}
	return nil, fmt.Errorf("%s holds no ramdisk of the type %s", name, boot.FragmentTypes[typ])
}

// kernelOf makes sure that an image has a kernel for this board.
func (p *Phone) kernelOf(name string, m *boot.Image, rd *boot.Ramdisk) error {
	if m.Section("kernel").Size == 0 {
		return fmt.Errorf("%s has no kernel", name)
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.model.Is(d) {
		return fmt.Errorf("%s is made for %s and hangs on this board", name, d)
	}
	return nil
}

// recoveryRamdisk reads the recovery of a slot from where this phone keeps it,
// or from an image that was sent.
func (p *Phone) recoveryRamdisk(slot string, sent []byte, want ...string) (rd *boot.Ramdisk, name string,
	err error) {
	home := p.model.RecoveryPartition()
	name = p.on(home, slot)
	if home == "vendor_boot" {
		m, own, err := p.bootPart(p.on("boot", slot))
		if err == nil {
			err = p.kernelOf(p.on("boot", slot), m, own)
		}
		if err == nil {
			rd, err = p.fragment(slot, boot.FragmentRecovery, want...)
		}
		return rd, name, err
	}
	var m *boot.Image
	if sent != nil {
		name = "the image that was sent"
		m, rd, err = readBoot(name, bytes.NewReader(sent), int64(len(sent)), want...)
	} else {
		m, rd, err = p.bootPart(name, want...)
	}
	if err == nil {
		err = p.kernelOf(name, m, rd)
	}
	return rd, name, err
}

// startRecovery starts the recovery of the next slot, or one that was sent.
func (p *Phone) startRecovery(sent []byte) error {
	i := p.nextSlot()
	if i < 0 {
		return fmt.Errorf("no slot can be started")
	}
	slot := slotName(i)
	rd, name, err := p.recoveryRamdisk(slot, sent)
	if err != nil {
		return err
	}
	if !rd.Recovery {
		return fmt.Errorf("%s holds no recovery", name)
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.model.Is(d) {
		return fmt.Errorf("%s is made for %s and hangs on this board", name, d)
	}
	if _, err := p.verify(slot, false); err != nil {
		return err
	}
	r := &running{slot: slot, props: rd.Props}
	if b, ok := rd.Wanted[scenario.TraitsFile]; ok {
		if err := yaml.Unmarshal(b, &r.traits); err != nil {
			return fmt.Errorf("%s: its traits are damaged: %w", name, err)
		}
	} else {
		// A recovery nobody here made: it behaves as its properties say.
		r.traits = traits{Shell: rd.Props["ro.debuggable"] == "1", Fastbootd: true}
	}
	for part, mark := range r.traits.Needs {
		have, err := p.store.Head(p.on(part, slot), 1<<20)
		if err != nil || !bytes.Contains(have, []byte(mark)) {
			return fmt.Errorf("%s stops on a black screen: what is in %s is not what it was built for", name,
				p.on(part, slot))
		}
	}
	r.files = func(want string) ([]byte, bool) {
		rd, _, err := p.recoveryRamdisk(slot, sent, want)
		if err != nil {
			return nil, false
		}
		b, ok := rd.Wanted[want]
		return b, ok
	}
	p.started(r)
	p.show("%s", orElse(ident.BuildOf(r.props), "a recovery without a name"))
	return nil
}

// startImage starts an image that was sent and not written.
func (p *Phone) startImage(sent []byte) card.Mode {
	err := p.startRecovery(sent)
	if err == nil {
		return card.Recovery
	}
	p.show("The image that was sent did not start: %v", err)
	p.stopped()
	return card.Bootloader
}

// verify is verified boot of one slot, worked out from the bytes. A locked phone
// starts only what verifies down to the last hash under its manufacturer's key and is not
// older than what it started before. An unlocked one forgives signatures and digests;
// what it never forgives is a vbmeta that can't be read, and the trees of the
// system's partitions (whole set), which the kernel enforces.
func (p *Phone) verify(slot string, whole bool) (*vbmeta.Chain, error) {
	if _, ok := p.store.Slots["vbmeta"]; !ok {
		return nil, nil
	}
	var opened []*disk.Volume
	defer func() {
		for _, v := range opened {
			v.Close()
		}
	}()
	open := func(name string) (io.ReaderAt, int64, error) {
		v, err := p.store.Open(p.on(name, slot))
		if err != nil {
			return nil, 0, fmt.Errorf("%w: %v", fs.ErrNotExist, err)
		}
		opened = append(opened, v)
		return v, v.Size, nil
	}
	// What would be forgiven is not worked out.
	strict := !p.unlocked() || p.spec.Enforces
	var also vbmeta.Contents
	if strict {
		also |= vbmeta.WithHashes
	}
	if whole {
		if _, off, _, _ := vbmeta.Trees(open, "vbmeta"); strict || !off {
			also |= vbmeta.WithTrees
		}
	}
	c, err := vbmeta.VerifyChain(context.Background(), open, "vbmeta", also)
	if err != nil {
		return c, err
	}
	if err := c.Invalid(); err != nil {
		return c, fmt.Errorf("verified boot: %w", err)
	}
	if strict {
		if err := p.trusts(c); err != nil {
			return c, fmt.Errorf("verified boot refuses it: %w", err)
		}
		return c, nil
	}
	p.show("Warning: this phone is unlocked, what it starts is not verified.")
	if c.Top.Flags&vbmeta.FlagHashtreeDisabled == 0 {
		if bad := c.Bad("hashtree"); len(bad) > 0 {
			return c, loops("%s does not match its tree: %w", p.on(bad[0].Partition, slot), bad[0].Err)
		}
		for _, v := range c.Verdicts {
			if name := p.on(v.Partition, slot); v.Kind == "hashtree" && p.store.Changed(name) {
				return c, loops("files of %s were changed, so it does not match its tree", name)
			}
		}
	}
	return c, nil
}

// trusts is what a locked phone demands.
func (p *Phone) trusts(c *vbmeta.Chain) error {
	if bad := c.Bad(); len(bad) > 0 {
		return fmt.Errorf("%s: %w", bad[0].Partition, bad[0].Err)
	}
	key, err := scenario.Key("wickerlight")
	if err != nil {
		return err
	}
	if !bytes.Equal(c.Top.PublicKey, vbmeta.EncodeKey(&key.PublicKey)) {
		return errors.New("the vbmeta is not signed by the maker")
	}
	for _, v := range c.Verdicts {
		if v.Image != nil && v.Image.RollbackIndex < p.st.Rollback[v.Location] {
			return fmt.Errorf("%s has rollback index %d, below the stored %d", v.Partition,
				v.Image.RollbackIndex, p.st.Rollback[v.Location])
		}
	}
	return nil
}

func (p *Phone) unlocked() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.st.Unlocked
}

// trySystem starts the system of one slot.
func (p *Phone) trySystem(slot string) error {
	name := p.on("boot", slot)
	m, rd, err := p.bootPart(name)
	if err == nil {
		err = p.kernelOf(name, m, rd)
	}
	if err == nil && m.Section("ramdisk").Size == 0 {
		rd, err = p.genericRamdisk(slot)
	}
	if err != nil {
		return err
	}
	if p.model.RecoveryPartition() == "boot" && rd.Recovery && !rd.NormalStart {
		return loops("%s holds a recovery and nothing for a normal start", name)
	}
	chain, err := p.verify(slot, true)
	if err != nil {
		return err
	}
	if err := p.radioFits(slot, rd.Props["ro.wickerlight.radio.min"]); err != nil {
		return err
	}
	props, restores, err := p.systemProps(slot)
	if err != nil {
		return &loopError{err}
	}
	if err := p.startable(slot, m); err != nil {
		return err
	}
	if err := p.addedFits(slot); err != nil {
		return err
	}
	if err := p.overlaysFit(slot, props); err != nil {
		return err
	}
	r := &running{slot: slot, props: props, since: time.Now()}
	first, err := p.openData(r)
	if err != nil {
		return err
	}
	if first {
		p.show("First start: preparing the data")
		time.Sleep(time.Duration(p.spec.Delays.FirstStart))
	}
	p.started(r)
	p.good(slot, chain)
	if restores {
		if err := p.restoreRecovery(); err != nil {
			return err
		}
	}
	p.mu.Lock()
	welcomed := r.vault.Setup
	p.mu.Unlock()
	if welcomed {
		p.show("%s", ident.BuildOf(props))
	} else {
		p.show("Welcome to %s", ident.BuildOf(props))
	}
	return nil
}

// good marks a slot that has started, stores its rollback indexes where a
// locked phone does, and begins the merge that waits for it.
func (p *Phone) good(slot string, chain *vbmeta.Chain) {
	if p.model.Slots > 1 {
		c := p.control()
		i := int(slot[0] - 'a')
		c.Slots[i].Successful, c.Slots[i].TriesLeft = true, 0
		p.setControl(c)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.spec.Rollback && !p.st.Unlocked && chain != nil {
		for _, v := range chain.Verdicts {
			if v.Image != nil && v.Image.RollbackIndex > p.st.Rollback[v.Location] {
				if p.st.Rollback == nil {
					p.st.Rollback = map[uint32]uint64{}
				}
				p.st.Rollback[v.Location] = v.Image.RollbackIndex
			}
		}
	}
	if p.st.Snapshot == snapWaiting && len(p.st.Cows) > 0 {
		for name := range p.st.Cows {
			if !strings.HasSuffix(name, "_"+slot) {
				return
			}
		}
		p.setSnapshot(snapMerging)
	}
	if p.st.Snapshot == snapMerging {
		run := p.run
		time.AfterFunc(time.Duration(p.spec.Delays.Merge), func() {
			p.mu.Lock()
			still := p.run == run
			p.mu.Unlock()
			if !still {
				return // restarted meanwhile: the next start resumes it
			}
			if err := p.merge(); err != nil {
				p.show("The merge failed: %v", err)
			}
		})
	}
}

// genericRamdisk is what a boot image without a ramdisk starts with: the one
// of init_boot and the manufacturer's of vendor_boot.
func (p *Phone) genericRamdisk(slot string) (*boot.Ramdisk, error) {
	name := p.on("init_boot", slot)
	_, rd, err := p.bootPart(name)
	if err != nil {
		return nil, err
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.model.Is(d) {
		return nil, fmt.Errorf("%s is made for %s and hangs on this board", name, d)
	}
	if _, err := p.fragment(slot, boot.FragmentPlatform); err != nil {
		return nil, loops("the kernel finds no modules and no table of mounts: %w", err)
	}
	return rd, nil
}

// radio gives the version of the radio firmware on a slot; ok is false where
// there is none.
func (p *Phone) radio(slot string) (version string, ok bool) {
	b, err := p.store.Head(p.on("radio", slot), 64)
	if err != nil || !bytes.HasPrefix(b, []byte(scenario.RadioMagic)) {
		return "", false
	}
	version, _, _ = strings.Cut(string(b[len(scenario.RadioMagic):]), "\x00")
	return version, true
}

func (p *Phone) radioFits(slot, least string) error {
	if _, has := p.store.Slots["radio"]; !has {
		return nil
	}
	v, ok := p.radio(slot)
	if !ok {
		return loops("the radio firmware on slot %s does not start", slot)
	}
	if least != "" && card.CompareVersions(v, least) < 0 {
		return loops("the system wants radio firmware %s, slot %s has %s", least, slot, v)
	}
	return nil
}

// systemProps reads the properties out of a slot's real file systems, and
// whether the system puts the manufacturer's recovery back.
func (p *Phone) systemProps(slot string) (props map[string]string, restores bool, err error) {
	name := p.on("system", slot)
	f, err := p.store.Mount(name)
	if err != nil {
		return nil, false, fmt.Errorf("%s: %w", name, err)
	}
	defer f.Close()
	b, err := fs.ReadFile(f, "system/build.prop")
	if err != nil {
		return nil, false, fmt.Errorf("%s: %w", name, err)
	}
	props = boot.ParseProps(b)
	_, err = fs.Stat(f, "system/bin/install-recovery.sh")
	restores = err == nil
	if err := p.vendorProps(slot, props); err != nil {
		return nil, false, err
	}
	return props, restores, nil
}

// overlaysFit makes sure that the manufacturer's overlays find what they lie over: a
// generic system has none of it and restarts over and over.
func (p *Phone) overlaysFit(slot string, props map[string]string) error {
	if _, has := p.store.Slots["vendor"]; !has || props["ro.product.device"] != "generic" {
		return nil
	}
	f, err := p.store.Mount(p.on("vendor", slot))
	if err != nil {
		return err
	}
	defer f.Close()
	if list, err := f.List("overlay"); err == nil && len(list) > 0 {
		return loops("the overlay %s of the vendor partition names what a generic system does not have",
			list[0])
	}
	return nil
}

// vendorProps adds what the vendor partition says; a system can't start
// without a vendor where the phone has that partition.
func (p *Phone) vendorProps(slot string, props map[string]string) error {
	name := p.on("vendor", slot)
	if _, has := p.store.Slots["vendor"]; !has {
		return nil
	}
	f, err := p.store.Mount(name)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	defer f.Close()
	b, err := fs.ReadFile(f, "build.prop")
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	for k, value := range boot.ParseProps(b) {
		if props[k] == "" {
			props[k] = value
		}
	}
	return nil
}

// restoreRecovery is what the manufacturer's system does at each start: the manufacturer's
// recovery is written again when another one is there.
func (p *Phone) restoreRecovery() error {
	want, err := scenario.Recovery(scenario.StockRecovery, p.spec.phone(p.model))
	if err != nil {
		return err
	}
	home := p.model.RecoveryPartition()
	have, err := p.store.Head(home, int64(len(want)))
	if err != nil || bytes.Equal(have, want) {
		return err
	}
	p.o.Log("the system puts the maker's recovery back")
	return p.store.Put(home, want, 0)
}
