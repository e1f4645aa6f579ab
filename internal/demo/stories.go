package demo

import (
	"fmt"
	"os"
	"path/filepath"

	"jarlid/internal/core/spell"
	"jarlid/internal/standin/scenario"
)

// Story is one evening on one phone.
type Story struct {
	Name, Title string
	Device      string // the stand-in it is told on
	// Phones are several of them, by their names on the bench, each with its serial number; none: one.
	Phones []Phone
	Intro  []string
	End    string
	// Prepare makes the files in a folder and gives the scenes.
	Prepare func(dir string) ([]Scene, error)
}

// Phone is one phone of a story with several.
type Phone struct{ Name, Serial string }

// stories are all of them, the one that is told without a name first.
var stories = []Story{
	{Name: "evening", Title: "a recovery, a ROM and its first start, on a phone with slots", Device: "dunlin",
		Intro: []string{"A bird observatory gives an old phone a second life: a Wickerlight Dunlin, " +
			"unlocked, with slots a and b, is to",
			"run Saltmarsh OS. The phone here is made of software, and answers as a real one would."},
		End: "That was the whole evening. The phone runs Saltmarsh OS from slot b; slot a still holds the " +
			"maker's system.",
		Prepare: func(dir string) ([]Scene, error) {
			f, err := MakeFiles(dir, scenario.PhoneOf("dunlin"))
			return scenes(f), err
		}},
	{Name: "overlay", Title: "a generic system on one slot, a restart loop, and how it ends",
		Device: "sanderling",
		Intro: []string{"A Wickerlight Sanderling has one of everything, and keeps its recovery in a " +
			"partition of another name. It gets a base",
			"ROM first, then the generic system over it, whose restart loop has a cause that can be " +
				"moved aside."},
		End: "The generic system runs. What was in its way is still on the phone, and one command " +
			"brings it back.",
		Prepare: overlayScenes},
	{Name: "gsi", Title: "will a generic system run, asked before it is written", Device: "avocet",
		Intro: []string{"A Wickerlight Avocet keeps its system in a partition called super, beside the " +
			"maker's own. Four generic systems lie in the",
			"download folder, and the question is which of them will run on it, before anything is touched."},
		End:     "The generic system runs, and nobody had to try it to know.",
		Prepare: gsiScenes},
	{Name: "tray", Title: "three phones, one sheet, a cable that is pulled, and how it goes on",
		Device: "dunlin",
		Phones: []Phone{{"dunlin-1", "WL-DU-0101"}, {"dunlin-2", "WL-DU-0102"}, {"dunlin-3", "WL-DU-0103"}},
		Intro: []string{"Three Wickerlight Dunlins lie on a tray, all to become field loggers: a recovery, " +
			"Saltmarsh OS, the observatory's add-on and its app. The whole",
			"evening is written down once, looked at before the first byte, and run on all three at the " +
				"same time."},
		End: "Three phones, four commands typed for all of them, and one page that says what was done " +
			"to each.",
		Prepare: trayScenes},
	{Name: "loader", Title: "a phone without fastboot, by its maker's loader and by its keys", Device: "knot",
		Intro: []string{"A Wickerlight Knot has no fastboot: its maker's own loader is shown on its " +
			"screen, and a serial line leads to it. Its stock system",
			"writes the stock recovery back at each start, so the way from the loader into the recovery is " +
				"by the keys alone."},
		End:     "The phone runs Saltmarsh OS, and its own recovery is not put back any more.",
		Prepare: loaderScenes},
}

// Stories are all of them, the one that is told without a name first.
func Stories() []Story { return stories }

// FindStory gives the story of that name, the first without one.
func FindStory(name string) (*Story, error) {
	var names []string
	for i := range stories {
		if stories[i].Name == name || name == "" {
			return &stories[i], nil
		}
		names = append(names, stories[i].Name)
	}
	return nil, fmt.Errorf("there is no story %q%s", name, spell.NoneOf(name, names))
}

