package scenario

import (
	"cmp"
	"slices"

	"jarlid/internal/core/model"
)

// Phone is what the images need to know of a phone.
type Phone struct {
	Device, Model, ABI string
	// Home is where the recovery lives: "" is the partition recovery, "boot" the
	// boot image's ramdisk, "vendor_boot" a fragment of that image; anything else
	// is the name of a partition of its own.
	Home string
	// System is the template of the manufacturer's system: "" is "system".
	System   string
	VNDK     string // interface version of its vendor; "": not a Treble phone
	FirstAPI string // API level it was sold with
	// VerifiedBoot is how its vbmeta is laid out: "" in one image, "chained"
	// with vbmeta_system, "none".
	VerifiedBoot string
	Product      bool // has a partition product
	Overlays     bool // has a partition dtbo
	// Kernel is the version of its kernel; "": 4.14.190. Plain says that the kernel does
	// not carry its configuration.
	Kernel string
	Plain  bool
	// KernelMounts says that its kernel mounts the system as its root, and not a first stage
	// in a ramdisk.
	KernelMounts bool
	// Radio is the version of the manufacturer's radio firmware; "" where the phone has
	// no such partition.
	Radio string
}

// phones are the phones of the scenario.
var phones = []Phone{
	{Device: "turnstone", Model: "Wickerlight Turnstone", ABI: "armeabi-v7a", System: "restoring",
		FirstAPI: "23", VerifiedBoot: "none",
		Kernel: "3.10.49", Plain: true, KernelMounts: true},
	{Device: "knot", Model: "Wickerlight Knot", ABI: "armeabi-v7a", System: "restoring", FirstAPI: "23",
		VerifiedBoot: "none",
		Kernel:       "3.10.49", Plain: true, KernelMounts: true},
	{Device: "sanderling", Model: "Wickerlight Sanderling", ABI: "arm64-v8a", Home: "lifeboat",
		System: "small", VNDK: "28", FirstAPI: "28",
		Kernel: "4.9.118", KernelMounts: true},
	{Device: "dunlin", Model: "Wickerlight Dunlin", ABI: "arm64-v8a", VNDK: "29", FirstAPI: "29"},
	{Device: "godwit", Model: "Wickerlight Godwit", ABI: "arm64-v8a", Home: "boot", System: "small",
		VNDK: "30", FirstAPI: "30", Overlays: true, Radio: "2.1",
		Kernel: "4.19.110"},
	{Device: "avocet", Model: "Wickerlight Avocet", ABI: "arm64-v8a", Home: "vendor_boot", System: "small",
		VNDK: "33", FirstAPI: "33", VerifiedBoot: "chained",
		Product: true, Overlays: true, Radio: "5.2", Kernel: "5.10.107"},
}

// PhoneOf gives the phone of that name. One that is not of the scenario is
// laid out like dunlin.
func PhoneOf(device string) Phone {
	if p, ok := known(device); ok {
		return p
	}
	return Phone{Device: device, Model: device, ABI: "arm64-v8a", VNDK: "29", FirstAPI: "29"}
}

func known(device string) (Phone, bool) {
	i := slices.IndexFunc(phones, func(p Phone) bool { return p.Device == device })
	if i < 0 {
		return Phone{}, false
	}
	return phones[i], true
}

// Described is the phone a model file describes, with its partitions by their names without a slot: one of
// the scenario, otherwise one that is laid out as they say.
func Described(m *model.Model, partitions []string) Phone {
	p, ok := known(m.Name)
	if ok {
		return p
	}
	has := func(name string) bool { return slices.Contains(partitions, name) }
	p = PhoneOf(m.Name)
	p.Home = m.Recovery.Partition
	if p.Home == "recovery" {
		p.Home = ""
	}
	p.Product, p.Overlays = has("product"), has("dtbo")
	p.ABI, p.VNDK = cmp.Or(m.Facts["cpu.abi"], p.ABI), cmp.Or(m.Facts["vndk"], p.VNDK)
	p.FirstAPI = cmp.Or(m.Facts["api.first"], p.FirstAPI)
	switch {
	case !has("vbmeta"):
		p.VerifiedBoot = "none"
	case has("vbmeta_system"):
		p.VerifiedBoot = "chained"
	}
	if !has("vendor") {
		p.VNDK = ""
	}
	if has("radio") {
		p.Radio = "2.1"
	}
	if has("super") || p.Home == "vendor_boot" {
		p.System = "small"
	}
	return p
}

// RecoveryPartition is the partition that is written to set a recovery.
func (p Phone) RecoveryPartition() string {
	if p.Home == "" {
		return "recovery"
	}
	return p.Home
}
