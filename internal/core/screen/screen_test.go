package screen

import (
	"strings"
	"testing"

	"jarlid/internal/core/finding"
)

// TestFind types what people type.
func TestFind(t *testing.T) {
	for text, want := range map[string]string{
		"it says no OS installed, are you sure":                   "no-system harmless",
		"no system found!! reboot anyway?":                        "no-system harmless",
		"Failed to mount /vendor (invalid)":                       "mount-fails harmless",
		"unable to mount /data":                                   "data-mount-fails act",
		"signature verification failed, install anyway":           "signature-question act",
		"signature failed":                                        "signature-refused act",
		"sideload stuck at 47%":                                   "stops-at-47 harmless",
		"installer stuck since 5 minutes":                         "installer-silent wait",
		"there's an internal problem with your device":            "internal-problem harmless",
		"setup wizzard keeps stopping":                            "setup-crashes act",
		"the animation is there for ten minutes":                  "logo-for-long wait",
		"reboots again and again":                                 "restart-loop act",
		"device unauthorised":                                     "unauthorised act",
		"not allowed in locked state":                             "locked-refusal act",
		"oem unlocking is greyed out":                             "unlock-greyed act",
		"unknwon command":                                         "unknown-command act",
		"Cannot load system. Your data may be corrupt. Try again": "can-not-load-system act",
		"your device is corrupt and may not work":                 "corrupt-device act",
		"no command with the robot":                               "no-recovery-command harmless",
		"verify the account that was previously synced":           "frp-lock act",
		"only shows charging picture":                             "charging-picture act",
		"no space left on device":                                 "no-space act",
		"touch does not work in recovery":                         "touch-dead act",
		"partition not found":                                     "no-partition act",
		"waiting for any device":                                  "waiting-for-device act",
		"Android is preparing apps 3 of 90":                       "optimising-apps wait",
		"the weather is nice":                                     "",
		"":                                                        "",
		"error":                                                   "",
	} {
		got := ""
		if list := Find(text); len(list) > 0 {
			got = list[0].Name + " " + string(list[0].Verdict)
		}
		if got != want {
			t.Errorf("%q leads to %q, want %q", text, got, want)
		}
	}
}

// TestMeanings: each is complete, and leads to findings there are.
func TestMeanings(t *testing.T) {
	if len(meanings) < 37 {
		t.Errorf("there are %d meanings", len(meanings))
	}
	seen := map[string]bool{}
	for _, m := range meanings {
		if seen[m.Name] || m.Text == "" || m.Do == "" || len(m.keys) < 2 || !strings.HasSuffix(m.Text, ".") {
			t.Errorf("%+v", m)
		}
		seen[m.Name] = true
		if _, ok := finding.Explain(m.Finding); m.Finding != "" && !ok {
			t.Errorf("%s leads to a finding %q that is not there", m.Name, m.Finding)
		}
		if _, ok := finding.Explain(m.Name); ok {
			t.Errorf("%s is also a finding", m.Name)
		}
	}
}

func FuzzFind(f *testing.F) {
	f.Add("no os installed")
	f.Fuzz(func(t *testing.T, s string) { Find(s) })
}
