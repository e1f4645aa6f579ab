package advice

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
)

// Goal is what an evening is for.
type Goal string

// The goals.
const (
	GoalSystem   Goal = "system"   // a ROM, with what goes on top
	GoalRecovery Goal = "recovery" // a recovery alone
	GoalStock    Goal = "stock"    // back to what the manufacturer sold
	GoalGSI      Goal = "gsi"      // a generic system
)

// Goals are all of them.
var Goals = []Goal{GoalSystem, GoalRecovery, GoalStock, GoalGSI}

// Given is one file of an evening, by the short name it has in it.
type Given struct {
	Name string
	File *ident.File
	Set  bool // a folder or an archive of images
	// Signed says that a set's whole chain verifies, so that a locked phone that trusts its key
	// would start it; Why says why not.
	Signed bool
	Why    string

	// Altered says of each file that is whole and was changed after it was signed in which way.
	Altered []string

	role   string
	shares string // the word of its name that a recovery has too, to which it belongs
}

// Planned is one task of an evening.
type Planned struct {
	Command string
	Options []Opt
	Why     string // the reason, for a comment
	Note    string // for the person
	Accept  []Allowed
	Slots   int // for phones with one slot or with two alone; 0: for any
}

// Opt is one option with its values.
type Opt struct {
	Name   string
	Values []string
	List   bool
}

// Allowed is a stop that comes up on purpose, and why it may be allowed.
type Allowed struct{ Finding, Because string }

// Evening is a whole job, worked out.
type Evening struct {
	Goal  Goal
	Title string
	Tasks []Planned
	Asks  []string // confirmed by a person before it begins
	Open  []string // questions nobody has answered yet
	Hands []Hands
	Left  []string // files that were left out, and why
	Used  []string // the short names of the files that are in it
}

// Hands is somebody who has to be at the phone.
type Hands struct{ Who, For string }

// evening is one under way.
type evening struct {
	Evening
	c   *card.Card
	m   *model.Model
	all model.Set

	recovery, rom, gsi, set *Given
	before                  []*Given // images a recovery needs written first
	unsorted                []*Given // device trees
	addons, apps            []*Given
	quiet                   bool // the recovery gives no shell
	home                    place.Home
	slots                   int
}

// WorkOut works an evening out from files and what is known of a phone. What can't be known
// stands as an open question, never as a guess. goal is "" for what the files are for.
func WorkOut(files []*Given, goal Goal, c *card.Card, m *model.Model, all model.Set) *Evening {
	e := &evening{c: c, m: m, all: all, home: place.RecoveryHome(c)}
	if slots, known := c.Slots(); known {
		e.slots = max(len(slots), 1)
	}
	for _, f := range files {
		e.sort(f)
	}
	e.sortRest()
	e.Goal = goal
	if goal == "" {
		e.Goal = e.guess(files)
	}
	switch e.Goal {
	case GoalStock:
		e.stock()
	case GoalRecovery:
		e.Title = "A recovery"
		e.setRecovery(true)
	case GoalGSI:
		e.generic()
	default:
		e.system()
	}
	for _, f := range files {
		used := slices.ContainsFunc(e.Tasks, func(t Planned) bool {
			return slices.ContainsFunc(t.Options, func(o Opt) bool {
				return slices.Contains(o.Values, f.Name)
			})
		})
		if used {
			e.Used = append(e.Used, f.Name)
		} else if f.role != "" {
			e.Left = append(e.Left, fmt.Sprintf("%s (%s) has no place in this evening",
				place.FileName(f.File.Path), f.role))
		}
	}
	return &e.Evening
}

// guess works out from the files what the evening is for, also from those that are for another
// phone: what is asked about then is the one for this.
func (e *evening) guess(files []*Given) Goal {
	any := func(is func(f *Given) bool) bool { return slices.ContainsFunc(files, is) }
	switch {
	case any(func(f *Given) bool { return f.File.Generic() && !f.File.HoldsRecovery() }):
		return GoalGSI
	case any(func(f *Given) bool {
		return f.File.IsROM() || f.File.Kind == ident.Addon || f.File.Kind == ident.App
	}):
		return GoalSystem
	case any((*Given).set):
		return GoalStock
	}
	return GoalRecovery
}

// set reports whether it is images of several partitions.
func (f *Given) set() bool {
	return f.Set || f.File.Kind == ident.FirmwareSet || f.File.Kind == ident.Images
}

