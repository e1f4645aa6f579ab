package screen

import (
	"strings"
	"testing"

	"jarlid/internal/core/finding"
)

// TestFind types what people type.
func TestFind(t *testing.T) {
	for text, want := range map[string]string{
		"there is no system here, start all the same?":            "no-system harmless",
		"no system found anywhere!!":                              "no-system harmless",
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
		"red verification failed on the loader's screen":          "loader-unsigned harmless",
		"partition not found":                                     "no-partition act",
		"waiting for any device":                                  "waiting-for-device act",
		"Android is preparing apps 3 of 90":                       "optimising-apps wait",
		// Each answer was worked out by hand before it was looked for.
		"the transfer broke off at 80 percent":                       "transfer-broken act",
		"data transfer failed, connection lost":                      "transfer-broken act",
		"the cable was pulled while it was sending, connection lost": "transfer-broken act",
		"sideload interrupted":                                       "transfer-broken act",
		"the connection closed at the end without a " +
			"last word": "transfer-dropped harmless",
		"the updater process ended with error 7":     "status-error act",
		"error 1 while installing the zip":           "status-error act",
		"install failed, status 255":                 "status-error act",
		"package could not be installed, code 20":    "status-error act",
		"can't load the system, data may be corrupt": "can-not-load-system act",
		"the phone could not start the system, your data might be damaged, " +
			"erase it?": "can-not-load-system act",
		"the system can not use the data, erase everything or " +
			"try again": "can-not-load-system act",
		"kernel is not enforcing":                      "kernel-not-enforcing harmless",
		"the kernel does not enforce its security":     "kernel-not-enforcing harmless",
		"the maker's picture comes again and again":    "restart-loop act",
		"it shows the logo, goes dark and begins over": "restart-loop act",
		"switches on straight into the bootloader":     "straight-to-bootloader act",
		"always starts in fastboot":                    "straight-to-bootloader act",
		"recovery shows 0 MB of storage":               "storage-zero act",
		"internal storage 0mb":                         "storage-zero act",
		"wants a PIN and nobody set one":               "pin-nobody-set act",
		"asks for a code I never set":                  "pin-nobody-set act",
		"no SIM card after flashing":                   "radio-gone act",
		"wifi does not switch on any more":             "radio-gone act",
		"imei is empty":                                "numbers-gone act",
		"baseband unknown":                             "numbers-gone act",
		"downloading, do not turn off the phone":       "makers-download act",
		"it is in download mode":                       "makers-download act",
		"too many symbolic links":                      "too-many-links act",
		"patching the system image unconditionally":    "unconditional-patching wait",
		"your phone has loaded a different " +
			"operating system": "other-system-loaded harmless",
		"bootloader is unlocked and the software integrity cannot be " +
			"guaranteed": "unlocked-warning harmless",
		"dm-verity corruption, press power":                              "corrupt-device act",
		"settings app keeps stopping":                                    "app-keeps-stopping act",
		"the first start shows the animation for 20 minutes":             "logo-for-long wait",
		"not enough room in the system partition":                        "no-space act",
		"this package is for another device":                             "wrong-device act",
		"package is older than the current build, downgrade not allowed": "older-build act",
		"slot b is unbootable":                                           "slot-unbootable act",
		"no valid slot to boot":                                          "slot-unbootable act",
		"snapshot update in progress":                                    "snapshot-refusal act",
		"battery too low":                                                "battery-refusal act",
		"screen stays black":                                             "black-screen act",
		"the zip is corrupt":                                             "zip-damaged act",
		"whole file signature is wrong":                                  "signature-refused act",
		"please enter the password to decrypt":                           "decrypt-password act",
		"encryption was interrupted, reset the phone":                    "encryption-broken act",
		"this device is not certified":                                   "not-certified harmless",
		"the sd card is damaged":                                         "card-unreadable act",
		"usb device not recognised":                                      "cable-unknown act",
		"phone is not found on the computer":                             "waiting-for-device act",
		"the weather is nice":                                            "",
		"":                                                               "",
		"error":                                                          "",
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
	if len(meanings) < 55 {
		t.Errorf("there are %d meanings", len(meanings))
	}
	seen := map[string]bool{}
	for _, m := range meanings {
		if seen[m.Name] || m.Text == "" || m.Do == "" || len(m.keys) < 2 || !strings.HasSuffix(m.Text, ".") {
			t.Errorf("%+v; unwanted: seen[m.Name] || m.Text == '' || m.Do == '' || len(m.keys) < 2 ...", m)
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
	f.Add("there is no system")
	f.Fuzz(func(t *testing.T, s string) { Find(s) })
}
