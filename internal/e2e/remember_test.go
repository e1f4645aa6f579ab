package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/journal"
	"jarlid/internal/standin/scenario"
)

// TestRemembered: what one command did stops the next one where that can't be read back any
// more: by the journal, which is named. Each stop can be accepted, since another program may
// have been at work in between.
func TestRemembered(t *testing.T) {
	t.Parallel()
	byJob := regexp.MustCompile(`\(so says the journal of job (\d+)\)`)
	images := func(o scenario.OS) map[string][]byte { return must(scenario.Images(o, dunlin)) }
	// treed is a system image with the footer a build gives it, which states its hash tree.
	treed := func(o scenario.OS) []byte {
		set := images(o)
		m := must(vbmeta.Parse(bytes.NewReader(set["vbmeta"]), int64(len(set["vbmeta"]))))
		d := m.Descriptors[slices.IndexFunc(m.Descriptors, func(d vbmeta.Descriptor) bool {
			return d.Tag == vbmeta.TagHashtree && d.PartitionName == "system"
		})]
		own := must(vbmeta.Build(&vbmeta.Image{Descriptors: []vbmeta.Descriptor{d}}, nil))
		return must(vbmeta.AddFooter(set["system"], own, int64(len(set["system"]))+64<<10))
	}
	for name, c := range map[string]struct {
		first, second []string // {vbmeta}, {own}, {other} and {rom} are files
		inRecovery    bool
		stop          string
		not           []string // a second command that nothing stops
	}{
		"a hash tree that the vbmeta enforces": {
			first:  []string{"flash", "{vbmeta}", "--into", "@b"},
			second: []string{"flash", "{other}", "--into", "system@b"}, stop: "verity-would-reject",
			not: []string{"flash", "{own}", "--into", "system@b", "--dry-run"},
		},
		"a slot whose system was erased": {
			first:  []string{"wipe", "system@a", "--accept", "slot-empty", "--accept", "risky-partition"},
			second: []string{"go", "system", "--wait", "1s"}, stop: "slot-empty",
			not: []string{"go", "recovery"},
		},
		"data that the system before encrypted": {
			first:      []string{"sideload", "{rom}", "--then", "stay", "--accept", "encrypted-data"},
			inRecovery: true,
			second:     []string{"go", "system", "--wait", "1s"}, stop: "encrypted-data",
			not: []string{"go", "recovery"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.standin("dunlin")
				paths := map[string]string{"{vbmeta}": l.file("vbmeta.img", images(scenario.Stock)["vbmeta"]),
					"{own}":   l.file("own.img", treed(scenario.Stock)),
					"{other}": l.file("other.img", treed(scenario.Saltmarsh)), "{rom}": files.Package}
				in := func(words []string) (out []string) {
					for _, w := range words {
						if p := paths[w]; p != "" {
							w = p
						}
						out = append(out, w)
					}
					return append(out, "--yes")
				}
				if c.inRecovery {
					l.inRecovery("dunlin", files.Recovery)
				}
				l.want(0, nil, in(c.first)...)
				done := l.lastJournal()[0].Number
				before := len(l.journals())
				out := l.want(3, []string{"stop  " + c.stop + ":"}, in(c.second)...)
				if m := byJob.FindStringSubmatch(out); m == nil && c.stop != "encrypted-data" {
					t.Errorf("the job is not named:\n%s", out)
				} else if m != nil && m[1] != strings.TrimLeft(filepath.Base(jobOf(l, done))[:6], "0") {
					t.Errorf("another job than %d is named:\n%s", done, out)
				}
				if len(l.journals()) != before {
					t.Error("a command that was stopped before it began wrote a journal")
				}
				if out := l.want(0, nil, in(c.not)...); strings.Contains(out, c.stop) {
					t.Errorf("%v is spoken of in %s:\n%s", c.stop, c.not, out)
				}
				if code, out := l.run(append(in(c.second), "--accept", c.stop, "--dry-run")...); code != 0 {
					t.Errorf("accepted, it ended with %d:\n%s", code, out)
				}
			})
		})
	}
}

