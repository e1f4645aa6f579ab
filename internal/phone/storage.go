package phone

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
)

// Where recoveries mount a memory card; the system names it below /storage.
var cardMounts = []string{"/external_sd", "/sdcard1", "/storage/sdcard1"}

// StoragePath finds where a storage is seen in this mode; "" when it is not.
func (s *Session) StoragePath(ctx context.Context, to string) (string, error) {
	mounts := []string{"/sdcard"}
	if to == "sd" {
		mounts = cardMounts
		if s.Mode() == card.System {
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
		}
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
