package scenario

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
	for _, p := range phones {
		if p.Device == device {
			return p
		}
	}
	return Phone{Device: device, Model: device, ABI: "arm64-v8a", VNDK: "29", FirstAPI: "29"}
}

// RecoveryPartition is the partition that is written to set a recovery.
func (p Phone) RecoveryPartition() string {
	if p.Home == "" {
		return "recovery"
	}
	return p.Home
}