func jobOf(l *lab, number int) string {
	for _, j := range must(journal.Jobs(l.home)) {
		if j.Number == number {
			return j.Dir
		}
	}
	l.Fatalf("there is no job %d", number)
	return ""
}

// TestContradicted: where another program was at work, what is read counts, and what only
// the journal knew of that partition is not known any more.
func TestContradicted(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		enforcing, loose := must(scenario.Images(scenario.Stock, dunlin))["vbmeta"],
			must(scenario.Images(scenario.Saltmarsh, dunlin))["vbmeta"]
		facts := func() map[string]card.Fact {
			var c struct{ Facts map[string]card.Fact }
			l.result(0, &c, "card")
			return c.Facts
		}
		l.inRecovery("dunlin", files.Recovery)
		l.want(0, nil, "flash", l.file("vbmeta.img", enforcing), "--into", "@a", "--yes")
		flash := []string{"flash", l.file("system.img", must(scenario.System(scenario.GSI, dunlin))),
			"--into", "system@a", "--dry-run", "--accept", "encrypted-data", "--accept",
			"verity-would-reject"}
		l.want(0, nil, "go", "bootloader", "--yes")
		l.want(0, []string{"stop  verity-would-reject: the vbmeta on the phone enforces"}, flash...)
		if f := facts()["tree.root:system_a"]; f.Source != card.Journal || f.Job == 0 {
			t.Errorf("what was written is %+v", f)
		}
		// The other program writes one that enforces nothing.
		path := filepath.Join(l.dir, "dunlin", "partitions", "vbmeta_a.img")
		if err := os.WriteFile(path, append(bytes.Clone(loose), make([]byte, 64<<10-len(loose))...),
			0o644); err != nil {
			t.Fatalf("os.WriteFile(%v, ..., 0o644): %v", path, err)
		}
		l.want(0, nil, "go", "recovery", "--yes")
		if out := l.want(0, nil, flash...); strings.Contains(out, "stop  verity-would-reject") {
			t.Errorf("the journal counts more than what was read:\n%s", out)
		}
	})
}

// TestJournalOfATask: a job's journal holds the task and each step as data, with the files'
// digests, so that it can be read without its titles.
func TestJournalOfATask(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("godwit")
		kit := kitOf(t, "godwit", 2)
		l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
		job := l.lastJournal()
		begin := job[0]
		if begin.Number != 2 || begin.Form != journal.Form || begin.Program == "" || begin.Task == nil ||
			begin.Task.Name != "recovery install" || len(begin.Files) != 1 {
			t.Errorf("it begins with %+v", begin)
		}
		acts, wrote := 0, 0
		for _, r := range job {
			switch r.Event {
			case journal.Act:
				acts++
				// A step that was not in the begin brings its data along.
				if r.Step > len(begin.Steps) && (r.Data == nil || r.Data.Kind == "") {
					t.Errorf("step %d is a title alone: %+v", r.Step, r)
				}
				if len(r.Touches) > 0 {
					wrote++
				}
			case journal.Done:
				if r.Confirm == "" {
					t.Errorf("step %d does not say how it was confirmed", r.Step)
				}
			}
		}
		for _, s := range begin.Steps {
			if s.Kind == "" || s.Title == "" {
				t.Errorf("a step is %+v", s)
			}
		}
		// Each write is an act of its own, though the images are made on the way: started,
		// read and rebuilt, written.
		if acts <= len(begin.Steps) || wrote == 0 {
			t.Errorf("%d acts of %d steps that were known, %d of them write", acts, len(begin.Steps), wrote)
		}
		if end := job[len(job)-1]; end.Event != journal.End || end.Error != "" {
			t.Errorf("it ends with %+v", end)
		}
	})
}
