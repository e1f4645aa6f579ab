package cli

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/demo"
	"jarlid/internal/files"
	"jarlid/internal/standin"
	"jarlid/internal/standin/device"
	"jarlid/internal/task"
)

// completionCommand prints what a shell completes commands with.
func (a *app) completionCommand() *cobra.Command {
	shells := []string{"bash", "zsh", "fish", "powershell"}
	return &cobra.Command{Use: "completion SHELL", Short: "Print what completes commands in bash, zsh, " +
		"fish or PowerShell",
		Args:      words(1, 1, "which shell: "+strings.Join(shells, ", ")),
		ValidArgs: shells,
		Long: "Prints a script for a shell that completes commands, options and their values: phones, " +
			"partitions, slots, areas, jobs and the rest are asked for when they are wanted.\n\n" +
			"bash: put it where your system keeps completions, or into your .bashrc: source <(jarlid " +
			"completion bash)\n\n" +
			"zsh: as _jarlid into a folder of fpath\n\nfish: jarlid completion fish > " +
			"~/.config/fish/completions/jarlid.fish\n\nPowerShell: jarlid completion powershell | " +
			"Out-String | Invoke-Expression, in your profile",
		RunE: func(c *cobra.Command, args []string) error {
			root, out := c.Root(), a.Stdout
			a.helped = true
			switch args[0] {
			case "bash":
				return root.GenBashCompletionV2(out, true)
			case "zsh":
				return root.GenZshCompletion(out)
			case "fish":
				return root.GenFishCompletion(out, true)
			case "powershell":
				return root.GenPowerShellCompletionWithDesc(out)
			}
			return task.Usage("there is no completion for %q%s", args[0], spell.NoneOf(args[0], shells))
		}}
}

// values give what a word can be now. args are the words before it.
type values func(ctx context.Context, args []string) []string

// completeWords has the words behind each command completed with what there is now.
func (a *app) completeWords(root *cobra.Command) {
	first := func(one, rest values) values {
		return func(ctx context.Context, args []string) []string {
			if len(args) == 0 {
				return one(ctx, args)
			}
			return rest(ctx, args)
		}
	}
	none := fixed()
	parts := func(ctx context.Context, _ []string) []string { return a.partitionNames(ctx, "") }
	jobs := func(context.Context, []string) []string { return a.jobNumbers() }
	switches := first(fixed(string(task.FlagHashtree), string(task.FlagVerification)), none)
	for path, v := range map[string]values{
		"bench name": first(func(context.Context, []string) []string { return a.phoneNames() }, none),
		"slot use":   first(fixed("a", "b", "other"), none),
		"slot copy":  parts,
		"wipe": func(ctx context.Context, _ []string) []string {
			return append(slices.Clone(plan.Areas), a.partitionNames(ctx, "part:")...)
		},
		"backup take": func(ctx context.Context, _ []string) []string {
			return append(a.partitionNames(ctx, ""), "storage")
		},
		"vbmeta loosen":  switches,
		"vbmeta tighten": switches,
		"jobs show":      first(jobs, none),
		"jobs resume":    first(jobs, none),
		"standin run":    first(func(context.Context, []string) []string { return a.modelNames() }, none),
		"standin press":  first(a.standinNames, a.keyNames),
		"standin fault":  first(a.standinNames, fixed(device.FaultNames()...)),
	} {
		c, _, err := root.Find(strings.Fields(path))
		if err != nil || pathOf(c) != path {
			panic("there is no command " + path) // the program contradicts itself
		}
		c.ValidArgs = nil
		c.ValidArgsFunction = func(c *cobra.Command, args []string, _ string) ([]string,
			cobra.ShellCompDirective) {
			return v(c.Context(), args), cobra.ShellCompDirectiveNoFileComp
		}
	}
	a.completeOptions(root)
}

// fixed are values that are always the same.
func fixed(list ...string) values { return func(context.Context, []string) []string { return list } }

