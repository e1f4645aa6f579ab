// Package demo is the demo's scenario: it makes the files and lists the scenes of whole
// evenings, commands as one would type them. Whoever shows it runs them.
package demo

import (
	"bytes"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"jarlid/internal/core/model"
	"jarlid/internal/standin"
	"jarlid/internal/standin/scenario"
)

// Files are the demo's files by what they are.
type Files struct{ Recovery, Package, PackageWithRecovery string }

// MakeFiles makes the files of the scenario for a phone in dir.
func MakeFiles(dir string, p scenario.Phone) (Files, error) {
	f := Files{Recovery: filepath.Join(dir, "tideline-3.1-"+p.Device+".img"),
		Package:             filepath.Join(dir, "saltmarsh-4.2-"+p.Device+".zip"),
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
	for path, b := range map[string][]byte{f.Recovery: recovery, f.Package: pkg,
		f.PackageWithRecovery: with} {
		if err := os.WriteFile(path, b, 0o644); err != nil {
			return f, err
		}
	}
	return f, nil
}

// More are further files for one phone of the scenario.
type More struct {
	Set     string // the manufacturer's firmware set
	Boot    string // the manufacturer's boot image
	Overlay string // the image a third-party recovery needs before it; "" where none
	GSI     string // the generic system image
	Package string // a ROM: an A/B package, or block lists for one slot
	Addons  []string
}

// MakeMore makes further files of the scenario for a phone in dir.
func MakeMore(dir string, p scenario.Phone, slots int) (More, error) {
	m := More{Set: filepath.Join(dir, "wickerlight-9.1-"+p.Device+"-firmware.zip"),
		Boot: filepath.Join(dir, "boot.img"), GSI: filepath.Join(dir, "saltmarsh-gsi-4.2-arm64.img.gz")}
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
	for name, a := range map[string]scenario.Addon{"shoreline-14-" + p.ABI + ".zip": apps,
		"countsheet.zip": scenario.Countsheet} {
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

// MakeFooters makes a phone's boot image with four verified boot footers: one that fits, one from before the
// image was patched, one that is cut, and one of another image.
func MakeFooters(dir string, p scenario.Phone) error {
	boot, err := scenario.Boot(scenario.Stock, p)
	if err != nil {
		return err
	}
	fits, err := scenario.Footed("boot", boot, boot)
	if err != nil {
		return err
	}
	patched := bytes.Clone(fits)
	patched[len(boot)/2] ^= 1 // somewhere in what the hash covers
	foreign, err := scenario.Footed("recovery", boot, append([]byte("another image"), boot...))
	if err != nil {
		return err
	}
	for name, b := range map[string][]byte{
		"fits":    fits,
		"patched": patched,
		"cut":     fits[:len(fits)-20],
		"foreign": foreign,
	} {
		if err := os.WriteFile(filepath.Join(dir, "boot-footer-"+name+".img"), b, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// gsis are the generic system images of the scenario, by the names of their files.
var gsis = map[string]scenario.OS{"saltmarsh-gsi-4.2-arm.img.gz": scenario.GSIArm,
	"saltmarsh-gsi-1.4-arm64-fixed.img.gz": scenario.GSIFixed,
	"saltmarsh-gsi-4.2-arm64.img.gz":       scenario.GSI, "saltmarsh-gsi-6.0-arm64.img.zst": scenario.GSINew}

// MakeGSIs makes all generic system images in dir.
func MakeGSIs(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, o := range gsis {
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
	pack := func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriterLevel(w, gzip.BestSpeed) }
	if ext == ".zst" {
		pack = func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) }
	}
	z, err := pack(&out)
	if err != nil {
		return nil, err
	}
	if _, err := z.Write(img); err != nil {
		return nil, err
	}
	err = z.Close()
	return out.Bytes(), err
}

// MakeFor makes everything for one phone of the scenario.
func MakeFor(dir, device string) error {
	set, err := model.Load(nil)
	if err != nil {
		return err
	}
	return MakeOf(dir, set.Find(device))
}

// MakeOf makes everything for the phone a model file describes: its recovery and the further files.
func MakeOf(dir string, m *model.Model) error {
	p, err := standin.Described(m)
	if err != nil {
		return err
	}
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
	if err := MakeFooters(dir, p); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "tideline-3.1-"+p.Device+".img"), recovery, 0o644)
}

// Scene is one command of a story.
type Scene struct {
	Why  string
	Args []string
	Exit int // what it ends with: some scenes show a stop
	// Hands are pressed at the phone meanwhile, each as soon as it can be.
	Hands []string
	// WhenAsked: not before the scene's command asks for them. The phone would take these at any time.
	WhenAsked bool
	Typed     string // answers to questions
	// At are hands at several phones, by their names.
	At map[string][]string
	// Fault is something that goes wrong meanwhile.
	Fault *Fault
}

// Fault is something that goes wrong at a phone.
type Fault struct {
	Phone, Kind string
	After       int64
}

func scenes(f Files) []Scene {
	recovery, pkg := rel(f.Recovery), rel(f.Package)
	return []Scene{
		{Why: "What is here? The phone waits in its bootloader.", Args: []string{"bench"}},
		{Why: "Two files were downloaded. What are they really?", Args: []string{"ident", recovery, pkg}},
		{Why: "The wrong file in the wrong place is stopped before anything is sent.",
			Args: []string{"recovery", "install", pkg}, Exit: 3},
		{Why: "The recovery goes to both slots: after the install the phone starts from the other one.",
			Args: []string{"recovery", "install", recovery, "--yes"}},
		{Why: "Into the recovery that was just written.", Args: []string{"go", "recovery"}},
		{Why: "Too early: the data is still encrypted by the old system, and a new one could not read it.",
			Args: []string{"sideload", pkg}, Exit: 3},
		{Why: "So the data is formatted. What that costs is said first; --yes answers the question.",
			Args: []string{"wipe", "userdata", "--yes"}},
		{Why: "Now the package. The phone reads it twice; it is installed only when something besides its " +
			"word says so.",
			Args: []string{"sideload", pkg, "--yes"}},
		{Why: "The phone has come up on the other slot, and the recovery is there too.",
			Args: []string{"slot"}},
		{Why: "The first start. Debugging is off after a format; meanwhile, at the phone: finish the " +
			"welcome, switch debugging on, allow this computer.",
			Args: []string{"go", "system", "--wait", "30s"}, Hands: []string{"finish welcome", "debugging on",
				"allow"}},
		{Why: "And that is what a technician wants to see.", Args: []string{"bench"}},
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
