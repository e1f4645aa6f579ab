package act

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/say"
)

// appPath is where an app's files lie while the system installs them, with the file's number.
const appPath = "/data/local/tmp/jarlid-app-%d.apk"

// installApp sends an app's files to the started system and has its package
// service install it.
func (j *Actor) installApp(ctx context.Context, s *plan.InstallApp) (Done, error) {
	d := Done{Bytes: s.Size()}
	var parts []shell.Part
	for i, f := range s.All() {
		to := fmt.Sprintf(appPath, i)
		// what is left lies among temporary files
		defer func() { _ = j.Shell().Remove(context.WithoutCancel(ctx), to) }()
		sum, err := j.sendFile(ctx, f, to, filepath.Base(f.Path))
		if err != nil {
			return d, err
		}
		if i == 0 {
			d.SHA256 = sum
		}
		parts = append(parts, shell.Part{Name: fmt.Sprintf("%d.apk", i), Path: to, Size: f.Size})
	}
	j.Obs.Say(say.Wait, "the system installs %s", filepath.Base(s.File.Path))
	var text string
	var err error
	if len(parts) == 1 {
		text, err = j.Shell().InstallApp(ctx, parts[0].Path)
	} else {
		text, err = j.Shell().InstallParts(ctx, parts)
	}
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
