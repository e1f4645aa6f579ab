package e2e

import (
	"strings"
	"testing"
)

// TestBootedAndActive: after an install the phone still runs on slot a and boots slot b next. A slot that is
// named means what the guide says, and one that would have to be worked out is asked for.
func TestBootedAndActive(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		kit := kitOf(t, "dunlin", 2)
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "go", "recovery", "--yes")
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "backup", "take", "boot", "-o", l.dir+"/kept")
		l.want(0, nil, "sideload", kit.more.Package, "--yes", "--then", "stay")
		const name = "stop  name-the-slot: the phone booted from slot a and boots slot b next"
		boot := kit.more.Boot
		for _, c := range []struct {
			words string // F is a boot image, S a set, R a recovery
			code  int
			says  string
		}{
			{"flash F", 3, name},
			{"flash F --into boot", 3, name},
			{"flash F --into boot_a", 0, "write boot.img to boot_a\n"},
			{"flash F --into @a", 0, "write boot.img to boot_a\n"},
			{"flash F --into @b", 0, "write boot.img to boot_b\n"},
			{"flash F --into @booted", 0, "write boot.img to boot_a\n"},
			{"flash F --into @active", 0, "write boot.img to boot_b\n"},
			{"flash F --into boot@booted", 0, "write boot.img to boot_a\n"},
			{"flash F --into boot@active", 0, "write boot.img to boot_b\n"},
			{"flash F --into @other", 3, name},
			{"flash F --into boot@other", 3, name},
			{"flash F --into @both", 0, "write boot.img to boot_b\n"},
			{"flash F --into @current", 2, "@booted is the one the phone booted from, @active the one it"},
			{"flash S", 3, name},
			{"flash S --into @other", 3, name},
			{"flash S --into @active --accept risky-partition", 0, "write system.img to system_b\n"},
			{"recovery install R", 0, "to recovery_b\n"}, // on both
			{"recovery install R --into @booted", 0, "recovery-on-one-slot: the recovery goes to slot a " +
				"only"},
			{"recovery install R --into @other", 3, name},
			{"wipe system", 3, "name-the-slot"},
			{"wipe system@active", 0, "erase system_b\n"},
			{"wipe part:boot@booted", 0, "erase boot_a\n"},
			{"wipe system@other", 3, name},
			{"slot use other", 3, name},
			{"slot use booted", 0, "choose slot a\n"},
			{"slot use active", 0, "choose slot b\n"},
			{"slot copy boot", 0, "copy boot_a to boot_b\n"},
			{"backup restore boot_b -o K", 0, "write boot_b of the backup to boot_b\n"},
			{"vbmeta loosen hashtree", 0, "write the changed vbmeta to vbmeta_b\n"}, // on both
		} {
			words := strings.Fields(c.words)
			for i, w := range words {
				if at := map[string]string{"F": boot, "S": kit.more.Set, "R": files.Recovery,
					"K": l.dir + "/kept"}[w]; at != "" {
					words[i] = at
				}
			}
			l.want(c.code, []string{c.says}, append(words, "--dry-run", "--yes", "--no-hands")...)
		}
	})
}
