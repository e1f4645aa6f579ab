package e2e

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/core/model"
	"jarlid/internal/demo"
	"jarlid/internal/standin"
	"jarlid/internal/standin/scenario"
)

// undescribed is a phone that no model file of the technician's describes, made from a seed.
type undescribed struct {
	seed      int
	slots     int
	super     bool
	home      string // recovery, lifeboat, boot, vendor_boot
	userspace bool
	capitals  bool
	serials   bool   // another number in recovery and system
	unknown   string // what the bootloader says of a variable it lacks: refused, empty
	sizes     string // how it spells sizes
	silent    bool   // it lists few variables
	lacks     string // a command that it does not know: "", boot
}

// undescribedOf makes the phone of a seed. Slots, super and the recovery's home go through all that there
// are; the others are drawn.
func undescribedOf(seed int) undescribed {
	r := rand.New(rand.NewPCG(uint64(seed), 29))
	layouts := []undescribed{
		{slots: 1, home: "recovery"},
		{slots: 2, home: "recovery"},
		{slots: 2, home: "boot"},
		{slots: 2, super: true, home: "vendor_boot"},
		{slots: 1, super: true, home: "recovery"},
		{slots: 2, super: true, home: "recovery"},
		{slots: 2, super: true, home: "boot"},
		{slots: 2, home: "vendor_boot"},
	}
	u := layouts[seed%len(layouts)]
	u.seed = seed
	u.userspace = u.super || r.IntN(2) == 0
	u.capitals, u.serials, u.silent = r.IntN(4) == 0, r.IntN(3) == 0, r.IntN(3) == 0
	u.unknown = []string{"refused", "empty"}[r.IntN(2)]
	u.sizes = []string{"0x", "hex", "decimal"}[r.IntN(3)]
	u.lacks = []string{"", "boot"}[r.IntN(2)]
	return u
}

func (u undescribed) name() string { return fmt.Sprintf("wader%d", u.seed) }

// file is the stand-in's model file, which only the stand-in reads.
func (u undescribed) file() string {
	yes := func(b bool) string { return map[bool]string{true: "true", false: "false"}[b] }
	slots := ""
	if u.slots > 1 {
		slots = ", slots: true"
	}
	var s strings.Builder
	fmt.Fprintf(&s, "model: %s\nslots: %d\nrecovery: {partition: %s}\nstandin:\n  serial: WL-W-%d\n",
		u.name(),
		u.slots, u.home, u.seed)
	if u.serials {
		fmt.Fprintf(&s, "  serial-adb: WD-%d\n", u.seed)
	}
	fmt.Fprintf(&s, "  start: bootloader\n  battery: {percent: 80, full-millivolts: 4400, variables: "+
		"{battery-voltage: millivolts}}\n  max-download: 0x2000000\n  slot-variables: %s\n"+
		"  reboot-recovery: true\n  boot: %s\n  userspace: %s\n  snapshots: %s\n", yes(u.slots > 1),
		yes(u.lacks != "boot"), yes(u.userspace), yes(u.super && u.slots > 1))
	names := ""
	if u.capitals {
		names = ", names: capitals"
	}
	fmt.Fprintf(&s, "  spelling: {yes: \"yes\", no: \"no\", size: %s, unknown: %s%s}\n", u.sizes, u.unknown,
		names)
	if u.silent {
		s.WriteString("  missing-variables: [slot-count, unlocked]\n")
	}
	if u.super {
		s.WriteString("  super: {group: waders, group-size: 60MiB, partitions: [system, vendor, product]}\n")
	}
	s.WriteString("  partitions:\n")
	part := func(name, size, more string) {
		fmt.Fprintf(&s, "    - {name: %s, size: %s%s}\n", name, size, more)
	}
	part("boot", "24MiB", slots)
	if u.home == "vendor_boot" {
		part("init_boot", "8MiB", slots)
	}
	if u.home != "boot" {
		part(u.home, "24MiB", slots)
	}
	if u.home == "boot" { // whose recoveries need an image there
		part("dtbo", "2MiB", slots)
	}
	part("vbmeta", "64KiB", slots)
	if u.super {
		part("super", "96MiB", "")
	} else {
		part("system", "64MiB", slots+", type: ext4")
		part("vendor", "16MiB", slots+", type: ext4")
	}
	if u.slots == 1 {
		part("cache", "16MiB", ", type: ext4")
	}
	part("misc", "1MiB", "")
	part("metadata", "16MiB", ", type: ext4")
	part("userdata", "192MiB", ", type: ext4")
	s.WriteString("  delays: {restart: 250ms, first-start: 800ms, merge: 3s}\n")
	return s.String()
}

// phones are how many of them there are.
var phones = flag.Int("phones", 10, "how many phones that nobody described, with -whole")

// TestUndescribed takes phones that no model file describes through a complete job: the recovery, a format,
// a ROM, an add-on and the first boot, by a drafted sheet. What is expected comes from the phone's
// parameters.
func TestUndescribed(t *testing.T) {
	cases := map[string]func(*lab){}
	for seed := range *phones {
		u := undescribedOf(seed)
		cases[fmt.Sprintf("%+v", u)] = func(l *lab) { l.undescribed(u) }
	}
	some(t, 1, cases)
}