func overlayScenes(dir string) ([]Scene, error) {
	if err := MakeFor(dir, "sanderling"); err != nil {
		return nil, err
	}
	recovery, rom, gsi := rel(filepath.Join(dir, "tideline-3.1-sanderling.img")),
		rel(filepath.Join(dir, "saltmarsh-4.2-sanderling.zip")),
		rel(filepath.Join(dir, "saltmarsh-gsi-4.2-arm64.img.gz"))
	var extras []string
	for n := range 3 {
		name := fmt.Sprintf("gsi-extra-%d", n+1)
		b, err := scenario.Addon{Name: name, Release: "14", Signer: "saltmarsh"}.Package()
		if err != nil {
			return nil, err
		}
		path := filepath.Join(dir, name+".zip")
		if err := os.WriteFile(path, b, 0o644); err != nil {
			return nil, err
		}
		extras = append(extras, rel(path))
	}
	log := filepath.Join(dir, "fieldlog.apk")
	b, err := scenario.FieldLog.Package()
	if err == nil {
		err = os.WriteFile(log, b, 0o644)
	}
	welcome := []string{"finish welcome", "debugging on", "allow"}
	return []Scene{
		{Why: "The recovery has no partition of that name here; Jar Lid knows where it lives.",
			Args: []string{"recovery", "install", recovery, "--yes"}},
		{Why: "Into it.", Args: []string{"go", "recovery"}},
		{Why: "What is on the phone is kept first: everything it needs to start.",
			Args: []string{"backup", "take", "-o", rel(filepath.Join(dir, "backup"))}},
		{Why: "The old system's data can't be read by a new one.",
			Args: []string{"wipe", "userdata", "--yes"}},
		{Why: "The base ROM: its vendor partition is what the generic system will stand on.",
			Args: []string{"sideload", rom, "--yes"}},
		{Why: "It is started once, so that what comes later has something to compare with.",
			Args: []string{"go", "system", "--wait", "1s", "--yes"}},
		{Why: "Is it really up? At the phone: finish the welcome, switch debugging on, allow this computer.",
			Args: []string{"arrive", "--wait", "60s"}, Hands: welcome},
		{Why: "Back to the bootloader for the generic system, which is written whole.",
			Args: []string{"go", "bootloader"}},
		{Why: "It is wrapped; that is no matter. But the base ROM has encrypted the data by now.",
			Args: []string{"flash", gsi, "--into", "system", "--yes"}, Exit: 3},
		{Why: "So that goes first.", Args: []string{"wipe", "userdata", "--yes"}},
		{Why: "Now.", Args: []string{"flash", gsi, "--into", "system", "--yes"}},
		{Why: "Its extras come as a numbered series.", Args: []string{"go", "recovery"}},
		{Why: "Given in the wrong order, they are stopped.", Args: []string{"sideload", extras[1], extras[0],
			extras[2], "--yes"}, Exit: 3},
		{Why: "In their order they go in.", Args: append([]string{"sideload", "--yes"}, extras...)},
		{Why: "The first start of the generic system.", Args: []string{"go", "system", "--wait",
			"1s", "--yes"}},
		{Why: "It does not come up. Somebody looks at the phone: the same picture, again and again.",
			Args: []string{"arrive", "--wait", "6s"}, Exit: 6, Typed: "3\n"},
		{Why: "Into the recovery again, with the keys.", Args: []string{"go", "recovery", "--yes"},
			Hands: []string{"volume-up+power"}},
		{Why: "The maker's overlay names things that a generic system does not have. It is moved aside.",
			Args: []string{"shelve", "/vendor/overlay/WickerlightFrame", "--yes"}},
		{Why: "Once more.", Args: []string{"go", "system", "--wait", "1s", "--yes"}},
		{Why: "And now? The wipe has switched debugging off, so it is switched on again at the phone.",
			Args: []string{"arrive", "--wait", "60s"}, Hands: welcome},
		{Why: "The observers' app goes onto it.", Args: []string{"app", rel(log), "--yes"}},
	}, err
}

func loaderScenes(dir string) ([]Scene, error) {
	if err := MakeFor(dir, "knot"); err != nil {
		return nil, err
	}
	recovery, rom, addon := rel(filepath.Join(dir, "tideline-3.1-knot.img")),
		rel(filepath.Join(dir, "saltmarsh-4.2-knot.zip")), rel(filepath.Join(dir, "countsheet.zip"))
	out := []string{"battery-out", "battery-in"}
	return []Scene{
		{Why: "What is here? A serial line, and a loader behind it.", Args: []string{"bench"}},
		{Why: "The table of partitions is read first: the line works, and this is what there is.",
			Args: []string{"card"}},
		{Why: "What the loader gives out is kept.", Args: []string{"backup", "take", "recovery", "boot", "-o",
			rel(filepath.Join(dir, "kept"))}},
		{Why: "The recovery, into its partition by name. The loader's screen says in red that it is not " +
			"the maker's: on an unlocked phone that is no more than a notice.",
			Args: []string{"recovery", "install", recovery, "--yes"}},
		{Why: "Now the system? It would put the maker's recovery back.", Args: []string{"go", "system"},
			Exit: 3},
		{Why: "So by the keys: the battery out and in again, volume up and the side key held, power pressed.",
			Args: []string{"go", "recovery"}, Hands: append(out, "volume-up+side+power"), WhenAsked: true},
		{Why: "The data is made empty for the new system.", Args: []string{"wipe", "userdata", "--yes"}},
		{Why: "The package, and the add-on behind it, both looked at before the first byte.",
			Args: []string{"sideload", rom, addon, "--yes"}},
		{Why: "The first start, with the usual welcome at the phone.", Args: []string{"go", "system",
			"--wait", "90s", "--yes"}, Hands: []string{"finish welcome", "debugging on", "allow"}},
	}, nil
}

