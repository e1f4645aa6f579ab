package finding

var texts = map[string]Text{
	LockedBootloader: {
		Meaning: "The phone's bootloader is locked, so it takes no images and erases nothing. A maker's " +
			"loader that verifies takes its maker's own.",
		Why: "A locked bootloader answers every write with a refusal. Nothing is harmed by trying, but " +
			"nothing is done either.",
		Remedy: "Unlock the bootloader first. That erases all data on the phone, and many makers want it " +
			"allowed in the system's developer settings beforehand.",
	},
	BatteryLow: {
		Meaning: "The battery may not last through the job.",
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
		Meaning: "This phone has no partition of that name.",
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
		Meaning: "The data on the phone was encrypted by the system that is on it now.",
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
		Meaning: "The phone is on its cable, and this user may not talk to it.",
		Why: "Linux gives a device to root alone unless a rule says otherwise. Running everything as " +
			"root is no cure: its files would belong to root too.",
		Remedy: "jarlid bench --rule prints a rule file and says where it goes and how it is loaded. Then " +
			"pull the cable and put it back.", Final: true,
	},
	HeldByAnother: {
		Meaning: "Another program has the phone's interface for itself.",
		Why: "One program at a time talks through a cable. Programs that serve phones in the " +
			"background keep them for as long as they run. Jar Lid never ends another program.",
		Remedy: "End the program that is named, or have its user do so, and run the command again.",
		Final:  true,
	},
	NoDriver: {
		Meaning: "Windows has no driver for the phone's interface, or another one than its own WinUSB; or " +
			"any system has none for a loader's serial line.",
		Why: "Windows lets a program talk to a phone through its driver WinUSB alone. Newer phones " +
			"tell Windows that it is theirs; for older ones somebody has to say so, once for each mode.",
		Remedy: "In the device manager, open the phone, update its driver, let Windows choose from a list " +
			"of drivers on the computer, there \"Universal Serial Bus devices\", and in it \"WinUsb " +
			"Device\". Then pull the cable and put it back.", Final: true,
	},
	LineSilent: {
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
		Meaning: "The maker's firmware on the two slots differs, or nobody can tell that it is the same.",
		Why: "A system that was made for one version of the radio and its companions restarts or has " +
			"no network on another. An A/B package brings a system and not always the firmware under it.",
		Remedy: "Write the firmware to both slots: jarlid flash FIRMWARE-SET. In a recovery with a root " +
			"shell both slots can be read and compared.",
	},
	BaseVersion: {
		Meaning: "The maker's firmware on the phone is not of the version that this wants.",
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
	NoRoom: {
		Meaning: "The storage has no room for the file, or nobody can tell.",
		Why: "A file that does not fit arrives cut short, and a recovery that installs it fails " +
			"half-way.",
		Remedy: "Make room, use the memory card, or send it over the computer: jarlid sideload.",
	},
	StorageUnreadable: {
		Meaning: "The storage can't be reached in this mode.",
		Why: "Shared storage lies in the data. What a system encrypted only that system can open; a " +
			"recovery sees nothing of it, or an empty folder that is gone after the restart.",
		Remedy: "Use a memory card, do it from the started system, or send the package over the computer: " +
			"jarlid sideload.",
	},
	NotMounted: {
		Meaning: "The file system that the step works on is not mounted, and can't be mounted.",
		Why: "Without it the recovery has an empty folder in memory. A step that deletes finds nothing " +
			"there, " +
			"and a file that is put there is gone with the next boot.",
		Remedy: "Mount it in the recovery's menu, or use another recovery. The data stays as it is; " +
			"format it " +
			"(jarlid wipe userdata) only if nothing in it is needed.",
	},
	StorageHolds: {
		Meaning: "A package lies in the storage that would be erased.",
		Why: "Formatting the data takes shared storage with it. When the only copy of the ROM lies " +
			"there, nothing is left to install.",
		Remedy: "Put it onto a memory card, or format first and put it there afterwards: jarlid put FILE " +
			"--to storage.",
	},
	NotApart: {
		Meaning: "Apps can't be erased without the shared storage on this phone.",
		Why: "Where files are encrypted one by one, the keys of all of them lie among the apps' data. " +
			"Erase that, and pictures and downloads are still there but nobody can read them.",
		Remedy: "Copy the storage away first (jarlid backup take storage), then: jarlid wipe userdata.",
	},
	AccountLock: {
		Meaning: "Accounts are signed in, or nobody can tell.",
		Why: "Against thieves, the maker's system keeps in mind who was signed in when the data was " +
			"erased from outside, and goes no further after the first start until that account is given.",
		Remedy: "Start the system and sign out of every account in its settings, then come back. Who " +
			"knows the passwords can go on.",
	},
	NoSuchFile: {
		Meaning: "A file or folder that is named is not there: on the phone, on the slot its recovery runs " +
			"on, or in the folder of the sheet.",
		Why: "Nothing can be moved or sent that is not there. On phones with slots it may be on the " +
			"other slot.",
		Remedy: "Check the path. On the phone, jarlid card names the recovery's slot under \"started " +
			"from\". A file of a sheet that is elsewhere is named with --file NAME=PATH.", Final: true,
	},
	ReadOnly: {
		Meaning: "The partition's file system can't be written at all.",
		Why: "EROFS, squashfs and ext4 with shared blocks are made once and never changed; there is no " +
			"free block to write to.",
		Remedy: "Write another image to the partition, made without what does harm.", Final: true,
	},
	VerityRejects: {
		Meaning: "What is in the partition would no longer match its hash tree, and the tree is enforced.",
		Why: "An unlocked phone starts what nobody signed, but the kernel still compares each block it " +
			"reads with the tree. The first changed one restarts the phone, again and again, until the " +
			"bootloader gives the slot up.",
		Remedy: "Switch the hash trees off in the top vbmeta: jarlid vbmeta loosen hashtree. Data and " +
			"updates are not touched by that; before locking the phone again everything has to be the " +
			"maker's.",
	},
	NotAsSigned: {
		Meaning: "The partition gets other bytes than the vbmeta on the phone was signed over.",
		Why: "An unlocked phone warns at each start and starts it all the same; that is what unlocking " +
			"is for. A locked one refuses it, and so do the few bootloaders that enforce verified boot " +
			"although they are unlocked; a model file says so of those.",
		Remedy: "Nothing on most phones. On one that enforces: jarlid vbmeta loosen verification. Before " +
			"locking again everything has to be the maker's.",
	},
	RollbackLow: {
		Meaning: "The vbmeta has a rollback index below the one the phone has stored.",
		Why: "Phones remember the newest index they started locked, and a locked phone never starts " +
			"anything older again. An unlocked one does not look at it.",
		Remedy: "Nothing while the phone stays unlocked. Do not lock it over this; write a newer set first.",
	},
	BackupExists: {
		Meaning: "The folder holds a finished backup.",
		Why: "A backup is a record of one moment. Taking another one into the same folder would mix " +
			"two states of the phone, and restoring that mixture may leave a phone that does not boot.",
		Remedy: "Name another folder with -o. In a sheet the output names a series, and each run makes a " +
			"folder of its own.", Final: true,
	},
	OutputShared: {
		Meaning: "Two phones of one run, or two programs, would write to the same folder.",
		Why:     "The second one would overwrite what the first one saved, and both would report success.",
		Remedy:  "Give each phone a folder of its own, for example with ${name} in the sheet's output.",
		Final:   true,
	},
	ReadableByOthers: {
		Meaning: "Other users of this computer can read the folder the backup goes to.",
		Why:     "A backup holds the owner's pictures and files, and the phone's own keys and numbers.",
		Remedy:  "Choose a folder that only you can read, or restrict this one: chmod 700 FOLDER.",
	},
	BackupDiffers: {
		Meaning: "A partition had another size when the backup was taken.",
		Why: "Sizes of physical partitions never change by themselves: the phone was laid out anew " +
			"since, or it is another variant.",
		Remedy: "Compare the table of jarlid card with what you expect before you go on.",
	},
	OtherPhone: {
		Meaning: "The backup is of another phone of the same model.",
		Why: "Most partitions are the same on all of them. Some are not: they hold the radio's " +
			"numbers, keys and calibration of just that phone, and no other works with them.",
		Remedy: "Put back only what a ROM would bring too. For the partitions of the phone itself take " +
			"this phone's own backup.",
	},
	StockRecovery: {
		Meaning: "The package is an update that builds on exactly what the maker had on the phone, and the " +
			"recovery there is another.",
		Why: "A delta compares each partition with what it expects before it changes anything. Another " +
			"recovery, in a partition of its own or in the boot image, fails that, and the update is " +
			"refused half-way through the evening.",
		Remedy: "Put back what was there before: jarlid recovery install --previous, or write the maker's " +
			"image; or take the full package.",
	},
	RelockBricks: {
		Meaning: "It is not known that what is on the phone starts with its bootloader locked.",
		Why: "A locked phone starts only what its maker signed, down to the last hash. Locked over a " +
			"third party's recovery, a changed vbmeta or an older system it starts nothing, takes no " +
			"images to mend that, and may refuse to be opened again.",
		Remedy: "Write the maker's whole firmware set, start it once, then: jarlid relock --images SET. " +
			"Everything in the set is held against what was written.",
	},
	NormalStart: {
		Meaning: "The ramdisk that is there holds things a normal start needs, and the recovery's ramdisk " +
			"lacks them.",
		Why: "On phones that start recovery and system from one ramdisk the new one serves both. " +
			"Without the first stage's table of mounts, the kernel modules or a root patch the recovery " +
			"starts, and the system does not, or without root.",
		Remedy: "Take a recovery made for this model and this system, or start it without writing it: " +
			"jarlid recovery try FILE.",
	},
	NotAnApp: {
		Meaning: "The file is not an app, only a part of one, or not as anybody signed it.",
		Why: "The system's package service takes whole apps. ROMs and add-ons are installed by the " +
			"recovery; apps that come in several parts want an installer of their own. One that is not " +
			"signed, or was changed afterwards, is refused by every phone.",
		Remedy: "jarlid ident FILE says what it is; packages for the recovery go with jarlid sideload FILE.",
		Final:  true,
	},
	OldApps: {
		Meaning: "The data is not encrypted, and the apps and settings in it belong to the system that was " +
			"here before.",
		Why: "Another system reads them and stumbles: it restarts over and over, or asks for all data " +
			"to be erased. A newer build of the same system usually takes them.",
		Remedy: "When changing to another system: jarlid wipe apps caches. Shared storage stays.",
	},
	RecoveryOnly: {
		Meaning: "Only a recovery can do this, not the bootloader.",
		Why: "The bootloader knows whole partitions and nothing of what lies in them. Caches, apps and " +
			"shared storage are parts of the data.",
		Remedy: "jarlid go recovery, then the same command there.", Final: true,
	},
	DeltaPackage: {
		Meaning: "The package only holds the difference to one exact earlier build.",
		Why: "It installs only over the very build it was made from; on anything else its check fails " +
			"and nothing is installed.",
		Remedy: "Fetch the full package, unless exactly that build is on the phone.",
	},
	NotConfirmed: {
		Meaning: "The command would have changed something on the phone, and nobody was there to say yes.",
		Why: "Whatever writes or erases asks once, naming what and where. Without a terminal there is " +
			"nobody to ask, and a script that was meant for another phone would go ahead.",
		Remedy: "Read what the command says it would do, then run it again with --yes, or in a terminal.",
		Final:  true,
	},
	HandsNeeded: {
		Meaning: "Somebody has to press or choose something at the phone, and nobody is there.",
		Why: "Some things a phone takes from its own keys or menus only: the answer to its question " +
			"about unlocking, an old bootloader's way into the recovery, a recovery's menu. Waiting for " +
			"hands that are not there would keep the phone locked for minutes.",
		Remedy: "Run the command again in a terminal, without --no-hands, with somebody at the phone.",
		Final:  true,
	},
	PhoneBusy: {
		Meaning: "Another jarlid works on this phone.",
		Why: "Two programs that restart and write the same phone undo each other's work, and neither " +
			"can tell what is on it afterwards.",
		Remedy: "Wait until the other one has finished, or end it with Ctrl-C; it stops after the write " +
			"in progress.", Final: true,
	},
	NotInThisMode: {
		Meaning: "The phone can't do this in the mode it is in.",
		Why: "A bootloader writes and erases and gives nothing out; a recovery with a root shell reads " +
			"everything; a started system shows its files; sideload mode takes packages and nothing else.",
		Remedy: "Bring the phone into the mode that is named: jarlid go recovery, jarlid go bootloader.",
		Final:  true,
	},
	NoSuchSlot: {
		Meaning: "A slot was named that this phone does not have.",
		Why: "Phones with one slot have one of everything; instructions for phones with two name slots " +
			"that are not there.",
		Remedy: "Leave the slot out, or see with: jarlid slot.", Final: true,
	},
	SlotNotTold: {
		Meaning: "The phone does not tell in this mode whether it has slots, or which one is meant.",
		Why:     "What goes to the wrong slot is missing on the right one.",
		Remedy: "Name the slot or the partition with its suffix, or bring the phone into its bootloader, " +
			"which tells.", Final: true,
	},
	NameTheSlot: {
		Meaning: "The partition is there on each slot, and the command says of none which is meant.",
		Why: "One of the two slots usually holds the system that works. Which of them is erased is not " +
			"guessed.",
		Remedy: "Name it: system@a, system@other, system@both.", Final: true,
	},
	DestinationUnknown: {
		Meaning: "Nobody can tell to which partition the file belongs on this phone.",
		Why:     "An image in the wrong partition keeps a phone from starting, at best.",
		Remedy: "Look at what the file is (jarlid ident FILE) and what the phone has (jarlid card), and " +
			"name the partition with --into.", Final: true,
	},
	NothingThere: {
		Meaning: "There is nothing on the phone that could be changed in this way.",
		Why: "A slot that was never installed to holds no image a recovery could be put into, and no " +
			"vbmeta whose flags could be changed.",
		Remedy: "Install a system to the slot first, or name the file to begin with as the message says.",
		Final:  true,
	},
	NothingKept: {
		Meaning: "No earlier job kept what was there before.",
		Why: "What was on a partition can be kept only where it can be read: in a recovery with a " +
			"root shell.",
		Remedy: "Take the maker's image out of the firmware set and write that: jarlid lift SET boot -o " +
			"DIR, then jarlid flash.", Final: true,
	},
	CodeNeeded: {
		Meaning: "This bootloader opens only with a code that its maker gives out.",
		Why:     "Without the code it refuses, and some lock the phone for hours after several wrong ones.",
		Remedy:  "Get the code from where the model file says, and give it with --code.", Final: true,
	},
	JournalDamaged: {
		Meaning: "The journal of an earlier job on this phone can't be read.",
		Why: "What that job did is not known, so everything earlier jobs told counts as unknown too: a " +
			"slot it erased may look as if it held a system.",
		Remedy: "Read the phone in its recovery or bootloader (jarlid card, jarlid slot) before you go " +
			"on; a journal that is no longer wanted can be moved out of the jobs folder.",
	},
	ChainedVBMeta: {
		Meaning: "The flags that switch verified boot off count only in the top vbmeta, and this is " +
			"another one.",
		Why: "A flag in a chained vbmeta, or in the footer of an image, is ignored by every phone; it " +
			"would look as if something had been done.",
		Remedy: "Name the top image, vbmeta.img, or leave the file out to change the phone's own.",
		Final:  true,
	},
	WontRun: {
		Meaning: "The generic system does not go with what this phone has: its processor, its vendor " +
			"partition, its kernel or the way it is started.",
		Why: "It would be written without a fault and never come up. Which rule it is, and the values " +
			"on both sides, stand in the sentence.",
		Remedy: "See the whole page with: jarlid fit IMAGE. Take the variant that fits; where something " +
			"is only not known, find it out first.",
	},
	OtherBuild: {
		Meaning: "The image belongs to another build of the system than the one on that slot.",
		Why: "A boot image brings the kernel and the first programs of its own system. Under another " +
			"one the phone may not start, or lose sound, radio or touch.",
		Remedy: "Take the boot image out of the very package that was installed: jarlid lift PACKAGE boot " +
			"-o DIR.",
	},
	NoSystem: {
		Meaning: "There is no system on the phone that the package could be added to.",
		Why: "An add-on changes the system that is there. Into an erased partition it installs " +
			"nothing, or says it did and leaves files nobody reads.",
		Remedy: "Install the ROM first, or both in one command: jarlid sideload ROM ADD-ON.",
	},
	NotGeneric: {
		Meaning: "The system image is made for one phone, not a generic one.",
		Why: "A maker's or ROM's own system goes with its own vendor, kernel and vbmeta. Whether it " +
			"would run over those of another phone is not what the rules here can tell.",
		Remedy: "Flash it with its whole set, on the phone it is made for. For a generic system fetch an " +
			"image that says so.",
		Final: true,
	},
	NoBackup: {
		Meaning: "All of the owner's data goes, and Jar Lid has not kept a copy of it.",
		Why: "What is erased can't be had back. A started system or a recovery that can open the data " +
			"gives the shared storage out; partitions that hold the phone's own numbers are worth " +
			"keeping too.",
		Remedy: "Keep it first: jarlid backup take -o DIR. Where there is nothing to keep, go on.",
	},
	TwoAlike: {
		Meaning: "An archive or package holds two files of one name, in different folders.",
		Why: "Sets for several models, or for both slots, come in one archive. The wrong one of two is " +
			"worse than none.",
		Remedy: "Take out the one that is meant with jarlid lift, and name that.",
		Final:  true,
	},
	ConditionNotMet: {
		Meaning: "The phone is not as the sheet wants it before the first task.",
		Why: "Whoever wrote the sheet tried it on phones in that state. In another one a step may stop " +
			"in the middle, or leave a phone that does not start.",
		Remedy: "Bring the phone into that state, or change the condition in the sheet if you know better.",
	},
	FileChanged: {
		Meaning: "The file changed after it was verified.",
		Why: "Jar Lid verifies a file once and remembers it by its size and times. A program that " +
			"writes the file meanwhile, such as a download that is still running, makes what is sent " +
			"another file.",
		Remedy: "Wait until nothing writes the file any more, and run the command again: the file is " +
			"verified again. What was written to the phone meanwhile has to be written again.", Final: true,
	},
	NoTaskFits: {
		Meaning: "None of the sheet's tasks is for this kind of phone.",
		Why:     "Each task has a when, and this phone fits none of them, so nothing would be done.",
		Remedy:  "Leave the phone out, or draft a sheet for its kind.",
		Final:   true,
	},
	TasksContradict: {
		Meaning: "Two tasks of the sheet undo each other.",
		Why: "What the first one does is gone before the phone has been started once, so one of the " +
			"two is not what was meant.",
		Remedy: "Take one of them out of the sheet.",
	},
	OpenQuestion: {
		Meaning: "The sheet has a question that nobody has answered yet.",
		Why: "What could not be known when it was drafted is not guessed: the answer decides what has " +
			"to be done.",
		Remedy: "Find it out, change the tasks accordingly, and take the question out of the sheet's " +
			"list open.",
		Final: true,
	},
	TaskImpossible: {
		Meaning: "A task of the sheet can't be done, on this phone or at all.",
		Why: "It names something that the phone, the file or the command does not have. The sentence " +
			"says what.",
		Remedy: "Change the task in the sheet, or say with when for which phones it is.",
		Final:  true,
	},
}
