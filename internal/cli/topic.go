package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"jarlid/docs"
	"jarlid/internal/core/spell"
	"jarlid/internal/task"
)

// topics are what help tells beside the commands: sections of the guide.
var topics = []struct{ name, heading, about string }{
	{"slots", "Slots", "What two slots are, and which one is written"},
	{"vbmeta", "vbmeta without fear", "What verified boot believes, and when its flags are switched"},
	{"gsi", "Before you flash a GSI", "What decides whether a generic system starts"},
	{"modes", "Modes", "What a phone can do in which mode"},
	{"new-phone", "A phone nobody has described", "A phone without a model file, and how to write one"},
	{"sources", "Sources", "Where each fact comes from, and what that is worth"},
	{"exit-codes", "Exit codes", "What the program's exit codes mean"},
	{"accept", "Allowing a stop", "How a stop is allowed, and which can't be"},
	{"loader", "Phones with a loader", "Phones without fastboot, and what is different there"},
	{"words", "Words", "The words each line begins with, and what things are called"},
}

func topicNames() (names []string) {
	for _, t := range topics {
		names = append(names, t.name)
	}
	return names
}

// helpNames are what help tells about.
func helpNames(root *cobra.Command) []string {
	names := topicNames()
	for _, s := range root.Commands() {
		if s.IsAvailableCommand() {
			names = append(names, s.Name())
		}
	}
	return names
}

// helpCommand tells about a command or a topic.
func (a *app) helpCommand() *cobra.Command {
	return &cobra.Command{Use: "help [COMMAND|TOPIC]", Short: "Tell about a command, or about " +
		strings.Join(topicNames(), ", "),
		Long: "Tells about a command, as COMMAND --help does, or about a topic, in the words of the guide.",
		ValidArgsFunction: func(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
			return helpNames(c.Root()), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			word := strings.Join(args, " ")
			for _, t := range topics {
				if strings.EqualFold(strings.ReplaceAll(word, " ", "-"), t.name) {
					a.tellHelp(func(p *helpPage) { topicText(p, t.about, docs.Section(t.heading)) })
					return nil
				}
			}
			found, rest, err := c.Root().Find(args)
			if err != nil || len(rest) > 0 {
				return task.Usage("there is no command and no topic %q%s", word,
					spell.DidYouMean(word, helpNames(c.Root())))
			}
			a.help(found)
			return nil
		}}
}

// topicText sets a section of the guide for a screen: its Markdown is what the guide is written in,
// paragraphs, lists, tables of two or three columns, and commands, which are indented.
func topicText(p *helpPage, title, text string) {
	p.para("", title+".")
	for _, block := range strings.Split(text, "\n\n") {
		p.line("")
		lines := strings.Split(block, "\n")
		switch {
		case strings.HasPrefix(block, "    "):
			for _, l := range lines {
				p.command(plain(strings.TrimPrefix(l, "    ")))
			}
		case strings.HasPrefix(block, "|"):
			var rows [][2]string
			for _, l := range lines {
				cells := strings.Split(strings.Trim(l, "| "), "|")
				if strings.HasPrefix(l, "|--") || len(cells) < 2 {
					continue
				}
				rows = append(rows, [2]string{plain(strings.TrimSpace(cells[0])),
					plain(strings.TrimSpace(strings.Join(cells[1:], ";")))})
			}
			p.two(rows)
		case strings.HasPrefix(block, "- "):
			for _, item := range strings.Split("\n"+block, "\n- ")[1:] {
				p.hang("- ", plain(strings.Join(strings.Fields(item), " ")))
			}
		default:
			p.para("", plain(strings.Join(lines, " ")))
		}
	}
}

// plain takes the marks of Markdown out of a text: emphasis, code, and links, of which the text
// stays.
func plain(s string) string {
	for {
		before, rest, found := strings.Cut(s, "](")
		open := strings.LastIndex(before, "[")
		_, after, closed := strings.Cut(rest, ")")
		if !found || open < 0 || !closed {
			break
		}
		s = before[:open] + before[open+1:] + after
	}
	out := strings.NewReplacer("**", "", "`", "").Replace(s)
	var b strings.Builder
	for i, r := range out { // a star that is not emphasis stands alone, or in a pattern
		next := i + 1
		emphasis := r == '*' && (next < len(out) && isLetter(out[next]) && (i == 0 || !isLetter(out[i-1]) &&
			out[i-1] != '-' && out[i-1] != '.') || i > 0 && isLetter(out[i-1]) && (next == len(out) ||
			strings.ContainsRune(" ;,.:)", rune(out[next]))))
		if !emphasis {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }
