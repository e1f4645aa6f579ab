package cli

import (
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"jarlid/internal/core/spell"
	"jarlid/internal/journal"
	"jarlid/internal/say"
)

// manWritten is the result of man.
type manWritten struct {
	Folder string `json:"folder"`
	Pages  int    `json:"pages"`
}

func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{Use: "man DIR", Short: "Write a manual page of each command into a folder",
		Args: words(1, 1, "which folder"),
		RunE: func(c *cobra.Command, args []string) error { return a.man(c.Root(), args[0]) }}
}

// man writes the pages. The library makes them from the commands; what our help says besides is
// given to it first. Without a date the same program writes the same pages.
func (a *app) man(root *cobra.Command, dir string) error {
	var prepare func(c *cobra.Command)
	prepare = func(c *cobra.Command) {
		c.Long = paragraphs(c.Long)
		for i, e := range examples[pathOf(c)] {
			if i > 0 {
				c.Example += "\n"
			}
			c.Example += e
		}
		for _, s := range c.Commands() {
			prepare(s)
		}
	}
	prepare(root)
	root.DisableAutoGenTag = true
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	b := journal.Built()
	if b.Time.IsZero() {
		b.Time = time.Now()
	}
	head := &doc.GenManHeader{Date: &b.Time, Section: "1", Source: "Jar Lid " + b.Version, Manual: "Jar Lid"}
	if err := doc.GenManTree(root, head, dir); err != nil {
		return err
	}
	pages, err := filepath.Glob(filepath.Join(dir, "jarlid*.1"))
	if err != nil {
		return err
	}
	a.result = manWritten{dir, len(pages)}
	a.say("", say.Done, "%s in %s", spell.Counted(len(pages), "page"), dir)
	return nil
}
