package cli

import (
	"context"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/screen"
)

func globFiles(pattern string) ([]string, error) { return filepath.Glob(pattern) }

// phoneLine says in a line which phone it is and in what state.
func phoneLine(p *bench.Phone, c *card.Card) string {
	parts := []string{strings.TrimSpace(p.Name + " " + c.Value(card.FactSerial)), modeWords(c.Mode())}
	if m := c.Value(card.FactModel); m != "" && m != p.Name {
		parts = append(parts, "model "+m)
	}
	if yes, known := c.Yes(card.FactUnlocked); known {
		parts = append(parts, map[bool]string{true: "unlocked", false: "locked"}[yes])
	}
	if s := c.Value(card.FactStarted); s != "" {
		parts = append(parts, "started from slot "+s)
	}
	if s := c.Value(card.FactNext); s != "" {
		parts = append(parts, "slot "+s+" is next")
	}
	for _, name := range []string{card.FactRecovery, card.FactVersion} {
		if f := c.Get(name); f.Evidence == card.Read {
			parts = append(parts, f.Value)
		}
	}
	return strings.Join(parts, ", ")
}

func modeWords(m card.Mode) string {
	switch m {
	case card.Bootloader:
		return "fastboot mode"
	case card.Fastbootd:
		return "userspace fastboot"
	case card.Recovery:
		return "in recovery"
	case card.Sideload:
		return "waiting for a package"
	case card.System:
		return "system running"
	}
	return "not seen"
}

// benchRow is one phone in the result of `bench`.
type benchRow struct {
	Name     string  `json:"name"`
	Serial   *string `json:"serial"`
	Model    *string `json:"model"`
	Mode     string  `json:"mode"`
	NextSlot *string `json:"next_slot"`
	Unlocked *bool   `json:"unlocked"`
	Address  string  `json:"address"`
	Denied   string  `json:"not_authorised,omitempty"`
	oneSlot  bool
}

func known(c *card.Card, name string) *string {
	if v := c.Value(name); v != "" {
		return &v
	}
	return nil
}

func knownYes(c *card.Card, name string) *bool {
	if yes, ok := c.Yes(name); ok {
		return &yes
	}
	return nil
}

func orUnknown(s *string) string {
	if s == nil {
		return "unknown"
	}
	return *s
}

func (a *app) look(ctx context.Context) (here []bench.Seen, absent []string, err error) {
	b, err := a.bench()
	if err != nil {
		return nil, nil, err
	}
	if a.on == "" {
		return b.Look(ctx)
	}
	p, err := b.Pick(ctx, a.on)
	if err != nil {
		return nil, nil, err
	}
	s, err := p.Look(ctx)
	if err != nil {
		return nil, nil, err
	}
	return []bench.Seen{*s}, nil, nil
}

func (a *app) benchRows(here []bench.Seen) []benchRow {
	rows := []benchRow{}
	for _, s := range here {
		r := benchRow{Name: s.Name, Serial: known(s.Card, card.FactSerial), Model: known(s.Card, card.FactModel), Mode: string(s.Mode),
			NextSlot: known(s.Card, card.FactNext), Unlocked: knownYes(s.Card, card.FactUnlocked), Address: s.Address}
		slots, told := s.Card.Slots()
		r.oneSlot = told && len(slots) == 0
		if s.Denied != nil {
			r.Denied = s.Denied.Fingerprint
		}
		rows = append(rows, r)
	}
	return rows
}

func (a *app) printBench(here []bench.Seen, absent []string) {
	rows := a.benchRows(here)
	a.result["phones"] = rows
	if a.json {
		return
	}
	var lines [][]string
	for _, r := range rows {
		unlocked := "unknown"
		if r.Unlocked != nil {
			unlocked = map[bool]string{true: "yes", false: "no"}[*r.Unlocked]
		}
		mode := r.Mode
		if r.Denied != "" {
			mode += ", not authorised"
		}
		next := orUnknown(r.NextSlot)
		if r.oneSlot {
			next = "no slots"
		}
		lines = append(lines, []string{r.Name, orUnknown(r.Serial), orUnknown(r.Model), mode, next, unlocked, r.Address})
	}
	if len(lines) > 0 {
		a.out.table([]string{"NAME", "SERIAL", "MODEL", "MODE", "NEXT SLOT", "UNLOCKED", "ADDRESS"}, lines)
	}
	for _, n := range absent {
		a.out.Say("note", "%s is listed and does not answer: off, restarting, in a mode without a connection, or unplugged", n)
	}
}