// damaged says that a file can't be used.
func damaged(name string, f *ident.File) string {
	if strings.HasPrefix(f.Damage, name+" is damaged") {
		return f.Damage + ": get it again"
	}
	return fmt.Sprintf("%s is damaged (%s): get it again", name, cmp.Or(f.Damage, "it ends too early"))
}

// sort finds a file's place. One for another phone, another processor, or nobody knows what, is
// left out and asked about.
func (e *evening) sort(f *Given) {
	name := place.FileName(f.File.Path)
	if f.File.Short || f.File.Damage != "" {
		e.Open = append(e.Open, damaged(name, f.File))
		return
	}
	for _, text := range f.Altered {
		e.Open = append(e.Open, text+"; where that is meant, accept altered-file for its task")
	}
	if have := e.model(); have != "" && len(f.File.Models()) > 0 {
		fits := slices.ContainsFunc(f.File.Models(), func(w string) bool {
			same, known := e.all.Same(w, have)
			return same || !known
		})
		if !fits {
			e.Left = append(e.Left, fmt.Sprintf("%s is for %s, this phone is %s", name,
				strings.Join(f.File.Models(), " or "), have))
			return
		}
	}
	if f.File.Kind == ident.Addon || f.File.Kind == ident.App {
		if found := finding.Blocking(place.Arch(f.File, e.c)); len(found) > 0 {
			e.Left = append(e.Left, found[0].Text)
			return
		}
	}
	only := func(at **Given, role string) {
		if *at != nil {
			e.Open = append(e.Open, fmt.Sprintf("%s and %s are both %s: which of the two is meant?",
				place.FileName((*at).File.Path), name, role))
			return
		}
		*at, f.role = f, role
	}
	needed := slices.ContainsFunc(f.File.GoesTo, func(d ident.Destination) bool {
		return slices.Contains(e.m.NeededBefore(), d.Partition)
	})
	switch {
	case f.File.HoldsRecovery():
		only(&e.recovery, "a recovery")
		e.quiet = f.File.Props["ro.debuggable"] != "1"
	case f.File.IsROM():
		only(&e.rom, "a ROM")
	case f.File.Kind == ident.Addon:
		e.addons, f.role = append(e.addons, f), "an add-on"
	case f.File.Kind == ident.App:
		e.apps, f.role = append(e.apps, f), "an app"
	case f.File.Generic():
		only(&e.gsi, "a generic system")
	case f.set():
		only(&e.set, "a firmware set")
	case needed:
		e.before, f.role = append(e.before, f), "an image that this phone's recoveries are built for"
	case f.File.Kind == ident.Sums || f.File.Kind == ident.Text:
		e.Left = append(e.Left, name+" is "+f.File.What())
	case f.File.Kind == ident.DTBO || f.File.Kind == ident.DTB: // perhaps of a recovery
		e.unsorted = append(e.unsorted, f)
	default:
		e.Open = append(e.Open, asks(f))
	}
}

func (e *evening) model() string {
	if e.m != nil {
		return e.m.Name
	}
	return e.c.Value(card.FactModel)
}

func (e *evening) add(command, why string, opts ...Opt) *Planned {
	e.Tasks = append(e.Tasks, Planned{Command: command, Why: why, Options: opts})
	return &e.Tasks[len(e.Tasks)-1]
}

func opt(name string, values ...string) Opt { return Opt{Name: name, Values: values} }
func list(name string, values []string) Opt { return Opt{Name: name, Values: values, List: true} }

func short(files []*Given) (names []string) {
	for _, f := range files {
		names = append(names, f.Name)
	}
	return names
}

// unlock comes first where the bootloader is known to be locked.
func (e *evening) unlock() {
	yes, known := e.c.Yes(card.FactUnlocked)
	if !known || yes {
		return
	}
	t := e.add("unlock", "the bootloader is locked ("+place.SourceWords(e.c.Get(card.FactUnlocked))+")")
	t.Note = "unlocking erases all data"
	if e.m != nil && e.m.Bootloader.Code != "" {
		t.Options = []Opt{opt("code", "${code}")}
		t.Note += "; the code comes from a table: --table FILE.csv, column code"
	}
	e.Hands = append(e.Hands,
		Hands{"the owner", "the question on the screen before the bootloader is opened"})
}

// keepStorage keeps what is in the storage while the system that can read it runs.
func (e *evening) keepStorage() {
	if e.c.Mode() == card.System {
		e.add("backup take", "the system runs, and its storage can be read now, before it is erased",
			list("items", []string{"storage"}), opt("output", "storage-${name}"))
	}
}

