package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
)

// InstallApp installs an app on the started system: its package, and its parts where it has some
// ("Split APKs" in the platform's documentation), all in one session.
type InstallApp struct {
	base
	File  *ident.File
	Parts []*ident.File
	// Unsigned says why no phone takes one of the files for what somebody signed; "" when all are, by
	// the same key.
	Unsigned string
}

// AppFile is one file of an app: its package, or a part.
type AppFile struct {
	*ident.File
	Signer   string // fingerprint of the certificate that counts on the newest platforms
	Unsigned string // why there is none; "" when there is
}

// AppsOf makes one step for each app of which files are packages or parts, in the order in which they
// come first.
func AppsOf(files []AppFile) []*InstallApp {
	var list []*InstallApp
	last := map[*InstallApp]AppFile{}
	for _, file := range files {
		f := file.File
		var s *InstallApp
		for _, other := range list {
			if sameApp(other, f) {
				s = other
			}
		}
		switch {
		case s == nil:
			s = &InstallApp{File: f}
			list = append(list, s)
		case f.App.Split == "":
			s.File, s.Parts = f, append(s.Parts, s.File)
		default:
			s.Parts = append(s.Parts, f)
		}
		s.Unsigned = cmp.Or(s.Unsigned, file.Unsigned)
		if before, ok := last[s]; ok && s.Unsigned == "" && before.Signer != file.Signer {
			s.Unsigned = fmt.Sprintf("%s is signed with another key than %s", place.FileName(f.Path),
				place.FileName(before.Path))
		}
		last[s] = file
	}
	return list
}

// sameApp reports whether f belongs to the app of s: as a part, or as the package of its parts.
func sameApp(s *InstallApp, f *ident.File) bool {
	if s.File.App == nil || f.App == nil || s.File.App.Name != f.App.Name {
		return false
	}
	return f.App.Split != "" || s.File.App.Split != ""
}

// All gives the app's package and its parts.
func (i *InstallApp) All() []*ident.File { return append([]*ident.File{i.File}, i.Parts...) }

// Size is the bytes of all files.
func (i *InstallApp) Size() (n int64) {
	for _, f := range i.All() {
		n += f.Size
	}
	return n
}

// Sends are the app's files.
func (i *InstallApp) Sends() (list []Sent) {
	for _, f := range i.All() {
		list = append(list, sent(f)...)
	}
	return list
}

// Title says what is done.
func (i *InstallApp) Title() string {
	title := "install the app " + place.FileName(i.File.Path)
	if n := len(i.Parts); n > 0 {
		title += " with " + spell.Counted(n, "part")
	}
	return title
}

// Estimate implements Step: the app is sent and installed.
func (i *InstallApp) Estimate(*card.Card) (int64, time.Duration) {
	return i.Size(), expectStep + atRate(i.Size(), expectInstall)
}

// Modes: the system.
func (*InstallApp) Modes() []card.Mode { return []card.Mode{card.System} }

// Check holds the app against the phone and its system, and its parts against it.
func (i *InstallApp) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	name := place.FileName(i.File.Path)
	if i.File.Kind != ident.App || i.File.App == nil {
		return []finding.Finding{{Name: finding.NotAnApp, Severity: finding.Stop, About: name, Final: true,
			Text:   "the file is " + i.File.What() + ", not an app",
			Remedy: "jarlid ident " + local.Quote(i.File.Path)}}
	}
	app := i.File.App
	list := i.whole(name, app)
	if i.Unsigned != "" {
		list = append(list, finding.Finding{Name: finding.NotAnApp, Severity: finding.Stop, About: name,
			Final:  true,
			Text:   i.Unsigned,
			Remedy: "fetch it again from whoever made it; jarlid proof " + local.Quote(i.File.Path)})
	}
	list = append(list, i.arch(c)...)
	f := finding.Finding{Name: finding.WrongSystem, Severity: finding.Stop, About: name,
		Remedy: "fetch an older version of the app"}
	api, known := c.Number(card.FactAPI)
	switch {
	case app.MinSDK == 0:
		return list
	case !known:
		f.Severity, f.Text = finding.Warn,
			fmt.Sprintf("%s wants API level %d, and nobody can tell in this mode what the system has", name,
				app.MinSDK)
	case api < app.MinSDK:
		f.Text = fmt.Sprintf("%s wants API level %d, the system has %d", name, app.MinSDK, api)
	default:
		return list
	}
	return append(list, f)
}

