package fit

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/place"
	"jarlid/internal/core/vintf"
)

const notKnown = "not known"

// unknown is the answer when a fact of the phone is missing; where says how to get it.
func unknown(imageSays, where string) Check {
	return Check{Outcome: Unknown, Image: imageSays, Phone: notKnown, Why: where}
}

const (
	readInRecovery = "it is read in a recovery with a root shell, or out of the vendor image (--vendor)"
	readFromBoot   = "it is read in a recovery with a root shell, or out of the boot image of a firmware " +
		"set (--vendor)"
)

// hasVendor reports whether there is a vendor partition with an interface of its own.
func (q *Question) hasVendor() (yes, known bool) { return q.Card.Yes(card.FactVendor) }

// without is the answer of rules about the vendor's interface on a phone that has none:
// the rule treble has said so.
func without(imageSays string) Check {
	return Check{Outcome: Note, Image: imageSays, Phone: "no vendor interface",
		Why: "there is nothing to hold it against"}
}

func treble(q *Question) Check {
	k := Check{Image: "a generic system", Outcome: Good, Phone: "a vendor partition",
		Why: "system and vendor are apart, so the one can be exchanged"}
	yes, known := q.hasVendor()
	switch {
	case !known:
		return unknown(k.Image, "whether a vendor partition has the published interface (Treble) is "+
			"reported by the "+
			"running system, or "+readInRecovery)
	case !yes && place.There(q.Card, "vendor"):
		k.Outcome, k.Phone = Stop, "no vendor interface"
		k.Why = "the vendor partition does not have the published interface (Treble), so a generic system " +
			"finds " +
			"nothing of the maker's to work with"
	case !yes:
		k.Outcome, k.Phone = Stop, "no vendor partition"
		k.Why = "the phone has no separate vendor partition (Treble), so a generic system finds nothing of " +
			"the maker's to work with"
	}
	return k
}

// width gives the width of an ABI in bits, and its family.
func width(abi string) (bits int, family string) {
	switch {
	case strings.HasPrefix(abi, "arm64"):
		return 64, "arm"
	case strings.HasPrefix(abi, "armeabi"):
		return 32, "arm"
	case abi == "x86_64":
		return 64, "x86"
	case abi == "x86":
		return 32, "x86"
	case strings.HasPrefix(abi, "riscv64"):
		return 64, "riscv"
	}
	return 0, abi
}

func cpu(q *Question) Check {
	im, c := q.Image, q.Card
	k := Check{Image: strings.Join(im.ABIs, ", "), Phone: strings.ReplaceAll(c.Value(card.FactCPUs),
		",", ", ")}
	if len(im.ABIs) == 0 {
		return Check{Outcome: Unknown, Image: notKnown, Phone: k.Phone,
			Why: "the image does not say for which processor it is"}
	}
	if k.Phone == "" {
		return unknown(k.Image, "which programs the phone runs is told by the started system or any "+
			"recovery with a shell")
	}
	have := strings.Split(c.Value(card.FactCPUs), ",")
	bits, family := width(im.ABIs[0])
	_, phoneFamily := width(have[0])
	vendor64 := c.Value(card.FactVendor64)
	k.Outcome, k.Why = Good, fmt.Sprintf("its %d-bit programs run here", bits)
	switch {
	case family != phoneFamily:
		k.Outcome, k.Why = Stop, "it is made for another kind of processor"
	case !slices.Contains(have, im.ABIs[0]):
		k.Outcome, k.Why = Stop, fmt.Sprintf("its %d-bit programs do not run on this phone", bits)
	case bits == 32 && vendor64 == "64":
		k.Outcome, k.Why = Stop, "the programs of the vendor partition are 64-bit, and a 32-bit system has "+
			"no linker for them"
	case bits == 32 && vendor64 == "":
		phoneBits, _ := width(have[0])
		if phoneBits == 64 {
			return unknown(k.Image, "whether the vendor's programs are 64-bit, which a 32-bit system can't "+
				"start: "+readInRecovery)
		}
	case bits == 64 && vendor64 == "32" && !slices.ContainsFunc(im.ABIs, func(s string) bool {
		b, _ := width(s)
		return b == 32
	}):
		k.Outcome, k.Why = Stop, "the programs of the vendor partition are 32-bit, and the image has no "+
			"linker for them"
	}
	return k
}

