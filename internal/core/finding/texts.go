package finding

var texts = map[string]Text{
	LockedBootloader: {
		Meaning: "The phone's bootloader is locked, so it takes no images and erases nothing.",
		Why:     "A locked bootloader answers every write with a refusal. Nothing is harmed by trying, but nothing is done either.",
		Remedy:  "Unlock the bootloader first. That erases all data on the phone, and many makers want it allowed in the system's developer settings beforehand.",
	},
	BatteryLow: {
		Meaning: "The battery may not last through the job.",
		Why:     "A phone that goes out while it writes keeps half of an image: the slot it was writing does not start any more. Some bootloaders tell a percentage, some the voltage, some only whether it suffices.",
		Remedy:  "Charge to a third or more; many phones charge slowly or not at all in the bootloader, so start the system or recovery, or switch the phone off, for that.",
	},
	WrongModel: {
		Meaning: "The file says it is for another phone.",
		Why:     "Twin models look alike and differ in their boards. A recovery or system for the twin does not start at best; at worst it drives the wrong hardware.",
		Remedy:  "Fetch the file for this phone. When the file's name for the phone is only another spelling of the same one, add it to the aliases in the model file.",
	},
	NoSuchPartition: {
		Meaning: "This phone has no partition of that name.",
		Why:     "Phones keep their recovery in different places: some have a partition of its own, some a part of the boot image or of the vendor boot image. Instructions for another phone name partitions this one does not have.",
		Remedy:  "See what the phone has with: jarlid slot, and what the file is with: jarlid ident FILE.",
	},
	ImageTooBig: {
		Meaning: "The image is larger than the partition it would go to.",
		Why:     "What does not fit is not written, or overwrites what lies behind. There is no safe way on.",
		Remedy:  "Get the image made for this phone.", Final: true,
	},
	NotARecovery: {
		Meaning: "The file is not a recovery.",
		Why:     "Written to where the recovery lives, it would not start, and the phone would have no recovery at all.",
		Remedy:  "See what it is with: jarlid ident FILE. A recovery inside an archive has to be taken out first.",
	},
	RecoveryOnOneSlot: {
		Meaning: "The recovery is, or would be, on one slot only.",
		Why:     "Installing an A/B package makes the phone start from its other slot. A recovery that is on the first slot only is gone then, and add-ons cannot be installed any more.",
		Remedy:  "Write it to both: jarlid recovery set FILE does that unless told otherwise.",
	},
	EncryptedData: {
		Meaning: "The data on the phone was encrypted by the system that is on it now.",
		Why:     "A new system has other keys and cannot read it. It does not start, or restarts into recovery, until the data is formatted.",
		Remedy:  "Save what is worth keeping, then: jarlid wipe userdata. When the package is only a newer build of the very same system, data can stay: go on with --accept encrypted-data.",
	},
	SlotEmpty: {
		Meaning: "The slot that would start has nothing on it that can start.",
		Why:     "The phone tries a few times, then falls back to the other slot or stays in the bootloader.",
		Remedy:  "See both slots with: jarlid slot. Install a system to the slot first, or stay on the one that works.",
	},
	RecoveryReplaced: {
		Meaning: "The package carries a recovery of its own and writes it over the one on the slot it installs to.",
		Why:     "After the restart the phone comes up with the package's recovery. It may have no root shell and may refuse add-ons that its own key did not sign.",
		Remedy:  "Nothing is lost: after the install, run jarlid recovery set FILE again, before the add-ons.",
	},
	DownloadCutShort: {
		Meaning: "The file ends before its own contents say it should.",
		Why:     "A download broke off, or the disk was full. The missing end may be most of a system image.",
		Remedy:  "Fetch the file again and compare its size or digest with what the source states.", Final: true,
	},
	NotAuthorised: {
		Meaning: "The phone does not know this computer's key and answers nothing until its owner allows it.",
		Why:     "Debugging is protected by a key for each computer. The question appears on the phone's screen, once; a screen that is off or locked hides it.",
		Remedy:  "Wake the phone and answer the question on its screen. If it does not appear: switch debugging off and on again, or pull and plug the cable.",
	},
	SeveralPhones: {
		Meaning: "More than one phone is here and none was named.",
		Why:     "Jar Lid never guesses which of two phones is meant.",
		Remedy:  "Name one with --on NAME; jarlid bench lists them.", Final: true,
	},
	NoShell: {
		Meaning: "The recovery that is running gives no root shell.",
		Why:     "Without it, what has to be done in recovery is done by hand in its menus; Jar Lid says what to choose and waits.",
		Remedy:  "Follow the hands step, or set a recovery with a root shell.",
	},
	NotAPackage: {
		Meaning: "The file is not a package a recovery can install.",
		Why:     "A recovery takes zip packages. Images are written by the bootloader.",
		Remedy:  "See what it is with: jarlid ident FILE.",
	},
	DeltaPackage: {
		Meaning: "The package only holds the difference to one exact earlier build.",
		Why:     "It installs only over the very build it was made from; on anything else its check fails and nothing is installed.",
		Remedy:  "Fetch the full package, unless exactly that build is on the phone.",
	},
}
