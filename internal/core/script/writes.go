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
		if device := call.Args[at].Text; strings.Contains(device, byName) && !slices.Contains(names, path.Base(device)) {
			names = append(names, path.Base(device))
		}
	})
	return names
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