// setRecovery writes the recovery to where this phone keeps it, and starts it. alone says that
// nothing comes behind it.
func (e *evening) setRecovery(alone bool) {
	e.unlockOnce()
	if e.recovery == nil {
		root, _ := e.c.Yes(card.FactRoot)
		if e.c.Mode() == card.Recovery && (root || !alone) {
			return // it is running
		}
		if f := e.installed(); f.Known() {
			e.add("go", f.Value+" is installed"+place.ByJob(f), opt("mode", string(card.Recovery)))
			return
		}
		e.Open = append(e.Open, "which recovery goes onto this phone? None of the files is one for it")
		return
	}
	e.home = place.HomeFor(e.c, e.recovery.File)
	switch foreign := e.recovery.File.Kind == ident.Recovery && e.home.Form != "own"; {
	case e.home.Partition == "":
		e.Open = append(e.Open, "where does this phone keep its recovery (--recovery-in PARTITION)? "+
			""+e.home.Why)
	case foreign && e.home.Rests == card.Usual:
		e.Open = append(e.Open, fmt.Sprintf("where does this phone keep its recovery (--recovery-in "+
			"PARTITION)? %s has "+
			"one for a partition of its own, and %s", place.FileName(e.recovery.File.Path), e.home.Why))
	}
	e.preImages()
	where := e.home.Words()
	why := "the recovery lives in " + where + ": " + e.home.Why
	if e.home.Form == "own" && e.slots > 1 {
		why += "; on both slots, since an install goes to the other one"
	}
	options := []Opt{opt("file", e.recovery.Name)}
	if e.home.Source == card.Said || e.home.Rests == card.Usual {
		options = append(options, opt("into", e.home.Partition)) // other modes may not report the partitions
	}
	e.add("recovery install", why, options...)
	e.add("go", "straight into it: a stock system that starts first may put its own recovery back",
		opt("mode", string(card.Recovery)))
	if e.byKeys(card.Recovery) {
		e.Hands = append(e.Hands,
			Hands{"somebody at the phone", "its keys: what runs now knows no restart into the recovery"})
	}
	if alone && e.home.Form == "own" && !e.quiet {
		e.add("recovery hold", "the stock system may have a script that puts the maker's recovery back at "+
			"each start; where there is none, nothing is done")
	}
}

// unlockOnce puts the unlocking first, once.
func (e *evening) unlockOnce() {
	if len(e.Tasks) == 0 || !slices.ContainsFunc(e.Tasks, func(t Planned) bool {
		return t.Command == "unlock"
	}) {
		e.unlock()
	}
}

// byKeys reports whether a mode is reached by hand from the bootloader.
func (e *evening) byKeys(to card.Mode) bool {
	word := plan.RestartCommand(to)
	yes, known := e.c.Yes(card.FactCommand.Of(word))
	return known && !yes
}

// backup keeps what a phone can't do without, while its recovery gives a root shell.
func (e *evening) backup() {
	if e.quiet {
		return
	}
	e.add("backup take", "partitions this phone can't do without, and the storage where it can be read: "+
		"what is erased can't be had back", opt("output", "backup-${name}"))
}

// wipe formats the data of the old system.
func (e *evening) wipe(why string) {
	if e.c.Value(card.FactData) == card.DataFormatted && len(e.Tasks) == 0 {
		return
	}
	if n, known := e.c.Number(card.FactAccounts); !known {
		e.ask("Is every account signed out on the phone, or its password at hand? The maker's system asks " +
			"for it after a wipe.")
	} else if n > 0 {
		e.ask(fmt.Sprintf("%d account(s) are signed in on the phone. Are they signed out by now, or their "+
			"passwords at hand? The maker's system asks for them after a wipe.", n))
	}
	if e.c.Value(card.FactCrypto) == card.CryptoNone || e.c.Value(card.FactData) == card.DataPlain {
		e.add("wipe", "this phone's data is not encrypted: apps and settings of the old system go, the "+
			"shared storage can stay", list("areas", []string{"apps", "caches"}))
		return
	}
	e.add("wipe", why, list("areas", []string{"userdata"}))
}

func (e *evening) ask(q string) {
	if !slices.Contains(e.Asks, q) {
		e.Asks = append(e.Asks, q)
	}
}

