package e2e

import (
	"bytes"
	"encoding/json"
	"flag"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin/scenario"
)

var update = flag.Bool("update", false, "write the golden files anew")

// form gives a JSON value's form: the keys and the kinds of their values. A list has the
// form of all its elements together.
func form(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, e := range v {
			out[k] = form(e)
		}
		return out
	case []any:
		var all any
		for _, e := range v {
			all = merged(all, form(e))
		}
		return []any{all}
	case string:
		return "text"
	case float64:
		return "number"
	case bool:
		return "yes or no"
	}
	return "null"
}

// merged is the form of values of two forms.
func merged(a, b any) any {
	switch {
	case a == nil:
		return b
	case b == nil || reflect.DeepEqual(a, b):
		return a
	}
	switch a := a.(type) {
	case map[string]any:
		if b, ok := b.(map[string]any); ok {
			out := maps.Clone(a)
			for k, v := range b {
				out[k] = merged(out[k], v)
			}
			return out
		}
	case []any:
		if b, ok := b.([]any); ok {
			return []any{merged(a[0], b[0])}
		}
	}
	as, _ := a.(string)
	bs, _ := b.(string)
	kinds := append(strings.Split(as, " | "), strings.Split(bs, " | ")...)
	slices.Sort(kinds)
	return strings.Join(slices.Compact(kinds), " | ")
}

// byName makes maps whose keys are names of things, and not words of the form, one entry.
var byName = []string{"facts"}

func named(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k, e := range v {
			e = named(e)
			if m, ok := e.(map[string]any); ok && slices.Contains(byName, k) {
				var all any
				for _, f := range m {
					all = merged(all, f)
				}
				e = map[string]any{"NAME": all}
			}
			v[k] = e
		}
		return v
	case []any:
		for i := range v {
			v[i] = named(v[i])
		}
	}
	return v
}

// golden runs a command with --json and holds the form of every line it prints to the
// command's file.
func (l *lab) golden(code int, args ...string) {
	l.Helper()
	name := strings.Join(args[:1], "")
	if len(args) > 1 && slices.Contains([]string{"recovery", "slot", "vbmeta", "backup", "standin", "jobs",
		"sheet"}, name) && !strings.HasPrefix(args[1], "-") {
		name += "-" + args[1]
	}
	if strings.HasPrefix(name, "-") {
		name = "jarlid"
	}
	if name == "bench" && len(args) > 1 {
		name += "-" + strings.TrimLeft(args[1], "-")
	} else if *cabled && (name == "bench" || name == "jarlid" || name == "standin-run") {
		return // TestGoldenCable has their forms
	}
	out := l.want(code, nil, append(args, "--json")...)
	events := map[string]any{}
	for line := range strings.Lines(out) {
		var v map[string]any
		if err := json.Unmarshal([]byte(line), &v); err != nil {
			l.Fatalf("json.Unmarshal([]byte(line), &v): %s: %v: %q; want no error", name, err, line)
		}
		event, _ := v["event"].(string)
		delete(v, "event")
		if event == "progress" && v["done"] == nil {
			l.Errorf("%s: progress without a number: %q", name, line)
		}
		events[event] = merged(events[event], named(form(v)))
	}
	delete(events, "progress") // how often one is told is a matter of time
	got, err := json.MarshalIndent(events, "", "  ")
	if err != nil {
		l.Fatalf("json.MarshalIndent(events, '', ' '): %v", err)
	}
	got = append(got, '\n')
	path := filepath.Join("testdata", "golden", name+".json")
	if *update {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			l.Fatalf("os.MkdirAll(filepath.Dir(path), 0o755): %v", err)
		}
		if err := os.WriteFile(path, got, 0o644); err != nil {
			l.Fatalf("os.WriteFile(%v, got, 0o644): %v", path, err)
		}
		return
	}
	want, err := os.ReadFile(path)
	if err != nil {
		l.Fatalf("os.ReadFile(%v): %v", path, err)
	}
	if !bytes.Equal(got, want) {
		l.Errorf("jarlid %s has another form than %s (-update writes it anew):\n%s", strings.Join(args, " "),
			path, got)
	}
}

