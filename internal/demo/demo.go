// Package demo tells the whole story of a job on a stand-in: it makes the
// files, starts the phone and walks through the commands as one would type
// them.
package demo

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"jarlid/internal/bench"
	"jarlid/internal/core/model"
	"jarlid/internal/standin"
	"jarlid/internal/standin/scenario"
)

// Options say how the demo runs.
type Options struct {
	Dir       string // where everything is put; "": a new temporary folder
	Keep      bool   // leave the stand-in running
	OnlyFiles bool
	Story     string // which one; "": the first
	For       string // with OnlyFiles: the phone they are for; "" is dunlin with the story's files alone
	Say       func(word, text string)
	Plain     func(text string) // a line of the story
	// Run runs a jarlid command; typed is what is typed meanwhile.
	Run func(typed string, args ...string) int
}

// Files are the demo's files by what they are.
type Files struct{ Recovery, Package, PackageWithRecovery string }

// MakeFiles makes the files of the scenario for a phone in dir.
func MakeFiles(dir string, p scenario.Phone) (Files, error) {
	f := Files{Recovery: filepath.Join(dir, "tideline-3.1-"+p.Device+".img"), Package: filepath.Join(dir, "saltmarsh-4.2-"+p.Device+".zip"),
		PackageWithRecovery: filepath.Join(dir, "saltmarsh-4.2-"+p.Device+"-own-recovery.zip")}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return f, err
	}
	recovery, err := scenario.Recovery(scenario.Tideline, p)
	if err != nil {
		return f, err
	}
	own, err := scenario.Recovery(scenario.SaltmarshRecovery, p)
	if err != nil {
		return f, err
	}
	pkg, err := scenario.Package(scenario.Saltmarsh, p, nil)
	if err != nil {
		return f, err
	}
	with, err := scenario.Package(scenario.Saltmarsh, p, own)
	if err != nil {
		return f, err
	}
	for path, b := range map[string][]byte{f.Recovery: recovery, f.Package: pkg, f.PackageWithRecovery: with} {
		if err := os.WriteFile(path, b, 0o644); err != nil {
			return f, err
		}
	}
	return f, nil
}

// More are further files for one phone of the scenario.
type More struct {
	Set     string // the maker's firmware set
	Boot    string // the maker's boot image
	Overlay string // the image a third-party recovery wants before it; "" where none
	GSI     string // the generic system image
	Package string // a ROM: an A/B package, or block lists for one slot
	Addons  []string
}

// MakeMore makes further files of the scenario for a phone in dir.
func MakeMore(dir string, p scenario.Phone, slots int) (More, error) {
	m := More{Set: filepath.Join(dir, "wickerlight-9.1-"+p.Device+"-firmware.zip"), Boot: filepath.Join(dir, "boot.img"), GSI: filepath.Join(dir, "saltmarsh-gsi-4.2-arm64.img.gz")}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return m, err
	}
	set, err := scenario.FirmwareSet(p)
	if err != nil {
		return m, err
	}
	boot, err := scenario.Boot(scenario.Stock, p)
	if err != nil {
		return m, err
	}
	all := map[string][]byte{m.Set: set, m.Boot: boot}
	if all[m.GSI], err = generic(scenario.GSI, ".gz"); err != nil {
		return m, err
	}
	if p.Overlays {
		m.Overlay = filepath.Join(dir, "tideline-dtbo-"+p.Device+".img")
		all[m.Overlay] = scenario.Overlays("Tideline")
	}
	m.Package = filepath.Join(dir, "saltmarsh-4.2-"+p.Device+".zip")
	if slots > 1 {
		all[m.Package], err = scenario.Package(scenario.Saltmarsh, p, nil)
	} else {
		all[m.Package], err = scenario.BlockPackage(scenario.Saltmarsh, p, true)
	}
	if err != nil {
		return m, err
	}
	apps := scenario.Shoreline
	apps.ABI = p.ABI
	for name, a := range map[string]scenario.Addon{"shoreline-14-" + p.ABI + ".zip": apps, "countsheet.zip": scenario.Countsheet} {
		path := filepath.Join(dir, name)
		if all[path], err = a.Package(); err != nil {
			return m, err
		}
		m.Addons = append(m.Addons, path)
	}
	for path, b := range all {
		if err := os.WriteFile(path, b, 0o644); err != nil {
			return m, err
		}
	}
	return m, nil
}

