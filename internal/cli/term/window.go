package term

import (
	"fmt"
	"strings"

	"jarlid/internal/say"
)

// What a terminal is told beside its text. All of it is taken back, and only told where it is
// known to be understood: elsewhere it could be shown as text, or as a message of its own.
const (
	// saveTitle and restoreTitle are the window operations 22 and 23 of xterm's control sequences,
	// for the title alone (2).
	saveTitle    = "\x1b[22;2t"
	restoreTitle = "\x1b[23;2t"
	setTitle     = "\x1b]2;%s\x1b\\" // OSC 2 of the same
	// taskbar is OSC 9;4: a state (0 none, 1 so many per cent, 3 under way) and a percentage. It
	// is a convention of terminals on Windows; others take OSC 9 for a message to the person.
	taskbar = "\x1b]9;4;%d;%d\x1b\\"
	// alternate and primary switch to the alternate screen and back (DEC private mode 1049).
	alternate = "\x1b[?1049h"
	primary   = "\x1b[?1049l"
	home      = "\x1b[H"
	bell      = "\a"
)

// window is what the terminal understands, and what it was told.
type window struct {
	titles, tasks bool
	shown         string // the title; "" for the terminal's own
}

// titled are the terminals that keep a title and give it back, by the beginning of TERM.
var titled = []string{"xterm", "rxvt", "foot", "alacritty", "tmux"}

// windowOf finds out what a terminal understands.
func windowOf(env func(string) string) (w window) {
	for _, s := range titled {
		w.titles = w.titles || strings.HasPrefix(env("TERM"), s)
	}
	w.tasks = env("WT_SESSION") != "" || env("ConEmuANSI") == "ON"
	w.titles = w.titles || w.tasks
	return w
}

// title tells the window how far the work is: it may lie behind another one.
func (t *Term) title(phone string, p say.Progress) {
	if !t.cursor || !t.window.titles && !t.window.tasks {
		return
	}
	text, state, n := p.What, 3, 0
	if honest(p) {
		state, n = 1, percent(p)
		text = fmt.Sprintf("%d %% %s", n, p.What)
	}
	if phone != "" {
		text += ", " + phone
	}
	if text == t.window.shown {
		return
	}
	if t.window.titles {
		if t.window.shown == "" {
			fmt.Fprint(t.w, saveTitle)
		}
		fmt.Fprintf(t.w, setTitle, strings.Map(printable, text))
	}
	if t.window.tasks {
		fmt.Fprintf(t.w, taskbar, state, n)
	}
	t.window.shown = text
}

// untitled gives the window its own title back.
func (t *Term) untitled() {
	if t.window.shown == "" {
		return
	}
	if t.window.titles {
		fmt.Fprint(t.w, restoreTitle)
	}
	if t.window.tasks {
		fmt.Fprintf(t.w, taskbar, 0, 0)
	}
	t.window.shown = ""
}

// ring calls a person who is needed now.
func (t *Term) ring() {
	if t.cursor {
		fmt.Fprint(t.w, bell)
	}
}

// Watch shows something that changes on a screen of its own, until the returned function is
// called. What is written then stays. Where no cursor can be moved, each state is written below
// the one before.
func (t *Term) Watch() (end func()) {
	if !t.cursor || t.json {
		return func() {}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	fmt.Fprint(t.w, alternate)
	return func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		fmt.Fprint(t.w, primary)
	}
}

// Redraw begins the screen again.
func (t *Term) Redraw() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.cursor && !t.json {
		fmt.Fprint(t.w, home+eraseBelow)
	}
}
