package shell

import "strings"

// sameDevice is put before a command that reads or writes a block device: $1 is the device, $2 its number as
// ls prints it ("259, 3"), $3 as the kernel does ("259:3"). A name that is missing, dangling, a plain file or
// another device ends the command.
const sameDevice = `is() {
[ -b "$1" ] || { echo "$1 is no block device" >&2; return 1; }
case " $(echo $(ls -lL "$1" 2>/dev/null))" in " b"*" $2 "*) return 0;; esac
r=$(readlink -f "$1" 2>/dev/null)
read -r d 2>/dev/null <"/sys/class/block/${r##*/}/dev" && [ "$d" = "$3" ] && return 0
echo "$1 is not the block device $3 any more" >&2; return 1; }
is "$1" "$2" "$3" && `

// The commands, each with what it is for. docs/testing.md has the shells each of them was run in.
var (
	alive = &Command{Name: "alive", Purpose: "does the shell still answer", Line: `echo yes`, Answer: "yes",
		Without: "the phone is lost", Quiet: quietProbe}

	props = &Command{Name: "props", Purpose: "all properties", Line: `getprop`,
		Answer: "lines [NAME]: [VALUE]", Without: "the facts stay unknown"}

	prop = &Command{Name: "prop", Purpose: "properties by their names",
		Line: `for p in "$@"; do echo "=$(getprop "$p")"; done`, Answer: "one line =VALUE for each name",
		Without: "the fact stays unknown"}

	user = &Command{Name: "user", Purpose: "which user the shell is", Line: `id -u; id
while read -r k r e x; do case "$k" in Uid:) echo "uid=$e";; esac; done </proc/self/status`,
		Answer:  "a line with a number, or uid=NUMBER; any of three",
		Without: "whether there is a root shell stays unknown"}

	charge = &Command{Name: "charge", Purpose: "the battery's charge",
		Line: `cat /sys/class/power_supply/battery/capacity`, Answer: "percent", Without: "it stays unknown"}

	activeSlot = &Command{Name: "active-slot", Purpose: "which slot boots next, where misc does not have it",
		Line: `bootctl get-active-boot-slot`, Answer: "a digit from 0 on", Without: "it stays unknown"}

	accounts = &Command{Name: "accounts", Purpose: "accounts in the system", Line: `dumpsys account`,
		Answer: "a line Accounts: NUMBER for each user", Without: "they stay unknown"}

	locked = &Command{Name: "locked", Purpose: "is there a code for the screen",
		Line: `locksettings get-disabled`, Answer: "true or false", Without: "it stays unknown"}

	kernel = &Command{Name: "kernel", Purpose: "the kernel's release", Line: `uname -r`,
		Answer:  "the release",
		Without: "it stays unknown"}

	file = &Command{Name: "file", Purpose: "a small file", Line: `cat "$1"`, Answer: "what is in it",
		Without: "it counts as unknown, not as missing"}

	start = &Command{Name: "start", Purpose: "the first bytes of a file", Line: `head -c 64 "$1" || cat "$1"`,
		Answer: "what is in it", Without: "it counts as unknown"}

	exists = &Command{Name: "exists", Purpose: "is something there",
		Line: `if [ -e "$1" ] || [ -L "$1" ]; then echo yes; else echo no; fi`, Answer: "yes or no",
		Without: "it counts as unknown"}

	folder = &Command{Name: "folder", Purpose: "the names in a folder, also hidden ones",
		Line: `[ -d "$1" ] && { ls -A "$1" 2>/dev/null || ls -a "$1"; }`, Answer: "a name a line",
		Without: "it counts as unknown, not as empty"}

	realPath = &Command{Name: "link", Purpose: "where a path leads", Line: `readlink -f "$1"`,
		Answer:  "a path",
		Without: "the path is taken as it is"}

	blocks = &Command{Name: "blocks", Purpose: "the block devices, their names, numbers and sizes",
		Line: `{ grep . /sys/class/block/*/dev /dev/null; grep . /sys/class/block/*/size /dev/null
grep PARTNAME= /sys/class/block/*/uevent /dev/null; grep . /sys/class/block/*/dm/name /dev/null
type grep; } 2>/dev/null || for f in /sys/class/block/*; do
{ read -r d <"$f/dev" && read -r n <"$f/size"; } 2>/dev/null || continue
echo "$f/dev:$d"; echo "$f/size:$n"
while read -r l; do case "$l" in PARTNAME=*) echo "$f/uevent:$l";; esac; done 2>/dev/null <"$f/uevent"
[ -e "$f/dm/name" ] && { read -r l <"$f/dm/name" && echo "$f/dm/name:$l"; }
done
echo =partitions; cat /proc/partitions
for g in /dev/block/by-name /dev/block/bootdevice/by-name /dev/block/platform/*/by-name \
/dev/block/platform/*/*/by-name /dev/block/mapper; do
[ -d "$g" ] && { echo "=dir $g"; ls -lL "$g/" 2>/dev/null; }
done; :`,
		Answer: "lines FILE:CONTENT of /sys/class/block; after =partitions the table of that name; after " +
			"=dir FOLDER what ls -l prints", Without: "no partition can be read or written"}

	size = &Command{Name: "size", Purpose: "a device's size where the kernel's files do not tell it",
		Line: `blockdev --getsize64 "$1"`, Answer: "bytes", Without: "the device can't be read or written"}

	mounts = &Command{Name: "mounts", Purpose: "what is mounted where", Line: `cat /proc/self/mountinfo; echo
echo =mounts; cat /proc/mounts`, Answer: "the tables of proc(5), the second one after a line =mounts",
		Without: "nothing that needs a mounted file system is done"}

	fstab = &Command{Name: "fstab", Purpose: "the file systems the recovery mounts",
		Line:   `cat /system/etc/recovery.fstab || cat /etc/recovery.fstab || cat /etc/fstab`,
		Answer: "a table with a mount point and a type in each line", Without: "ext4 is taken"}

	free = &Command{Name: "free", Purpose: "free space", Line: `df -k "$1"`,
		Answer: "a heading, then a line of six columns, in units of 1 KiB", Without: "it stays unknown"}

	digest = &Command{Name: "digest", Purpose: "SHA-256 of files",
		Line:    `for f in "$@"; do sha256sum "$f" 2>/dev/null || echo none; done`,
		Answer:  "a line for each file: 64 hexadecimal digits, or none",
		Without: "what was sent is reported by the phone, not verified", Quiet: quietLong}

	deviceDigest = &Command{Name: "device-digest", Purpose: "SHA-256 of a device",
		Line: sameDevice + `sha256sum "$1"`, Answer: "64 hexadecimal digits and a name",
		Without: "what was read is not compared", Quiet: quietLong}

	readBlock = &Command{Name: "read-block", Purpose: "one block of a device: $4 bytes, block number $5",
		Line: sameDevice + `dd if="$1" bs="$4" skip="$5" count=1 2>/dev/null`, Answer: "the bytes",
		Without: "what is there stays unknown"}

	sameAsRead = &Command{Name: "same-device", Purpose: "is a device the one it was", Line: sameDevice + `:`,
		Answer: "nothing", Without: "the device is not read"}

	writeBlocks = &Command{Name: "write-blocks", Purpose: "write a file to a device, from block $5 of 4096 " +
		"bytes on",
		Line:   sameDevice + `dd if="$4" of="$1" bs=4096 seek="$5" conv=notrunc && sync`,
		Answer: "what dd reports", Without: "the write has failed", Quiet: quietLong, Changes: true}

	copyDevice = &Command{Name: "copy-device", Purpose: "copy the device $4 ($5, $6) to another",
		Line:   sameDevice + `is "$4" "$5" "$6" && dd if="$4" of="$1" bs=1048576 conv=notrunc && sync`,
		Answer: "what dd reports", Without: "the copy has failed", Quiet: quietLong, Changes: true}

	dropCaches = &Command{Name: "drop-caches", Purpose: "have the next read come from the storage",
		Line: `sync; blockdev --flushbufs "$1"; echo 3 >/proc/sys/vm/drop_caches`, Answer: "nothing",
		Without: "what is read back may come from memory", Changes: true}

	mount = &Command{Name: "mount", Purpose: "mount the device $1 at $4 as $5 with the options $6",
		Line:   sameDevice + `mkdir -p "$4" && mount -t "$5" -o "$6" "$1" "$4"`,
		Answer: "nothing", Without: "it counts as not mounted", Changes: true}

	bind = &Command{Name: "bind", Purpose: "show the folder $1 at $2 too",
		Line:   `mkdir -p "$1" "$2" && { mount -o bind "$1" "$2" || mount --bind "$1" "$2"; }`,
		Answer: "nothing", Without: "it counts as not mounted", Changes: true}

	remount = &Command{Name: "remount", Purpose: "change how $1 is mounted to $2 (rw, ro)",
		Line: `sync; mount -o "remount,$2" "$1"`, Answer: "nothing", Without: "it has failed", Changes: true}

	unmount = &Command{Name: "unmount", Purpose: "unmount", Line: `sync; umount "$1"`, Answer: "nothing",
		Without: "what is mounted is not formatted", Changes: true}

	remove = &Command{Name: "remove", Purpose: "remove a file or folder, and make sure that it is gone",
		Line: `rm -rf "$1"; [ ! -e "$1" ] && [ ! -L "$1" ]`, Answer: "nothing", Without: "it has failed",
		Quiet: quietLong, Changes: true}

	move = &Command{Name: "move", Purpose: "move $1 to $2, and make sure of it",
		Line:   `mkdir -p "$3" && mv "$1" "$2" && [ -e "$2" ] && [ ! -e "$1" ] && sync`,
		Answer: "nothing", Without: "it has failed", Changes: true}

	writeText = &Command{Name: "write-text", Purpose: "write the text $3 to the file $2 in the folder $1",
		Line:    `mkdir -p "$1" && { printf %s "$3" 2>/dev/null || print -rn -- "$3"; } >"$2" && sync`,
		Answer:  "nothing",
		Without: "it has failed",
		Changes: true}

	apps = &Command{Name: "apps", Purpose: "installed apps by a part of their name",
		Line: `pm list packages "$1"`, Answer: "lines package:NAME",
		Without: "the app is reported as installed, not verified"}

	installApp = &Command{Name: "install-app", Purpose: "install an app package that is on the phone",
		Line: `pm install -r "$1" 2>&1`, Answer: "Success, or a line with the reason",
		Without: "it has failed", Quiet: quietLong, Changes: true}

	openSession = &Command{Name: "open-session", Purpose: "begin to install an app of $1 bytes in several " +
		"files",
		Line: `pm install-create -r -S "$1" 2>&1`, Answer: "Success: created install session [NUMBER]",
		Without: "it has failed", Changes: true}

	addToSession = &Command{Name: "add-to-session", Purpose: "add the file $4 of $2 bytes, named $3, to " +
		"session $1",
		Line: `pm install-write -S "$2" "$1" "$3" "$4" 2>&1`, Answer: "Success, or a line with the reason",
		Without: "it has failed", Quiet: quietLong, Changes: true}

	commitSession = &Command{Name: "commit-session", Purpose: "install what session $1 holds",
		Line: `pm install-commit "$1" 2>&1`, Answer: "Success, or a line with the reason",
		Without: "it has failed", Quiet: quietLong, Changes: true}

	abandonSession = &Command{Name: "abandon-session", Purpose: "drop session $1",
		Line: `pm install-abandon "$1"`, Answer: "nothing", Without: "the system drops it after days",
		Changes: true}
)

