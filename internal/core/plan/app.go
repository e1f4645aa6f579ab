package plan

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// InstallApp installs an app package on the started system.
type InstallApp struct {
	base
	File *ident.File
	// Unsigned says why no phone takes it for what somebody signed; "" when it is.
	Unsigned string
}

// Sends is the app package.
func (i *InstallApp) Sends() []Sent { return sent(i.File) }

// Title says what is done.
func (i *InstallApp) Title() string { return "install the app " + place.FileName(i.File.Path) }

// Estimate implements Step: the app is sent and installed.
func (i *InstallApp) Estimate(*card.Card) (int64, time.Duration) {
	return i.File.Size, expectStep + atRate(i.File.Size, expectInstall)
}

// Modes: the system.
func (*InstallApp) Modes() []card.Mode { return []card.Mode{card.System} }

// Check holds the app against the phone and its system.
func (i *InstallApp) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	name := place.FileName(i.File.Path)
	var list []finding.Finding
	if i.File.Kind != ident.App || i.File.App == nil {
		if len(list) == 0 {
			list = append(list, finding.Finding{Name: finding.NotAnApp, Severity: finding.Stop, About: name,
				Final:  true,
				Text:   "the file is " + i.File.What() + ", not an app",
				Remedy: "jarlid ident " + local.Quote(i.File.Path)})
		}
		return list
	}
	app := i.File.App
	if app.Split != "" {
		list = append(list, finding.Stops(finding.NotAnApp, name,
			fmt.Sprintf("it is a part (%s) of the app %s, and nothing by itself", app.Split,
				app.Name), "fetch the app as one package"))
	}
	if i.Unsigned != "" {
		list = append(list, finding.Finding{Name: finding.NotAnApp, Severity: finding.Stop, About: name,
			Final:  true,
			Text:   i.Unsigned,
			Remedy: "fetch it again from whoever made it; jarlid proof " + local.Quote(i.File.Path)})
	}
	list = append(list, place.Arch(i.File, c)...)
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