func (l *lab) undescribed(u undescribed) {
	path := l.file(u.name()+".yaml", []byte(u.file()))
	m := must(model.Parse([]byte(u.file())))
	p := must(standin.Described(m))
	standIn := l.standin(path, "--usb")
	l.Cleanup(func() {
		if l.Failed() {
			l.Logf("the phone:\n%s", standIn.job.out)
		}
	})
	dir := filepath.Join(l.dir, "files")
	more := must(demo.MakeMore(dir, p, u.slots))
	recovery := filepath.Join(dir, "tideline-3.1-"+u.name()+".img")
	write(l, recovery, must(scenario.Recovery(scenario.Tideline, p)))
	addon := filepath.Join(dir, "shoreline.zip")
	write(l, addon, must(scenario.Shoreline.Package()))
	tech := l.other("technician")
	tech.want(0, nil, "card")
	at := filepath.Join(dir, "evening.yaml")
	paths := []string{recovery, more.Package, addon}
	if more.Overlay != "" {
		paths = append(paths, more.Overlay)
	}
	tech.want(0, nil, append([]string{"sheet", "draft", "-o", at}, paths...)...)
	tech.want(0, nil, "sheet", "check", at, "--accept", "verity-would-reject")
	tech.did(u.name(), "", nil, "sheet", "run", at, "--yes", "--accept", "verity-would-reject")
	var c struct {
		Facts map[string]struct{ Value string }
	}
	tech.result(0, &c, "card")
	for fact, want := range map[string]string{"mode": "system", "system.version": scenario.Saltmarsh.Name +
		" " +
		"4.2", "slot.started": strings.Repeat("b", u.slots-1), "model": u.name()} {
		if got := c.Facts[fact].Value; got != want {
			l.Errorf("after the evening %s is %q, want %q", fact, got, want)
		}
	}
	system := "system" + strings.Repeat("_b", u.slots-1)
	if !l.added(u.name(), system, scenario.Shoreline.Name) {
		l.Errorf("the add-on is not on %s", system)
	}
}

// TestDraftInstalled: a sheet goes into the recovery that a job installed, and does not ask for one.
func TestDraftInstalled(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		at := filepath.Join(l.dir, "gsi.yaml")
		gsi := l.beside(filepath.Join(gsiFolder(), generics["arm64"]))[0]
		l.want(0, []string{"which recovery goes onto this phone"}, "sheet", "draft", gsi, "-o", at)
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "sheet", "draft", gsi, "-o", at, "--over")
		if text := string(must(os.ReadFile(at))); !strings.Contains(text,
			"tideline-3.1-dunlin.img is installed") ||
			strings.Contains(text, "which recovery") {
			t.Errorf("the sheet does not go into the recovery that is installed:\n%s", text)
		}
	})
}

// TestOneAddress: a phone known by one address alone is said to need another where it comes up elsewhere, and
// bench name adds it.
func TestOneAddress(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--fastboot", "127.0.0.1:7001", "--adb", "127.0.0.1:7002")
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		tech := l.other("technician")
		tech.want(0, []string{"no address of 127.0.0.1-7001 reaches recovery; add the one where it is: " +
			"jarlid bench name tcp:127.0.0.1:7001 --at adb:HOST"}, "go", "recovery", "--on",
			"tcp:127.0.0.1:7001")
		tech.want(2, []string{"say its new name, or where it is too"}, "bench", "name", "tcp:127.0.0.1:7001")
		tech.want(2, []string{"is not an address"}, "bench", "name", "tcp:127.0.0.1:7001", "--at", "nowhere")
		tech.want(0, []string{"brook is at adb:127.0.0.1:7002 too"}, "bench", "name", "tcp:127.0.0.1:7001",
			"brook",
			"--at", "adb:127.0.0.1:7002")
		tech.want(0, []string{"in recovery"}, "card", "--on", "brook")
	})
}

// TestModelContradicted: what a phone's partitions say outranks its model file, and both are named.
func TestModelContradicted(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		u := undescribedOf(0)
		l.standin(l.file(u.name()+".yaml", []byte(u.file())), "--usb")
		tech := l.other("technician")
		models := filepath.Join(tech.home, "models")
		if err := os.MkdirAll(models, 0o700); err != nil {
			t.Fatalf("os.MkdirAll(%v): %v", models, err)
		}
		write(l, filepath.Join(models, "wrong.yaml"), []byte("model: "+u.name()+"\nslots: 2\n"))
		says := []string{"warn  model-contradicted: model file " + u.name() +
			" states slots: 2, and boot is there " +
			"without a slot suffix, which means 1"}
		tech.want(0, says, "card")
		tech.want(0, append(says, "would write "+filepath.Base(files.Recovery)+" to recovery"), "flash",
			files.Recovery, "--into", "recovery", "--dry-run", "--accept", "wrong-model")
	})
}
