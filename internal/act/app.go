package act

import (
	"context"
	"path/filepath"
	"strings"

	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/say"
)

// appPath is where an app package lies while the system installs it.
const appPath = "/data/local/tmp/jarlid-app.apk"

// installApp sends an app package to the started system and has its package
// service install it.
func (j *Actor) installApp(ctx context.Context, s *plan.InstallApp) (Done, error) {
	d := Done{Bytes: s.File.Size}
	// what is left lies among temporary files
	defer func() { _ = j.Shell().Remove(context.WithoutCancel(ctx), appPath) }()
	var err error
	if d.SHA256, err = j.sendFile(ctx, s.File, appPath, filepath.Base(s.File.Path)); err != nil {
		return d, err
	}
	j.Obs.Say(say.Wait, "the system installs %s", filepath.Base(s.File.Path))
	text, err := j.Shell().InstallApp(ctx, appPath)
	if err != nil {
		return d, err
	}
	d.Answers = []string{text}
	if !strings.Contains(text, "Success") {
		return d, &link.RefusedError{Command: s.Title(), Message: plan.AppRefusal(text)}
	}
	return d, nil
}

// appInstalled has the package service list the app.
func (j *Actor) appInstalled(ctx context.Context, s *plan.InstallApp, _ Done) (string, error) {
	there, err := j.Shell().HasApp(ctx, s.File.App.Name)
	if err != nil && !shell.Unknown(err) {
		return "", err
	}
	confirm := journal.PhoneWord
	if there {
		confirm = journal.ReadBack
	}
	plan.Apply(s, j.Card)
	return confirm, nil
}
