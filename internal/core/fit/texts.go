package fit

import "jarlid/internal/core/finding"

// Explain tells a check at length.
func Explain(name string) (finding.Text, bool) {
	t, ok := texts[name]
	t.Name = name
	return t, ok
}

var texts = map[string]finding.Text{
	"treble": {Meaning: "Whether the phone keeps the maker's part in a vendor partition of its own, behind " +
		"an interface (Treble).",
		Why: "A generic system brings nothing of the maker's: no drivers, no settings of the hardware. " +
			"It takes all that from the vendor partition. Phones from before Android 8 mostly have none.",
		Remedy: "None on the phone. Take a system made for this model."},
	"cpu": {Meaning: "Whether the image's programs run on the phone's processor, and the vendor's programs " +
		"on the image.",
		Why: "A 32-bit processor runs no 64-bit programs. A 64-bit one may run both, but the vendor's " +
			"64-bit programs need the 64-bit linker and libraries of the system; a 32-bit system has none.",
		Remedy: "Fetch the variant of the image for the processor that jarlid card names."},
	"binder": {Meaning: "Whether kernel and system pass messages of the same width between programs.",
		Why: "Old 32-bit kernels speak 32-bit messages; nothing at all starts when the system speaks " +
			"the other ones. From Android 9 on all speak 64-bit ones.",
		Remedy: "Fetch the variant of the image for 32-bit binder."},
	"start-style": {Meaning: "Whether the image is laid out as the phone starts systems.",
		Why: "Some phones have a root of their own and mount the system below it; on some the kernel " +
			"mounts the system as root and starts its /init; on newer ones a first stage in a ramdisk " +
			"mounts it and goes on with /system/bin/init. What is looked for has to be in the image.",
		Remedy: "Fetch the variant of the image for this style: for one slot or two, for fixed or dynamic " +
			"partitions."},
	"vendor-hals": {Meaning: "Whether the vendor partition offers the services the system asks for.",
		Why: "The image holds a matrix for each level of devices; the one for the phone's level is " +
			"compared with the vendor's manifest. Nothing enforces it at the start: what is missing does " +
			"not work, and a warning may appear. Only what the start itself waits for keeps it from " +
			"starting.",
		Remedy: "Try a newer or older release of the image, or a base ROM with a newer vendor partition."},
	"framework-hals": {Meaning: "Whether the system offers the services the vendor partition asks for.",
		Why: "The vendor's own matrix is compared with the system's manifest. What is missing makes " +
			"some function of the maker's fail.",
		Remedy: "Try another release of the image."},
	"kernel": {Meaning: "Whether the kernel is one of those the image asks for at this phone's level, and " +
		"configured so.",
		Why: "The kernel stays the maker's. Systems count on what kernels of a version can do; without " +
			"it some function fails, often the accounting of data or battery.",
		Remedy: "A newer firmware of the maker's, or a base ROM with a newer kernel."},
	"vndk": {Meaning: "Whether the image brings the libraries the vendor's programs were built for (VNDK).",
		Why: "Vendor programs load system libraries of the very version they were built for. Newer " +
			"systems drop old versions. Without them no vendor program starts, the display's among them.",
		Remedy: "Fetch an older release of the image, which still has that version, or put a base ROM with " +
			"a newer vendor partition on the phone."},
	"policy": {Meaning: "Whether the image maps the security policy the vendor partition was built with.",
		Why: "Policy of system and vendor is put together at each start through a mapping file of the " +
			"vendor's version. Without that file no policy can be loaded, and the phone restarts.",
		Remedy: "Fetch an older release of the image, or a base ROM with a newer vendor partition."},
	"api-level": {Meaning: "Whether the system is at least as new as the vendor's interface.",
		Why:    "Systems are made to work with older vendors, not with newer ones.",
		Remedy: "Fetch a newer release of the image."},
	"patch-level": {Meaning: "Whether the image goes back behind the security patch level the keys of the " +
		"data are bound to.",
		Why: "Keys made under a newer patch level are refused by an older system: the data can't be " +
			"opened. Formatted data gets new keys.",
		Remedy: "Format the data, or take a newer build of the image."},
	"room": {Meaning: "Whether the image fits: into the system partition, or into what super has for " +
		"the slot.",
		Why: "On phones with dynamic partitions the slot's group has a limit; the maker's product " +
			"partition often takes the room, and a generic system does without it.",
		Remedy: "jarlid flash makes the room and asks before anything goes. A smaller variant of the image " +
			"is the other way."},
	"verified-boot": {Meaning: "Whether something on the phone enforces what the system has to be.",
		Why: "Unlocked phones forgive signatures, but the kernel enforces hash trees until the top " +
			"vbmeta switches them off; a generic system does not match the maker's tree. Where the first " +
			"stage trusts the image's own key nothing has to be switched off.",
		Remedy: "jarlid vbmeta loosen hashtree"},
	"data": {Meaning: "Whether the data is one this system can read.",
		Why: "Data that another system encrypted stays closed, and apps of another system make a new " +
			"one restart. In most cases it has to be formatted, which erases everything of the owner's.",
		Remedy: "jarlid backup take, then jarlid wipe userdata"},
	"base": {Meaning: "Whether the vendor partition that is there is whole, and of a version custom " +
		"systems want.",
		Why: "A generic system stands on the maker's vendor partition and firmware. Half of one build " +
			"and half of another makes odd faults nobody can explain.",
		Remedy: "Write the maker's set, or a base ROM, and start it once before the generic system."},
	"overlays": {Meaning: "Whether the vendor partition lies over resources of the maker's own system.",
		Why: "Such overlays name things only the maker's system has. Generic systems are known to " +
			"restart over and over, or to show the wrong sizes.",
		Remedy: "jarlid shelve /vendor/overlay/NAME moves one aside, jarlid unshelve brings it back."},
	"extras": {Meaning: "Whether the add-ons that go on top are made for the image's processor and release.",
		Why:    "An add-on for another processor or release makes the system restart or refuses to install.",
		Remedy: "Fetch the add-on's variant for the image; name it with --with."},
}