// start starts the system, watches it, compares it, and puts apps onto it.
func (e *evening) start(apps bool) {
	t := e.add("go", "the first start", opt("mode", string(card.System)), opt("wait", "1s"))
	t.Note = "the first start takes minutes"
	e.add("arrive", "watched until it is up, and compared with what was installed", opt("wait", "20m"))
	e.Hands = append(e.Hands,
		Hands{"somebody at the phone", "its welcome pages, and debugging, which the format switched off"})
	if apps && len(e.apps) > 0 {
		list2 := plan.InOrder(e.apps, func(g *Given) *ident.File { return g.File })
		e.add("app", "once the system is up", list("files", short(list2)))
	}
}

func (e *evening) system() {
	e.Title = "A system"
	if e.rom != nil {
		e.Title = strings.TrimSuffix(place.FileName(e.rom.File.Path), path.Ext(e.rom.File.Path))
	}
	if e.rom == nil && len(e.addons) == 0 && len(e.apps) > 0 { // the system that is there stays
		e.add("app", "onto the system that is there", list("files", short(e.apps)))
		return
	}
	e.unlockOnce()
	e.keepStorage()
	if e.rom == nil {
		e.Open = append(e.Open, noROM(e.addons)...)
		e.setRecovery(false)
		e.packages(e.addons)
		e.start(true)
		return
	}
	e.install(e.addons)
	e.start(true)
}

// noROM asks for the ROM where there is nothing to add to.
func noROM(addons []*Given) []string {
	if len(addons) > 0 {
		return nil // they go onto the system that is there
	}
	return []string{"which ROM goes onto this phone? None of the files is one for it"}
}

// install brings a ROM onto the phone, with what goes on top.
func (e *evening) install(addons []*Given) {
	const foreign = "the data belongs to the old system; a new one can't read it where it is encrypted, " +
		"and stumbles over it where it is not"
	if e.quiet { // it takes no commands: what the bootloader can do is done there
		e.wipe(foreign)
		e.setRecovery(false)
	} else {
		e.setRecovery(false)
		e.backup()
		e.wipe(foreign)
	}
	e.packages(addons)
}

func (e *evening) generic() {
	e.Title = "A generic system"
	if e.gsi == nil {
		e.Open = append(e.Open, "which generic system goes onto this phone? None of the files is one")
		return
	}
	if yes, known := e.c.Yes(card.FactTreble); known && !yes {
		e.Open = append(e.Open, "this phone has no separate vendor partition (Treble), and no generic "+
			"system runs on it: which other system is meant?")
	}
	e.unlockOnce()
	e.keepStorage()
	if e.rom != nil {
		e.install(nil)
		e.start(false)
		e.add("go", "the base stands; the generic system is written over its system",
			opt("mode", string(card.Recovery)))
	} else {
		e.setRecovery(false)
		e.backup()
	}
	if e.quiet {
		e.Open = append(e.Open, "this recovery gives no root shell, so hash trees can't be switched off "+
			"and overlays not be moved aside through it: take one that does")
	}
	if place.There(e.c, "vbmeta") || e.m != nil && !e.lacks("vbmeta") {
		e.add("vbmeta loosen", "a generic system is not what the phone's vbmeta was signed over; an "+
			"enforced hash tree would reject it", opt("flag", "hashtree"))
	}
	e.wipe("the data belongs to the system before, and a generic one can't read it")
	e.add("flash", "it takes the system's place, vendor and boot stay", opt("files", e.gsi.Name),
		opt("into", "system"))
	names := e.c.Value(card.FactOverlays)
	known := names != "" && names != "none"
	if len(e.addons) > 0 || known {
		e.add("go", "what comes next is done in the recovery", opt("mode", string(card.Recovery)))
	}
	if len(e.addons) > 0 {
		sorted := plan.InOrder(e.addons, func(g *Given) *ident.File { return g.File })
		e.add("sideload", "in the order of their numbers", list("packages", short(sorted)))
	}
	if known {
		var paths []string
		for n := range strings.SplitSeq(names, ",") {
			paths = append(paths, "/vendor/overlay/"+strings.TrimSpace(n))
		}
		e.add("shelve", "generic systems are known to restart for ever over the maker's overlays; they are "+
			"moved aside, not lost", list("paths", paths))
	}
	e.start(true)
	if names == "" {
		e.Tasks[len(e.Tasks)-1].Note = "if it begins again and again, a maker's overlay may be in its way: " +
			"jarlid shelve"
	}
}

// lacks reports whether a phone is known to have no such partition.
func (e *evening) lacks(base string) bool {
	n, known := e.c.Number(card.FactSize.Of(card.At(base, "")))
	if known {
		return n == 0
	}
	yes, told := e.c.Yes(card.FactTreble)
	return told && !yes && !place.There(e.c, base)
}
