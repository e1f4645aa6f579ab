package finding

// aboutJobs are the findings about steps, storage, slots and sheets.
var aboutJobs = map[string]Text{
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
		Reported: true,
		Meaning:  "Accounts are signed in, or nobody can tell.",
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
		Remedy: "See the whole page with: jarlid fit IMAGE. Take the variant that fits.",
	},
	FitUnknown: {
		Meaning: "Whether the generic system runs on this phone is unknown: a value that decides it was " +
			"not " +
			"read yet.",
		Why: "A variant for another processor, vendor interface or kernel is written without an error and " +
			"does not boot.",
		Remedy: "Read the missing values in the mode that the page names: jarlid fit IMAGE.",
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
		Reported: true,
		Meaning:  "The phone is not as the sheet wants it before the first task.",
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
