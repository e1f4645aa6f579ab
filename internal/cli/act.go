package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
)

func (a *app) recoveryCommand() *cobra.Command {
	c := &cobra.Command{Use: "recovery", Short: "Start a recovery without writing it, or install it where this phone keeps it", Args: noWords,
		RunE: func(*cobra.Command, []string) error {
			return usage("recovery wants a command: try FILE, set FILE or hold")
		}}
	var into, base string
	previous := false
	set := &cobra.Command{Use: "set FILE", Short: "Write a recovery, on phones with slots to both", Args: words(0, 1, "one file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case previous && len(args) == 0:
				return a.recoveryPrevious(cmd)
			case previous || len(args) == 0:
				return usage("recovery set wants one file, or --previous alone")
			}
			return a.recoverySet(cmd, args, into, base)
		}}
	set.Flags().BoolVar(&previous, "previous", false, "write back what was there before the last recovery was set, where a job could keep it")
	set.Flags().StringVar(&base, "boot", "", "where the recovery lives in a boot or vendor_boot image: put it into this one (or the one in this ROM package or set), not into the phone's own")
	set.Flags().StringVar(&into, "into", "", "another destination: PARTITION@SLOT, slot a, b, both, current or other")
	c.AddCommand(set, &cobra.Command{Use: "try FILE", Short: "Start a recovery without writing it; it is gone after the next restart", Args: words(1, 1, "one file"),
		RunE: a.recoveryTry}, a.recoveryHold())
	return c
}

func (a *app) recoverySet(cmd *cobra.Command, args []string, into, image string) error {
	target, err := plan.ParseTarget(into)
	if err != nil {
		return usage("%v", err)
	}
	j, f, done, err := a.withRecovery(cmd, args)
	if err != nil {
		return err
	}
	defer done()
	home := plan.RecoveryHome(j.Card, j.Phone.Model())
	base := target.Partition
	if base == "" && home.Partition != "" {
		base = home.Partition
		a.out.Say(bench.Look, "the recovery lives in %s: %s", home.Words(), home.Why)
	}
	a.result["home"] = home
	if err := j.LearnDevices(cmd.Context()); err != nil {
		return err
	}
	for _, p := range append([]string{base}, j.Phone.Model().NeededBefore()...) {
		if err := j.Phone.ReadPartition(j.Card, j.Link, p); err != nil {
			return err
		}
	}
	steps, extra, err := plan.RecoverySet(f, target, j.Card, j.Phone.Model())
	if err != nil {
		return usage("%v", err)
	}
	if image != "" {
		m, err := a.gather(cmd.Context(), []string{unquote(image)}, false)
		if err != nil {
			return err
		}
		defer m.Close()
		if image, err = imageFor(m, home.Partition, image); err != nil {
			return err
		}
	}
	switch {
	case plan.ByTrying(f, home, target, j.Card, image != ""):
		a.out.Say(bench.Look, "the way here: start it without writing it, read each slot's %s image, put the recovery's ramdisk into it, write it, read it back", home.Partition)
		steps = plan.NewRebuild(f, home, j.Card, j.Phone.Model(), steps)
	case plan.Grafts(f, home, target, j.Card, image != ""):
		var lost []finding.Finding
		steps, lost, err = a.graft(cmd.Context(), j, f, home, image, steps)
		extra = append(extra, lost...)
	case image != "":
		err = usage("--boot goes with phones whose recovery lives in a boot or vendor_boot image; here it has %s", home.Words())
	case !a.dry:
		err = j.KeepPrevious(cmd.Context(), steps)
	}
	if err != nil {
		return err
	}
	plan.WriteHere(j.Card, steps)
	j.SetWish(extra, steps...)
	if err := a.runWrites(cmd.Context(), j); err != nil || a.dry || len(j.Writes) > 0 {
		return err
	}
	return usage("no slot of this phone holds an image the recovery could go into; write the file whole: --into %s", home.Partition)
}

// runWrites runs a job that writes images and tells what became of them.
func (a *app) runWrites(ctx context.Context, j *bench.Job) error {
	err := a.run(ctx, j)
	a.result["writes"] = orEmpty(j.Writes)
	if err != nil || a.dry {
		return err
	}
	if len(j.Writes) > 0 {
		a.sayWrites(j)
	}
	a.suggest(j)
	return nil
}

