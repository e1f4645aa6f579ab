package boot

import (
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/standin/device"
)

// The machines of ELF files (e_machine in elf.h) each kind of processor runs.
var runs = map[string][]uint16{"arm64-v8a": {183, 40}, "armeabi-v7a": {40}}

// startable reports whether the system of a slot can be started here, by what its bytes and
// those of the vendor partition hold: what mounts it, for which processor it is, and
// whether it takes the vendor's interface and policy.
func (p *Starter) startable(slot string, m *boot.Image) error {
	name := p.On("system", slot)
	f, err := p.Store.Mount(name)
	if err != nil {
		return device.Loops("%s: %w", name, err)
	}
	defer f.Close()
	im, err := fit.ReadImage(name, f, 0)
	if err != nil {
		return device.Loops("%s: %w", name, err)
	}
	if strings.Contains(m.Cmdline, "skip_initramfs") {
		if !im.KernelStart {
			return device.Loops("the kernel mounts %s as root and finds no /init in it", name)
		}
	} else if !im.RamdiskStart {
		return device.Loops("the first stage finds no /system/bin/init in %s", name)
	}
	if abi := p.Spec.Phone(p.Model).ABI; im.Machine != 0 && !slices.Contains(runs[abi], im.Machine) {
		return device.Loops("the programs of %s are not for this processor", name)
	}
	vendor := map[card.Which]string{}
	if _, has := p.Store.Slots["vendor"]; has {
		v, err := p.Store.Mount(p.On("vendor", slot))
		if err != nil {
			return device.Loops("%s: %w", p.On("vendor", slot), err)
		}
		defer v.Close()
		if err := fit.Vendor(v, nil, func(w card.Which, value string) { vendor[w] = value }); err != nil {
			return device.Loops("%s: %w", p.On("vendor", slot), err)
		}
	} else if slices.Contains(im.Skips, "/product") {
		return device.Loops("a generic system finds no vendor partition")
	}
	switch v := vendor[card.FactVNDK]; {
	case vendor[card.FactVendor64] == "64" && !im.Link64:
		return device.Loops("the 64-bit programs of the vendor partition find no linker in %s", name)
	case v != "" && v != "none" && !slices.Contains(im.VNDK, v):
		return device.Loops("the programs of the vendor partition find no libraries of version %s in %s", v,
			name)
	}
	if v := vendor[card.FactPolicy]; v != "" && !slices.Contains(im.Policies, v) {
		return device.Loops("no policy can be loaded: %s has no mapping for version %s", name, v)
	}
	return nil
}
