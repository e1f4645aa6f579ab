package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// parseBytes reads a size given on the command line: 64GiB, 512MiB, 4096.
func parseBytes(s string) (int64, error) {
	n, ok := card.ParseBytes(s)
	if !ok || n <= 0 {
		return 0, task.Usage("%q is not a size such as 64GiB", s)
	}
	return n, nil
}

func (a *app) identCommand() *cobra.Command {
	var t task.Ident
	var limit string
	c := &cobra.Command{Use: "ident FILE...", Short: "Identify files: what each is, what is in it, and " +
		"where it would go", Args: words(1, -1, "which files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if t.MaxSize, err = parseBytes(limit); err != nil {
				return err
			}
			t.Files = args
			e, err := a.taskEnv(cmd)
			if err != nil {
				return err
			}
			return a.ident(cmd.Context(), e, &t)
		}}
	c.Flags().BoolVar(&t.Deep, "deep", false, "unwrap compressed files whole, for what only their end or "+
		"middle tells")
	c.Flags().StringVar(&limit, "max-size", "64GiB", "the most a compressed file may unwrap to with --deep")
	a.maxMemory(c)
	return c
}

func (a *app) ident(ctx context.Context, e *task.Env, t *task.Ident) error {
	r, err := t.Run(ctx, e)
	if r == nil {
		return err
	}
	a.result = r
	for i, f := range r.Files {
		if i > 0 && !a.quiet {
			a.out.Plain("")
		}
		a.printFile(f, len(r.Spots[i]) > 0)
		a.printSpots(r.Phone, r.Spots[i])
	}
	for _, err := range r.Errors {
		a.say("", say.Fail, "%v", err)
	}
	if n := e.WithFiles(r.Files[:len(r.Files)-r.Damaged]); n != "" && len(r.Errors) == 0 {
		a.next = append(a.next, n)
	}
	if n := len(r.Errors); n > 0 && err == nil {
		err = errors.New(spell.SomeOf(n, n+len(r.Files), "file", "could not be read", "could not be read"))
	}
	if n := r.Damaged; n > 0 && err == nil {
		err = &task.NoError{Text: spell.SomeOf(n, len(r.Files), "file", "is damaged", "are damaged"),
			Topic: finding.DamagedFile}
	}
	return err
}

// printSpots says where a file goes on the phone, those of one kind in one line.
func (a *app) printSpots(phone string, spots []place.Spot) {
	for len(spots) > 0 {
		first := spots[0]
		var names []string
		var rest []place.Spot
		same := true
		for _, s := range spots {
			if s.Word == first.Word && (s.Text == first.Text || s.Word == string(say.Good)) {
				names, same = append(names, s.Name.String()), same && s.Text == first.Text
			} else {
				rest = append(rest, s)
			}
		}
		text := first.Text
		switch {
		case len(names) > 1 && same:
			text = strings.Replace(text, "it holds", "each holds", 1)
		case len(names) > 1 && first.Word == string(say.Good):
			text = "each is there, and large enough"
		}
		a.say(phone, say.Word(first.Word), "on %s it goes to %s: %s", phone, strings.Join(names, ", "), text)
		spots = rest
	}
}

// printFile says what a file is; placed: where it goes on the phone that is here is said behind it.
func (a *app) printFile(f *ident.File, placed bool) {
	if a.json {
		return
	}
	name := base(f.Path)
	switch {
	case f.Damage != "":
		a.say("", say.Stop, "%s: %s, %s: %s", finding.DamagedFile, name, image.Size(f.Size), f.Damage)
	case f.Kind == ident.Unknown:
		wrapped := ""
		if len(f.Wrapped) > 0 {
			wrapped = ", wrapped as " + f.Wrapping()
		}
		a.say("", say.Info, "%s, %s%s: I don't know this file", name, image.Size(f.Size), wrapped)
		if len(f.Head) > 0 {
			a.say("", say.Info, "first bytes: %s", firstBytes(f.Head))
		}
	case f.Altered != "":
		a.say("", say.Warn, "%s: %s is %s, %s, and was changed after it was signed: %s", finding.AlteredFile,
			name, f.Words(), image.Size(f.Size), f.Altered)
	case f.Kind == ident.Text:
		a.say("", say.Warn, "%s is a text, %s, and no image", name, image.Size(f.Size))
	case f.Closed != "":
		a.say("", say.Warn, "%s is %s, %s: %s", name, f.Words(), image.Size(f.Size), f.Closed)
	default:
		a.say("", say.Good, "%s is %s, %s", name, f.Words(), image.Size(f.Size))
	}
	for _, text := range f.Lines() {
		a.say("", say.Info, "%s", text)
	}
	var to []string
	for _, d := range f.GoesTo {
		to = append(to, d.String())
	}
	if len(to) > 0 && placed {
		a.say("", say.Info, "it is for %s: %s", strings.Join(partitionsOf(f), ", "), f.GoesTo[0].Why)
	} else if len(to) > 0 {
		a.say("", say.Info, "goes to %s: %s", strings.Join(to, ", "), f.GoesTo[0].Why)
	}
}

// partitionsOf are the partitions a file is for, whatever the phone.
func partitionsOf(f *ident.File) (names []string) {
	for _, d := range f.GoesTo {
		names = append(names, d.Partition)
	}
	return names
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