// mkfs is one way to make a file system.
type mkfs struct {
	fs string
	// try shows that the program is there and is the one it is taken for, and changes nothing. works is what
	// its answer has to hold; "" where the exit status tells.
	try   *Command
	works string
	make  *Command
}

// ways are the programs that make file systems, the best first. The name is not enough: busybox has
// a small mke2fs, which makes ext2 and knows no -t, and a toybox answers --help for any name.
var ways = []mkfs{
	makes("ext4", "mke2fs", "", `-n -F -q -t ext4 "$1"`, `-F -q -t ext4 "$1"`),
	makes("ext4", "mkfs.ext4", "", `-n -F -q "$1"`, `-F -q "$1"`),
	makes("ext4", "mke2fs", "", `-n -F "$1"`, `-F "$1"`), // ext2, which ext4's driver mounts
	makes("f2fs", "make_f2fs", "f2fs", `2>&1`, `-f -g android "$1"`),
	makes("f2fs", "make_f2fs", "f2fs", `2>&1`, `-g android "$1"`),
	makes("f2fs", "mkfs.f2fs", "f2fs", `2>&1`, `-f "$1"`),
}

// makes is one way: the program, what its answer to a trial holds, and how it is tried and called.
func makes(fs, program, works, try, args string) mkfs {
	name := strings.TrimSpace(strings.TrimSuffix(program+" "+args, ` "$1"`))
	return mkfs{fs: fs, works: works,
		try: &Command{Name: "try " + name, Purpose: "is this program there, and the one it is taken for",
			Line: program + " " + try, Answer: "its words", Without: "the next program is tried"},
		make: &Command{Name: name, Purpose: "make " + fs, Line: sameDevice + program + " " + args +
			" && sync",
			Answer: "its words", Without: "the format has failed", Quiet: quietLong, Changes: true}}
}

// Commands gives the whole table.
func Commands() []*Command {
	list := []*Command{alive, props, prop, user, charge, activeSlot, accounts, locked, kernel, file, start,
		exists, folder,
		realPath, blocks, size, mounts, fstab, free, digest, deviceDigest, readBlock, sameAsRead, writeBlocks,
		copyDevice, dropCaches, mount, bind, remount, unmount, remove, move, writeText, apps, installApp,
		openSession, addToSession, commitSession, abandonSession}
	for _, m := range ways {
		list = append(list, m.try, m.make)
	}
	return list
}
