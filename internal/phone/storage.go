package phone

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/link"
)

// cardTypes are the file systems of memory cards ("External storage" and the SD Association's
// choice of FAT and exFAT, with the names the kernel's drivers have).
var cardTypes = []string{"vfat", "exfat", "sdfat", "texfat", "fuseblk", "ntfs", "ntfs3"}

// cardsIn finds the folders that memory cards are mounted at, in a table of mounts as the kernel
// gives it (proc(5)): device, folder, type, options. The manufacturer's own partitions of these types
// are mounted to be read only.
func cardsIn(table string) (dirs []string) {
	for line := range strings.Lines(table) {
		f := strings.Fields(line)
		if len(f) >= 4 && slices.Contains(cardTypes, f[2]) && slices.Contains(strings.Split(f[3], ","),
			"rw") {
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
		f, err := y.Stat(ctx, m)
		var refused *link.RefusedError
		switch {
		case err == nil && f.IsDir():
			return m, nil
		case err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.As(err, &refused):
			return "", err // a phone that was lost has not said that there is none
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

// digestsAtOnce bounds the length of one command line, in bytes: the oldest shells take 4096.
const digestsAtOnce = 3000

// DigestsThere has the phone make the digests of files, in hex; "" for each where it has no such tool or
// can't read the file.
func (s *Session) DigestsThere(ctx context.Context, names []string) ([]string, error) {
	sums := make([]string, len(names))
	for i := 0; i < len(names); {
		if strings.ContainsAny(names[i], "\n\\") { // a tool writes such a name in its own way
			var err error
			if sums[i], err = s.DigestThere(ctx, names[i]); err != nil {
				return nil, err
			}
			i++
			continue
		}
		line, n := "", i
		for ; n < len(names) && !strings.ContainsAny(names[n], "\n\\") &&
			(n == i || len(line) < digestsAtOnce); n++ {
			line += "sha256sum " + QuoteShell(names[n]) + " 2>/dev/null || echo none; "
		}
		dctx, cancel := context.WithTimeout(ctx, doLimit)
		out, err := s.Shell(dctx, line)
		cancel()
		if err != nil {
			return nil, err
		}
		answers := strings.Split(strings.TrimRight(string(out.Stdout), "\r\n"), "\n")
		if len(answers) == n-i { // otherwise nobody can say whose each of them is
			for k, a := range answers {
				sums[i+k] = digestIn(a)
			}
		}
		i = n
	}
	return sums, nil
}

// digestIn is the digest that a line of sha256sum begins with; "" for another line.
func digestIn(line string) string {
	sum, _, _ := strings.Cut(strings.TrimPrefix(line, `\`), " ")
	if len(sum) != 64 || strings.Trim(sum, "0123456789abcdef") != "" {
		return ""
	}
	return sum
}

// DigestThere has the phone make a file's digest; "" where it has no such tool.
func (s *Session) DigestThere(ctx context.Context, name string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, doLimit)
	defer cancel()
	out, err := s.Shell(ctx, "sha256sum "+QuoteShell(name)+" 2>/dev/null")
	if err != nil {
		return "", err
	}
	return digestIn(string(out.Stdout)), nil
}
