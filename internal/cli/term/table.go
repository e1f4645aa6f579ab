package term

import "strings"

// Table is rows under a heading. A row of one cell is the title of those below it.
type Table struct {
	Head []string
	Rows [][]string
	// Second is the first of the columns that are in a line of their own below the row where
	// the screen is narrow; 0: none does.
	Second int
}

const (
	tableGap    = 3
	narrow      = 100 // columns: below, Second counts
	leastColumn = 8   // a narrower column is not readable
)

// states colour a cell that is one of these words, or begins with it: they repeat what it says.
var states = map[string]string{
	"good": "32", "yes": "32", "done": "32", "whole": "32", "fits": "32", "verified": "32", "here": "32",
	"warn": "33", "care": "33", "unknown": "33", "open": "33", "note": "33", "stays": "32",
	"stop":         "31",
	"fail":         "31",
	"failed":       "31",
	"wrong":        "31",
	"bad":          "31",
	"damaged":      "31",
	"erased":       "31",
	"goes":         "31",
	"does-not-fit": "31",
}

// Table prints rows under a heading line, columns aligned, below the text of other lines. On a
// terminal the widest columns are broken at blanks so that it fits; on a pipe rows stay whole. In
// JSON it prints nothing.
func (t *Term) Table(heading []string, rows [][]string) { t.Show(Table{Head: heading, Rows: rows}) }

// Show is Table with what Table says.
func (t *Term) Show(tab Table) {
	if t.json {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.tray != nil && t.phone != "" {
		return // its rows say what there is to know
	}
	t.flush()
	t.endBar()
	for i := range tab.Rows {
		for k, cell := range tab.Rows[i] {
			if cell = strings.Map(printable, cell); cell == "" {
				cell = "-"
			}
			if !t.details {
				cell = shortDigests(cell)
			}
			tab.Rows[i][k] = cell
		}
	}
	room := t.width - len(indent)
	second := 0
	if t.live && t.width < narrow {
		second = tab.Second
	}
	shown := len(tab.Head)
	if second > 0 {
		shown = second
	}
	widths, least := columnWidths(tab, shown)
	if t.live {
		shrink(widths, least, room-tableGap*(len(widths)-1))
	}
	t.tableRow(tab.Head[:shown], widths, true)
	for _, r := range tab.Rows {
		if len(r) == 1 && len(tab.Head) > 1 {
			t.print(indent + t.paint("1", short(r[0], room)))
			continue
		}
		t.tableRow(r[:shown], widths, false)
		if second > 0 {
			var parts []string
			for i := second; i < len(r); i++ {
				if strings.TrimSpace(r[i]) != "" && r[i] != "-" {
					parts = append(parts, strings.ToLower(tab.Head[i])+": "+r[i])
				}
			}
			if len(parts) == 0 {
				continue
			}
			for _, part := range Wrap(strings.Join(parts, "; "), room-2) {
				t.print(indent + "  " + part)
			}
		}
	}
}

// columnWidths is how wide each of the first columns would like to be, and how far it can give way:
// until its heading is broken at blanks, until its cells are, until words are.
func columnWidths(tab Table, shown int) (widths []int, least [3][]int) {
	widths = make([]int, shown)
	for i := range least {
		least[i] = make([]int, shown)
	}
	for n, r := range append([][]string{tab.Head}, tab.Rows...) {
		if len(r) == 1 && len(tab.Head) > 1 {
			continue
		}
		for i, cell := range r[:shown] {
			widths[i] = max(widths[i], wide(cell))
			word := 0
			for _, w := range strings.Fields(cell) {
				word = max(word, wide(w))
			}
			if n > 0 {
				least[0][i] = max(least[0][i], wide(cell))
			}
			least[0][i], least[1][i] = max(least[0][i], word), max(least[1][i], word)
			least[2][i] = min(leastColumn, least[1][i])
		}
	}
	return widths, least
}

// shrink takes room from the widest column that can give way, again and again, until all fit.
func shrink(widths []int, least [3][]int, room int) {
	sum := 0
	for _, w := range widths {
		sum += w
	}
	for _, least := range least {
		for sum > room {
			at := -1
			for i, w := range widths {
				if w > least[i] && (at < 0 || w > widths[at]) {
					at = i
				}
			}
			if at < 0 {
				break
			}
			widths[at]--
			sum--
		}
	}
}

// tableRow prints one row, in as many lines as its longest cell needs.
func (t *Term) tableRow(row []string, widths []int, head bool) {
	parts := make([][]string, len(row))
	lines := 0
	for i, cell := range row {
		parts[i] = []string{cell}
		if t.live {
			parts[i] = broken(cell, widths[i])
		}
		lines = max(lines, len(parts[i]))
	}
	for n := range lines {
		var line strings.Builder
		for i := range row {
			text := ""
			if n < len(parts[i]) {
				text = parts[i][n]
			}
			code := ""
			if head {
				code = "1"
			} else if word, _, _ := strings.Cut(row[i], ","); i > 0 {
				code = states[word]
			}
			gap := strings.Repeat(" ", max(widths[i]-wide(text), 0)+tableGap)
			line.WriteString(t.paint(code, text) + gap)
		}
		text := strings.TrimRight(line.String(), " ")
		if t.phone != "" && !t.live {
			text = t.phone + "   " + text
		}
		t.print(indent + text)
	}
}
