package bench

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// dataState looks at the start of userdata: never written, freshly formatted,
// encrypted as a whole, or (empty) something that can't be judged from there,
// as file by file encryption can't.
func dataState(ctx context.Context, l *Link) (string, error) {
	const look = 8192
	b, err := readBlock(ctx, l, "userdata", look)
	if err != nil || b == nil {
		return "", err
	}
	if image.IsZero(b) {
		return card.DataFormatted, nil
	}
	switch s := ext4Super(b); {
	case s != nil && s.Fresh():
		return card.DataFormatted, nil
	case s != nil, systemType(b) == "f2fs":
		return plainData(ctx, l)
	}
	return card.DataEncrypted, nil
}

// plainData looks into data whose file system can be read: the list of installed
// apps tells that it is not encrypted. Where that is encrypted file by file, its
// name is not there or is not a list. Data in which there is nothing but the shared
// storage has no apps that could be of another system.
func plainData(ctx context.Context, l *Link) (string, error) {
	text, err := shell(ctx, l, "head -c 64 /data/system/packages.xml 2>/dev/null || cat /data/system/packages.xml 2>/dev/null")
	if err != nil {
		return "", err
	}
	// The list is XML, or the platform's binary form of it, which begins with "ABX"
	// (BinaryXmlSerializer.java).
	if strings.HasPrefix(text, "<?xml") || strings.HasPrefix(text, "ABX") {
		return card.DataPlain, nil
	}
	text, err = shell(ctx, l, "ls -A /data 2>/dev/null")
	if err != nil || text == "" {
		return "", err
	}
	for line := range strings.SplitSeq(text, "\n") {
		if !leftByWipe[line] {
			return "", nil
		}
	}
	return card.DataFormatted, nil
}

// leftByWipe are the folders in data that has no apps any more.
var leftByWipe = map[string]bool{"media": true, "lost+found": true, ".layout_version": true}

// readOwner asks a system what of its owner would be in the way: accounts and a
// lock of the screen. What it does not tell, and in other modes, stays unknown.
func readOwner(ctx context.Context, l *Link, c *card.Card) error {
	if l.Mode != card.System {
		return nil
	}
	text, err := shell(ctx, l, "dumpsys account 2>/dev/null")
	if err != nil {
		return err
	}
	total, told := 0, false
	for line := range strings.Lines(text) {
		var n int
		if _, err := fmt.Sscanf(strings.TrimSpace(line), "Accounts: %d", &n); err == nil && n >= 0 { // one line for each user
			total, told = total+n, true
		}
	}
	if told {
		learn(c, card.FactAccounts, fmt.Sprint(total))
	}
	if text, err = shell(ctx, l, "locksettings get-disabled 2>/dev/null"); err != nil {
		return err
	}
	if yes, ok := card.ParseYes(strings.TrimSpace(text)); ok {
		learn(c, card.FactLock, card.YesNo(!yes))
	}
	return nil
}

// ReadLying reads which packages lie in the shared storage, so that they are not
// erased unseen. In modes that can't tell it does nothing.
func (p *Phone) ReadLying(ctx context.Context, l *Link, c *card.Card) error {
	if !rootRecovery(l, c) {
		return nil
	}
	var names []string
	for _, dir := range []string{"/sdcard", "/sdcard/Download"} {
		text, err := shell(ctx, l, "ls "+dir+" 2>/dev/null")
		if err != nil {
			return err
		}
		for line := range strings.SplitSeq(text, "\n") {
			if strings.HasSuffix(strings.ToLower(line), ".zip") {
				names = append(names, line)
			}
		}
	}
	if len(names) > 0 {
		learn(c, card.FactLying+"storage", strings.Join(names, ", "))
	}
	return nil
}

// ReadRoom reads how much room the system on the slot that runs has for add-ons:
// the free blocks its super block tells. A file system that can't be written has
// none. In modes that can't tell it does nothing.
func (p *Phone) ReadRoom(ctx context.Context, l *Link, c *card.Card) error {
	if !rootRecovery(l, c) {
		return nil
	}
	system := plan.Suffixed("system", c.Value(card.FactStarted))
	b, err := readDeviceHead(ctx, l, device(system, plan.Logical(c, "system")))
	if s := ext4Super(b); err == nil && s != nil {
		learn(c, card.FactFree+system, fmt.Sprint(s.Free()))
	}
	return err
}

// readDeviceHead reads the first block of a device; nil where it can't be read.
func readDeviceHead(ctx context.Context, l *Link, dev string) ([]byte, error) {
	return readDeviceAt(ctx, l, dev, 0, blockSize)
}

// mkfs is the command that formats a partition with the file system the
// recovery's table of mounts names for a folder.
func mkfs(table, mount, device string) string {
	if fileSystem(table, mount) == "f2fs" {
		return "make_f2fs -g android " + device
	}
	return "mke2fs -F -q -t ext4 " + device
}

const mountTable = "cat /system/etc/recovery.fstab || cat /etc/recovery.fstab"

// formatLimit is how long formatting one partition may take.
const formatLimit = 10 * time.Minute

// notFound is the exit code of a shell for a program it does not have.
const notFound = 127