// status is the program without a command.
func (a *app) status(ctx context.Context) error {
	here, absent, err := a.look(ctx)
	if err != nil {
		return err
	}
	a.result["phones"] = a.benchRows(here)
	for _, s := range here {
		if s.Denied != nil {
			a.out.Say(bench.Look, "%s, system running, does not know this computer's key %s", s.Name, s.Denied.Fingerprint)
			a.next = append(a.next, "jarlid explain "+finding.NotAuthorised)
			continue
		}
		a.out.Say(bench.Look, "%s", phoneLine(s.Phone, s.Card))
		sug := plan.Suggest(s.Card, s.Model())
		if sug.Command != "" {
			a.out.Say("note", "%s", sug.Why)
			a.next = append(a.next, a.command(sug.Command, s.Name))
		}
	}
	for _, n := range absent {
		a.out.Say("note", "%s is listed and does not answer", n)
	}
	if len(here) == 0 {
		a.out.Say(bench.Look, "no phone is here")
		a.next = append(a.next, "jarlid demo", "jarlid --help")
	}
	return nil
}

func (a *app) identCommand() *cobra.Command {
	var deep bool
	var limit string
	c := &cobra.Command{Use: "ident FILE...", Short: "What each file is, what is in it, and where it would go", Args: words(1, -1, "one or more files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o := ident.Options{Deep: deep}
			most, err := parseBytes(limit)
			if err != nil {
				return err
			}
			o.Spool = spool(most)
			return a.ident(cmd.Context(), args, o)
		}}
	c.Flags().BoolVar(&deep, "deep", false, "unwrap compressed files whole, for what only their end or middle tells")
	c.Flags().StringVar(&limit, "max-size", "64GiB", "the most a compressed file may unpack to with --deep")
	return c
}

func (a *app) ident(ctx context.Context, args []string, o ident.Options) error {
	paths, err := expand(args)
	if err != nil {
		return err
	}
	var j *bench.Job
	if a.on != "" || a.card != "" { // where would it go on that phone?
		if j, err = a.open(ctx); err != nil {
			return err
		}
		defer j.Close()
	}
	files := []*ident.File{}
	for _, path := range paths {
		f, err := a.identify(path, o)
		if err != nil {
			a.out.Say(bench.Fail, "%v", err)
			continue
		}
		files = append(files, f)
		a.printFile(f)
		if j != nil {
			if err := a.placeOn(j, f); err != nil {
				return err
			}
		}
	}
	a.result["files"] = files
	if n := len(paths) - len(files); n > 0 {
		return fmt.Errorf("%d of %d files could not be read", n, len(paths))
	}
	return nil
}

// placeOn says where a file would go on the phone that is here.
func (a *app) placeOn(j *bench.Job, f *ident.File) error {
	for i := range f.GoesTo {
		d := &f.GoesTo[i]
		base := d.Partition
		if home := plan.RecoveryHome(j.Card, j.Phone.Model()); base == "recovery" && home.Partition != "" {
			base = home.Partition
		}
		if err := j.Phone.ReadPartition(j.Card, j.Link, base); err != nil {
			return err
		}
		for _, p := range plan.PlaceOf(j.Card, base, d.Slot, f) {
			d.OnPhone = append(d.OnPhone, p.Name)
			a.out.Say(bench.Word(p.Word), "on %s it goes to %s: %s", j.Phone.Name, p.Name, p.Text)
		}
	}
	return nil
}

// identify opens a file and says what it is.
func (a *app) identify(path string, o ident.Options) (*ident.File, error) {
	f, size, err := openFile(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return ident.Identify(f, size, path, o), nil
}

func (a *app) printFile(f *ident.File) {
	if a.json {
		return
	}
	name := filepath.Base(f.Path)
	switch {
	case f.Kind == ident.Unknown:
		wrapped := ""
		if len(f.Wrapped) > 0 {
			wrapped = ", wrapped as " + strings.Join(f.Wrapped, " in ")
		}
		a.out.Say(bench.Look, "%s, %s%s: I don't know this file", name, image.Size(f.Size), wrapped)
		if len(f.Head) > 0 {
			a.out.Say(bench.Look, "first bytes: %s", firstBytes(f.Head))
		} else {
			a.out.Say("care", "the file is empty")
		}
	case f.Kind == ident.Text:
		a.out.Say("care", "%s is a text, %s, and no image", name, image.Size(f.Size))
	default:
		a.out.Say(bench.Good, "%s is %s, %s", name, f.Words(), image.Size(f.Size))
	}
	for _, text := range f.Lines() {
		a.out.Say(bench.Look, "%s", text)
	}
	if f.Damage != "" {
		if f.Short {
			a.out.Say("stop", "%s: %s", finding.DownloadCutShort, f.Damage)
		} else {
			a.out.Say("care", "it is damaged: %s", f.Damage)
		}
	}
	var to []string
	for _, d := range f.GoesTo {
		to = append(to, d.String())
	}
	if len(to) > 0 {
		a.out.Say(bench.Look, "goes to %s: %s", strings.Join(to, ", "), f.GoesTo[0].Why)
	}
}

// firstBytes shows a file's head in hex and as text.
func firstBytes(b []byte) string {
	b = b[:min(len(b), 24)]
	text := strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '.'
		}
		return r
	}, string(b))
	return hex.EncodeToString(b) + "  " + text
}

