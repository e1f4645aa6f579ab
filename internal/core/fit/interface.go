package fit

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/spell"
	"jarlid/internal/core/vintf"
)

// The rules about what system, vendor and kernel ask of each other.

// manifest gives the device manifest the card keeps, read once; known is false when it keeps
// none.
func (q *Question) manifest() (m *vintf.Manifest, known bool, err error) {
	f := q.Card.Get(card.FactManifest)
	if !f.Known() {
		return nil, false, nil
	}
	if q.device == nil && q.damage == nil {
		q.device, q.damage = vintf.ParseManifest([]byte(f.Value))
	}
	return q.device, true, q.damage
}

// waitedFor are packages whose absence holds up the start itself: the display, the keys
// of the data and the battery's health are waited for before anything is shown.
var waitedFor = []string{"android.hardware.graphics.composer", "android.hardware.graphics.composer3",
	"android.hardware.graphics.allocator",
	"android.hardware.keymaster", "android.hardware.security.keymint", "android.hardware.health"}

func vendorHALs(q *Question) Check {
	im := q.Image
	says := "for levels " + im.levels()
	if yes, known := q.hasVendor(); known && !yes {
		return without(says)
	}
	if len(im.Matrices) == 0 {
		return Check{Outcome: Note, Image: "no matrix", Phone: "-",
			Why: "the image asks nothing of the vendor partition"}
	}
	m, known, err := q.manifest()
	if !known {
		return unknown(says, "the vendor's manifest says what it offers; "+readInRecovery)
	}
	if err != nil {
		return Check{Outcome: Unknown, Image: says, Phone: "damaged", Why: spell.Error(err)}
	}
	k := Check{Outcome: Good, Image: says, Phone: fmt.Sprintf("level %s, %s", levelWord(m.Level),
		services(len(m.Packages()))), Why: "the vendor partition offers everything the image asks for"}
	x, err := vintf.Combine(m.Level, im.Matrices)
	var level *vintf.LevelError
	if errors.As(err, &level) {
		k.Outcome = Warn
		k.Why = fmt.Sprintf("the image has no matrix for phones of level %s; some function may be missing, "+
			"and a warning may appear at each start", levelWord(m.Level))
		return k
	}
	lacks, waits := lacking(x, m)
	switch {
	case waits:
		k.Outcome = Stop
		k.Why = "the start waits for what the vendor partition does not have: " + strings.Join(lacks, "; ")
	case len(lacks) > 0:
		k.Outcome, k.Why = Warn, "the vendor partition lacks what the image asks for, so some function may "+
			"be missing: "+strings.Join(lacks, "; ")
	case m.Level == vintf.Unspecified:
		q.atAnyLevel(m, &k)
	}
	return k
}

// lacking gives what x asks for and m does not offer; waits reports whether the start waits for some of it.
func lacking(x *vintf.Matrix, m *vintf.Manifest) (lacks []string, waits bool) {
	for _, miss := range x.Check(m) {
		lacks = append(lacks, miss.String())
		if len(miss.Has) == 0 && slices.Contains(waitedFor, miss.Package) &&
			!slices.ContainsFunc(m.Packages(), func(p string) bool { return sameService(p, miss.Package) }) {
			waits = true
		}
	}
	return lacks, waits
}

// atAnyLevel corrects a good verdict k on a manifest without a target level: a system takes the lowest one
// then, though the phone may be made for another.
func (q *Question) atAnyLevel(m *vintf.Manifest, k *Check) {
	for _, level := range q.Image.matrixLevels() {
		x, err := vintf.Combine(level, q.Image.Matrices)
		if err != nil {
			continue
		}
		lacks, waits := lacking(x, m)
		if len(lacks) == 0 || k.Outcome == Unknown {
			continue
		}
		k.Outcome = Warn
		if waits {
			k.Outcome = Unknown
		}
		k.Why = fmt.Sprintf("the vendor's manifest states no target level; at level %d the image asks for "+
			"what it lacks: %s", level, strings.Join(lacks, "; "))
	}
}

// sameService reports whether two packages are the older and the newer form of one service.
func sameService(a, b string) bool {
	pairs := map[string]string{"android.hardware.graphics.composer": "android.hardware.graphics.composer3",
		"android.hardware.keymaster": "android.hardware.security.keymint"}
	return a == b || pairs[a] == b || pairs[b] == a
}

func levelWord(n int) string {
	switch n {
	case vintf.Unspecified:
		return "unspecified"
	case -1:
		return "legacy"
	}
	return strconv.Itoa(n)
}

func frameworkHALs(q *Question) Check {
	says := "no manifest"
	if q.Image.Manifest != nil {
		says = services(len(q.Image.Manifest.Packages()))
	}
	if yes, known := q.hasVendor(); known && !yes {
		return without(says)
	}
	text := q.Card.Get(card.FactMatrix)
	if !text.Known() {
		if q.Card.Get(card.FactManifest).Known() {
			return Check{Outcome: Note, Image: says, Phone: "no matrix",
				Why: "the vendor partition asks nothing of the system"}
		}
		return unknown(says, "the vendor's matrix says what it asks for; "+readInRecovery)
	}
	x, err := vintf.ParseMatrix([]byte(text.Value))
	if err != nil {
		return Check{Outcome: Unknown, Image: says, Phone: "damaged", Why: spell.Error(err)}
	}
	k := Check{Outcome: Good, Image: says, Phone: "asks for " + services(len(x.Demands)),
		Why: "the image offers everything the vendor partition asks for"}
	m := q.Image.Manifest
	if m == nil {
		k.Outcome, k.Why = Warn, "the image has no manifest, so nobody can tell whether it offers what the "+
			"vendor partition asks for"
		return k
	}
	level := 0
	if d, known, err := q.manifest(); known && err == nil {
		level = d.Level
	}
	var lacks []string
	for _, miss := range x.Check(m.ForLevel(level)) {
		lacks = append(lacks, miss.String())
	}
	for _, v := range x.CheckSDK(m) {
		lacks = append(lacks, "system SDK "+v)
	}
	for _, v := range x.CheckNDK(m) {
		if !slices.Contains(q.Image.VNDK, v) { // brought in a module, and stated there
			lacks = append(lacks, "vendor NDK "+v)
		}
	}
	if len(lacks) > 0 {
		k.Outcome, k.Why = Warn, "the image lacks what the vendor partition asks for, so some function may "+
			"be missing: "+strings.Join(lacks, "; ")
	}
	return k
}