// format formats one partition through the recovery's root shell. A recovery that
// has no program for it is a *missingError.
func (j *Job) format(ctx context.Context, partition, mount string, rec *Record) error {
	table, err := shell(ctx, j.Link, mountTable)
	if err != nil {
		return err
	}
	make := mkfs(table, mount, devicePath+partition)
	j.Obs.Say(Wait, "formatting %s", partition)
	fctx, cancel := context.WithTimeout(ctx, formatLimit)
	defer cancel()
	out, err := j.Link.ADB.Shell(fctx, fmt.Sprintf("umount %s 2>/dev/null; %s && sync", mount, make))
	if err != nil {
		return err
	}
	text := strings.TrimSpace(string(out.Stderr))
	if text != "" {
		rec.Answers = append(rec.Answers, text)
	}
	switch {
	case out.Code == notFound:
		return &missingError{Program: strings.Fields(make)[0]}
	case out.Code > 0:
		return &link.RefusedError{Command: make, Message: text}
	}
	return nil
}

// devicePath is where recoveries have the partitions by their names.
const devicePath = "/dev/block/by-name/"

// missingError says that a recovery lacks a program.
type missingError struct{ Program string }

func (e *missingError) Error() string { return "this recovery has no program " + e.Program }

// wipeArea erases an area through the recovery's shell, or by hand.
func (j *Job) wipeArea(ctx context.Context, s *plan.WipeArea) (Record, error) {
	rec := Record{Confirm: ReadBack}
	var err error
	if j.Link == nil || j.Card.Value(card.FactRoot) != "yes" {
		if s.Area == "caches" && j.Yes {
			j.Obs.Say("note", "nobody is here to wipe the caches in the recovery's menu; they stay, and the next start sorts them out")
			return Record{Confirm: NotKnown}, nil
		}
		rec, err = j.wipeByHand(s)
	} else {
		switch s.Area {
		case "caches":
			err = j.wipeCaches(ctx, &rec)
		case "apps":
			err = j.wipeNames(ctx, "/data", "media", &rec)
		case "storage":
			var dir string
			if dir, err = storagePath(ctx, j.Link, "storage"); err == nil && dir == "" {
				err = &link.RefusedError{Command: s.Title(), Message: "the storage is not there"}
			}
			if err == nil {
				err = j.wipeNames(ctx, dir, "", &rec)
			}
		default:
			err = j.wipeSystem(ctx, s, &rec)
		}
	}
	if err != nil {
		return rec, err
	}
	s.Effects(j.Card)
	return rec, nil
}

// wipeNames removes everything in a folder but one name, and looks again.
func (j *Job) wipeNames(ctx context.Context, dir, keep string, rec *Record) error {
	list := func() ([]string, error) {
		text, err := shell(ctx, j.Link, "ls -A "+quoteShell(dir))
		if err != nil {
			return nil, err
		}
		var names []string
		for line := range strings.SplitSeq(text, "\n") {
			if line != "" && line != keep && line != "lost+found" {
				names = append(names, line)
			}
		}
		return names, nil
	}
	names, err := list()
	if err != nil {
		return err
	}
	for _, n := range names {
		rctx, cancel := context.WithTimeout(ctx, formatLimit)
		out, err := j.Link.ADB.Shell(rctx, "rm -rf "+quoteShell(dir+"/"+n))
		cancel()
		if err != nil {
			return err
		}
		if text := strings.TrimSpace(string(out.Stderr)); text != "" {
			rec.Answers = append(rec.Answers, text)
		}
	}
	left, err := list()
	if err == nil && len(left) > 0 {
		err = &link.RefusedError{Command: "rm -rf", Message: fmt.Sprintf("read back, %s still holds %s", dir, strings.Join(left, ", "))}
	}
	return err
}

// wipeCaches wipes the partition for caches, where there is one, and the
// system's compiled code, where the data can be read.
func (j *Job) wipeCaches(ctx context.Context, rec *Record) error {
	head, err := readBlock(ctx, j.Link, "cache", 4096)
	if err != nil {
		return err
	}
	if head != nil {
		err := j.format(ctx, "cache", "/cache", rec)
		var missing *missingError
		if errors.As(err, &missing) {
			return j.tellRecovery(ctx, rec, "--wipe_cache")
		}
		if err != nil {
			return err
		}
	}
	for _, dir := range []string{"/data/dalvik-cache", "/data/cache"} {
		if err := j.inShell(ctx, "rm -rf "+dir+"; [ ! -e "+dir+" ]", "rm -rf "+dir); err != nil {
			return err
		}
	}
	return nil
}

// wipeSystem formats a partition of the system and looks at what is there then.
func (j *Job) wipeSystem(ctx context.Context, s *plan.WipeArea, rec *Record) error {
	if err := j.format(ctx, s.Partition(), "/"+s.Area, rec); err != nil {
		return err
	}
	b, err := readBlock(ctx, j.Link, s.Partition(), 4096)
	if err != nil {
		return err
	}
	switch super := ext4Super(b); {
	case super == nil:
		rec.Confirm = PhoneWord
	case super.Mounts != 0:
		return &link.RefusedError{Command: s.Title(), Message: "read back, the old file system is still there"}
	}
	return nil
}

// wipeByHand has a person do it in the recovery's menu.
func (j *Job) wipeByHand(s *plan.WipeArea) (Record, error) {
	choose := map[string]string{"caches": `the entry that wipes the caches`, "apps": `the entry that erases apps and settings`,
		"storage": `the entry that erases the storage`, "system": `the entry that erases the system partition`, "vendor": `the entry that erases the vendor partition`}[s.Area]
	r := j.Phone.hand("wipe-"+s.Area, model.Recipe{Do: []string{"On the phone, under the menu for wiping, choose " + choose + "."}})
	if r.Hint == "" {
		r.Hint = map[string]string{"caches": `Do not choose the entry that formats all data.`, "apps": `Do not choose the one that formats all data: the storage would go too.`,
			"storage": `Nothing else: the other entries erase apps or the system.`}[s.Area]
	}
	return j.doneByHand(r, "Does the phone say that it was done?", s.Title())
}