// imageFor finds the image of a partition in what was named: that image itself, or a
// ROM package or firmware set it is in.
func imageFor(m *bench.Material, partition, named string) (string, error) {
	if len(m.Images) == 1 && m.Set == "" {
		return m.Images[0].File.Path, nil
	}
	if path, ok := byPartition(m)[partition]; ok {
		return path, nil
	}
	return "", usage("%s holds no image of %s", named, partition)
}

// recoveryPrevious writes back what earlier jobs kept.
func (a *app) recoveryPrevious(cmd *cobra.Command) error {
	ctx := cmd.Context()
	j, err := a.job(ctx, cmd, nil)
	if err != nil {
		return err
	}
	defer j.Close()
	home := plan.RecoveryHome(j.Card, j.Phone.Model())
	kept, err := j.Previous(home.Partition)
	if err != nil {
		return err
	}
	if len(kept) == 0 {
		return usage("no job kept what was in %s before: it can be read only in a recovery with a root shell", home.Words())
	}
	var steps []plan.Step
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		f, err := a.identify(kept[name], ident.Options{})
		if err != nil {
			return err
		}
		base, slot := name, ""
		if s, ok := strings.CutPrefix(name, home.Partition+"_"); ok {
			base, slot = home.Partition, s
		}
		if err := j.Phone.ReadPartition(j.Card, j.Link, base); err != nil {
			return err
		}
		a.out.Say(bench.Look, "%s held %s before", name, f.Words())
		steps = append(steps, &plan.Write{File: f, Label: "what was there before", Partition: base, Slot: slot, Forced: true, Known: true, Home: home})
		j.Files = append(j.Files, bench.FileRecord{Path: f.Path, Size: f.Size})
	}
	a.result["home"] = home
	plan.WriteHere(j.Card, steps)
	j.SetWish(nil, steps...)
	return a.runWrites(ctx, j)
}

// graft puts the recovery's ramdisk into each slot's own image and has the steps write
// those.
func (a *app) graft(ctx context.Context, j *bench.Job, f *ident.File, home plan.Home, image string, steps []plan.Step) (kept []plan.Step, found []finding.Finding, err error) {
	dir, err := a.scratch()
	if err != nil {
		return nil, nil, err
	}
	var writes []*plan.Write
	for _, s := range steps {
		if w, ok := s.(*plan.Write); ok {
			writes = append(writes, w)
		}
	}
	made, found, err := j.GraftAll(ctx, home, writes, f.Path, image, dir)
	if err != nil {
		if old, _ := j.Previous(home.Partition); len(old) > 0 { // what is there may be half-written by a job that broke off
			a.next = append(a.next, a.command("jarlid recovery set --previous", j.Phone.Name))
		}
		return nil, nil, err
	}
	for _, w := range made {
		kept = append(kept, w)
	}
	if len(kept) == 0 {
		return nil, nil, usage("no slot of this phone holds an image the recovery could go into")
	}
	return kept, found, nil
}

// withRecovery opens the phone and makes the one file ready.
func (a *app) withRecovery(cmd *cobra.Command, args []string) (j *bench.Job, f *ident.File, done func(), err error) {
	paths, err := expand(args)
	if err != nil {
		return nil, nil, nil, err
	}
	if len(paths) != 1 {
		return nil, nil, nil, usage("%s wants one file, %s means %d", cmd.CommandPath(), args[0], len(paths))
	}
	m, err := a.gather(cmd.Context(), paths, true)
	if err != nil {
		return nil, nil, nil, err
	}
	if j, err = a.job(cmd.Context(), cmd, args); err != nil {
		m.Close()
		return nil, nil, nil, err
	}
	done = func() { j.Close(); m.Close() }
	f = m.Images[0].File
	a.out.Say(bench.Look, "%s is %s, %s", filepath.Base(paths[0]), f.Words(), image.Size(f.Content()))
	j.Files = []bench.FileRecord{{Path: paths[0], Size: f.Size}}
	return j, f, done, nil
}

// recoveryTry starts a recovery without writing it.
func (a *app) recoveryTry(cmd *cobra.Command, args []string) error {
	j, f, done, err := a.withRecovery(cmd, args)
	if err != nil {
		return err
	}
	defer done()
	j.SetWish(nil, plan.NewTry(f, j.Card, j.Phone.Model()))
	if err := a.run(cmd.Context(), j); err != nil || a.dry {
		return err
	}
	a.result["mode"], a.result["temporary"] = string(card.Recovery), true
	if j.Link == nil {
		a.out.Say("care", "the phone took it and can't be seen from here, as recoveries without a shell can't: look at its screen")
		a.out.Say(bench.Done, "the recovery was sent and started; whether it runs, nobody can tell")
	} else {
		a.out.Say(bench.Done, "%s is running, and written nowhere: it is gone after the next restart", orUnknown(known(j.Card, card.FactRecovery)))
	}
	a.next = append(a.next, a.command("jarlid recovery set "+args[0], j.Phone.Name))
	return nil
}