func kernelRule(q *Question) Check {
	says := "asks nothing"
	if yes, known := q.hasVendor(); known && !yes {
		return without(says)
	}
	m, known, err := q.manifest()
	if !known || err != nil {
		return unknown(notKnown, "which kernels the image asks for depends on the phone's level; "+
			readInRecovery)
	}
	x, err := vintf.Combine(m.Level, q.Image.Matrices)
	if err != nil {
		return Check{Outcome: Note, Image: says, Phone: q.Card.Value(card.FactKernel),
			Why: "without a matrix for this phone's level nothing is asked of its kernel"}
	}
	level := m.KernelLevel
	if level == vintf.Unspecified {
		level = m.Level
	}
	version := q.Card.Value(card.FactKernel)
	var config map[string]string
	if f := q.Card.Get(card.FactKernelConf); f.Known() {
		config = vintf.ParseConfig(f.Value)
	}
	r := x.CheckKernel(version, level, config)
	if len(r.Listed) > 0 {
		says = strings.Join(r.Listed, ", ")
		for _, least := range r.Listed {
			if a, ok := vintf.ParseKernelVersion(least); ok && strings.HasPrefix(version,
				fmt.Sprintf("%d.%d.", a.Version, a.Major)) {
				says = least + " or later"
				break
			}
		}
	}
	k := Check{Outcome: Good, Image: says, Phone: version,
		Why: "the kernel is one of those that are asked for, and configured so"}
	switch {
	case len(r.Listed) == 0:
		k.Why = "nothing is asked of the kernel"
	case version == "":
		return unknown(says, "the kernel's version is told by a shell or the boot image; "+readFromBoot)
	case !r.Version:
		k.Outcome, k.Why = Warn, "the kernel is none of those the image asks for; nothing enforces that at "+
			"the start, and some function may be missing"
	case r.Unknown:
		k.Outcome, k.Why = Unknown, "the version is right; the configuration is in the kernel of the boot "+
			"image, when it carries it: "+readFromBoot
	case len(r.Wrong) > 0:
		var list []string
		for _, w := range r.Wrong {
			list = append(list, w.String())
		}
		k.Outcome, k.Why = Warn, "the kernel is not configured as the image asks, so some function may be "+
			"missing: "+strings.Join(list, ", ")
	case level == vintf.Unspecified:
		q.kernelAtAnyLevel(version, config, &k)
	}
	return k
}

// kernelAtAnyLevel is atAnyLevel for the kernel.
func (q *Question) kernelAtAnyLevel(version string, config map[string]string, k *Check) {
	for _, level := range q.Image.matrixLevels() {
		x, err := vintf.Combine(level, q.Image.Matrices)
		if err != nil {
			continue
		}
		if r := x.CheckKernel(version, level, config); len(r.Listed) > 0 && (!r.Version || len(r.Wrong) > 0) {
			k.Outcome = Unknown
			k.Why = fmt.Sprintf("the vendor's manifest states no target level; at level %d the image asks "+
				"for another kernel or configuration", level)
			return
		}
	}
}

// brought is the answer of a rule about a list of versions the image brings, one of which
// the vendor partition wants.
func brought(q *Question, list []string, fact card.Plain, where, fits, lacks string) Check {
	says := "none"
	if len(list) > 0 {
		says = strings.Join(list, ", ")
	}
	if yes, known := q.hasVendor(); known && !yes {
		return without(says)
	}
	have := q.Card.Value(fact)
	k := Check{Outcome: Good, Image: says, Phone: have, Why: fits}
	switch {
	case have == "":
		return unknown(says, where)
	case have != "none" && !slices.Contains(list, have):
		k.Outcome, k.Why = Stop, fmt.Sprintf(lacks, have)
	}
	return k
}

func vndk(q *Question) Check {
	k := brought(q, q.Image.VNDK, card.FactVNDK, "the vendor's version is told by the started system; "+
		readInRecovery, "the image brings the libraries of the vendor's interface version",
		"the vendor's programs are built for the libraries of version %s (VNDK), and the image does not "+
			"bring them")
	if k.Phone == "none" {
		k.Phone, k.Why = "none needed", "vendor partitions of this level need no such libraries any more"
	}
	return k
}

func policy(q *Question) Check {
	return brought(q, q.Image.Policies, card.FactPolicy, "the version of the vendor's policy: "+
		readInRecovery, "the image maps the policy the vendor partition was built with",
		"the vendor's policy is of version %s, and the image has no mapping for it; no policy can be "+
			"loaded, and nothing starts without")
}

// services counts what one side offers the other.
func services(n int) string {
	if n == 1 {
		return "1 service"
	}
	return fmt.Sprintf("%d services", n)
}