// completeOptions completes the values of options, and what a backup holds.
func (a *app) completeOptions(root *cobra.Command) {
	restore, _, _ := root.Find([]string{"backup", "restore"})
	restore.ValidArgsFunction = func(c *cobra.Command, _ []string, _ string) ([]string,
		cobra.ShellCompDirective) {
		return backupItems(c.Flags().Lookup("output").Value.String()), cobra.ShellCompDirectiveNoFileComp
	}
	option := func(path, name string, v values) {
		c, _, err := root.Find(strings.Fields(path))
		if err != nil {
			panic(err)
		}
		a.complete(c, name, func(c *cobra.Command, args []string, _ string) ([]string,
			cobra.ShellCompDirective) {
			return v(c.Context(), args), cobra.ShellCompDirectiveNoFileComp
		})
	}
	models := func(context.Context, []string) []string { return a.modelNames() }
	option("demo", "story", func(context.Context, []string) (names []string) {
		for _, s := range demo.Stories() {
			names = append(names, s.Name)
		}
		return names
	})
	option("demo", "for", models)
	option("sheet draft", "model", models)
	option("sheet check", "models", models)
	option("standin run", "mode", fixed(modeNames()...))
	option("slot copy", "from", fixed("a", "b"))
	option("vbmeta loosen", "slot", fixed("a", "b"))
	option("vbmeta tighten", "slot", fixed("a", "b"))
	for _, path := range []string{"flash", "recovery install"} {
		option(path, "into", func(ctx context.Context, _ []string) []string {
			names := a.partitionNames(ctx, "")
			for _, slot := range place.SlotWords {
				names = append(names, "@"+slot)
			}
			return names
		})
	}
}

// partitionNames are the partitions of the phone that is here, or is named, each with a prefix;
// with slots also those that are meant on both.
func (a *app) partitionNames(ctx context.Context, prefix string) []string {
	e, err := a.taskEnv(nil)
	if err != nil {
		return nil
	}
	h, err := task.Look(ctx, e)
	if err != nil {
		return nil
	}
	var names []string
	for _, p := range h.Phones {
		if a.on != "" && p.Name != a.on && (p.Serial == nil || *p.Serial != a.on) ||
			a.on == "" && len(h.Phones) > 1 {
			continue
		}
		for _, row := range p.Card.Partitions() {
			names = append(names, prefix+row.Name)
			if at := row.Partition(); at.Slot == "a" {
				names = append(names, prefix+at.Base+"@both")
			}
		}
	}
	return names
}

// jobNumbers are the jobs of this bench, each with what it was.
func (a *app) jobNumbers() (list []string) {
	e, err := a.taskEnv(nil)
	if err != nil {
		return nil
	}
	l, err := task.ListJobs(e)
	if err != nil {
		return nil
	}
	for _, j := range l.Jobs {
		if j.Number > 0 {
			list = append(list, cobra.CompletionWithDesc(strconv.Itoa(j.Number), j.Short()))
		}
	}
	return list
}

func (a *app) modelNames() (names []string) {
	if e, err := a.taskEnv(nil); err == nil {
		for _, m := range e.Bench.Models {
			names = append(names, m.Name)
		}
	}
	return names
}

// standinNames are the stand-ins that run.
func (a *app) standinNames(context.Context, []string) []string {
	return namesOf(a.entries(), running)
}

// keyNames are what can be pressed at a stand-in as it is now.
func (a *app) keyNames(ctx context.Context, args []string) []string {
	control, err := a.control(args[0])
	if err != nil {
		return nil
	}
	reply, err := standin.Press(ctx, a.Net, control, nil)
	if err != nil {
		return nil
	}
	return reply.Choices
}

// backupItems are the items of a backup.
func backupItems(dir string) (names []string) {
	m, err := files.ReadBackup(files.Unquote(dir))
	if err != nil {
		return nil
	}
	for _, i := range m.Items {
		names = append(names, i.Name)
	}
	return names
}
