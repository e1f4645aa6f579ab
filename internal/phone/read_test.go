package phone

import (
	"testing"
	"time"

	"jarlid/internal/core/card"
)

// TestStale: a charge that was read a while ago counts, an old one and one from the future do not.
func TestStale(t *testing.T) {
	for age, kept := range map[time.Duration]bool{
		time.Minute:      true,
		29 * time.Minute: true,
		31 * time.Minute: false,
		-time.Hour:       false,
	} {
		c := &card.Card{}
		c.Set(card.FactPercent, card.Fact{Value: "80", Evidence: card.Journal, At: time.Now().Add(-age)})
		c.Set(card.FactUnlocked, card.Fact{Value: "yes", Evidence: card.Journal, At: time.Now().Add(-age)})
		stale(c)
		if _, known := c.Number(card.FactPercent); known != kept {
			t.Errorf("%v old: known is %v", age, known)
		}
		if yes, _ := c.Yes(card.FactUnlocked); !yes {
			t.Errorf("%v old: what lasts is forgotten", age)
		}
	}
}

// TestCardsIn: a SD card is found in the kernel's table of mounts, wherever it is mounted, and
// the manufacturer's own partitions are none.
func TestCardsIn(t *testing.T) {
	table := `rootfs / rootfs rw 0 0
/dev/block/by-name/userdata /data f2fs rw,seclabel 0 0
/dev/block/by-name/modem_a /vendor/firmware_mnt vfat ro,context=u:object_r:firmware_file:s0,relatime 0 0
/dev/block/vold/public:179,65 /mnt/media_rw/1A2B-3C4D exfat rw,dirsync,nosuid 0 0
/dev/block/mmcblk1p1 /my\040card vfat rw,relatime 0 0
short line
`
	got := cardsIn(table)
	if len(got) != 2 || got[0] != "/mnt/media_rw/1A2B-3C4D" || got[1] != "/my card" {
		t.Errorf("%q; unwanted: len(got) != 2 || got[0] != '/mnt/media_rw/1A2B-3C4D' || got[1] ...", got)
	}
}
