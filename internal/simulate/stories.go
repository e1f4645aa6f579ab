package main

import (
	"os"
	"path/filepath"
	"slices"

	"jarlid/internal/core/finding"
	"jarlid/internal/demo"
	"jarlid/internal/standin/scenario"
)

// practised is a stand-in of the simulation.
type practised struct {
	name   string
	slots  int
	writes string
	keys   map[string][]string
}

// phones are the stand-ins: how many slots each has, the mode that images are written in, and the keys
// that lead to a mode from anywhere.
var phones = []practised{
	{"turnstone", 1, "bootloader", usualKeys}, {"sanderling", 1, "bootloader", usualKeys},
	{"dunlin", 2, "bootloader", usualKeys},
	{"godwit", 2, "bootloader", usualKeys},
	{"avocet", 2, "bootloader", usualKeys},
	{"knot", 1, "loader",
		map[string][]string{"loader": {"battery-out", "battery-in", "volume-down+side+power", "volume-up"},
			"recovery": {"battery-out", "battery-in", "volume-up+side+power"},
			"system":   {"battery-out", "battery-in", "power"}}},
}

var usualKeys = map[string][]string{"bootloader": {"volume-down+power"}, "recovery": {"volume-up+power"}}

// ownLoader is the phone among them that has a manufacturer's loader: every so-many-th run is on it.
const (
	ownLoader      = 5
	ownLoaderEvery = 6
)

// kit is the files for one phone.
type kit struct {
	demo.More
	recovery, addon, app, note string
	slots                      int
}

// The states a command begins in.
const (
	inBootloader = "bootloader" // or a manufacturer's loader
	inRecovery   = "recovery"   // a recovery with a root shell is set, the data is formatted
	inSystem     = "system"
	isLocked     = "locked"
)

// story is one command as it is run: in which state, with which words, on which phones.
type story struct {
	name  string
	state string
	on    []string // none: all
	not   string   // but this one
	args  func(k kit) []string
	// once says that doing it a second time does something else: what was interrupted is resumed
	// by what jarlid says.
	once bool
}

// isOn reports whether the story is told of a phone.
func (s story) isOn(phone int) bool {
	name := phones[phone].name
	return name != s.not && (len(s.on) == 0 || slices.Contains(s.on, name))
}

// accepts are the stops that the stories walk into on purpose.
var accepts = func() []string {
	args := []string{"--yes"}
	for _, name := range []string{finding.EncryptedData, finding.VerityRejects, finding.WontRun,
		finding.RiskyPartition, finding.AccountLock, finding.StorageHolds, finding.SlotEmpty,
		finding.OtherFirmware, finding.NotEnoughRoom, finding.BaseVersion, finding.NormalStart} {
		args = append(args, "--accept", name)
	}
	return args
}()

var slotted = []string{"dunlin", "godwit", "avocet"}