// orEmpty keeps an empty list from becoming null in JSON.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

var confirmWords = map[string]string{bench.ReadBack: "read back, it matches", bench.PhoneWord: "taken on the phone's word: it can't be read back there",
	bench.NotKnown: "nobody can tell yet"}

func (a *app) sayWrites(j *bench.Job) {
	var where []string
	how, sums := map[string]bool{}, map[string]bool{}
	for _, w := range j.Writes {
		where = append(where, plan.Suffixed(w.Partition, w.Slot))
		how[confirmWords[w.Confirmed]], sums[w.SHA256] = true, true
	}
	list := strings.Join(where, " and ")
	if len(where) > 2 {
		list = strings.Join(where[:len(where)-1], ", ") + " and " + where[len(where)-1]
	}
	a.out.Say(bench.Done, "%s written, %s", list, strings.Join(slices.Sorted(maps.Keys(how)), "; "))
	if len(sums) == 1 {
		a.out.Say(bench.Look, "SHA-256 of what was sent: %s", j.Writes[0].SHA256)
	}
}

func (a *app) sideloadCommand() *cobra.Command {
	var then, recovery string
	c := &cobra.Command{Use: "sideload PACKAGE...", Short: "Send packages to the recovery, in order, and find out what became of each", Args: words(1, -1, "one or more packages"),
		Long: "Sends packages one after the other: the ROM first, then the add-ons as given. On phones with slots the phone restarts\n" +
			"into recovery between the two, so that add-ons land on the new slot.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.sideload(cmd, args, then, recovery) }}
	c.Flags().StringVar(&recovery, "recovery", "", "set this recovery again behind the ROM, before any add-on")
	c.Flags().StringVar(&then, "then", "recovery", "after a ROM: recovery (restart into it, on the slot that was installed) or stay")
	c.RegisterFlagCompletionFunc("then", cobra.FixedCompletions([]string{"recovery", "stay"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) sideload(cmd *cobra.Command, args []string, then, recovery string) error {
	ctx := cmd.Context()
	if then != "recovery" && then != "stay" {
		return usage("--then is recovery or stay, not %q", then)
	}
	paths, err := expand(args)
	if err != nil {
		return err
	}
	var given []*ident.File
	for _, p := range paths {
		f, err := a.identify(p, ident.Options{})
		if err != nil {
			return err
		}
		given = append(given, f)
	}
	j, err := a.jobByHand(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	for _, f := range given {
		a.out.Say(bench.Look, "%s is %s, %s", filepath.Base(f.Path), f.Words(), image.Size(f.Size))
		j.Files = append(j.Files, bench.FileRecord{Path: f.Path, Size: f.Size})
	}
	for _, read := range []func(context.Context, *bench.Link, *card.Card) error{j.Phone.ReadFirmware, j.Phone.ReadTrusted, j.Phone.ReadRoom} {
		if err := read(ctx, j.Link, j.Card); err != nil {
			return err
		}
	}
	files, why, found := plan.Packages(given)
	var again []plan.Step
	if recovery != "" {
		if again, err = a.again(ctx, j, recovery, files); err != nil {
			return err
		}
	}
	steps := plan.Install(files, then == "recovery", again...)
	if len(files) > 1 {
		a.sayOrder(files, why, steps)
	}
	a.sayRange(files[0])
	from := j.Card.Value(card.FactStarted)
	j.SetWish(found, steps...)
	err = a.run(ctx, j)
	a.result["packages"] = orEmpty(j.Packages)
	a.result["slot_next"] = known(j.Card, card.FactNext)
	for i, p := range j.Packages {
		a.out.Say(bench.Look, "%s: the phone read %s of %s, %s in all, in %d passes", filepath.Base(p.Path), image.Size(p.Distinct), image.Size(files[i].Size), image.Size(p.Served), p.Passes)
	}
	if err != nil || a.dry {
		if last := len(j.Packages) - 1; err != nil && !errors.Is(err, bench.ErrStopped) && last >= 0 && j.Packages[last].Outcome != bench.Installed {
			a.sayRest(files, len(j.Packages))
			a.next = append(a.next, a.command("jarlid slot", j.Phone.Name))
		}
		return err
	}
	a.sayInstalled(j, files, from, then == "recovery")
	a.suggest(j)
	return nil
}

// again makes the steps that set a recovery behind a ROM.
func (a *app) again(ctx context.Context, j *bench.Job, path string, files []*ident.File) ([]plan.Step, error) {
	rom := slices.IndexFunc(files, (*ident.File).IsROM)
	if rom < 0 {
		return nil, usage("--recovery sets a recovery behind a ROM, and none of the packages is one")
	}
	m, err := a.gather(ctx, []string{unquote(path)}, true)
	if err != nil {
		return nil, err
	}
	a.later = append(a.later, m.Close)
	f := m.Images[0].File
	a.out.Say(bench.Look, "%s is %s, set again behind the ROM", filepath.Base(path), f.Words())
	steps, found, err := plan.RecoverySet(f, plan.Target{}, j.Card, j.Phone.Model())
	if err != nil {
		return nil, usage("%v", err)
	}
	if home := plan.RecoveryHome(j.Card, j.Phone.Model()); home.Form == "ramdisk" {
		if steps, found, err = a.againInto(ctx, j, f, home, files[rom], steps); err != nil {
			return nil, err
		}
	}
	j.Extra = append(j.Extra, found...)
	j.Files = append(j.Files, bench.FileRecord{Path: path, Size: f.Size})
	return steps, nil
}

// againInto puts the recovery into the boot image the ROM brings, for the slot it is
// installed to: with another kernel its system would not start.
func (a *app) againInto(ctx context.Context, j *bench.Job, f *ident.File, home plan.Home, rom *ident.File, steps []plan.Step) ([]plan.Step, []finding.Finding, error) {
	inside, err := a.gather(ctx, []string{rom.Path}, false)
	if err != nil {
		return nil, nil, err
	}
	a.later = append(a.later, inside.Close)
	image, err := imageFor(inside, home.Partition, rom.Path)
	if err != nil {
		return nil, nil, err
	}
	if to := plan.NextInstall(j.Card); to != "" {
		steps = slices.DeleteFunc(steps, func(s plan.Step) bool { w, ok := s.(*plan.Write); return ok && w.Slot != to })
	}
	return a.graft(ctx, j, f, home, image, steps)
}

// scratch makes a temporary folder that is gone when the program ends.
func (a *app) scratch() (string, error) {
	dir, err := os.MkdirTemp("", "jarlid-")
	if err == nil {
		a.later = append(a.later, func() { os.RemoveAll(dir) })
	}
	return dir, err
}

// sayOrder shows in which order packages are sent, and why.
func (a *app) sayOrder(files []*ident.File, why string, steps []plan.Step) {
	a.out.Say(bench.Look, "the order: %s", why)
	n := 0
	for _, s := range steps {
		switch s.(type) {
		case *plan.Sideload:
			n++
			a.out.Say(bench.Look, "%d. %s", n, filepath.Base(files[n-1].Path))
		case *plan.WipeArea:
			a.out.Say("note", "then the caches of the old system are wiped")
		case *plan.Restart:
			if s.(*plan.Restart).To == card.Recovery && n < len(files) && files[n-1].Kind == ident.OTAAB {
				a.out.Say("note", "then a restart into recovery: the ROM goes to the other slot, and what comes next has to land there too")
			}
		}
	}
}

// sayRest names what was not sent after a package failed.
func (a *app) sayRest(files []*ident.File, sent int) {
	var rest []string
	for _, f := range files[min(sent, len(files)):] {
		rest = append(rest, filepath.Base(f.Path))
	}
	if len(rest) > 0 {
		a.out.Say("note", "not sent: %s", strings.Join(rest, ", "))
	}
}

func (a *app) sayInstalled(j *bench.Job, files []*ident.File, from string, then bool) {
	ab := slices.ContainsFunc(files, func(f *ident.File) bool { return f.Kind == ident.OTAAB })
	switch {
	case ab && (then || len(files) > 1) && j.Link == nil:
		a.out.Say("care", "the phone took the restart into recovery and can't be seen from here: the recovery on that slot has no shell")
	case ab && (then || len(files) > 1):
		j.ConfirmSlot(from)
	}
	var names []string
	for _, f := range files {
		names = append(names, filepath.Base(f.Path))
	}
	verb := "is"
	if len(names) > 1 {
		verb = "are"
	}
	if ab {
		a.out.Say(bench.Done, "%s %s installed; slot %s starts next", strings.Join(names, ", "), verb, orUnknown(known(j.Card, card.FactNext)))
		return
	}
	where := ""
	if slot := j.Card.Value(card.FactStarted); slot != "" {
		where = ", on slot " + slot
	}
	a.out.Say(bench.Done, "%s %s installed%s", strings.Join(names, ", "), verb, where)
}

// sayRange tells beforehand what people panic about.
func (a *app) sayRange(f *ident.File) {
	if f.IsPackage() {
		a.out.Say("note", "the phone reads the package more than once and may stop early; there is no honest percentage, so none is shown")
	}
}

func (a *app) goCommand() *cobra.Command {
	var wait time.Duration
	var names []string
	for _, m := range card.Modes {
		names = append(names, string(m))
	}
	c := &cobra.Command{Use: "go MODE", Short: "Bring the phone into another mode", Args: words(1, 1, "a mode: "+strings.Join(names, ", ")), ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if !slices.Contains(names, args[0]) {
				return usage("%q is not a mode; there is: %s", args[0], strings.Join(names, ", "))
			}
			j, err := a.jobByHand(ctx, cmd, args)
			if err != nil {
				return err
			}
			defer j.Close()
			j.WaitSystem = wait
			j.SetWish(nil, &plan.Restart{To: card.Mode(args[0])})
			if err := a.run(ctx, j); err != nil || a.dry {
				return err
			}
			a.sayArrived(j, card.Mode(args[0]))
			return nil
		}}
	c.Flags().DurationVar(&wait, "wait", time.Minute, "how long to watch a starting system")
	return c
}

// jobByHand opens the phone that is meant, also one that does not answer and is
// brought where it has to be by a person.
func (a *app) jobByHand(ctx context.Context, cmd *cobra.Command, args []string) (*bench.Job, error) {
	j, err := a.job(ctx, cmd, args)
	var away *bench.NotHereError
	if errors.As(err, &away) && a.card == "" {
		return a.unseen(cmd, args, err)
	}
	return j, err
}

// unseen opens a phone that does not answer, for a person to bring it into a
// mode; err is what is said when it can't be told which phone is meant.
func (a *app) unseen(cmd *cobra.Command, args []string, err error) (*bench.Job, error) {
	b, berr := a.bench()
	if berr != nil {
		return nil, berr
	}
	j, berr := b.Unseen(a.on, a.out)
	if berr != nil || j == nil {
		return nil, errors.Join(berr, err)
	}
	a.out.Say(bench.Look, "%s does not answer: it is off, in a mode without a connection, or starting; it is brought there by hand", j.Phone.Name)
	return j, a.wire(cmd, args, j)
}

func (a *app) sayArrived(j *bench.Job, to card.Mode) {
	c := j.Card
	a.result["mode"] = string(to)
	a.result["slot"] = known(c, card.FactStarted)
	if to == card.System && j.System == nil {
		a.result["seen"] = false
		a.out.Say("care", "the phone took the restart, and its system can't be seen from here: debugging is off there, or it is still starting")
		a.out.Say(bench.Need, "look at its screen; switch debugging on to have it read, or bring it into the bootloader, where jarlid slot tells the slot")
		a.out.Say(bench.Done, "restarted; which system came up, nobody can tell yet")
		a.next = append(a.next, a.command("jarlid bench", j.Phone.Name))
		return
	}
	a.result["seen"] = true
	switch to {
	case card.System:
		a.result["version"], a.result["build"] = known(c, card.FactVersion), known(c, card.FactBuild)
		from := ""
		if slots, told := c.Slots(); !told || len(slots) > 0 {
			from = " from slot " + orUnknown(known(c, card.FactStarted))
		}
		a.out.Say(bench.Done, "%s, build %s, is running%s", orUnknown(known(c, card.FactVersion)), orUnknown(known(c, card.FactBuild)), from)
	case card.Recovery:
		if j.Link == nil {
			a.result["seen"] = false
			a.out.Say("care", "the phone took the restart; its recovery can't be seen from here, as those without a shell can't")
			a.out.Say(bench.Need, "look at its screen to see whether a recovery is there")
			a.out.Say(bench.Done, "restarted; which recovery came up, nobody can tell")
			return
		}
		j.ConfirmSlot("")
		a.out.Say(bench.Done, "%s is running", orUnknown(known(c, card.FactRecovery)))
	default:
		a.out.Say(bench.Done, "%s", fmt.Sprintf("the phone is in %s", to))
	}
	a.suggest(j)
}
