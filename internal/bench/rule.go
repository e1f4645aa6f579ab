package bench

import (
	"fmt"
	"strings"
)

// RuleFile is where the rule belongs. Its number is between 50, before which the kinds of
// interfaces are not known (50-udev-default.rules imports usb_id), and 73, where the rights of
// whoever sits at the computer are set (73-seat-late.rules looks for the tag uaccess).
const RuleFile = "/etc/udev/rules.d/60-jarlid.rules"

// Rule gives this user the phones, on Linux: every device with an interface that speaks
// fastboot or ADB, whoever made it (udev(7); ID_USB_INTERFACES is set by the builtin usb_id).
const Rule = `# Phones in a mode that speaks ADB or fastboot, for whoever sits at this computer
# and for the group plugdev. As root:
#   save this as ` + RuleFile + `
#   udevadm verify ` + RuleFile + `   (systemd 254 and later)
#   udevadm control --reload && udevadm trigger --subsystem-match=usb
# For a user who logs in from elsewhere: usermod -aG plugdev USER, and log in anew.
SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_device", ENV{ID_USB_INTERFACES}=="*:ff4201:*", ` +
	`MODE="0660", GROUP="plugdev", TAG+="uaccess"
SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_device", ENV{ID_USB_INTERFACES}=="*:ff4203:*", ` +
	`MODE="0660", GROUP="plugdev", TAG+="uaccess"
`

// RuleFor is that rule with the serial lines of the manufacturers' loaders that model files know: they too
// are this user's, and no program that looks for modems says the first words on them
// (ModemManager's ID_MM_DEVICE_IGNORE).
func (b *Bench) RuleFor() string {
	text := Rule
	for _, m := range b.Models {
		if m.Loader == nil {
			continue
		}
		for _, id := range m.Loader.USB {
			vendor, product, _ := strings.Cut(id, ":")
			text += fmt.Sprintf("SUBSYSTEM==\"tty\", ATTRS{idVendor}==%q, ATTRS{idProduct}==%q, "+
				"ENV{ID_MM_DEVICE_IGNORE}=\"1\", MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\"\n",
				vendor, product)
		}
	}
	return text
}
