package finding

// aboutFiles are the findings about phones, cables, files and what is written.
var aboutFiles = map[string]Text{
	LockedBootloader: {
		Reported: true,
		Meaning: "The phone's bootloader is locked, so it takes no images and erases nothing. A maker's " +
			"loader that verifies takes its maker's own.",
		Why: "A locked bootloader answers every write with a refusal. Nothing is harmed by trying, but " +
			"nothing is done either.",
		Remedy: "Unlock the bootloader first. That erases all data on the phone, and many makers want it " +
			"allowed in the system's developer settings beforehand.",
	},
	BatteryLow: {
		Reported: true,
		Meaning:  "The battery may not last through the job.",
		Why: "A phone that goes out while it writes keeps half of an image: the slot it was writing " +
			"does not start any more. Some bootloaders tell a percentage, some the voltage, some only " +
			"whether it suffices.",
		Remedy: "Charge to a third or more; many phones charge slowly or not at all in the bootloader, so " +
			"start the system or recovery, or switch the phone off, for that.",
	},
	WrongModel: {
		Meaning: "The file says it is for another phone.",
		Why: "Twin models look alike and differ in their boards. A recovery or system for the twin " +
			"does not start at best; at worst it drives the wrong hardware.",
		Remedy: "Fetch the file for this phone. When the file's name for the phone is only another " +
			"spelling of the same one, add it to the aliases in the model file.",
	},
	NoSuchPartition: {
		Reported: true,
		Meaning:  "This phone has no partition of that name.",
		Why: "Phones keep their recovery in different places: some have a partition of its own, some a " +
			"part of the boot image or of the vendor boot image. Instructions for another phone name " +
			"partitions this one does not have. A package made for phones with one slot writes boot and " +
			"system, which phones with two have as boot_a and boot_b; a package made for two slots needs " +
			"the second.",
		Remedy: "See what the phone has with: jarlid card, and what the file is with: jarlid ident FILE.",
	},
	ImageTooBig: {
		Meaning: "The image is larger than the partition it would go to.",
		Why:     "What does not fit is not written, or overwrites what lies behind. There is no safe way on.",
		Remedy:  "Get the image made for this phone.", Final: true,
	},
	NotARecovery: {
		Meaning: "The file is not a recovery.",
		Why: "Written to where the recovery lives, it would not start, and the phone would have no " +
			"recovery at all.",
		Remedy: "See what it is with: jarlid ident FILE. A recovery inside an archive has to be taken " +
			"out first.",
	},
	RecoveryOnOneSlot: {
		Meaning: "The recovery is, or would be, on one slot only.",
		Why: "Installing an A/B package makes the phone start from its other slot. A recovery that is " +
			"on the first slot only is gone then, and add-ons cannot be installed any more.",
		Remedy: "Write it to both: jarlid recovery install FILE does that unless told otherwise.",
	},
	EncryptedData: {
		Reported: true,
		Meaning:  "The data on the phone was encrypted by the system that is on it now.",
		Why: "A new system has other keys and cannot read it. It does not start, or restarts into " +
			"recovery, until the data is formatted.",
		Remedy: "Save what is worth keeping, then: jarlid wipe userdata. When the package is only a newer " +
			"build of the very same system, data can stay: go on with --accept encrypted-data.",
	},
	SlotEmpty: {
		Meaning: "The slot that would start has nothing on it that can start.",
		Why:     "The phone tries a few times, then falls back to the other slot or stays in the bootloader.",
		Remedy: "See both slots with: jarlid slot. Install a system to the slot first, or stay on the one " +
			"that works.",
	},
	RecoveryReplaced: {
		Meaning: "The package carries a recovery of its own and writes it over the one on the slot it " +
			"installs to.",
		Why: "After the restart the phone comes up with the package's recovery. It may have no root " +
			"shell and may refuse add-ons that its own key did not sign.",
		Remedy: "Nothing is lost: after the install, run jarlid recovery install FILE again, before the " +
			"add-ons.",
	},
	DamagedFile: {
		Meaning: "The file is damaged: it ends too early, or a checksum or digest that covers its bytes " +
			"disagrees.",
		Why: "A download was interrupted, a disk was full, or a copy went wrong. A phone that gets " +
			"such a file keeps half a system, and whatever was erased for it is gone.",
		Remedy: "Download the file and its list of digests again from the same place. If the list is " +
			"known to be of another version, move it away from beside the file. For a backup or a sheet: " +
			"take another copy.", Final: true,
	},
	AlteredFile: {
		Meaning: "The file is whole, and its footer, hash tree or signature belongs to other contents: it " +
			"was changed after it was signed.",
		Why: "Patched boot images, edited systems and repacked packages look like this, and so does a " +
			"file somebody tampered with. A phone that enforces verified boot does not boot a changed " +
			"image, and a recovery asks about a changed package or refuses it.",
		Remedy: "If you or its author changed it on purpose: --accept altered-file=FILE. For an image, " +
			"vbmeta must not enforce it: jarlid vbmeta loosen. For a package, the recovery's question " +
			"about the signature is expected. Otherwise get the original file.",
	},
	NotAuthorised: {
		Meaning: "The phone does not know this computer's key and answers nothing until its owner allows it.",
		Why: "Debugging is protected by a key for each computer. The question appears on the phone's " +
			"screen, once; a screen that is off or locked hides it.",
		Remedy: "Wake the phone and answer the question on its screen. If it does not appear: switch " +
			"debugging off and on again, or pull and plug the cable.",
	},
	NoPermission: {
		Barred:  "is there, and this user may not use it",
		Meaning: "The phone is on its cable, and this user may not talk to it.",
		Why: "Linux gives a device to root alone unless a rule says otherwise. Running everything as " +
			"root is no cure: its files would belong to root too.",
		Remedy: "jarlid bench --rule prints a rule file and says where it goes and how it is loaded. Then " +
			"pull the cable and put it back.", Final: true,
	},
	HeldByAnother: {
		Barred:  "is there, and another program has it",
		Meaning: "Another program has the phone's interface for itself.",
		Why: "One program at a time talks through a cable. Programs that serve phones in the " +
			"background keep them for as long as they run. Jar Lid never ends another program.",
		Remedy: "End the program that is named, or have its user do so, and run the command again.",
		Final:  true,
	},
	NoDriver: {
		Barred: "is plugged in, and this system has no driver for it",
		Meaning: "Windows has no driver for the phone's interface, or another one than its own WinUSB; or " +
			"any system has none for a loader's serial line.",
		Why: "Windows lets a program talk to a phone through its driver WinUSB alone. Newer phones " +
			"tell Windows that it is theirs; for older ones somebody has to say so, once for each mode.",
		Remedy: "In the device manager, open the phone, update its driver, let Windows choose from a list " +
			"of drivers on the computer, there \"Universal Serial Bus devices\", and in it \"WinUsb " +
			"Device\". Then pull the cable and put it back.", Final: true,
	},
	LineSilent: {
		Barred:  "is there, and nothing answers on its line",
		Meaning: "A serial line is there, and no loader answers on it.",
		Why: "A phone shows its serial line in other states too, and its loader answers only while it " +
			"stands on the screen and was confirmed there. Another program, such as one that looks for " +
			"modems, may also have the line's first words.",
		Remedy: "Look at the phone's screen, bring it into its loader by its keys and confirm there, then " +
			"pull the cable and put it back.", Final: true,
	},
	RestartUndoes: {
		Meaning: "A restart into the system from here would undo the recovery that was just written.",
		Why: "The maker's system of this model writes its own recovery back each time it starts. A " +
			"loader can bring the phone into its system alone; into the recovery lead the keys.",
		Remedy: "Pull the cable, hold this model's keys, and go straight into the recovery: jarlid go " +
			"recovery. There jarlid recovery hold keeps the system from doing so.",
	},
	TableWouldChange: {
		Meaning: "The table of partitions of a phone's loader would become another one.",
		Why: "The table says where on the phone's storage everything lies. With a wrong one nothing " +
			"starts any more, the loader perhaps neither, and what is on the phone can't be found again. " +
			"An ordinary recovery or system needs no other table.",
		Remedy: "Write the images alone. Only for the maker's own table of this very model: --accept " +
			"table-would-change=FILE; the table that is there is kept before.",
	},
	SeveralPhones: {
		Meaning: "More than one phone is here and none was named.",
		Why:     "Jar Lid never guesses which of two phones is meant.",
		Remedy:  "Name one with --on NAME; jarlid bench lists them.", Final: true,
	},
	NoShell: {
		Meaning: "The recovery that is running gives no root shell.",
		Why: "Without it, what has to be done in recovery is done by hand in its menus; Jar Lid says " +
			"what to choose and waits.",
		Remedy: "Follow the hands step, or set a recovery with a root shell.",
	},
	NotAPackage: {
		Meaning: "The file is not a package a recovery can install.",
		Why:     "A recovery takes zip packages. Images are written by the bootloader.",
		Remedy:  "See what it is with: jarlid ident FILE.",
	},
	WrongDestination: {
		Meaning: "The file's contents and the partition it is to be written to do not go together.",
		Why: "A verified boot footer or the contents themselves say where an image belongs. Written " +
			"somewhere else it is not what the phone looks for there, and whatever was there is gone.",
		Remedy: "Leave out --into: the destination is worked out from the file. jarlid ident FILE shows " +
			"the evidence.",
	},
	UnknownContent: {
		Meaning: "Nothing is known about the bytes of this file.",
		Why: "Radio firmware, logos and bootloader stages have no common form, so this can be right. A " +
			"broken download looks the same.",
		Remedy: "Compare its digest with the source's: jarlid proof FILE --against DIGEST. Then say yes.",
	},
	StillWrapped: {
		Meaning: "The file is an archive of several files, not one image.",
		Why: "Written as it is, the phone would find an archive where it looks for an image, and not " +
			"start from it.",
		Remedy: "Take the image out: jarlid lift FILE ITEM -o DIR. A firmware set is flashed whole, " +
			"without --into.",
	},
	ImageAsPartition: {
		Meaning: "A file stands where the partition belongs, or a partition where the file belongs.",
		Why: "The file comes first here, and the destination is worked out from it or named with " +
			"--into. Other orders are common on web pages.",
		Remedy: "jarlid flash FILE --into PARTITION.", Final: true,
	},
	UnlockNotAllowed: {
		Meaning: "The phone does not allow its bootloader to be unlocked.",
		Why: "Most phones want that allowed first, in the started system; some want an account or some " +
			"days of waiting, and some makers never allow it. Until then the bootloader refuses.",
		Remedy: "In the system, switch on the developer settings and allow unlocking there, with the " +
			"phone on the network. Then come back to the bootloader.",
	},
	MergePending: {
		Meaning: "An update was installed and its snapshots are not merged yet.",
		Why: "Until the merge has finished, the new slot's partitions lie partly in super and partly " +
			"in the data. Writing super or its partitions, erasing the data or metadata, or choosing the " +
			"other slot leaves a slot that does not start.",
		Remedy: "Start the new system and let it finish; it takes minutes. jarlid card shows the state. " +
			"To give the update up, choose the old slot and install anew.",
	},
	FormatAfterInstall: {
		Meaning: "The data would be formatted between an install and the first start of what was installed.",
		Why: "On phones with snapshots part of the new system waits in the data for the merge. " +
			"Formatting then loses the new slot.",
		Remedy: "Format first, then install. Now that the install is done: start the system, let the " +
			"merge finish, and format afterwards; or format now and install again.",
	},
	PreImageMissing: {
		Meaning: "This phone's third-party recoveries want another image written before them, and nobody " +
			"can tell that it was.",
		Why: "They are built for a device tree or vendor image that is not the maker's. Without it the " +
			"screen stays black or touch does not work.",
		Remedy: "Get that image from where the recovery came from and write it first: jarlid flash FILE.",
	},
	RiskyPartition: {
		Meaning: "The partition belongs to the bootloader's stages, the partition table or the radio.",
		Why: "A wrong image there leaves a phone that no longer starts its bootloader, or has no " +
			"network for good. No slot and no recovery helps then.",
		Remedy: "Write it only as part of the maker's own firmware set for this very model, and name it: " +
			"--accept risky-partition=NAME.",
	},
	NotEnoughRoom: {
		Meaning: "The image does not fit into what super has left for this slot's logical partitions.",
		Why: "Logical partitions of a slot share one group with a fixed size. A generic system image " +
			"is often larger than the stock system, so something else has to go; most often the product " +
			"partition.",
		Remedy: "Choose a smaller image, or free room: jarlid wipe part:product@a in userspace fastboot " +
			"takes it away. Room can be read with a root shell in recovery, or be named in the model file.",
	},
	CommandUnknown: {
		Meaning: "This phone's bootloader does not know the command this needs.",
		Why: "Bootloaders know different parts of the protocol; old ones only the oldest commands. " +
			"They refuse what they do not know, and nothing is harmed.",
		Remedy: "Do it by hand or in another mode; the sentence beside the finding says how.",
	},
	WrongVariant: {
		Meaning: "The file is for a twin of this phone: a variant that looks the same.",
		Why: "Twins share a name and a case and differ in the board, the radio or the storage. Their " +
			"images hang at the first picture, or drive the wrong hardware.",
		Remedy: "Read the exact model on the phone's label or with jarlid card, and fetch the file for " +
			"that one.",
	},
	OtherFirmware: {
		Reported: true,
		Meaning:  "The maker's firmware on the two slots differs, or nobody can tell that it is the same.",
		Why: "A system that was made for one version of the radio and its companions restarts or has " +
			"no network on another. An A/B package brings a system and not always the firmware under it.",
		Remedy: "Write the firmware to both slots: jarlid flash FIRMWARE-SET. In a recovery with a root " +
			"shell both slots can be read and compared.",
	},
	ModelContradicted: {
		Meaning: "The phone reports something else than its model file says.",
		Why: "A model file may be for a twin, for another firmware, or wrong. What the phone reports " +
			"now is " +
			"used, and everything else in the file is worth a doubt.",
		Remedy: "See each fact with its source: jarlid card. Correct the model file.",
	},
	BaseVersion: {
		Reported: true,
		Meaning:  "The maker's firmware on the phone is not of the version that this wants.",
		Why: "Custom systems use the maker's radio and vendor firmware. On an older one they restart " +
			"over and over; on a newer one parts may be missing.",
		Remedy: "Flash the maker's firmware set of the version named first.",
	},
	TemporaryRecovery: {
		Meaning: "The recovery that runs was started without being written.",
		Why: "It is gone with the next restart. What starts then is the recovery that is written on " +
			"the phone.",
		Remedy: "To make it stay: jarlid recovery install FILE.",
	},
	AskedFirst: {
		Meaning: "The model file has a question that should be answered before the first change.",
		Why: "Some things can be tried only while the stock system is there: whether calls and " +
			"messages work, whether the newest firmware was on it once.",
		Remedy: "Try it now, then say yes. It is not asked again for this phone.",
	},
	WrongArch: {
		Meaning: "The package holds programs for another processor than the phone's.",
		Why: "Add-ons exist in variants for arm, arm64, x86 and x86_64. The wrong one does not run at " +
			"best; at worst the system restarts over and over.",
		Remedy: "Fetch the variant for the processor jarlid card names.",
	},
	WrongSystem: {
		Meaning: "The package wants another release of the system than the one that is or will be installed.",
		Why:     "Add-ons are built for one release. The recovery refuses them, or what they bring crashes.",
		Remedy:  "Fetch the variant for the ROM's release.",
	},
	OrderBroken: {
		Meaning: "The packages are numbered as a series and given in another order.",
		Why: "Patches of a series build on each other; the later one before the earlier one leaves a " +
			"mixture.",
		Remedy: "Name them in the order of their numbers.",
	},
	SlotNotStarted: {
		Meaning: "Something was installed to the other slot, and the recovery still runs on the old one.",
		Why: "An add-on goes to the slot the recovery runs on. Sent now it lands on the old system, " +
			"and is missing on the new one: the classic loss. A ROM goes to the other slot than the one " +
			"that runs, and a restart into sideload mode changes which one that is.",
		Remedy: "Restart into recovery first: jarlid go recovery. When the ROM and its add-ons are named " +
			"in one command, that happens by itself. To install a ROM once more, choose the slot that runs " +
			"again: jarlid slot use.",
	},
	SignatureUnknown: {
		Meaning: "The recovery that runs does not have the key the package was signed with.",
		Why: "Some recoveries then ask on the phone's screen whether to install anyway, some refuse. " +
			"With a ROM from somebody else than the recovery's maker that is expected.",
		Remedy: "Check the package's digest; if the phone asks, answer yes there. If it refuses, use the " +
			"recovery that belongs to the ROM, or one that asks.",
	},
}
