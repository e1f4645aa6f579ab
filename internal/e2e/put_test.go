package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/standin/scenario"
)

type putResult struct {
	Stored []struct {
		Path, SHA256, Confirmed string
		Bytes                   int64
	}
	Packages []struct{ Outcome, By string }
}

// TestPut puts packages onto phones in recovery and in the system, the old ADB's
// and the new one's way, and has one installed from there.
func TestPut(t *testing.T) {
	t.Parallel()
	t.Run("onto a memory card", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "turnstone", 1)
			l.standin("turnstone")
			l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
			l.later("turnstone", "volume-up+power")
			l.want(0, nil, "go", "recovery")
			b := must(scenario.BlockPackage(scenario.Saltmarsh, kit.phone, true))
			rom := l.file("saltmarsh 4.2.zip", b)
			sum := sha256.Sum256(b)
			var r putResult
			l.result(0, &r, "put", rom, "--to", "sd", "--yes")
			if s := r.Stored[0]; s.Path != "/mnt/card/saltmarsh 4.2.zip" ||
				s.SHA256 != hex.EncodeToString(sum[:]) || s.Confirmed != "read-back" ||
				s.Bytes != int64(len(b)) {
				t.Errorf("%+v; unwanted: s.Path != '/mnt/card/saltmarsh 4.2.zip' || s.SHA256 != ...", s)
			}
			// The card is kept when the data is formatted, and nothing is lost by it.
			l.want(0, nil, "wipe", "userdata", "--yes")
			if got := must(os.ReadFile(filepath.Join(l.dir, "turnstone", "card",
				"saltmarsh 4.2.zip"))); !bytes.Equal(got, b) {
				t.Error("the card does not hold the package")
			}
			l.whenAsked("From the card", func() {
				l.want(0, nil, "standin", "press", "turnstone", "packages", "from the card")
			},
				"put", rom, "--to", "sd", "--install", "--yes")
			defer l.hands("turnstone", "finish welcome", "debugging on", "allow")()
			l.want(0, []string{"Saltmarsh OS 4.2"}, "go", "system", "--wait", "30s")
		})
	})
	t.Run("onto the shared storage", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.readyForPackages(files.Recovery)
			l.want(0, []string{"/sdcard/saltmarsh-4.2-dunlin.zip", "its digest read there matches"}, "put",
				files.Package, "--to", "storage", "--yes")
			l.want(3, []string{"stop  storage-holds-package: saltmarsh-4.2-dunlin.zip lies"}, "wipe",
				"userdata", "--yes")
			l.want(0, nil, "wipe", "userdata", "--yes", "--accept", "storage-holds-package")
			if _, err := os.Stat(filepath.Join(l.dir, "dunlin", "shared")); err == nil {
				t.Error("formatting left the shared storage")
			}
			l.want(0, nil, "wipe", "userdata", "--yes") // nothing is there any more
			l.want(3, []string{"stop  storage-unreadable: the SD card can't be reached"}, "put",
				files.Package, "--to", "sd", "--yes")
			big := filepath.Join(l.dir, "big.zip")
			f := must(os.Create(big))
			if err := f.Truncate(200 << 20); err != nil {
				t.Fatalf("f.Truncate(200 << 20): %v", err)
			}
			f.Close()
			l.want(3, []string{"stop  no-room"}, "put", big, "--to", "storage", "--yes")
			l.want(5, []string{"No space left"}, "put", big, "--to", "storage", "--yes", "--accept",
				"no-room")
		})
	})
	t.Run("what a recovery can't open", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
			l.want(0, nil, "go", "recovery")
			l.want(3, []string{"stop  storage-unreadable", "it lies in the data, which is encrypted"}, "put",
				files.Package, "--to", "storage", "--yes")
			// The system that encrypted it can.
			defer l.hands("dunlin", "allow")()
			l.want(0, nil, "go", "system", "--wait", "20s")
			l.want(0, []string{"its digest read there matches"}, "put", files.Package, "--to", "storage",
				"--yes")
			l.want(3, []string{"stop  not-in-this-mode: --install works in the phone's recovery"}, "put",
				files.Package, "--to", "storage", "--install")
			l.want(2, []string{"say where the files are to lie: --to storage or --to sd"}, "put",
				files.Package)
			for _, name := range []string{"no-room", "storage-unreadable", "storage-holds-package"} {
				if _, out := l.run("explain", name); !strings.Contains(out, "  "+name+" ") {
					t.Errorf("there is no explanation of %s", name)
				}
			}
		})
	})
}