// binder64 is the API level from which every kernel has the 64-bit form of binder (the
// platform's requirements for kernels, Android 9).
const binder64 = 28

func binder(q *Question) Check {
	imageSays := "64-bit messages"
	if bits, _ := width(strings.Join(q.Image.ABIs, ",")); bits != 64 && q.Image.API < binder64 {
		return Check{Outcome: Note, Image: notKnown, Phone: notKnown,
			Why: "32-bit images of this age came with either form of binder, and do not say which"}
	}
	// The 32-bit form is there in 32-bit kernels alone (drivers/android/Kconfig), and a
	// processor that runs 64-bit programs has a 64-bit one.
	if abi, _, _ := strings.Cut(q.Card.Value(card.FactCPUs), ","); abi != "" {
		if bits, _ := width(abi); bits == 64 {
			return Check{Outcome: Good, Image: imageSays, Phone: "64-bit messages",
				Why: "both speak the same form of binder"}
		}
	}
	config := q.Card.Get(card.FactKernelConf)
	if !config.Known() {
		if api, known := q.Card.Number(card.FactFirstAPI); known && api >= binder64 {
			return Check{Outcome: Good, Image: imageSays, Phone: "64-bit messages, by its age",
				Why: "every phone sold with Android 9 or later has them"}
		}
		return unknown(imageSays, "the kernel's configuration tells; "+readFromBoot)
	}
	if vintf.ParseConfig(config.Value)["CONFIG_ANDROID_BINDER_IPC_32BIT"] == "y" {
		return Check{Outcome: Stop, Image: imageSays, Phone: "32-bit messages",
			Why: "the kernel's binder speaks 32-bit messages, the image's programs 64-bit ones"}
	}
	return Check{Outcome: Good, Image: imageSays, Phone: "64-bit messages",
		Why: "both speak the same form of binder"}
}

var stageWords = map[string]string{
	card.StageKernel:  "its kernel mounts the root",
	card.StageRamdisk: "a first stage in a ramdisk",
	card.StagePlain:   "its root is a ramdisk",
}

func startStyle(q *Question) Check {
	im := q.Image
	says := "lies below the root"
	if im.AsRoot {
		ways := []string{"is the root"}
		if im.KernelStart {
			ways = append(ways, "/init")
		}
		if im.RamdiskStart {
			ways = append(ways, "/system/bin/init")
		}
		if says = strings.Join(ways, ", "); len(ways) == 1 {
			says = "is the root, without any init"
		}
	}
	stage := q.Card.Value(card.FactFirstStage)
	if stage == "" {
		return unknown(says, "what mounts the system is told by the boot image; "+readFromBoot)
	}
	k := Check{Outcome: Good, Image: says, Phone: stageWords[stage],
		Why: "the phone starts images of this style"}
	stop := func(why string) Check { k.Outcome, k.Why = Stop, why; return k }
	switch {
	case stage == card.StagePlain && im.AsRoot:
		return stop("the phone's ramdisk is the root and looks for the system's files at /system; in this " +
			"image they lie one folder deeper")
	case stage != card.StagePlain && !im.AsRoot:
		return stop("the phone mounts the system as its root, and this image has no root in it")
	case stage == card.StageKernel && !im.KernelStart:
		return stop("the phone's kernel mounts the system itself and starts /init, which this image does " +
			"not have")
	case stage == card.StageRamdisk && !im.RamdiskStart:
		return stop("the phone's first stage looks for /system/bin/init, which this image does not have: " +
			"it is of the older style")
	}
	return k
}

