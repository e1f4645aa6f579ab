package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/describe"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) modelCommand() *cobra.Command {
	c := &cobra.Command{Use: "model", Short: "Draft, check and add model files: what is known of a kind of " +
		"phone",
		Args: noWords, RunE: wants("draft, check, show or add")}
	check := &cobra.Command{Use: "check FILE", Short: "Compare a model file with the phones and jobs of " +
		"this computer",
		Args: words(1, 1, "which model file, or the name of a model"),
		Long: "Says of each line whether a phone that is here or a job confirms or contradicts it, and " +
			"which lines are\n" +
			"missing. Ends with 6 where a line is contradicted.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.modelCheck(cmd, args[0]) }}
	show := &cobra.Command{Use: "show NAME", Short: "Show what a model file states",
		Args: words(1, 1, "which model, or which model file"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.modelShow(cmd, args[0]) }}
	over := false
	add := &cobra.Command{Use: "add FILE|FOLDER", Short: "Take a colleague's model files into this home",
		Args: words(1, 1, "which model file, or which folder of model files"),
		Long: "Reads every file before the first is kept. A model file describes a phone; it can make Jar " +
			"Lid send no\n" +
			"command that is not in its own tables.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.modelAdd(cmd, args[0], over) }}
	add.Flags().BoolVar(&over, "over", false, "replace a model file of the same name")
	c.AddCommand(a.draftCommand("draft", "Write a model file from what phones, cards, sets and jobs say",
		false),
		check, show, add)
	return c
}

// draftCommand is model draft or, with the part that a phone made of software needs, standin draft.
func (a *app) draftCommand(name, short string, practise bool) *cobra.Command {
	t := task.DraftModel{Practise: practise}
	c := &cobra.Command{Use: name + " [PHONE|CARD|SET]...", Short: short,
		Args: words(0, -1, "phones, saved cards (.json), firmware sets"),
		Long: "Takes together what each phone reports and did in earlier jobs, what saved cards (.json) " +
			"have, and what\n" +
			"firmware sets state. Each line has its source; where two sources contradict each other, the " +
			"draft asks.",
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Words = args
			return a.modelDraft(cmd, &t)
		}}
	c.Flags().StringVarP(&t.Output, "output", "o", "", "the file to write (default: the model's name here)")
	c.Flags().IntVar(&t.Slots, "slots", 0, "how many slots the phone of a set has, 1 or 2: a set does not "+
		"say it")
	c.Flags().BoolVar(&t.Over, "over", false, "write over a file that is there")
	return c
}

func (a *app) modelDraft(cmd *cobra.Command, t *task.DraftModel) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	r, err := t.Run(cmd.Context(), e)
	if err != nil {
		return err
	}
	a.result = r
	var rows [][]string
	for _, s := range describe.Rows(r.Statements) {
		rows = append(rows, []string{s.Key, s.Value, s.From + ": " + s.Why})
	}
	a.out.Table([]string{"LINE", "VALUE", "SOURCE"}, rows)
	for _, q := range r.Questions {
		a.say("", say.Open, "%s", q)
	}
	if a.dryRun {
		a.say("", say.Done, "dry run: %s was not written", r.File)
		return nil
	}
	if err := r.Write(t.Over); err != nil {
		return err
	}
	a.say("", say.Done, "%s: %s", r.File, spell.Counted(len(r.Statements), "line"))
	if t.Practise {
		a.next = append(a.next, e.Command("", "standin", "run", r.File, "--at", "practice"))
	} else {
		a.next = append(a.next, e.Command("", "model", "add", r.File))
	}
	return nil
}

func (a *app) modelCheck(cmd *cobra.Command, name string) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	m, err := a.loadModel(e.Bench, name)
	if err != nil {
		return err
	}
	r, err := task.CheckModel(cmd.Context(), e, m)
	if err != nil {
		return err
	}
	a.result = r
	counts := map[describe.State]int{}
	var unconfirmed []describe.Statement
	for _, c := range r.Lines {
		counts[c.State]++
		switch c.State {
		case describe.Confirmed:
			if a.details {
				a.say("", say.Good, "%s: %s (%s)", c.Key, strings.ReplaceAll(c.Value, "\n", " "), c.Why)
			}
		case describe.Contradicted:
			a.say("", say.Warn, "%s is %s in the file and %s on the phone (%s)", c.Key, c.Value, c.Known,
				c.Why)
		case describe.Missing:
			a.say("", say.Open, "%s is missing: %s%s", c.Key, c.Why, before("; it is ", c.Known))
		case describe.Unconfirmed:
			unconfirmed = append(unconfirmed, describe.Statement{Key: c.Key, Value: c.Value})
		}
	}
	var rest []string
	for _, s := range describe.Rows(unconfirmed) {
		rest = append(rest, s.Key)
	}
	if len(rest) > 0 {
		a.say("", say.Note, "confirmed by no phone here and no job: %s", strings.Join(rest, ", "))
	}
	from := "no phone of this model is here or in a job"
	if len(r.From) > 0 {
		from = "compared with " + spell.And(r.From)
	}
	a.say("", say.Done, "%s: %s; %d confirmed, %d contradicted, %d unconfirmed, %d missing", m.Name, from,
		counts[describe.Confirmed], counts[describe.Contradicted], counts[describe.Unconfirmed],
		counts[describe.Missing])
	if len(r.From) > 0 && counts[describe.Missing]+counts[describe.Contradicted] > 0 {
		a.next = append(a.next, e.Command("", "model", "draft", r.From[0], "-o", m.Name+"-draft.yaml"))
	}
	if counts[describe.Contradicted] > 0 {
		a.say("", say.Todo, "correct the lines that are contradicted; until then the phone's own report is "+
			"used")
		return &task.NoError{Text: "a phone contradicts the model file of " + m.Name}
	}
	return nil
}

// modelShown is the result of model show.
type modelShown struct {
	Model string               `json:"model"`
	Title string               `json:"title"`
	Lines []describe.Statement `json:"lines"`
}

func (a *app) modelShow(cmd *cobra.Command, name string) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	m, err := a.loadModel(e.Bench, name)
	if err != nil {
		return err
	}
	r := modelShown{m.Name, m.Title, describe.Stated(m)}
	a.result = r
	var rows [][]string
	for _, s := range describe.Rows(r.Lines) {
		rows = append(rows, []string{s.Key, s.Value})
	}
	a.out.Table([]string{"LINE", "VALUE"}, rows)
	a.printModel(&task.ModelInfo{Twins: m.Twins, Quirks: m.Quirks})
	return nil
}

func (a *app) modelAdd(cmd *cobra.Command, path string, over bool) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	r, err := task.AddModels(e, files.Unquote(path), over)
	if err != nil {
		return err
	}
	a.result = r
	if a.dryRun {
		a.say("", say.Done, "dry run: %s would be kept", spell.And(r.Models))
		return nil
	}
	a.say("", say.Done, "%s: kept in %s", spell.And(r.Models), task.ModelsDir(e))
	a.next = append(a.next, e.Command("", "model", "check", r.Models[0]))
	return nil
}
