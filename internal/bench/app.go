package bench

import (
	"context"
	"path/filepath"
	"strings"

	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// appPath is where an app package lies while the system installs it.
const appPath = "/data/local/tmp/jarlid-app.apk"

// installApp sends an app package to the started system and has its package
// service install it.
func (j *Job) installApp(ctx context.Context, s *plan.InstallApp) (Record, error) {
	rec := Record{Bytes: s.File.Size, Confirm: PhoneWord}
	defer shell(context.WithoutCancel(ctx), j.Link, "rm -f "+appPath)
	var err error
	if rec.SHA256, err = j.sendFile(ctx, s.File, appPath, filepath.Base(s.File.Path)); err != nil {
		return rec, err
	}
	j.Obs.Say(Wait, "the system installs %s", filepath.Base(s.File.Path))
	ictx, stop := context.WithTimeout(ctx, formatLimit)
	out, err := j.Link.ADB.Shell(ictx, "pm install -r "+appPath+" 2>&1")
	stop()
	if err != nil {
		return rec, err
	}
	text := strings.TrimSpace(string(out.Stdout))
	rec.Answers = []string{text}
	if !strings.Contains(text, "Success") {
		return rec, &link.RefusedError{Command: s.Title(), Message: plan.AppRefusal(text)}
	}
	list, err := shell(ctx, j.Link, "pm list packages "+s.File.App.Name)
	if err != nil {
		return rec, err
	}
	for line := range strings.Lines(list) {
		if strings.TrimSpace(line) == "package:"+s.File.App.Name {
			rec.Confirm = ReadBack
		}
	}
	j.Apps = append(j.Apps, AppResult{Path: s.File.Path, Name: s.File.App.Name, Version: s.File.App.Version, Confirmed: rec.Confirm})
	s.Effects(j.Card)
	return rec, nil
}

// AppResult is one app that was installed.
type AppResult struct {
	Path      string `json:"path"`
	Name      string `json:"name"`
	Version   int64  `json:"version"`
	Confirmed string `json:"confirmed"`
}
