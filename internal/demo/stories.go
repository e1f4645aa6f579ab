package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"jarlid/internal/standin/scenario"
)

// story is one evening on one phone.
type story struct {
	name, title string
	device      string
	intro       []string
	end         string
	// prepare makes the files in a folder and gives the scenes.
	prepare func(dir string) ([]scene, error)
}

// stories are all of them, the one that is told without a name first.
var stories = []story{
	{name: "evening", title: "a recovery, a ROM and its first start, on a phone with slots", device: "dunlin",
		intro: []string{"A bird observatory gives an old phone a second life: a Wickerlight Dunlin, unlocked, with slots a and b, is to",
			"run Saltmarsh OS. The phone here is made of software, and answers as a real one would."},
		end: "That was the whole evening. The phone runs Saltmarsh OS from slot b; slot a still holds the maker's system.",
		prepare: func(dir string) ([]scene, error) {
			f, err := MakeFiles(dir, scenario.PhoneOf("dunlin"))
			return scenes(f), err
		}},
	{name: "overlay", title: "a generic system on one slot, a restart loop, and how it ends", device: "sanderling",
		intro: []string{"A Wickerlight Sanderling has one of everything, and keeps its recovery in a partition of another name. It gets a base",
			"ROM first, then the generic system over it, whose restart loop has a cause that can be moved aside."},
		end:     "The generic system runs. What was in its way is still on the phone, and one command brings it back.",
		prepare: overlayScenes},
	{name: "gsi", title: "will a generic system run, asked before it is written", device: "avocet",
		intro: []string{"A Wickerlight Avocet keeps its system in a partition called super, beside the maker's own. Four generic systems lie in the",
			"download folder, and the question is which of them will run on it, before anything is touched."},
		end:     "The generic system runs, and nobody had to try it to know.",
		prepare: gsiScenes},
}

// Stories gives the names and titles of all stories.
func Stories() [][2]string {
	var list [][2]string
	for _, s := range stories {
		list = append(list, [2]string{s.name, s.title})
	}
	return list
}

func findStory(name string) (*story, error) {
	var names []string
	for i := range stories {
		if stories[i].name == name || name == "" {
			return &stories[i], nil
		}
		names = append(names, stories[i].name)
	}
	return nil, fmt.Errorf("there is no story %q; there is: %s", name, strings.Join(names, ", "))
}

func overlayScenes(dir string) ([]scene, error) {
	if err := makeFor(dir, "sanderling"); err != nil {
		return nil, err
	}
	recovery, rom, gsi := rel(filepath.Join(dir, "tideline-3.1-sanderling.img")), rel(filepath.Join(dir, "saltmarsh-4.2-sanderling.zip")), rel(filepath.Join(dir, "saltmarsh-gsi-4.2-arm64.img.gz"))
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
	return []scene{
		{why: "The recovery has no partition of that name here; Jar Lid knows where it lives.", args: []string{"recovery", "set", recovery, "--yes"}},
		{why: "Into it.", args: []string{"go", "recovery"}},
		{why: "What is on the phone is kept first: everything it needs to start.", args: []string{"backup", "take", "-o", rel(filepath.Join(dir, "backup"))}},
		{why: "The old system's data can't be read by a new one.", args: []string{"wipe", "userdata", "--yes"}},
		{why: "The base ROM: its vendor partition is what the generic system will stand on.", args: []string{"sideload", rom, "--yes"}},
		{why: "It is started once, so that what comes later has something to compare with.", args: []string{"go", "system", "--wait", "1s", "--yes"}},
		{why: "Is it really up? At the phone: finish the welcome, switch debugging on, allow this computer.", args: []string{"arrive", "--wait", "60s"}, hands: welcome},
		{why: "Back to the bootloader for the generic system, which is written whole.", args: []string{"go", "bootloader"}},
		{why: "It is packed; that is no matter.", args: []string{"flash", gsi, "--into", "system", "--yes"}},
		{why: "Its extras come as a numbered series.", args: []string{"go", "recovery"}},
		{why: "Given in the wrong order, they are stopped.", args: []string{"sideload", extras[1], extras[0], extras[2], "--yes"}, exit: 3},
		{why: "In their order they go in.", args: append([]string{"sideload", "--yes"}, extras...)},
		{why: "The first start of the generic system.", args: []string{"go", "system", "--wait", "1s", "--yes"}},
		{why: "It does not come up. Somebody looks at the phone: the same picture, again and again.", args: []string{"arrive", "--wait", "6s"}, exit: 6, typed: "3\n"},
		{why: "Into the recovery again, with the keys.", args: []string{"go", "recovery", "--yes"}, hands: []string{"volume-up+power"}},
		{why: "The maker's overlay names things that a generic system does not have. It is moved aside.", args: []string{"shelve", "/vendor/overlay/WickerlightFrame"}},
		{why: "Once more.", args: []string{"go", "system", "--wait", "1s", "--yes"}},
		{why: "And now?", args: []string{"arrive", "--wait", "60s"}},
		{why: "The observers' app goes onto it.", args: []string{"app", rel(log)}},
	}, err
}

func gsiScenes(dir string) ([]scene, error) {
	if err := makeFor(dir, "avocet"); err != nil {
		return nil, err
	}
	at := func(name string) string { return rel(filepath.Join(dir, name)) }
	gsi := at("saltmarsh-gsi-4.2-arm64.img.gz")
	all := []string{"fit", at("saltmarsh-gsi-1.4-arm64-fixed.img.gz"), at("saltmarsh-gsi-4.2-arm.img.gz"), gsi, at("saltmarsh-gsi-6.0-arm64.img.zst")}
	return []scene{
		{why: "A bootloader tells little; what is missing is named, with where it can be read.", args: []string{"fit", gsi}, exit: 6},
		{why: "A recovery with a root shell reads the rest, so one is set.", args: []string{"recovery", "set", at("tideline-3.1-avocet.img"), "--yes"}},
		{why: "Into it.", args: []string{"go", "recovery"}},
		{why: "All four, the best first.", args: all},
		{why: "The best one at length, with what to do; the same goes into a page.", args: []string{"fit", gsi, "--page", at("fit.html")}},
		{why: "And why not the newest?", args: []string{"fit", at("saltmarsh-gsi-6.0-arm64.img.zst")}, exit: 6},
		{why: "A card keeps what was read, so that the question can be asked again with the phone away.", args: []string{"card", "--save", at("avocet.card.json")}},
		{why: "So it can.", args: append(append([]string(nil), all...), "--card", at("avocet.card.json"))},
		{why: "To work: the hash tree of the maker's system is switched off.", args: []string{"vbmeta", "loosen", "hashtree", "--yes"}},
		{why: "The image goes into super; room is made for it.", args: []string{"flash", gsi, "--into", "system", "--yes"}},
		{why: "Into the recovery again.", args: []string{"go", "recovery"}},
		{why: "The maker's data can't be read by it.", args: []string{"wipe", "userdata", "--yes"}},
		{why: "The first start.", args: []string{"go", "system", "--wait", "1s", "--yes"}},
		{why: "At the phone: finish the welcome, switch debugging on, allow this computer.", args: []string{"arrive", "--wait", "60s"}, hands: []string{"finish welcome", "debugging on", "allow"}},
	}, nil
}