// GSIs are the generic system images of the scenario, by the names of their files.
var GSIs = map[string]scenario.OS{"saltmarsh-gsi-4.2-arm.img.gz": scenario.GSIArm, "saltmarsh-gsi-1.4-arm64-fixed.img.gz": scenario.GSIFixed,
	"saltmarsh-gsi-4.2-arm64.img.gz": scenario.GSI, "saltmarsh-gsi-6.0-arm64.img.zst": scenario.GSINew}

// MakeGSIs makes all generic system images in dir.
func MakeGSIs(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, o := range GSIs {
		b, err := generic(o, filepath.Ext(name))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), b, 0o644)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// generic makes a generic system image, compressed.
func generic(o scenario.OS, ext string) ([]byte, error) {
	img, err := scenario.System(o, scenario.Phone{})
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	var z io.WriteCloser = gzip.NewWriter(&out)
	if ext == ".zst" {
		if z, err = zstd.NewWriter(&out); err != nil {
			return nil, err
		}
	}
	if _, err := z.Write(img); err != nil {
		return nil, err
	}
	err = z.Close()
	return out.Bytes(), err
}

// makeFor makes everything for one phone: its recovery and the further files.
func makeFor(dir, device string) error {
	set, err := model.Load(nil)
	if err != nil {
		return err
	}
	m := set.Find(device)
	if m == nil {
		return fmt.Errorf("the scenario has no phone %q", device)
	}
	p := scenario.PhoneOf(m.Name)
	recovery, err := scenario.Recovery(scenario.Tideline, p)
	if err != nil {
		return err
	}
	if err := MakeGSIs(dir); err != nil {
		return err
	}
	if _, err := MakeMore(dir, p, m.Slots); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "tideline-3.1-"+p.Device+".img"), recovery, 0o644)
}

// scene is one command of the story.
type scene struct {
	why  string
	args []string
	exit int // what it ends with: some scenes show a stop
	// hands are pressed at the phone meanwhile, each as soon as it can be.
	hands []string
	typed string // answers to questions
}

// Run runs the demo.
func Run(ctx context.Context, o Options) error {
	var err error
	if o.Dir == "" {
		o.Dir, err = os.MkdirTemp("", "jarlid-demo-")
	} else {
		o.Dir, err = filepath.Abs(o.Dir)
	}
	if err != nil {
		return err
	}
	if o.For != "" {
		if !o.OnlyFiles {
			return fmt.Errorf("the story is told on a dunlin; --for goes with --only-files")
		}
		dir := filepath.Join(o.Dir, "files")
		if err := makeFor(dir, o.For); err != nil {
			return err
		}
		o.Say("done", "the files for "+o.For+" are in "+dir)
		return nil
	}
	tale, err := findStory(o.Story)
	if err != nil {
		return err
	}
	dir := filepath.Join(o.Dir, "files")
	list, err := tale.prepare(dir)
	if err != nil {
		return err
	}
	if o.OnlyFiles {
		o.Say("done", "the files are in "+dir)
		return nil
	}
	home := filepath.Join(o.Dir, "home")
	os.Setenv("JARLID_HOME", home)
	for _, line := range tale.intro {
		o.Plain(line)
	}
	o.Plain("")
	stop, err := start(ctx, o, home, tale.device)
	if err != nil {
		return err
	}
	if !o.Keep {
		defer stop()
	}
	for _, s := range list {
		if err := play(ctx, o, home, s); err != nil {
			stop()
			return err
		}
	}
	o.Plain(tale.end)
	o.Say("look", "files: "+dir)
	o.Say("look", "the phone's storage: "+filepath.Join(o.Dir, tale.device))
	o.Say("look", "journals: "+filepath.Join(home, "jobs"))
	if o.Keep {
		o.Say("look", "the stand-in is still running; to work with it: JARLID_HOME="+home)
	} else {
		o.Say("look", "the stand-in is switched off; run it again with: JARLID_HOME="+home+" jarlid standin run "+tale.device+" --at "+filepath.Join(o.Dir, tale.device))
	}
	return nil
}