// apiOf turns a vendor level into an API level: from 2024 on levels are year and month of
// the platform they go with (202404 is 35), and one a year.
func apiOf(level int64) int64 {
	if level < 202404 {
		return level
	}
	return 35 + (level/100 - 2024)
}

func apiLevel(q *Question) Check {
	says := fmt.Sprintf("%d", q.Image.API)
	if yes, known := q.hasVendor(); known && !yes {
		return without(says)
	}
	have, known := q.Card.Number(card.FactVendorAPI)
	if !known {
		return unknown(says, "the level of the vendor's interface: "+readInRecovery)
	}
	k := Check{Outcome: Good, Image: says, Phone: fmt.Sprintf("vendor %d", have),
		Why: "the system is not older than the vendor's interface"}
	if q.Image.API == 0 {
		return Check{Outcome: Unknown, Image: notKnown, Phone: k.Phone,
			Why: "the image does not state its API level"}
	}
	if int64(q.Image.API) < apiOf(have) {
		k.Outcome, k.Why = Stop,
			fmt.Sprintf("the image is of API level %d, older than the vendor's interface of level %d; "+
				"vendors work with newer systems, not with older ones", q.Image.API, have)
	}
	return k
}

func patchLevel(q *Question) Check {
	says, have := q.Image.Patch, q.Card.Value(card.FactBound)
	if have == "" {
		have = q.Card.Value(card.FactPatch.Of(q.Card.Running()))
	}
	k := Check{Outcome: Good, Image: says, Phone: have,
		Why: "it does not go back behind the patch level the keys of the data are bound to"}
	switch {
	case says == "":
		return Check{Outcome: Unknown, Image: notKnown, Phone: have,
			Why: "the image does not state its security patch level"}
	case have == "":
		return unknown(says, "the patch level of the keys is told by the started system or the boot image; "+
			readFromBoot)
	case says[:min(len(says), 7)] < have[:min(len(have), 7)]:
		k.Outcome, k.Why = Warn, "it goes back behind the patch level the keys of the data are bound to: "+
			"data of today can't be read by it any more, and holes mended since are open again"
	}
	return k
}

// systemPlace gives the partition the image goes to on the slot that is made ready.
func systemPlace(c *card.Card) card.Partition {
	slot := ""
	_, one := c.Number(card.FactSize.Of(card.At("system", "")))
	_, two := c.Number(card.FactSize.Of(card.At("system", "a")))
	if slots, known := c.Slots(); len(slots) > 1 || !known && two && !one {
		slot = c.Running()
		if slot == "" && two {
			slot = "a" // out of a file nobody tells which slot is meant; manufacturers fill the first
		}
	}
	return card.At("system", slot)
}

