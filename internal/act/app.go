package act

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/say"
)

// appPath is where an app package lies while the system installs it.
// installLimit is how long the system may take to install an app.
const installLimit = 10 * time.Minute

const appPath = "/data/local/tmp/jarlid-app.apk"

// installApp sends an app package to the started system and has its package
// service install it.
func (j *Actor) installApp(ctx context.Context, s *plan.InstallApp) (Done, error) {
	d := Done{Bytes: s.File.Size}
	// what is left lies among temporary files
	defer func() { _, _ = j.Text(context.WithoutCancel(ctx), "rm -f "+appPath) }()
	var err error
	if d.SHA256, err = j.sendFile(ctx, s.File, appPath, filepath.Base(s.File.Path)); err != nil {
		return d, err
	}
	j.Obs.Say(say.Wait, "the system installs %s", filepath.Base(s.File.Path))
	ictx, stop := context.WithTimeout(ctx, installLimit)
	out, err := j.Shell(ictx, "pm install -r "+appPath+" 2>&1")
	stop()
	if err != nil {
		return d, err
	}
	text := strings.TrimSpace(string(out.Stdout))
	d.Answers = []string{text}
	if !strings.Contains(text, "Success") {
		return d, &link.RefusedError{Command: s.Title(), Message: plan.AppRefusal(text)}
	}
	return d, nil
}

// appInstalled has the package service list the app.
func (j *Actor) appInstalled(ctx context.Context, s *plan.InstallApp, _ Done) (string, error) {
	list, err := j.Text(ctx, "pm list packages "+s.File.App.Name)
	if err != nil {
		return "", err
	}
	confirm := journal.PhoneWord
	for line := range strings.Lines(list) {
		if strings.TrimSpace(line) == "package:"+s.File.App.Name {
			confirm = journal.ReadBack
		}
	}
	plan.Apply(s, j.Card)
	return confirm, nil
}
