package e2e

import (
	"cmp"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/demo"
	"jarlid/internal/standin"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

// undescribed is a phone that no model file of the technician's describes, made from a seed.
type undescribed struct {
	seed      int
	slots     int
	super     bool
	home      string // recovery, lifeboat, boot, vendor_boot
	userspace bool
	capitals  bool
	serials   bool     // another number in recovery and system
	unknown   string   // what the bootloader says of a variable it lacks: refused, empty
	sizes     string   // how it spells sizes
	silent    []string // variables that others have and its bootloader does not
	first     string   // the mode it is met in first: bootloader, system
	lacks     string   // a command that it does not know: "", boot
	loader    bool     // a manufacturer's loader instead of fastboot
}

// What bootloaders leave out.
var (
	noCount   = []string{"slot-count", "unlocked"}
	onlySizes = []string{"slot-count", "current-slot", "has-slot", "unlocked"}
	noSizes   = []string{"slot-count", "current-slot", "partition-size", "partition-type"}
)

// undescribedOf makes the phone of a seed. Slots, super and the recovery's home go through all that there
// are; the others are drawn.
func undescribedOf(seed int) undescribed {
	r := rand.New(rand.NewPCG(uint64(seed), 29))
	layouts := []undescribed{ // every pair of slots, home and super is among them
		{slots: 1, home: "recovery", loader: true},
		{slots: 2, home: "recovery", super: true},
		{slots: 2, home: "boot", silent: noCount},
		{slots: 2, home: "vendor_boot", super: true, silent: onlySizes},
		{slots: 1, home: "recovery", super: true},
		{slots: 1, home: "lifeboat"},
		{slots: 2, home: "lifeboat", super: true, first: "system"},
		{slots: 2, home: "recovery", silent: noSizes},
		{slots: 1, home: "boot", super: true},
		{slots: 1, home: "vendor_boot"},
	}
	u := layouts[seed%len(layouts)]
	u.seed = seed
	u.userspace = (u.super || r.IntN(2) == 0) && !u.loader
	u.capitals, u.serials = r.IntN(4) == 0, r.IntN(3) == 0
	u.first = cmp.Or(u.first, "bootloader")
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
	fmt.Fprintf(&s, "model: %s\nslots: %d\nrecovery: {partition: %s}\n", u.name(), u.slots, u.home)
	start := u.first
	if u.loader {
		start = "loader"
		s.WriteString("loader: {usb: [\"1209:0099\"]}\n")
	}
	fmt.Fprintf(&s, "standin:\n  serial: WL-W-%d\n", u.seed)
	if u.loader {
		s.WriteString("  loader: {version: \"2.1\", payload: 64KiB}\n")
	}
	if u.serials {
		fmt.Fprintf(&s, "  serial-adb: WD-%d\n", u.seed)
	}
	fmt.Fprintf(&s, "  start: "+start+"\n  battery: {percent: 80, full-millivolts: 4400, variables: "+
		"{battery-voltage: millivolts}}\n  max-download: 0x2000000\n  slot-variables: %s\n"+
		"  reboot-recovery: true\n  boot: %s\n  userspace: %s\n  snapshots: %s\n", yes(u.slots > 1),
		yes(u.lacks != "boot"), yes(u.userspace), yes(u.super && u.slots > 1))
	names := ""
	if u.capitals {
		names = ", names: capitals"
	}
	fmt.Fprintf(&s, "  spelling: {yes: \"yes\", no: \"no\", size: %s, unknown: %s%s}\n", u.sizes, u.unknown,
		names)
	if len(u.silent) > 0 {
		fmt.Fprintf(&s, "  missing-variables: [%s]\n", strings.Join(u.silent, ", "))
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

// Which of them there are.
var (
	phones = flag.Int("phones", 10, "how many phones that nobody described, with -whole")
	from   = flag.Int("from", 0, "the first of them")
)

// TestUndescribed takes phones that no model file describes through a complete job: the recovery, a format,
// a ROM, an add-on and the first boot, by a drafted sheet. What is expected comes from the phone's
// parameters.
func TestUndescribed(t *testing.T) {
	cases := map[string]func(*lab){}
	for seed := range *phones {
		u := undescribedOf(*from + seed)
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
	if u.loader { // any serial line may be anything: a person names its socket
		tech.want(0, nil, "bench", "name", "usb:1-1", u.name())
	}
	if u.first == "system" {
		tech.byOwner(u, "card")
	}
	silent := slices.Contains(u.silent, "partition-size") || u.first == "system" // it lists no partitions
	home := map[bool]string{true: u.home}[!silent && u.home != "lifeboat" && (u.slots > 1 ||
		u.home != "boot")]
	tech.concludes(u, home, u.super && !silent)
	at := filepath.Join(dir, "evening.yaml")
	paths := []string{recovery, more.Package, addon}
	if more.Overlay != "" {
		paths = append(paths, more.Overlay)
	}
	if u.first == "bootloader" && !u.loader { // where it reports no processor, and its firmware shows one
		v := tech.fits("--vendor", more.Set)["arm64"]
		if v.Phone["cpu.abi"] != p.ABI {
			l.Errorf("with the firmware set the processor is %v, want %s", v.Phone["cpu.abi"], p.ABI)
		}
	}
	draft := append([]string{"sheet", "draft", "-o", at}, paths...)
	var asked struct{ Ask, Open []string }
	tech.result(0, &asked, draft...)
	if u.home == "lifeboat" || silent { // which only a person knows: nothing on the phone reports it
		if len(asked.Open) != 1 || !strings.Contains(asked.Open[0],
			"where does this phone keep its recovery") {
			l.Fatalf("the draft asks %q, and not where the recovery lives", asked.Open)
		}
		asked.Open = nil
		tech.want(0, nil, append(draft, "--over", "--recovery-in", u.home)...)
	}
	if len(asked.Open) > 0 {
		l.Errorf("the draft asks %q", asked.Open)
	}
	checked := tech.want(0, nil, "sheet", "check", at)
	if strings.Contains(checked, "wrong-arch") { // the recovery of the same sheet states the processor
		l.Errorf("the processor is unknown:\n%s", checked)
	}
	same := ""
	if u.loader && u.serials { // after keys were pressed, a person says whether it is the same phone
		same = "y\n"
	}
	tech.byOwnerSaying(u, same, "sheet", "run", at, "--yes")
	if c := tech.isNow(u, scenario.Saltmarsh.Name+" "+
		""+scenario.Saltmarsh.Version); c["slot.started"].Value != strings.Repeat("b",
		u.slots-1) {
		l.Errorf("after the evening it runs on slot %q", c["slot.started"].Value)
	}
	time.Sleep(10 * time.Second) // until an update is merged
	system := "system" + strings.Repeat("_b", u.slots-1)
	if !l.added(u.name(), system, scenario.Shoreline.Name) {
		l.Errorf("the add-on is not on %s", system)
	}
	tech.concludes(u, u.home, u.super)
	tech.learned(u, paths)
	tech.genericOn(u)
	tech.stockAgain(u, more.Set, standIn.job.out)
}

// isNow makes sure that the phone runs a system, and is still itself.
func (l *lab) isNow(u undescribed, system string) map[string]card.Fact {
	l.Helper()
	var c struct{ Facts map[string]card.Fact }
	l.result(0, &c, "card")
	for fact, want := range map[string]string{"mode": "system", "system.version": system,
		"model": u.name()} {
		if got := c.Facts[fact].Value; got != want {
			l.Errorf("%s is %q, want %q", fact, got, want)
		}
	}
	return c.Facts
}

// concludes makes sure of what follows from the partitions and the jobs: where the recovery lives, and
// whether there is super.
func (l *lab) concludes(u undescribed, home string, super bool) {
	l.Helper()
	var c struct{ Facts map[string]card.Fact }
	l.result(0, &c, "card")
	for fact, want := range map[string]string{"recovery.home": home,
		"partitions.dynamic": map[bool]string{true: "yes"}[super]} {
		if got := c.Facts[fact]; got.Value != want {
			l.Errorf("%s of %+v is %+v, want %q", fact, u, got, want)
		}
	}
}

// byOwner runs a command with somebody at the phone who knows its keys, which no model file does.
func (l *lab) byOwner(u undescribed, args ...string) {
	l.Helper()
	l.byOwnerSaying(u, "", args...)
}

// byOwnerSaying is byOwner with answers.
func (l *lab) byOwnerSaying(u undescribed, answers string, args ...string) string {
	l.Helper()
	does := maps.Clone(standintest.Owner)
	if u.loader {
		does["Bring the phone into recovery"] = []string{"battery-out", "battery-in", "volume-up+side+power"}
		does["hold power"] = does["Bring the phone into recovery"] // as it is remembered
		does["Bring the phone into loader"] = []string{"battery-out", "battery-in", "volume-down+side+power",
			"volume-up"}
	}
	code, out := l.owner(u.name(), answers, does, args...)
	l.check(0, nil, code, out, args)
	return out
}

// learned drafts a model file from what is known of the phone by now; with it a sheet asks nothing, with the
// phone there or not.
func (l *lab) learned(u undescribed, paths []string) {
	l.Helper()
	file := filepath.Join(l.dir, "learned.yaml")
	l.want(0, []string{"model", u.name()}, "model", "draft", "-o", file)
	l.want(0, []string{"0 contradicted"}, "model", "check", file)
	l.want(0, []string{u.name()}, "model", "add", file)
	m := must(model.Parse(must(os.ReadFile(file))))
	if m.Slots != u.slots || m.RecoveryPartition() != u.home || m.HasLoader() != u.loader ||
		slices.Contains(m.Bootloader.Lacks, "boot") && u.lacks != "boot" ||
		len(m.Logical) > 0 != u.super || m.SerialDiffers != u.serials {
		l.Errorf("the model file states slots %d, recovery %s, loader %v, lacks %q, logical %q, two "+
			"numbers %v of "+
			"%+v:\n%s", m.Slots, m.RecoveryPartition(), m.HasLoader(), m.Bootloader.Lacks, m.Logical,
			m.SerialDiffers,
			u, must(os.ReadFile(file)))
	}
	for _, more := range [][]string{nil, {"--model", u.name()}} {
		var asked struct{ Ask, Open []string }
		at := filepath.Join(filepath.Dir(paths[0]), "again.yaml")
		l.result(0, &asked, append(append([]string{"sheet", "draft", "--over", "-o", at}, paths...),
			more...)...)
		if more != nil { // whether accounts are signed in no file says
			asked.Ask = slices.DeleteFunc(asked.Ask, func(q string) bool {
				return strings.Contains(q,
					"account")
			})
		}
		if len(asked.Open)+len(asked.Ask) > 0 {
			l.Errorf("with the model file the draft asks %q, %q (%q)", asked.Open, asked.Ask, more)
		}
	}
}

// genericOn follows the steps that fit gives for a generic system, in the mode the phone is in; it boots, and
// the phone is still itself. One that fit does not accept is left alone.
func (l *lab) genericOn(u undescribed) {
	l.Helper()
	var v answer
	gsi := filepath.Join(l.dir, generics["arm64"])
	write(l, gsi, must(os.ReadFile(filepath.Join(gsiFolder(), generics["arm64"]))))
	if code, out := l.run("fit", gsi); code != 0 {
		l.Logf("%s takes no generic system:\n%s", u.name(), out)
		return
	}
	l.result(0, &v, "fit", gsi)
	for _, todo := range v.Todo {
		l.byOwner(u, append(strings.Fields(strings.ReplaceAll(todo, "'", ""))[1:], "--yes")...)
	}
	if len(v.Todo) == 0 {
		l.Errorf("fit gives no steps: %+v", v)
	}
	l.isNow(u, scenario.GSI.Name+" "+scenario.GSI.Version)
}

// stockAgain writes the manufacturer's firmware set, in its order, with nothing named but the partitions
// whose loss the phone would not survive.
func (l *lab) stockAgain(u undescribed, set string, log *standintest.Output) {
	l.Helper()
	from, at := len(log.String()), filepath.Join(filepath.Dir(set), "stock.yaml")
	var d struct{ Open []string }
	l.result(0, &d, "sheet", "draft", set, "-o", at)
	if len(d.Open) > 0 {
		l.Errorf("the way back asks %q", d.Open)
	}
	l.want(0, nil, "sheet", "check", at)
	l.byOwner(u, "sheet", "run", at, "--yes")
	l.isNow(u, scenario.Stock.Name+" "+scenario.Stock.Version)
	// Recoveries and the systems, whatever they are in, come after what boots; vbmeta is after what it
	// covers.
	var order []string
	for line := range strings.Lines(log.String()[from:]) {
		if _, to, ok := strings.Cut(strings.TrimSpace(line), " bytes to "); ok {
			order = append(order, card.Part(to).Base)
		}
	}
	if len(order) < 5 {
		l.Errorf("the set was written as %q", order)
	}
	if at := slices.Index(order, "vbmeta"); !u.super && at != len(order)-1 && !u.loader {
		l.Errorf("vbmeta is not the last: %q", order)
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
		u := undescribedOf(4)
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

// TestGuideUndescribed follows the guide's chapter to the letter, on two of the phones nobody described.
func TestGuideUndescribed(t *testing.T) {
	_, text, ok := strings.Cut(string(must(os.ReadFile("../../docs/guide.md"))),
		"## A phone nobody has described\n")
	text, _, _ = strings.Cut(text, "\n## ")
	var commands []string
	for line := range strings.Lines(text) {
		if cmd, is := strings.CutPrefix(line, "    jarlid "); is {
			commands = append(commands, strings.TrimSpace(cmd))
		}
	}
	if !ok || len(commands) != 9 {
		t.Fatalf("the guide's chapter has %d commands: %q", len(commands), commands)
	}
	cases := map[string]func(*lab){}
	for _, seed := range []int{3, 4} {
		u := undescribedOf(seed)
		cases[u.name()] = func(l *lab) {
			p := must(standin.Described(must(model.Parse([]byte(u.file())))))
			l.standin(l.file(u.name()+".yaml", []byte(u.file())), "--usb")
			more := must(demo.MakeMore(filepath.Join(l.dir, "made"), p, u.slots))
			place := strings.NewReplacer("recovery.img", l.file("recovery.img",
				must(scenario.Recovery(scenario.Tideline, p))),
				"rom.zip", more.Package, "addon.zip", more.Addons[0], "firmware.zip", more.Set,
				"first.yaml", filepath.Join(l.dir, "first.yaml"), "plover.yaml", filepath.Join(l.dir,
					"plover.yaml"),
				"practice.yaml", filepath.Join(l.dir, "practice.yaml"), "practice", filepath.Join(l.dir,
					"practice"))
			tech := l.other("technician")
			for _, cmd := range commands[:8] { // the last one runs until Ctrl-C
				tech.byOwnerSaying(u, strings.Repeat("y\n", 9), strings.Fields(place.Replace(cmd))...)
			}
			if l.isNow(u, scenario.Saltmarsh.Name+" "+scenario.Saltmarsh.Version); tech.Failed() {
				l.Errorf("%s did not follow the guide", u.name())
			}
		}
	}
	some(t, 1, cases)
}

// TestAxes: over the ten phones each value of each axis occurs, and each pair of slots, super and home.
func TestAxes(t *testing.T) {
	seen := map[string]bool{}
	for seed := range 10 {
		u := undescribedOf(seed)
		for axis, value := range map[string]any{"slots": u.slots, "super": u.super, "home": u.home,
			"loader":    u.loader,
			"userspace": u.userspace, "capitals": u.capitals, "serials": u.serials, "unknown": u.unknown,
			"sizes": u.sizes, "silent": strings.Join(u.silent, " "), "first": u.first, "lacks": u.lacks,
			"slots and home": fmt.Sprint(u.slots, u.home), "slots and super": fmt.Sprint(u.slots, u.super),
			"home and super": fmt.Sprint(u.home, u.super)} {
			seen[fmt.Sprint(axis, ": ", value)] = true
		}
	}
	// Two each of slots, super, loader, userspace, capitals, serials, unknown, lacks and first; four homes,
	// three sizes, four of what is left out; 8, 4 and 8 pairs.
	if want := 9*2 + 4 + 3 + 4 + 8 + 4 + 8; len(seen) != want {
		t.Errorf("the ten phones show %d values of axes, want %d: %q", len(seen), want,
			slices.Sorted(maps.Keys(seen)))
	}
}