func gsiScenes(dir string) ([]Scene, error) {
	if err := MakeFor(dir, "avocet"); err != nil {
		return nil, err
	}
	at := func(name string) string { return rel(filepath.Join(dir, name)) }
	gsi := at("saltmarsh-gsi-4.2-arm64.img.gz")
	all := []string{"fit", at("saltmarsh-gsi-1.4-arm64-fixed.img.gz"), at("saltmarsh-gsi-4.2-arm.img.gz"),
		gsi, at("saltmarsh-gsi-6.0-arm64.img.zst")}
	return []Scene{
		{Why: "A bootloader tells little; what is missing is named, with where it can be read.",
			Args: []string{"fit", gsi}, Exit: 6},
		{Why: "A recovery with a root shell reads the rest, so one is installed.",
			Args: []string{"recovery", "install", at("tideline-3.1-avocet.img"), "--yes"}},
		{Why: "Into it.", Args: []string{"go", "recovery"}},
		{Why: "All four, the best first.", Args: all},
		{Why: "The best one at length, with what to do; the same goes into a page.",
			Args: []string{"fit", gsi, "--page", at("fit.html")}},
		{Why: "And why not the newest?", Args: []string{"fit", at("saltmarsh-gsi-6.0-arm64.img.zst")},
			Exit: 6},
		{Why: "A card keeps what was read, so that the question can be asked again with the phone away.",
			Args: []string{"card", "--save", at("avocet.card.json")}},
		{Why: "So it can.", Args: append(append([]string(nil), all...), "--card", at("avocet.card.json"))},
		{Why: "To work: the hash tree of the maker's system is switched off.",
			Args: []string{"vbmeta", "loosen", "hashtree", "--yes"}},
		{Why: "The maker's data can't be read by it.", Args: []string{"wipe", "userdata", "--yes"}},
		{Why: "The image goes into super; room is made for it.", Args: []string{"flash", gsi, "--into",
			"system", "--yes"}},
		{Why: "The first start.", Args: []string{"go", "system", "--wait", "1s", "--yes"}},
		{Why: "At the phone: finish the welcome, switch debugging on, allow this computer.",
			Args: []string{"arrive", "--wait", "60s"}, Hands: []string{"finish welcome", "debugging on",
				"allow"}},
	}, nil
}

func trayScenes(dir string) ([]Scene, error) {
	if err := MakeFor(dir, "dunlin"); err != nil {
		return nil, err
	}
	at := func(name string) string { return rel(filepath.Join(dir, name)) }
	b, err := scenario.FieldLog.Package()
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "fieldlog.apk"), b, 0o644)
	}
	welcome := []string{"finish welcome", "debugging on", "allow"}
	sheet := at("evening.yaml")
	return []Scene{
		{Why: "Three phones wait in their bootloaders.", Args: []string{"bench"}},
		{Why: "Four files were downloaded. Which job is it, and in which order? One of the phones stands " +
			"for all.",
			Args: []string{"sheet", "draft", at("tideline-3.1-dunlin.img"), at("saltmarsh-4.2-dunlin.zip"),
				at("countsheet.zip"), at("fieldlog.apk"), "--on", "dunlin-1", "-o", sheet}},
		{Why: "The whole evening is judged as one plan, on all three, before anything is touched.",
			Args: []string{"sheet", "check", sheet, "--all"}},
		{Why: "Now it runs. In the middle of it somebody stumbles over a cable; that phone stops alone. At " +
			"the phones: welcome, debugging, allow.",
			Args: []string{"sheet", "run", sheet, "--all", "--yes"}, Exit: 5,
			At:    map[string][]string{"dunlin-1": welcome, "dunlin-3": welcome},
			Fault: &Fault{"dunlin-2", "drop", 8 << 20}},
		{Why: "What broke off?", Args: []string{}},
		{Why: "The cable is back, and it goes on where it was: on that phone, with that task. What is " +
			"installed is not sent again.",
			Args: []string{"jobs", "resume", "--yes"}, At: map[string][]string{"dunlin-2": welcome}},
		{Why: "And the report, as one page.", Args: []string{"jobs", "show", "1", "--page",
			at("report.html")}},
	}, err
}