func room(q *Question) Check {
	says := image.Size(q.Image.Size)
	p := systemPlace(q.Card)
	name := p.String()
	have, known := q.Card.Number(card.FactSize.Of(p))
	if !place.Logical(q.Card, "system") {
		k := Check{Outcome: Good, Image: says, Phone: image.Size(have), Why: "it fits into " + name}
		switch {
		case !known:
			return unknown(says, "how large its system partition is, or how full super is, is told by a "+
				"recovery with a root shell, or kept on a card from there (jarlid card --save)")
		case have < q.Image.Size:
			k.Outcome, k.Why = Stop, fmt.Sprintf("it is larger than %s by %s", name,
				image.Size(q.Image.Size-have))
		}
		return k
	}
	r := place.RoomFor(q.Card, p, q.Image.Size)
	if !r.Known {
		return unknown(says, "how full super is can't be read without root: it is read in a recovery with "+
			"a root shell or in userspace fastboot, or kept on a card from there (jarlid card --save)")
	}
	k := Check{Outcome: Good, Image: says, Phone: fmt.Sprintf("%s is %s", name, image.Size(have)),
		Why: "it fits into what is there"}
	if have < q.Image.Size {
		k.Phone += fmt.Sprintf(", %s are free", image.Size(max(r.Free, 0)))
	}
	var freed []string
	for _, gone := range r.Delete {
		n, _ := q.Card.Number(card.FactSize.Of(gone))
		freed = append(freed, fmt.Sprintf("%s (%s)", gone, image.Size(n)))
	}
	free, told := q.Card.Number(card.FactSuperFree)
	grow := q.Image.Size - have
	switch {
	case !r.Fits:
		k.Outcome, k.Why = Stop, "the slot's part of super is too small for it, whatever goes"
		if len(freed) > 0 {
			k.Why = fmt.Sprintf("the slot's part of super is too small for it, even without %s",
				strings.Join(freed, ", "))
		}
	case told && grow > free+r.Freed:
		k.Outcome, k.Why = Stop,
			fmt.Sprintf("super has only %s left that no partition has, and the image needs %s more",
				image.Size(free), image.Size(grow))
	case len(freed) > 0:
		k.Outcome, k.Why = Warn, "it fits once these go, which flash asks for: "+strings.Join(freed, ", ")
	}
	return k
}

func verifiedBoot(q *Question) Check {
	c := q.Card
	slot := systemPlace(c).Slot
	says := "no hash tree of its own"
	if q.Image.Tree {
		says = "a hash tree of its own"
	}
	if yes, known := c.Yes(card.FactUnlocked); known && !yes {
		return Check{Outcome: Warn, Image: says, Phone: "locked",
			Why: "a locked phone starts only its maker's systems: jarlid unlock, which erases all data"}
	}
	top := card.At("vbmeta", slot)
	flags := c.Get(card.FactFlags.Of(top))
	tree := c.Value(card.FactTree.Of(card.At("system", c.Running())))
	k := Check{Outcome: Good, Image: says}
	switch {
	case c.Value(card.FactSize.Of(top)) == card.Nothing, tree == "none":
		k.Phone, k.Why = "nothing enforced", "the phone has no hash tree for the system to enforce; "+
			"nothing has to be switched off"
	case tree == "off", flags.Known() && flags.Value != "0":
		k.Phone, k.Why = "hash trees are off", "the top vbmeta enforces no hash trees; nothing has to be "+
			"switched off"
	case !flags.Known() && tree == "":
		return unknown(says, "what is enforced stands in the vbmeta: it is read in a recovery with a root "+
			"shell; switching it off where it is off already changes nothing")
	case q.Image.Key != "" && slices.Contains(strings.Split(c.Value(card.FactStageKeys), ","), q.Image.Key):
		k.Phone, k.Why = "its first stage trusts the key",
			"the first stage has the key this generic image is signed with, so nothing has to be switched off"
	default:
		k.Outcome, k.Phone = Warn, "hash trees are enforced"
		k.Why = "the hash tree of the present system is enforced; it has to be switched off in the top " +
			"vbmeta, or the first changed block restarts the phone"
	}
	return k
}

func data(q *Question) Check {
	have := q.Card.Value(card.FactData)
	k := Check{Image: "starts with empty data", Phone: have}
	switch have {
	case "":
		return unknown(k.Image, "a started system or a recovery with a root shell tells; another system's "+
			"data has to be formatted")
	case card.DataFormatted:
		k.Outcome, k.Why = Good, "the data is freshly formatted"
	case card.DataEncrypted:
		k.Outcome, k.Why = Warn, "another system encrypted the data, and this one can't read it: it has to "+
			"be formatted, which erases everything of the owner's"
	default:
		k.Outcome, k.Why = Warn, "apps and settings of another system make a new one restart or misbehave: "+
			"the data has to be formatted"
	}
	return k
}