// TestGolden holds every command's JSON to the form docs/files.md promises to scripts.
func TestGolden(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "dunlin", 2)
		vbmeta := l.file("vbmeta.img", must(scenario.Images(scenario.Stock, dunlin))["vbmeta"])
		log := l.file("fieldlog.apk", must(scenario.FieldLog.Package()))
		out, kept := filepath.Join(l.dir, "out"), filepath.Join(l.dir, "kept")

		l.golden(0, "demo", "--list")
		l.golden(0, "man", filepath.Join(out, "man"))
		l.golden(0, "explain", "slot-empty")
		l.golden(0, "ident", files.Recovery, files.Package)
		l.golden(0, "lift", files.Package, "boot.img", "--output", out)
		l.golden(0, "proof", files.Package)
		l.standin("dunlin", "--locked", "--mode", "system")
		l.press("dunlin", "finish welcome", "debugging on", "unlocking on", "volume-down+power")
		l.untilMode("dunlin", "bootloader")
		done := l.hands("dunlin", "yes")
		l.golden(0, "unlock", "--yes")
		done()
		l.untilMode("dunlin", "bootloader")
		l.golden(0, "bench")
		l.golden(0, "slot")
		l.golden(0, "standin", "fault", "dunlin", "clear")
		l.golden(0, "recovery", "install", kit.recovery, "--yes")
		l.golden(0, "slot", "use", "a", "--yes")
		l.golden(0, "recovery", "try", kit.recovery, "--yes")
		l.golden(0, "card")
		l.golden(0, "--yes")
		l.golden(0, "vbmeta", "show", "vbmeta")
		l.golden(0, "vbmeta", "check", vbmeta, "--images", kit.more.Set)
		l.golden(0, "vbmeta", "loosen", "hashtree", "--yes")
		l.golden(0, "vbmeta", "tighten", "hashtree", "--from", vbmeta, "--yes")
		l.golden(0, "fit", kit.more.GSI)
		l.golden(0, "backup", "take", "boot@a", "-o", kept)
		l.golden(0, "backup", "restore", "boot@a", "-o", kept, "--yes")
		// the one that was tried
		l.want(3, []string{"stop  hands-needed", `choose "Packages"`}, "sideload", files.Package, "--yes",
			"--accept", "encrypted-data")
		l.want(0, nil, "go", "bootloader", "--yes")
		l.golden(0, "go", "recovery", "--yes")
		l.golden(0, "vbmeta", "loosen", "hashtree", "--yes")
		l.golden(0, "shelve", "/system/etc/about.txt", "--yes")
		l.golden(0, "unshelve", "--yes")
		l.golden(0, "recovery", "hold", "--yes")
		l.golden(0, "wipe", "userdata", "--yes")
		l.golden(0, "put", files.Package, "--to", "storage", "--yes")
		l.golden(0, "sideload", files.Package, "--then", "stay", "--yes")
		l.golden(0, "slot", "copy", "recovery", "--yes")
		l.golden(0, "standin", "press", "dunlin", "volume-down+power")
		l.untilMode("dunlin", "bootloader")
		l.golden(0, "flash", kit.more.Set, "--into", "@a", "--yes")
		l.golden(3, "relock", "--yes")
		l.want(3, []string{"stop  storage-holds-package: saltmarsh-4.2-dunlin.zip was put into the shared " +
			"storage, which goes now (so says the journal of job "}, "wipe", "userdata", "--yes")
		l.want(0, nil, "wipe", "userdata", "--yes", "--accept", "storage-holds-package")
		l.want(0, nil, "slot", "use", "a", "--yes")
		l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
		defer l.hands("dunlin", "finish welcome", "debugging on", "allow")()
		l.golden(0, "arrive", "--wait", "60s")
		l.golden(0, "app", log, "--yes")
		copies := l.beside(files.Recovery, files.Package)
		l.golden(0, "sheet", "draft", copies[0], copies[1])
		l.golden(0, "sheet", "check", l.sheetOf("conditions: {battery: 5}\n",
			"  - go: bootloader\n  - recovery install: recovery\n  - go: recovery\n  - wipe: userdata\n"))
		l.golden(0, "sheet", "run",
			l.sheetOf("", "  - go: bootloader\n  - recovery install: recovery\n    when: {slots: 1}\n"),
			"--yes")
		l.golden(0, "jobs")
		l.golden(0, "jobs", "prune", "--older", "90d", "--yes")
		l.golden(0, "jobs", "show", "5")
	})
}

// TestGoldenCable holds what is said of cables to its form.
func TestGoldenCable(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--usb", "--mode", "bootloader")
		l.raw("1-4", "X", soft.Files())
		l.golden(0, "bench", "--on", "dunlin")
		l.golden(0, "bench", "--rule")
		l.golden(0, "bench", "name", "dunlin", "brook")
		l.bus.Denied = []string{"1-1"}
		l.golden(4, "bench", "--why")
	})
}
