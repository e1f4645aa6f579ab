package e2e

import (
	"strings"
	"testing"

	"jarlid/internal/standin/standintest"
)

// TestRelock: a phone is locked only over what is known to start then; locked over
// anything else it starts nothing.
func TestRelock(t *testing.T) {
	t.Parallel()
	t.Run("over the maker's set", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "dunlin", 2)
			l.standin("dunlin")
			l.want(3, []string{"stop  relock-would-brick: nobody can tell"}, "relock", "--yes")
			l.want(3, []string{"stop  relock-would-brick: it is not known that the phone holds"}, "relock",
				"--images", kit.more.Set, "--yes")
			l.want(3, []string{"do not verify"}, "relock", "--images", files.Recovery, "--yes")
			l.want(0, nil, "flash", kit.more.Set, "--yes")
			out := l.did("dunlin", "", []string{"warn  relock-would-brick: the phone holds",
				"the bootloader is locked, read back"}, "relock", "--images", kit.more.Set, "--yes")
			_ = out
			l.want(0, []string{"locked already"}, "relock")
			l.did("dunlin", "", []string{"Wickerlight Stock 9.1"}, "go", "system", "--yes", "--wait", "30s")
		})
	})
	for _, c := range []struct {
		name, answers string
		yes           bool
		code          int
		says          string
	}{
		{name: "nobody asked", yes: true, says: "whether it is locked is unknown"},
		{name: "confirmed", answers: "y\ny\n", says: "is locked, as you say"},
		{name: "denied", answers: "y\nn\n", code: 1, says: "is not locked, as you say"},
	} {
		t.Run("a lock that is not reported, "+c.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.standin(l.model("dunlin", "  boot: true", "  boot: true\n  missing-variables: [unlocked]"))
				cmd := []string{"relock", "--accept", "relock-would-brick"}
				if c.yes {
					cmd = append(cmd, "--yes")
				}
				code, out := l.owner("dunlin", c.answers, standintest.Owner, cmd...)
				if code != c.code || !strings.Contains(out, c.says) || strings.Contains(out, "read back") {
					t.Errorf("it ended with %d and does not say %q:\n%s", code, c.says, out)
				}
			})
		})
	}
	t.Run("over a third party's recovery", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
			l.did("dunlin", "", []string{"the bootloader is locked"}, "relock", "--yes", "--accept",
				"relock-would-brick")
			l.want(5, []string{"came up in bootloader instead of system"}, "go", "system", "--yes", "--wait",
				"20s")
		})
	})
}