// whole finds what keeps the files from being one app.
func (i *InstallApp) whole(name string, app *apk.App) (list []finding.Finding) {
	const remedy = "name the app's package and all its parts, of one version, in one command"
	not := func(about, text string) {
		list = append(list, finding.Stops(finding.NotAnApp, about, text, remedy))
	}
	if app.Split != "" {
		not(name, fmt.Sprintf("it is a part (%s) of the app %s, and nothing without the app's package",
			app.Split,
			app.Name))
	}
	if app.Parts && len(i.Parts) == 0 {
		not(name, fmt.Sprintf("the app %s can't be installed without its parts, and none is named", app.Name))
	}
	seen := map[string]string{app.Split: name}
	for _, part := range i.Parts {
		about := place.FileName(part.Path)
		switch other := seen[part.App.Split]; {
		case other != "":
			not(about, fmt.Sprintf("it is the same part of the app %s as %s", app.Name, other))
		case part.App.Version != app.Version:
			not(about, fmt.Sprintf("it is a part of version %d of the app %s, and %s is version %d",
				part.App.Version, app.Name, name, app.Version))
		}
		seen[part.App.Split] = about
	}
	return list
}

// arch checks the processors of all files at once: the programs may be in a part.
func (i *InstallApp) arch(c *card.Card) []finding.Finding {
	all := *i.File
	for _, part := range i.Parts {
		all.ABIs = append(slices.Clone(all.ABIs), part.ABIs...)
	}
	return place.Arch(&all, c)
}

// appRefusals are the reasons the platform's package service gives
// (PackageManager.java), in words.
var appRefusals = []struct{ code, text string }{
	{"INSTALL_FAILED_NO_MATCHING_ABIS", "its programs are for another processor"},
	{"INSTALL_FAILED_OLDER_SDK", "it wants a newer system"},
	{"INSTALL_FAILED_NEWER_SDK", "it is for older systems only"},
	{"INSTALL_FAILED_VERSION_DOWNGRADE", "a newer version of it is installed; take that off first"},
	{"INSTALL_FAILED_UPDATE_INCOMPATIBLE", "the same app signed by somebody else is installed; take that " +
		"off first, with its data"},
	{"INSTALL_FAILED_INSUFFICIENT_STORAGE", "there is no room for it"},
	{"INSTALL_FAILED_USER_RESTRICTED", "the system does not allow it: allow installing over the cable in " +
		"the developer settings"},
	{"INSTALL_FAILED_VERIFICATION_FAILURE", "the system's check of apps rejected it, or timed out"},
	{"INSTALL_FAILED_TEST_ONLY", "it is a test build"},
	{"INSTALL_FAILED_MISSING_SHARED_LIBRARY", "the system lacks a library it needs"},
	{"INSTALL_FAILED_MISSING_SPLIT", "one of its parts is missing"},
	{"INSTALL_PARSE_FAILED_NO_CERTIFICATES", "it is not signed"},
	{"INSTALL_PARSE_FAILED", "the package is damaged"},
	{"INSTALL_FAILED_INVALID_APK", "the package is damaged or only a part of an app"},
}

// AppRefusal gives a refusal's reason in words, with the system's own.
func AppRefusal(text string) string {
	text = strings.TrimSpace(text)
	for _, r := range appRefusals {
		if strings.Contains(text, r.code) {
			return r.text + " (" + text + ")"
		}
	}
	if text == "" {
		return "the system gave no reason"
	}
	if len(text) > 300 {
		text = text[:300] + "..."
	}
	return strconv.Quote(text)
}