// slotRow is one slot in the result of `slot`.
type slotRow struct {
	Slot       string      `json:"slot"`
	Started    *bool       `json:"started_from"`
	Next       *bool       `json:"next"`
	Bootable   *bool       `json:"bootable"`
	Successful *bool       `json:"successful"`
	Tries      *int64      `json:"tries_left"`
	Holds      []plan.Held `json:"holds"`
}

func (a *app) slotCommand() *cobra.Command {
	show := func(cmd *cobra.Command, _ []string) error { return a.slotShow(cmd.Context()) }
	c := &cobra.Command{Use: "slot", Short: "Both slots side by side: started from, starts next, good, tries left", Args: noWords, RunE: show}
	c.AddCommand(&cobra.Command{Use: "show", Short: "The same", Args: noWords, RunE: show},
		&cobra.Command{Use: "use SLOT", Short: "Choose the slot that starts next", Args: words(1, 1, "a slot: a, b or other"),
			ValidArgs: []string{"a", "b", "other"},
			RunE: func(cmd *cobra.Command, args []string) error {
				j, err := a.job(cmd.Context(), cmd, args)
				if err != nil {
					return err
				}
				defer j.Close()
				slots, err := plan.Target{Slot: args[0]}.SlotsOf(j.Card)
				if err != nil || len(slots) != 1 || slots[0] == "" {
					if err == nil {
						err = fmt.Errorf("%q does not mean one slot: a, b or other", args[0])
					}
					return usage("%v", err)
				}
				if err := j.Phone.ReadFirmware(cmd.Context(), j.Link, j.Card); err != nil {
					return err
				}
				j.SetWish(nil, &plan.Activate{Slot: slots[0]})
				if err := a.run(cmd.Context(), j); err != nil || a.dry {
					return err
				}
				a.out.Say(bench.Done, "slot %s starts next; its tries are full again, and it counts as not yet proven", slots[0])
				a.result["slot_next"] = slots[0]
				a.suggest(j)
				return nil
			}}, a.slotCopy())
	return c
}

func (a *app) slotShow(ctx context.Context) error {
	j, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer j.Close()
	if err := j.Phone.ReadFirmware(ctx, j.Link, j.Card); err != nil {
		return err
	}
	c := j.Card
	slots, told := c.Slots()
	rows := []slotRow{}
	var lines [][]string
	for _, s := range slots {
		r := slotRow{Slot: s, Bootable: knownYes(c, card.FactBootable+s), Successful: knownYes(c, card.FactGood+s)}
		is := func(fact string) *bool {
			if v := c.Value(fact); v != "" {
				same := v == s
				return &same
			}
			return nil
		}
		r.Started, r.Next = is(card.FactStarted), is(card.FactNext)
		if n, ok := c.Number(card.FactTries + s); ok {
			r.Tries = &n
		}
		r.Holds = orEmpty(plan.Holds(c, j.Phone.Model(), s))
		rows = append(rows, r)
		tries := "unknown"
		if r.Tries != nil {
			tries = fmt.Sprint(*r.Tries)
		}
		lines = append(lines, []string{s, yesWord(r.Started), yesWord(r.Next), yesWord(r.Bootable), yesWord(r.Successful), tries, heldWords(r.Holds)})
	}
	a.result["slots"] = rows
	a.result["next_install"] = nil
	if to := plan.NextInstall(c); to != "" && len(slots) > 1 {
		a.result["next_install"] = to
	}
	switch {
	case !told:
		a.out.Say("care", "this phone does not say whether it has slots")
	case len(slots) == 0:
		a.out.Say(bench.Good, "this phone has no slots: one of everything")
	case !a.json:
		a.out.table([]string{"SLOT", "STARTED FROM", "STARTS NEXT", "BOOTABLE", "PROVEN", "TRIES LEFT", "HOLDS"}, lines)
		a.sayHeld(rows)
		if c.Mode() == card.Bootloader {
			a.out.Say("note", "in the bootloader nothing has been started from a slot yet")
		}
		started, next := c.Value(card.FactStarted), c.Value(card.FactNext)
		if started != "" && next != "" && started != next {
			a.out.Say("note", "started from and starts next differ: something was installed to slot %s or it was chosen; a restart goes there", next)
		}
	}
	return nil
}

