package term

import (
	"io"
	"os"
	"strings"

	"github.com/mattn/go-runewidth"
	xterm "golang.org/x/term"

	"jarlid/internal/core/spell"
)

// cells measures text by the columns it takes on a screen: a character of East Asia takes two, a
// mark on another one none. What is ambiguous is narrow, whatever the environment says, so that
// the same text is laid out the same everywhere.
var cells = &runewidth.Condition{}

// wide is how many columns a text takes.
func wide(text string) int { return cells.StringWidth(text) }

// padded fills a text up to so many columns.
func padded(text string, columns int) string {
	return text + strings.Repeat(" ", max(columns-wide(text), 0))
}

// short cuts a text that is wider than so many columns, and shows that it did.
func short(text string, columns int) string { return cells.Truncate(text, columns, "…") }

// Wrap breaks a text at blanks into lines of at most so many columns. A word that is wider stays
// whole: it may be a path that somebody wants to copy.
func Wrap(text string, columns int) []string {
	text = strings.Map(printable, text)
	if wide(text) <= columns {
		return []string{text}
	}
	var lines []string
	cur := ""
	body := strings.TrimLeft(text, " ")
	if lead := text[:len(text)-len(body)]; lead != "" { // an indent is one of all lines
		for _, line := range Wrap(body, columns-len(lead)) {
			lines = append(lines, lead+line)
		}
		return lines
	}
	for _, word := range strings.Split(body, " ") {
		switch {
		case cur != "" && wide(cur)+1+wide(word) > columns:
			lines = append(lines, cur)
			cur = ""
		case cur != "":
			cur += " "
		}
		cur += word
	}
	return append(lines, cur)
}

// broken is Wrap for a column of a table: a wider word is broken too, so that the columns beside
// it stay where they are.
func broken(text string, columns int) (lines []string) {
	for _, line := range Wrap(text, columns) {
		for wide(line) > columns {
			part := cells.Truncate(line, columns, "")
			if part == "" {
				break // one character is wider than the column
			}
			lines, line = append(lines, part), line[len(part):]
		}
		lines = append(lines, line)
	}
	return lines
}

// inName reports whether a piece of a text is a part of a file's name.
func inName(text string, from, end int) bool {
	const joins = "/\\._-"
	return from > 0 && strings.IndexByte(joins, text[from-1]) >= 0 || end+1 < len(text) &&
		strings.IndexByte(joins, text[end]) >= 0 && text[end+1] != ' '
}

const (
	leastDigest = 40 // letters: SHA-1's, the shortest that is shown
	shortDigest = 16
)

// shortDigests leaves of each digest in a text what tells it from others. One that is a part of a
// file's name stays.
func shortDigests(text string) string {
	var out strings.Builder
	run := 0
	flush := func(end int) {
		from := end - run
		if run >= leastDigest && !inName(text, from, end) {
			out.WriteString(text[from:from+shortDigest] + "…")
		} else {
			out.WriteString(text[from:end])
		}
		run = 0
	}
	for i := range len(text) {
		c := text[i]
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'f' {
			run++
			continue
		}
		flush(i)
		out.WriteByte(c)
	}
	flush(len(text))
	return out.String()
}

// Columns is how wide the terminal is that w goes to; 0 where it is none.
func Columns(w io.Writer) int {
	if f, ok := w.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		if n, _, err := xterm.GetSize(int(f.Fd())); err == nil && n >= leastColumns {
			return n
		}
		return usualColumns
	}
	return 0
}

const (
	// leastColumns is the narrowest terminal whose width is believed.
	leastColumns = 20
	usualColumns = 80
)

// printable keeps what a phone or a file reports from moving the cursor, and from turning the direction of
// what comes after it.
func printable(r rune) rune {
	if spell.Unprintable(r) {
		return ' '
	}
	return r
}
