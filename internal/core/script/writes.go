package script

import (
	"path"
	"slices"
	"strings"
)

// writers are the functions that write a whole partition, and which argument names it
// (bootable/recovery, updater/install.cpp and updater/blockimg.cpp).
var writers = map[string]int{"block_image_update": 0, "package_extract_file": 1, "write_raw_image": 1}

// byName is the folder in which partitions are found by their names, wherever a chip has it
// (system/core/init/devices.cpp).
const byName = "/by-name/"

// Writes gives the partitions the script writes whatever the phone says, by the names it has for them, in
// its order. What stands behind a condition, or is put together from properties, is not guessed.
func (n *Node) Writes() (names []string) {
	n.always(func(call *Node) {
		at, ok := writers[call.Text]
		if !ok || at >= len(call.Args) || call.Args[at].Op != "string" {
			return
		}
		if device := call.Args[at].Text; strings.Contains(device, byName) && !slices.Contains(names,
			path.Base(device)) {
			names = append(names, path.Base(device))
		}
	})
	return names
}

// Wipes reports whether the script formats or empties the owner's data whatever the phone says: the functions
// format(type, kind, device, size, folder), wipe_block_device(device, size) and delete_recursive(folder ...)
// (bootable/recovery, updater/install.cpp).
func (n *Node) Wipes() (yes bool) {
	n.always(func(call *Node) {
		data := func(at int) bool {
			if at >= len(call.Args) || call.Args[at].Op != "string" {
				return false
			}
			text := strings.ToLower(call.Args[at].Text)
			return path.Clean(text) == "/data" || strings.Contains(text, byName) &&
				path.Base(text) == "userdata"
		}
		switch call.Text {
		case "format":
			yes = yes || data(2) || data(4)
		case "wipe_block_device":
			yes = yes || data(0)
		case "delete_recursive":
			for i := range call.Args {
				yes = yes || data(i)
			}
		}
	})
	return yes
}

// always gives the calls that are made however conditions turn out, the inner ones first.
func (n *Node) always(each func(*Node)) {
	args := n.Args
	if n.Op == "if" || n.Op == "||" || n.Op == "&&" || n.Op == "call" && n.Text == "ifelse" && len(args) > 1 {
		args = args[:1] // the rest is made or not
	}
	for _, a := range args {
		a.always(each)
	}
	if n.Op == "call" {
		each(n)
	}
}
