package recovery

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/link/adb"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/disk"
)

// blockReader reads a package block by block from the computer that serves
// it, and keeps the last few blocks.
type blockReader struct {
	s           *adb.Stream
	size, block int64
	cache       map[int64][]byte
	order       []int64
	err         error
}

const keptBlocks = 8

// ReadAt asks for the blocks a range is in.
func (b *blockReader) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= b.size {
			return done, io.EOF
		}
		blk, err := b.get(at / b.block)
		if err != nil {
			return done, err
		}
		done += copy(p[done:], blk[at%b.block:])
	}
	return done, nil
}

func (b *blockReader) get(n int64) ([]byte, error) {
	if blk, ok := b.cache[n]; ok {
		return blk, nil
	}
	if b.err != nil {
		return nil, b.err
	}
	if _, b.err = fmt.Fprintf(b.s, "%08d", n); b.err != nil {
		return nil, b.err
	}
	blk := make([]byte, min(b.block, b.size-n*b.block))
	if _, b.err = io.ReadFull(b.s, blk); b.err != nil {
		return nil, b.err
	}
	if len(b.order) >= keptBlocks {
		delete(b.cache, b.order[0])
		b.order = b.order[1:]
	}
	b.cache[n] = blk
	b.order = append(b.order, n)
	return blk, nil
}

// SideloadService installs what the computer serves.
func (p *Runner) SideloadService(ctx context.Context, arg string, s *adb.Stream) {
	sizeText, blockText, _ := strings.Cut(arg, ":")
	size, err1 := strconv.ParseInt(sizeText, 10, 64)
	block, err2 := strconv.ParseInt(blockText, 10, 64)
	if err1 != nil || err2 != nil || size <= 0 || block <= 0 || block > 4<<20 {
		return
	}
	r := &blockReader{s: s, size: size, block: block, cache: map[int64][]byte{}}
	ended, err := p.installed(ctx, r, size)
	if ended {
		return
	}
	run := p.Running
	if r.err == nil {
		switch word := "FAILFAIL"; {
		case run.Traits.Closing == "mute":
		default:
			if err == nil || run.Traits.Closing == "always-done" {
				word = "DONEDONE"
			}
			io.WriteString(s, word)
			s.Drain()
		}
	}
	p.Move(string(card.Recovery), 0)
}

// installed installs a package, writes the recovery's log and record, and gives
// its outcome; ended is true when the phone was restarted meanwhile.
func (p *Runner) installed(ctx context.Context, r io.ReaderAt, size int64) (ended bool, err error) {
	p.Mu.Lock()
	run := p.Running
	run.Log, run.Record = nil, ""
	p.Mu.Unlock()
	err = p.install(ctx, r, size)
	if ctx.Err() != nil {
		return true, err
	}
	result := 1
	if err != nil {
		result = 0
		b, served := r.(*blockReader)
		if served && b.err != nil || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
			err = errors.New("the computer stopped sending")
		}
		p.logLine("E: %v", err)
		p.Show("The package was not installed.")
	} else {
		p.logLine("I: installed")
		p.Show("The package is installed.")
	}
	p.Mu.Lock()
	run.Record = fmt.Sprintf("/sideload/package.zip\n%d\n", result)
	p.Mu.Unlock()
	return false, err
}