// stories are all commands that change a phone.
var stories = []story{
	{name: "flash an image", state: inBootloader, args: func(k kit) []string {
		return []string{"flash", k.Boot}
	}},
	{name: "flash a set", state: inBootloader, args: func(k kit) []string {
		return []string{"flash", k.Set}
	}},
	{name: "flash a generic system", state: inBootloader, on: []string{"sanderling", "dunlin", "godwit",
		"avocet"}, args: func(k kit) []string {
		return []string{"flash", k.GSI, "--into", "system"}
	}},
	{name: "flash from the recovery", state: inRecovery, args: func(k kit) []string {
		return []string{"flash", k.Boot}
	}},
	{name: "recovery install", state: inBootloader, on: []string{"turnstone", "sanderling", "dunlin",
		"avocet", "knot"}, args: func(k kit) []string {
		return []string{"recovery", "install", k.recovery}
	}},
	{name: "recovery install in the recovery", state: inRecovery, args: func(k kit) []string {
		return []string{"recovery", "install", k.recovery}
	}},
	{name: "recovery try", state: inBootloader, on: []string{"turnstone", "dunlin"},
		args: func(k kit) []string {
			return []string{"recovery", "try", k.recovery}
		}},
	{name: "wipe userdata", state: inBootloader, args: func(kit) []string {
		return []string{"wipe", "userdata"}
	}},
	{name: "wipe userdata in the recovery", state: inRecovery, args: func(kit) []string {
		return []string{"wipe", "userdata"}
	}},
	{name: "wipe caches", state: inRecovery, args: func(kit) []string { return []string{"wipe", "caches"} }},
	{name: "sideload a ROM", state: inRecovery, once: true, args: func(k kit) []string {
		return []string{"sideload", k.Package, "--then", "stay"}
	}},
	{name: "sideload a ROM and go on", state: inRecovery, once: true, on: []string{"dunlin", "sanderling"},
		args: func(k kit) []string {
			return []string{"sideload", k.Package, k.addon}
		}},
	{name: "sideload an add-on", state: inRecovery, args: func(k kit) []string {
		return []string{"sideload", k.addon}
	}},
	{name: "put", state: inRecovery, args: func(k kit) []string {
		return []string{"put", k.Package, k.note, "--to", "storage"}
	}},
	{name: "vbmeta loosen", state: inRecovery, on: []string{"sanderling", "dunlin", "godwit", "avocet"},
		args: func(kit) []string {
			return []string{"vbmeta", "loosen", "hashtree"}
		}},
	{name: "shelve", state: inRecovery, on: []string{"sanderling"}, args: func(kit) []string {
		return []string{"shelve", "/vendor/overlay/WickerlightFrame"}
	}},
	{name: "recovery hold", state: inRecovery, on: []string{"turnstone", "knot"}, args: func(kit) []string {
		return []string{"recovery", "hold"}
	}},
	{name: "slot use", state: inBootloader, on: slotted, args: func(kit) []string {
		return []string{"slot", "use", "b"}
	}},
	{name: "slot copy", state: inRecovery, on: []string{"godwit"}, args: func(kit) []string {
		return []string{"slot", "copy"}
	}},
	{name: "backup take", state: inRecovery, args: func(kit) []string {
		return []string{"backup", "take", "boot", "-o", "KEPT"}
	}},
	{name: "go to the recovery", state: inRecovery, args: func(kit) []string {
		return []string{"go", "recovery"}
	}},
	{name: "go to the bootloader", state: inRecovery, not: "knot", args: func(kit) []string {
		return []string{"go", "bootloader"}
	}},
	{name: "go to the system", state: inBootloader, args: func(kit) []string {
		return []string{"go", "system", "--wait", "40s"}
	}},
	{name: "unlock", state: isLocked, not: "knot", args: func(kit) []string { return []string{"unlock"} }},
	{name: "app", state: inSystem, args: func(k kit) []string { return []string{"app", k.app} }},
}

// makeKit makes the files for a phone in dir.
func makeKit(dir string, p scenario.Phone, slots int) (kit, error) {
	k := kit{slots: slots}
	var err error
	if k.More, err = demo.MakeMore(dir, p, slots); err != nil {
		return k, err
	}
	write := func(file string, b []byte, err error) (string, error) {
		path := filepath.Join(dir, file)
		if err == nil {
			err = os.WriteFile(path, b, 0o644)
		}
		return path, err
	}
	b, err := scenario.Recovery(scenario.Tideline, p)
	if k.recovery, err = write("tideline-3.1-"+p.Device+".img", b, err); err != nil {
		return k, err
	}
	b, err = scenario.Addon{Name: "Countsheet", Signer: "saltmarsh"}.Package()
	if k.addon, err = write("countsheet.zip", b, err); err != nil {
		return k, err
	}
	b, err = scenario.FieldLog.Package()
	if k.app, err = write("fieldlog.apk", b, err); err != nil {
		return k, err
	}
	k.note, err = write("note.txt", []byte("the count of the evening\n"), nil)
	return k, err
}
