package device

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/standin/scenario"
)

// LoopError says that a start got as far as the kernel and restarts again and
// again.
type LoopError struct{ error }

// Loops is a failed start that ends in the start picture, again and again.
func Loops(format string, args ...any) error { return &LoopError{fmt.Errorf(format, args...)} }

// BootPart reads what starts from one partition: the image and the files of
// its ramdisk named in want.
func (p *Phone) BootPart(name string, want ...string) (*boot.Image, *boot.Ramdisk, error) {
	v, err := p.Store.Open(name)
	if err != nil {
		return nil, nil, err
	}
	defer v.Close()
	return ReadBoot(name, v, v.Size, want...)
}

// ReadBoot reads a boot image and its ramdisk, with the files of it that are wanted.
func ReadBoot(name string, r io.ReaderAt, size int64, want ...string) (*boot.Image, *boot.Ramdisk, error) {
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

// Radio gives the version of the radio firmware on a slot; ok is false where
// there is none.
func (p *Phone) Radio(slot string) (version string, ok bool) {
	b, err := p.Store.Head(p.On("radio", slot), 64)
	if err != nil || !bytes.HasPrefix(b, []byte(scenario.RadioMagic)) {
		return "", false
	}
	version, _, _ = strings.Cut(string(b[len(scenario.RadioMagic):]), "\x00")
	return version, true
}

// SystemProps reads the properties out of a slot's real file systems, and
// whether the system puts the manufacturer's recovery back.
func (p *Phone) SystemProps(slot string) (props map[string]string, restores bool, err error) {
	name := p.On("system", slot)
	f, err := p.Store.Mount(name)
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

// vendorProps adds what the vendor partition says; a system can't start
// without a vendor where the phone has that partition.
func (p *Phone) vendorProps(slot string, props map[string]string) error {
	name := p.On("vendor", slot)
	if _, has := p.Store.Slots["vendor"]; !has {
		return nil
	}
	f, err := p.Store.Mount(name)
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