// SideloadWhole takes a whole package, as old recoveries do, and installs it
// when the computer has let go.
func (p *Runner) SideloadWhole(ctx context.Context, arg string, s *adb.Stream) {
	size, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || size <= 0 || size > 4<<30 {
		return
	}
	f, err := os.CreateTemp(p.Options.Dir, "package-")
	if err != nil {
		return
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if _, err := io.CopyN(f, s, size); err != nil {
		return // the cable was pulled: nothing has begun
	}
	io.WriteString(s, "OKAY")
	s.Drain()
	if ended, _ := p.installed(ctx, f, size); !ended {
		p.Move(string(card.Recovery), 0)
	}
}

// logLine writes a line to the recovery's log.
func (p *Runner) logLine(format string, args ...any) {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	if p.Running != nil {
		p.Running.Log = append(p.Running.Log, fmt.Sprintf(format, args...))
	}
}

// install reads the package twice, as recoveries do: the whole once, to see
// that it is sound, then the payload, to write it.
func (p *Runner) install(ctx context.Context, r io.ReaderAt, size int64) error {
	p.Show("Looking at the package")
	if _, err := io.Copy(io.Discard, io.NewSectionReader(r, 0, size)); err != nil {
		return err
	}
	if err := p.checkSignature(ctx, r, size); err != nil {
		return err
	}
	pkg, err := ota.Parse(r, size)
	if errors.Is(err, ota.ErrNotAB) {
		err := p.runScript(r, size)
		if err == nil && p.Faulty("fail-at-end") {
			err = errors.New("a step behind the last one failed")
		}
		return err
	}
	if err != nil {
		return err
	}
	device := ident.DeviceOf(p.Running.Props)
	if want := pkg.Devices(); len(want) > 0 && !slices.Contains(want, device) {
		return fmt.Errorf("the package is for %s, this is a %s", strings.Join(want, " or "), device)
	}
	if pkg.Payload.Delta() {
		return fmt.Errorf("the package is a delta to another build")
	}
	return p.apply(r, pkg)
}

// apply writes the payload to the slot that is not running and makes it the
// next one. Until everything is verified that slot can't be started.
func (p *Runner) apply(r io.ReaderAt, pkg *ota.Package) error {
	if p.Model.Slots < 2 {
		return fmt.Errorf("this phone has no slots")
	}
	to := card.Other(p.Running.Slot)
	i := int(to[0] - 'a')
	pl := pkg.Payload
	if p.State.Snapshot == device.SnapMerging {
		return fmt.Errorf("the last update is still being merged")
	}
	for _, part := range pl.Partitions {
		name := part.Name + "_" + to
		if p.Spec.Snapshots && p.Logical(name) {
			continue // it goes to userdata
		}
		if have, ok := p.Store.Sizes[name]; !ok || int64(part.Size) > have {
			return fmt.Errorf("there is no room for %s", name)
		}
	}
	if p.Spec.Snapshots {
		p.Mu.Lock()
		p.SetSnapshot(device.SnapNone)
		p.State.Cows = nil
		p.Store.Cows.Store(&map[string]disk.Span{})
		p.Mu.Unlock()
		// The new slot's metadata begins as the running one's.
		m, err := p.Store.Super()
		if err == nil {
			err = device.SetSuper(p.Store, m, i)
		}
		if err != nil {
			return err
		}
	}
	c := p.Control()
	c.Slots[i] = bcb.Slot{}
	if err := p.SetControl(c); err != nil {
		return err
	}
	body := io.NewSectionReader(r, pkg.PayloadOffset, pkg.PayloadSize)
	for k := range pl.Partitions {
		part := &pl.Partitions[k]
		p.Show("Writing %s on slot %s", part.Name, to)
		if err := p.applyPartition(body, pl, part, part.Name+"_"+to); err != nil {
			return err
		}
	}
	p.Mu.Lock()
	if len(p.State.Cows) > 0 {
		p.SetSnapshot(device.SnapWaiting)
	}
	p.Save()
	p.Mu.Unlock()
	if p.Faulty("fail-at-end") {
		return errors.New("a step behind the last one failed")
	}
	c = p.Control()
	c.Activate(i)
	return p.SetControl(c)
}

func (p *Runner) applyPartition(body io.ReaderAt, pl *payload.Payload, part *payload.Partition,
	name string) error {
	if err := os.RemoveAll(p.Store.Overlay(name)); err != nil {
		return err
	}
	open := p.Store.Open
	if p.Spec.Snapshots && p.Logical(name) {
		open = func(name string) (*disk.Volume, error) { return p.StageLogical(name, int64(part.Size)) }
	}
	v, err := open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	for i := range part.Ops {
		if err := pl.Apply(body, part, &part.Ops[i], v); err != nil {
			return err
		}
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, io.NewSectionReader(v, 0, int64(part.Size))); err != nil {
		return err
	}
	if !bytes.Equal(sum.Sum(nil), part.Hash) {
		return fmt.Errorf("%s reads back with another digest than the package states", name)
	}
	return nil
}