// heldWords names a slot's system, the most that fits a table.
func heldWords(held []plan.Held) string {
	for _, h := range held {
		if h.What == "system" {
			return plan.ShortBuild(h.Value)
		}
	}
	return "unknown"
}

// sayHeld says what else is on each slot, and how that is known.
func (a *app) sayHeld(rows []slotRow) {
	for _, r := range rows {
		done := map[string]bool{}
		for _, h := range r.Holds {
			key := h.Value + string(h.Evidence)
			if done[key] {
				continue
			}
			done[key] = true
			var what []string
			for _, o := range r.Holds {
				if o.Value == h.Value && o.Evidence == h.Evidence {
					what = append(what, o.What)
				}
			}
			a.out.Say(bench.Look, "slot %s, %s: %s (%s)", r.Slot, strings.Join(what, ", "), h.Value, evidenceWords(h.Evidence))
		}
	}
	if to, ok := a.result["next_install"].(string); ok {
		a.out.Say(bench.Look, "the next A/B package is installed to slot %s", to)
	}
}

// evidenceWords says how a fact is known.
func evidenceWords(e card.Evidence) string {
	return map[card.Evidence]string{card.Read: "read now", card.Saved: "from the saved card", card.Journal: "Jar Lid's journal", card.Model: "the model file",
		card.Said: "you said so"}[e]
}

func yesWord(b *bool) string {
	if b == nil {
		return "unknown"
	}
	return map[bool]string{true: "yes", false: "no"}[*b]
}

// verdictWords are what a text on a screen asks for, by the word of its line.
var verdictWords = map[screen.Verdict]struct {
	word bench.Word
	text string
}{screen.Harmless: {bench.Good, "harmless"}, screen.Wait: {bench.Wait, "wait"}, screen.Act: {bench.Need, "something is to be done"}}

// explainText says what words on a phone's screen mean.
func (a *app) explainText(text string) error {
	list := screen.Find(text)
	a.result["meanings"] = orEmpty(list)
	if len(list) == 0 {
		a.out.Say(bench.Look, "findings: %s", strings.Join(finding.Names(), ", "))
		return usage("nothing is known about %q: there is no finding called so, and the words lead to no text on a screen; type more of the words you see", text)
	}
	if a.json {
		return nil
	}
	for i, m := range list {
		if i > 0 {
			a.out.Say("note", "or, if that is not it:")
		}
		v := verdictWords[m.Verdict]
		a.out.Say(bench.Look, "%s: %s", m.Name, m.Text)
		a.out.Say(v.word, "%s: %s", v.text, m.Do)
		if m.Finding != "" {
			a.out.Say("note", "it belongs to the finding %s", m.Finding)
		}
	}
	if list[0].Command != "" {
		a.next = append(a.next, list[0].Command)
	} else if list[0].Finding != "" {
		a.next = append(a.next, "jarlid explain "+list[0].Finding)
	}
	return nil
}

func (a *app) explainCommand() *cobra.Command {
	return &cobra.Command{Use: "explain NAME|\"TEXT\"", Short: "A finding at length, or what a text on the phone's screen means and whether it matters",
		Args: words(1, -1, "the name of a finding, or the words seen on the screen"), ValidArgs: append(finding.Names(), fit.Names()...),
		RunE: func(_ *cobra.Command, args []string) error {
			t, ok := finding.Explain(args[0])
			weighed := false
			if !ok {
				t, weighed = fit.Explain(args[0])
			}
			if !ok && !weighed || len(args) > 1 {
				return a.explainText(strings.Join(args, " "))
			}
			a.result["finding"] = t
			if a.json {
				return nil
			}
			a.out.Say(bench.Look, "%s: %s", t.Name, t.Meaning)
			a.out.Say("note", "%s", t.Why)
			a.out.Say(bench.Need, "%s", t.Remedy)
			if weighed {
				a.out.Say("note", "it is one of the things jarlid fit weighs")
				return nil
			}
			if t.Final {
				a.out.Say("stop", "this one cannot be accepted")
			} else {
				a.out.Say("note", "where it stops a job, --accept %s lifts it; where it asks, --yes answers", t.Name)
			}
			return nil
		}}
}
