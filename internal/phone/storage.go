package phone

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
)

// cardTypes are the file systems of memory cards ("External storage" and the SD Association's
// choice of FAT and exFAT, with the names the kernel's drivers have).
var cardTypes = []string{"vfat", "exfat", "sdfat", "texfat", "fuseblk", "ntfs", "ntfs3"}

// cardsIn finds the folders that memory cards are mounted at, in a table of mounts as the kernel
// gives it (proc(5)): device, folder, type, options. The maker's own partitions of these types
// are mounted to be read only.
func cardsIn(table string) (dirs []string) {
	for line := range strings.Lines(table) {
		f := strings.Fields(line)
		if len(f) >= 4 && slices.Contains(cardTypes, f[2]) && slices.Contains(strings.Split(f[3], ","), "rw") {
			dirs = append(dirs, strings.ReplaceAll(f[1], `\040`, " "))
		}
	}
	return dirs
}

// StoragePath finds where a storage is seen in this mode; "" when it is not.
func (s *Session) StoragePath(ctx context.Context, to string) (string, error) {
	mounts := []string{"/sdcard"}
	switch {
	case to != "sd":
	case s.Mode() == card.System: // it names cards by their numbers
		text, err := s.Text(ctx, "ls /storage")
		if err != nil {
			return "", err
		}
		mounts = nil
		for name := range strings.FieldsSeq(text) {
			if name != "emulated" && name != "self" {
				mounts = append(mounts, "/storage/"+name)
			}
		}
	default:
		text, err := s.Text(ctx, "cat /proc/mounts")
		if err != nil {
			return "", err
		}
		mounts = cardsIn(text)
	}
	y, err := s.Sync(ctx)
	if err != nil {
		return "", err
	}
	defer y.Close()
	for _, m := range mounts {
		// A mount point without anything mounted is an empty folder of the
		// ramdisk; its room tells them apart.
		if f, err := y.Stat(ctx, m); err == nil && f.IsDir() {
			return m, nil
		}
	}
	return "", nil
}

// readStorage reads whether a storage is there and how much room it has.
func (s *Session) readStorage(ctx context.Context, to string) error {
	if !s.HasFiles() {
		return nil
	}
	at, err := s.StoragePath(ctx, to)
	if err != nil {
		return err
	}
	if at == "" {
		s.learn(card.FactFree.Of(to), card.Nothing)
		return nil
	}
	text, err := s.Text(ctx, "df -k "+at)
	if err != nil {
		return err
	}
	if n, ok := parseDF(text); ok {
		s.learn(card.FactFree.Of(to), fmt.Sprint(n))
	}
	return nil
}

// parseDF reads the free bytes out of what df -k prints: device, blocks of
// 1 KiB, used, available, share, mount point; a long device name breaks the line.
func parseDF(text string) (free int64, ok bool) {
	_, rest, cut := strings.Cut(text, "\n")
	f := strings.Fields(rest)
	if !cut || len(f) < 5 {
		return 0, false
	}
	n, err := strconv.ParseInt(f[3], 10, 64)
	return n << 10, err == nil && n >= 0 && n < 1<<50
}

// DigestOf gives the SHA-256 that the phone works out of a partition; as DigestThere.
func (s *Session) DigestOf(ctx context.Context, p card.Partition) (string, error) {
	logical, _ := s.Card.Yes(card.FactLogical.Of(p))
	dev, err := s.Device(ctx, p, logical)
	if err != nil {
		return "", err
	}
	return s.DigestThere(ctx, dev)
}

// DigestThere has the phone make a file's digest; "" where it has no such tool.
func (s *Session) DigestThere(ctx context.Context, name string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, doLimit)
	defer cancel()
	out, err := s.Shell(ctx, "sha256sum "+QuoteShell(name)+" 2>/dev/null")
	if err != nil {
		return "", err
	}
	if sum, _, _ := strings.Cut(string(out.Stdout), " "); len(sum) == 64 {
		return sum, nil
	}
	return "", nil
}
