package e2e

// noBackupWays lose what is in the storage.
func noBackupWays(l *lab) []way {
	kit := kitOf(l.T, "turnstone", 1)
	l.standin("turnstone") // whose storage can be read in its recovery
	l.inRecovery("turnstone", kit.recovery)
	const s, keep = "note  no-backup", "todo  keep it first: jarlid backup take storage -o DIR"
	readable := []way{w(3, keep, "wipe", "userdata"), w(3, keep, "wipe", "storage"),
		w(3, keep, "wipe", "part:userdata"), l.bySheet(0, keep, "check", "  - wipe: userdata\n", "")}
	for _, x := range readable {
		l.want(x.code, []string{s, x.says}, append(x.words, "--on", "turnstone")...)
	}
	l.standin(l.model("other", "serial: WL-DU-0007", "serial: WL-DU-0008"), "--as", "locked", "--locked")
	l.standin("dunlin")
	l.inRecovery("dunlin", files.Recovery)
	image, wiping := l.file("userdata.img", make([]byte, 1<<20)), l.file("wiping.zip", wipingPackage())
	list := []way{w(3, s, "wipe", "userdata"), w(3, s, "wipe", "storage"), w(3, s, "wipe", "part:userdata"),
		w(3, s, "wipe", "part:metadata"), w(3, s, "relock"), w(3, s, "flash", image, "--into", "userdata"),
		w(3, s, "flash", image, "--into", "metadata"), w(3, s, "sideload", wiping),
		w(3, s, "put", wiping, "--to", "sd", "--install"),
		l.bySheet(0, s, "check", "  - wipe: userdata\n", "")}
	for i := range list {
		list[i].words = append(list[i].words, "--on", "dunlin")
	}
	return append(list, w(3, s, "unlock", "--on", "locked"))
}

// messageWays leave a message in misc: the system of a set can't use the data of a ROM, and gives up.
func messageWays(l *lab) []way {
	kit := kitOf(l.T, "turnstone", 1)
	l.standin("turnstone")
	l.inRecovery("turnstone", kit.recovery)
	l.want(0, nil, "wipe", "userdata", "--yes")
	l.want(0, nil, "sideload", kit.more.Package, "--yes")
	l.did("turnstone", "", nil, "go", "system", "--yes")
	l.did("turnstone", "", nil, "go", "bootloader", "--yes")
	l.want(0, nil, "flash", kit.more.Set, "--yes")
	l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
	l.later("turnstone", "volume-up+power")
	l.want(0, nil, "go", "recovery", "--yes")
	// The set's system can't use the ROM's data, and gives up.
	l.want(5, []string{"came up in recovery instead of system"}, "go", "system", "--yes")
	const s = "--prompt_and_wipe_data --reason=data_unreadable in misc"
	return []way{w(0, s), w(6, s, "arrive", "--wait", "1m"), w(0, "data_unreadable", "card", "--json"),
		w(0, "next  jarlid wipe apps caches --on turnstone"),
		w(5, "next  jarlid wipe apps caches --on turnstone", "go", "system", "--yes"),
		w(0, "caches wiped", "wipe", "apps", "caches", "--yes"), w(0, "next  jarlid go system"),
		w(0, "in misc when it gave up", "go", "system", "--yes", "--wait", "1m")}
}

// circleWays follow what is said where no slot can start, up to a system that starts.
func circleWays(l *lab) []way {
	kit := kitOf(l.T, "avocet", 2)
	l.standin("avocet")
	l.want(0, nil, "wipe", "vendor@a", "vendor@b", "--yes")
	l.want(5, []string{"next  jarlid slot use a"}, "go", "system", "--yes", "--accept", "slot-empty")
	return []way{w(0, "next  jarlid slot use a"),
		w(3, "todo  choose one, which gives its tries back: jarlid slot use a", "go", "recovery"),
		w(3, "jarlid slot use a", "go", "fastbootd"),
		w(3, "jarlid slot use a", "flash", kit.more.Set, "--into", "@a", "--accept", "risky-partition"),
		w(0, "next  jarlid recovery install FILE", "slot", "use", "a", "--yes"),
		w(0, "next  jarlid go recovery", "recovery", "install", kit.recovery, "--yes"),
		w(0, "next  jarlid sideload PACKAGE", "go", "recovery"), w(0, "vendor_a was erased"),
		w(3, "todo  jarlid wipe userdata", "sideload", kit.more.Package),
		w(0, "next  jarlid sideload PACKAGE", "wipe", "userdata", "--yes"),
		w(0, "next  jarlid go system", "sideload", kit.more.Package, "--yes")}
}
