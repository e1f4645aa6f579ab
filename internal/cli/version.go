package cli

import (
	"fmt"
	"runtime"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/journal"
	"jarlid/internal/say"
	"jarlid/internal/task/sheet"
)

// versionShown is the result of --version.
type versionShown struct {
	Version string         `json:"version"`
	Commit  string         `json:"commit,omitempty"`
	Changed bool           `json:"changed"` // built from something else than that commit
	Go      string         `json:"go"`
	System  string         `json:"system"`
	Forms   map[string]int `json:"forms"` // of the files it writes
}

func (a *app) version() {
	b := journal.Built()
	r := versionShown{b.Version, b.Commit, b.Changed, runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH,
		map[string]int{
			"journal": journal.Form,
			"sheet":   sheet.Form,
			"backup":  backup.Form,
			"card":    card.Form,
		}}
	a.result = r
	if a.json {
		return
	}
	a.say("", say.Info, "jarlid %s", journal.Version())
	a.say("", say.Info, "made with %s for %s", r.Go, r.System)
	a.say("", say.Info, "%s",
		fmt.Sprintf("it writes journals of form %d, sheets of form %d, backups of form %d and cards of "+
			"form %d", journal.Form, sheet.Form, backup.Form, card.Form))
}