func scenes(f Files) []scene {
	recovery, pkg := rel(f.Recovery), rel(f.Package)
	return []scene{
		{why: "What is here? The phone waits in its bootloader.", args: []string{"bench"}},
		{why: "Two files were downloaded. What are they really?", args: []string{"ident", recovery, pkg}},
		{why: "The wrong file in the wrong place is stopped before anything is sent.",
			args: []string{"recovery", "set", pkg}, exit: 3},
		{why: "The recovery goes to both slots: after the install the phone starts from the other one.",
			args: []string{"recovery", "set", recovery, "--yes"}},
		{why: "Into the recovery that was just written.", args: []string{"go", "recovery"}},
		{why: "Too early: the data is still encrypted by the old system, and a new one could not read it.",
			args: []string{"sideload", pkg}, exit: 3},
		{why: "So the data is formatted. What that costs is said first; --yes answers the question.",
			args: []string{"wipe", "userdata", "--yes"}},
		{why: "Now the package. The phone reads it twice; it is installed only when something besides its word says so.",
			args: []string{"sideload", pkg, "--yes"}},
		{why: "The phone has come up on the other slot, and the recovery is there too.", args: []string{"slot"}},
		{why: "The first start. Debugging is off after a format; meanwhile, at the phone: finish the welcome, switch debugging on, allow this computer.",
			args: []string{"go", "system", "--wait", "30s"}, hands: []string{"finish welcome", "debugging on", "allow"}},
		{why: "And that is what a technician wants to see.", args: []string{"bench"}},
	}
}

// rel gives a path as one would type it, where that is shorter.
func rel(path string) string {
	wd, err := os.Getwd()
	if err != nil {
		return path
	}
	if r, err := filepath.Rel(wd, path); err == nil && len(r) < len(path) {
		return r
	}
	return path
}

// start runs the stand-in as a process of its own.
func start(ctx context.Context, o Options, home, device string) (stop func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	args := []string{"standin", "run", device, "--at", filepath.Join(o.Dir, device)}
	o.Plain("In another window the phone is started:")
	o.Plain("  $ jarlid " + strings.Join(args, " "))
	o.Plain("")
	log, err := os.Create(filepath.Join(o.Dir, device+".log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(self, append(args, "--home", home)...)
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	stop = func() {
		// Its state survives any end; Windows knows no gentler one.
		if cmd.Process.Signal(os.Interrupt) != nil {
			cmd.Process.Kill()
		}
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			cmd.Process.Kill()
		}
	}
	b, err := bench.Open(home)
	if err != nil {
		stop()
		return nil, err
	}
	for range 300 {
		if here, _, err := b.Look(ctx); err == nil && len(here) == 1 {
			return stop, nil
		}
		select {
		case err := <-ended:
			return nil, fmt.Errorf("the stand-in did not start (%v); see %s", err, log.Name())
		case <-ctx.Done():
			stop()
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	stop()
	return nil, fmt.Errorf("the stand-in did not show up; see %s", log.Name())
}

// play shows a command and runs it.
func play(ctx context.Context, o Options, home string, s scene) error {
	o.Plain(s.why)
	var shown []string
	for _, a := range s.args {
		if strings.ContainsAny(a, " ") {
			a = `"` + a + `"`
		}
		shown = append(shown, a)
	}
	o.Plain("  $ jarlid " + strings.Join(shown, " "))
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if len(s.hands) > 0 {
		go hands(hctx, home, s.hands)
	}
	if code := o.Run(s.typed, s.args...); code != s.exit {
		return fmt.Errorf("jarlid %s ended with %d, and the story wants %d", strings.Join(s.args, " "), code, s.exit)
	}
	o.Plain("")
	return ctx.Err()
}

// hands presses one thing after the other, each as soon as the phone has it.
func hands(ctx context.Context, home string, keys []string) {
	b, err := bench.Open(home)
	if err != nil {
		return
	}
	for _, k := range keys {
		for ctx.Err() == nil {
			list, err := b.Entries()
			if err == nil && len(list) > 0 {
				if _, err := standin.Press(ctx, list[0].Control, []string{k}); err == nil {
					break
				}
			}
			time.Sleep(200 * time.Millisecond)
		}
	}
}
