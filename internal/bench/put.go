package bench

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// Where recoveries mount a memory card; the system names it below /storage.
var cardMounts = []string{"/external_sd", "/sdcard1", "/storage/sdcard1"}

// storagePath finds where a storage is seen in this mode; "" when it is not.
func storagePath(ctx context.Context, l *Link, to string) (string, error) {
	mounts := []string{"/sdcard"}
	if to == "sd" {
		mounts = cardMounts
		if l.Mode == card.System {
			text, err := shell(ctx, l, "ls /storage")
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
	y, err := l.ADB.Sync(ctx)
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

// ReadStorage reads whether a storage is there and how much room it has.
func (p *Phone) ReadStorage(ctx context.Context, l *Link, c *card.Card, to string) error {
	if l == nil || l.ADB == nil || l.Mode == card.Sideload {
		return nil
	}
	at, err := storagePath(ctx, l, to)
	if err != nil {
		return err
	}
	if at == "" {
		learn(c, card.FactFree+to, plan.Nothing)
		return nil
	}
	text, err := shell(ctx, l, "df -k "+at)
	if err != nil {
		return err
	}
	if n, ok := parseDF(text); ok {
		learn(c, card.FactFree+to, fmt.Sprint(n))
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

// put sends a file to a storage of the phone and has it hashed there.
func (j *Job) put(ctx context.Context, s *plan.Put) (Record, error) {
	dir, err := storagePath(ctx, j.Link, s.To)
	if err != nil {
		return Record{}, err
	}
	if dir == "" {
		return Record{}, &link.RefusedError{Command: s.Title(), Message: "the storage is not there any more"}
	}
	to := path.Join(dir, phoneName(filepath.Base(s.File.Path)))
	rec := Record{Bytes: s.File.Size, Confirm: PhoneWord}
	if rec.SHA256, err = j.sendFile(ctx, s.File, to, to); err != nil {
		return rec, err
	}
	j.Obs.Say(Wait, "the phone makes the digest of what arrived")
	there, err := j.phoneDigest(ctx, to)
	switch {
	case err != nil:
		return rec, err
	case there != "" && there != rec.SHA256:
		return rec, &link.RefusedError{Command: s.Title(), Message: "what arrived has another digest: " + there}
	case there != "":
		rec.Confirm = ReadBack
	}
	s.Effects(j.Card)
	j.Stored = append(j.Stored, StoredFile{Path: to, Bytes: s.File.Size, SHA256: rec.SHA256, Confirmed: rec.Confirm})
	return rec, nil
}

// StoredFile is one file put to the phone.
type StoredFile struct {
	Path      string `json:"path"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256"`
	Confirmed string `json:"confirmed"`
}

// phoneDigest has the phone make a file's digest; "" where it has no such tool.
func (j *Job) phoneDigest(ctx context.Context, name string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	out, err := j.Link.ADB.Shell(ctx, "sha256sum "+quoteShell(name)+" 2>/dev/null")
	if err != nil {
		return "", err
	}
	if sum, _, _ := strings.Cut(string(out.Stdout), " "); len(sum) == 64 {
		return sum, nil
	}
	return "", nil
}

// quoteShell quotes a word for the phone's shell.
func quoteShell(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// phoneName makes a file name that every storage takes: cards are often FAT.
func phoneName(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`"*/:<>?\|`, r) {
			return '_'
		}
		return r
	}, s)
}

// recordLimit is how long a person and the recovery may take to install a
// package from the phone's storage.
const recordLimit = 30 * time.Minute

// installFrom shows what to choose and waits for the recovery's own record.
func (j *Job) installFrom(ctx context.Context, s *plan.InstallFrom) (Record, error) {
	before, err := shell(ctx, j.Link, "cat /tmp/last_install")
	if err != nil {
		return Record{}, err
	}
	if before != "" { // of an earlier install: the new one will not look alike
		if _, err := shell(ctx, j.Link, "rm -f /tmp/last_install"); err != nil {
			return Record{}, err
		}
	}
	from := map[string]string{"storage": "the phone's storage", "sd": "the memory card"}[s.To]
	j.Obs.Hands(j.Phone.hand("install-from-"+s.To, model.Recipe{Do: []string{"On the phone, choose the menu entry that installs a package from " + from + ", and choose " + filepath.Base(s.File.Path) + "."},
		Hint: "Do not choose anything that wipes or formats: the package lies there."}), recordLimit)
	next := j.Card.Value(card.FactNext)
	for end := time.Now().Add(recordLimit); time.Now().Before(end); {
		text, err := shell(ctx, j.Link, "cat /tmp/last_install")
		if err != nil {
			return Record{}, err
		}
		if lines := strings.Split(text, "\n"); len(lines) > 1 {
			return j.fromRecord(ctx, s, strings.TrimSpace(lines[1]), next)
		}
		select {
		case <-ctx.Done():
			return Record{}, ctx.Err()
		case <-time.After(time.Second):
		}
	}
	return Record{}, &UnknownError{Text: "nobody can tell what became of the package: the recovery wrote no record of an install", Hint: "look at the phone's screen"}
}

// fromRecord is the end of an install the recovery did by itself.
func (j *Job) fromRecord(ctx context.Context, s *plan.InstallFrom, record, next string) (Record, error) {
	pkg := PackageResult{Path: s.File.Path, Outcome: Failed, Evidence: "the recovery's own record says that it failed"}
	if err := j.reread(ctx); err != nil {
		return Record{}, err
	}
	if record == "1" {
		pkg.Outcome, pkg.Evidence = Installed, "the recovery's own record says so"
		if now := j.Card.Value(card.FactNext); s.File.Kind == ident.OTAAB && now != next {
			pkg.Evidence = fmt.Sprintf("the recovery's own record says so, and slot %s starts next", now)
		}
	}
	j.Packages = append(j.Packages, pkg)
	return Record{Confirm: pkg.Evidence}, j.outcome(&plan.Sideload{File: s.File}, &pkg, nil, true)
}