func baseRule(q *Question) Check {
	k := Check{Outcome: Good, Image: "a whole vendor partition", Phone: "complete",
		Why: "what was read of the vendor partition belongs together"}
	if yes, known := q.hasVendor(); known && !yes {
		return without(k.Image)
	}
	vendor := q.Card.Get(card.FactVNDK)
	api, told := q.Card.Number(card.FactVendorAPI)
	level := int64(0)
	m, known, err := q.manifest()
	if known && err == nil {
		level = int64(m.Level)
	}
	if q.Model != nil && q.Model.Base != nil {
		have := q.Card.Value(card.FactBase)
		b := q.Model.Base
		switch {
		case have == "":
			return unknown(k.Image, "the version of the maker's firmware ("+b.Variable+
				") is told by the bootloader")
		case b.Min != "" && card.CompareVersions(have, b.Min) < 0, b.Max != "" && card.CompareVersions(have,
			b.Max) > 0:
			return Check{Outcome: Warn, Image: k.Image, Phone: have,
				Why: fmt.Sprintf("the maker's firmware is not of the versions custom systems want here (%s "+
					"to %s): write %s first", b.Min, b.Max, cmp.Or(b.From, "the maker's set"))}
		}
	}
	switch {
	case !vendor.Known() || !known:
		return unknown(k.Image, "whether the vendor partition is whole: "+readInRecovery)
	case told && level > 0 && levelOf(apiOf(api)) < level:
		k.Outcome, k.Phone = Warn, fmt.Sprintf("interface of level %d, a manifest of level %d", api, level)
		k.Why = "the parts of the vendor partition are not of one build; write the maker's set or a base " +
			"ROM first"
	}
	return k
}

// levelOf gives the matrix level that goes with an API level (the table of levels under
// "FCM lifecycle": 26 is 1, 27 is 2, and so on to 34 is 8).
func levelOf(api int64) int64 {
	switch {
	case api >= 35:
		return 202404 + (api-35)*100
	case api >= 33: // there are two API levels of Android 12, and one matrix level
		return api - 26
	case api >= 31:
		return 6
	}
	return api - 25
}

func overlaysRule(q *Question) Check {
	k := Check{Outcome: Good, Image: "no maker's resources", Phone: "none",
		Why: "nothing of the vendor's lies over resources of the maker's system"}
	if yes, known := q.hasVendor(); known && !yes {
		return without(k.Image)
	}
	switch have := q.Card.Value(card.FactOverlays); have {
	case "":
		return unknown(k.Image, "overlays in the vendor partition make some generic systems restart; "+
			readInRecovery)
	case "none":
	default:
		k.Outcome, k.Phone = Warn, strings.ReplaceAll(have, ",", ", ")
		k.Why = "the vendor partition lies over resources of the maker's system; generic systems are known " +
			"to restart over that until it is moved aside"
	}
	return k
}

func extras(q *Question) Check {
	k := Check{Outcome: Good, Image: strings.Join(q.Image.ABIs, ", ") + ", release " + q.Image.Release,
		Phone: "none were named", Why: "nothing goes on top; --with FILE weighs add-ons too"}
	c := &card.Card{} // of the system as the image makes it
	c.Learn(card.FactCPUs, strings.Join(q.Image.ABIs, ","), card.Model)
	c.Learn(card.FactRelease.Of(""), q.Image.Release, card.Model)
	c.Learn(card.FactLevel.Of(""), strconv.Itoa(q.Image.API), card.Model)
	var names, bad []string
	for _, f := range q.Extras {
		names = append(names, filepath.Base(f.Path))
		for _, found := range place.Addon(f, c) {
			bad = append(bad, found.Text)
		}
	}
	if len(names) > 0 {
		k.Phone, k.Why = strings.Join(names, ", "), "what goes on top is made for this processor and release"
	}
	if len(bad) > 0 {
		k.Outcome, k.Why = Warn, strings.Join(bad, "; ")+": get the one made for this image"
	}
	return k
}
