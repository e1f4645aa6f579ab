package fit

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/script"
	"jarlid/internal/core/vintf"
)

const deviceText = `<manifest version="2.0" type="device" target-level="5">
	<hal format="hidl"><name>android.hardware.audio</name>
	<fqname>@6.0::IDevicesFactory/default</fqname></hal>
	<hal format="hidl"><name>android.hardware.health</name><fqname>@2.1::IHealth/default</fqname></hal>` +
	`</manifest>`

func parseMatrix(t *testing.T, text string) *vintf.Matrix {
	t.Helper()
	x, err := vintf.ParseMatrix([]byte(text))
	if err != nil {
		t.Fatalf("vintf.ParseMatrix([]byte(text)): %v", err)
	}
	return x
}

// asks is the matrix of a level that asks for version 6.0 of one service.
func asks(t *testing.T, level int, service string) *vintf.Matrix {
	return parseMatrix(t, fmt.Sprintf(`<compatibility-matrix version="1.0" type="framework" level="%d"><hal `+
		`format="hidl" optional="false"><name>%s</name><version>6.0</version><interface><name>`+
		`IDevicesFactory</name><instance>default</instance></interface></hal></compatibility-matrix>`, level,
		service))
}

// good is an image and a phone that go together in everything.
func good(t *testing.T) (Question, map[card.Which]string) {
	framework, err := vintf.ParseManifest(
		[]byte(
			`<manifest version="2.0" ` +
				`type="framework"><vendor-ndk><version>30</version></vendor-ndk><system-sdk><version>` +
				`30</version></system-sdk>
		<hal format="hidl"><name>android.hidl.allocator</name><fqname>@1.0::IAllocator/ashmem</fqname>` +
				`</hal></manifest>`))
	if err != nil {
		t.Fatalf("vintf.ParseManifest(...): %v", err)
	}
	im := &Image{Label: "gsi.img", Size: 30 << 20, AsRoot: true, KernelStart: true, RamdiskStart: true,
		Release: "14", Patch: "2026-05-01", API: 34, ABIs: []string{"arm64-v8a", "armeabi-v7a"},
		Machine:  183,
		Link64:   true,
		Link32:   true,
		VNDK:     []string{"29", "30"},
		Policies: []string{"29.0", "30.0"},
		Manifest: framework,
		Matrices: []*vintf.Matrix{
			parseMatrix(t,
				`<compatibility-matrix version="1.0" type="framework" level="5"><hal format="hidl" `+
					`optional="false"><name>android.hardware.audio</name><version>6.0</version><interface>`+
					`<name>IDevicesFactory</name><instance>default</instance></interface></hal>
			<kernel version="4.19.110"><config><key>CONFIG_A</key><value type="tristate">y</value></config>`+
					`</kernel></compatibility-matrix>`)}}
	return Question{Image: im, Path: "gsi.img"}, map[card.Which]string{
		card.FactMode:       "recovery",
		card.FactUnlocked:   "yes",
		card.FactSlots:      "2",
		card.FactStarted:    "a",
		card.FactVendor:     "yes",
		card.FactVNDK:       "30",
		card.FactVendorAPI:  "30",
		card.FactPolicy:     "30.0",
		card.FactFirstAPI:   "30",
		card.FactCPUs:       "arm64-v8a,armeabi-v7a,armeabi",
		card.FactVendor64:   "64",
		card.FactFirstStage: card.StageRamdisk,
		card.FactManifest:   deviceText,
		card.FactMatrix: `<compatibility-matrix version="1.0" type="device"><hal format="hidl" ` +
			`optional="false"><name>android.hidl.allocator</name><version>1.0</version><interface><name>` +
			`IAllocator</name><instance>ashmem</instance></interface></hal>
			<vendor-ndk><version>30</version></vendor-ndk><system-sdk><version>30</version></system-sdk>` +
			`</compatibility-matrix>`,
		card.FactKernel:                          "4.19.191-x",
		card.FactKernelConf:                      "CONFIG_A=y",
		card.FactBound:                           "2021-03",
		card.FactSize.Of(card.At("system", "a")): "33554432",
		card.FactTree.Of(card.At("system", "a")): "off",
		card.FactData:                            card.DataFormatted,
		card.FactOverlays:                        "none"}
}

// TestRules changes one thing at a time of a pair that fits.
func TestRules(t *testing.T) {
	super := func(c map[card.Which]string, group string) {
		delete(c, card.FactSize.Of(card.At("system", "a")))
		c[card.FactSize.Of(card.At("super", ""))], c[card.FactGroupMax] = "67108864", group
		for name, size := range map[string]string{
			"system_a":  "10485760",
			"product_a": "10485760",
			"vendor_a":  "4194304",
		} {
			c[card.FactSize.Of(card.Part(name))], c[card.FactLogical.Of(card.Part(name))] = size, "yes"
		}
	}
	with := func(m map[card.Which]string, name card.Which, value string) { m[name] = value }
	for _, c := range []struct {
		what, check string
		outcome     Outcome
		verdict     string
		change      func(q *Question, c map[card.Which]string)
	}{
		{"nothing", "extras", Good, Fits, func(*Question, map[card.Which]string) {}},
		{"no vendor partition", "treble", Stop, DoesNotFit, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactVendor, "no")
		}},
		{"nobody knows of one", "treble", Unknown, CannotTell, func(_ *Question, c map[card.Which]string) {
			delete(c, card.FactVendor)
			delete(c, card.FactVNDK)
		}},
		{"a phone that says it has no Treble", "treble", Stop, DoesNotFit,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactVendor)
				delete(c, card.FactVNDK)
				with(c, card.FactTreble, "no")
			}},
		{"32-bit image, 64-bit vendor", "cpu", Stop, DoesNotFit, func(q *Question, _ map[card.Which]string) {
			q.Image.ABIs = []string{"armeabi-v7a"}
		}},
		{"32-bit image, 32-bit vendor on a 64-bit kernel", "cpu", Good, Fits,
			func(q *Question, c map[card.Which]string) {
				q.Image.ABIs = []string{"armeabi-v7a"}
				with(c, card.FactCPUs, "armeabi-v7a,armeabi")
				with(c, card.FactVendor64, "32")
			}},
		{"32-bit image, nobody knows of the vendor's programs", "cpu", Unknown, CannotTell,
			func(q *Question, c map[card.Which]string) {
				q.Image.ABIs = []string{"armeabi-v7a"}
				delete(c, card.FactVendor64)
			}},
		{"64-bit image, 32-bit phone", "cpu", Stop, DoesNotFit, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactCPUs, "armeabi-v7a")
		}},
		{"64-bit image without 32-bit programs, 32-bit vendor", "cpu", Stop, DoesNotFit,
			func(q *Question, c map[card.Which]string) {
				q.Image.ABIs = q.Image.ABIs[:1]
				with(c, card.FactVendor64, "32")
			}},
		{"another family", "cpu", Stop, DoesNotFit, func(q *Question, _ map[card.Which]string) {
			q.Image.ABIs = []string{"x86_64"}
		}},
		{"an image that does not say", "cpu", Unknown, CannotTell,
			func(q *Question, _ map[card.Which]string) {
				q.Image.ABIs = nil
			}},
		{"a kernel with 32-bit messages", "binder", Stop, DoesNotFit,
			func(_ *Question, c map[card.Which]string) {
				with(c, card.FactKernelConf, "CONFIG_A=y\nCONFIG_ANDROID_BINDER_IPC_32BIT=y")
				with(c, card.FactCPUs, "armeabi-v7a")
			}},
		{"an old 32-bit phone whose kernel is not known", "binder", Unknown, CannotTell,
			func(q *Question, c map[card.Which]string) {
				delete(c, card.FactKernelConf)
				with(c, card.FactFirstAPI, "26")
				with(c, card.FactCPUs, "armeabi-v7a")
				with(c, card.FactVendor64, "32")
				q.Image.ABIs = []string{"armeabi-v7a"}
			}},
		{"a 64-bit phone whose kernel is not known", "kernel", Unknown, FitsCare,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactKernelConf)
			}},
		{"a first stage that finds no init", "start-style", Stop, DoesNotFit,
			func(q *Question, _ map[card.Which]string) {
				q.Image.RamdiskStart = false
			}},
		{"a kernel that finds no init", "start-style", Stop, DoesNotFit,
			func(q *Question, c map[card.Which]string) {
				q.Image.KernelStart = false
				with(c, card.FactFirstStage, card.StageKernel)
			}},
		{"a kernel that mounts the root", "start-style", Good, Fits,
			func(_ *Question, c map[card.Which]string) {
				with(c, card.FactFirstStage, card.StageKernel)
			}},
		{"a root of its own", "start-style", Stop, DoesNotFit, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactFirstStage, card.StagePlain)
		}},
		{"a root of its own, an image for that", "start-style", Good, Fits,
			func(q *Question, c map[card.Which]string) {
				q.Image.AsRoot = false
				with(c, card.FactFirstStage, card.StagePlain)
			}},
		{"sold with Android 10", "start-style", Good, Fits, func(_ *Question, c map[card.Which]string) {
			delete(c, card.FactFirstStage)
		}},
		{"sold with Android 8, one slot", "start-style", Stop, DoesNotFit,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactFirstStage)
				with(c, card.FactFirstAPI, "26")
				with(c, card.FactSlots, "1")
				with(c, card.FactSize.Of(card.At("system", "")), "33554432")
			}},
		{"no first API level", "start-style", Unknown, CannotTell,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactFirstStage)
				delete(c, card.FactFirstAPI)
			}},
		{"something is missing", "vendor-hals", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactManifest, strings.Replace(deviceText, "@6.0", "@5.0", 1))
		}},
		{"what the start waits for is missing", "vendor-hals", Stop, DoesNotFit,
			func(q *Question, c map[card.Which]string) {
				q.Image.Matrices[0] = parseMatrix(t,
					`<compatibility-matrix version="1.0" type="framework" level="5"><hal format="aidl" `+
						`optional="false"><name>android.hardware.graphics.composer3</name><interface><name>`+
						`IComposer</name><instance>default</instance></interface></hal>`+
						`</compatibility-matrix>`)
			}},
		{"what the start waits for is there in its older form", "vendor-hals", Warn, FitsCare,
			func(q *Question, c map[card.Which]string) {
				q.Image.Matrices[0] = parseMatrix(t,
					`<compatibility-matrix version="1.0" type="framework" level="5"><hal format="aidl" `+
						`optional="false"><name>android.hardware.graphics.composer3</name><interface><name>`+
						`IComposer</name><instance>default</instance></interface></hal>`+
						`</compatibility-matrix>`)
				with(c, card.FactManifest, strings.Replace(deviceText, "android.hardware.audio",
					"android.hardware.graphics.composer", 1))
			}},
		{"a level without a matrix", "vendor-hals", Warn, FitsCare,
			func(_ *Question, c map[card.Which]string) {
				with(c, card.FactManifest, strings.Replace(deviceText, `"5"`, `"3"`, 1))
			}},
		{"no target level, and every level is served", "vendor-hals", Good, Fits,
			func(q *Question, c map[card.Which]string) {
				q.Image.Matrices = append(q.Image.Matrices, asks(t, 6, "android.hardware.audio"))
				with(c, card.FactManifest, strings.Replace(deviceText, ` target-level="5"`, "", 1))
			}},
		{"no target level, and a higher one asks for more", "vendor-hals", Warn, FitsCare,
			func(q *Question, c map[card.Which]string) {
				q.Image.Matrices = append(q.Image.Matrices, asks(t, 6, "android.hardware.light"))
				with(c, card.FactManifest, strings.Replace(deviceText, ` target-level="5"`, "", 1))
			}},
		{"no target level, and at a higher one the start waits", "vendor-hals", Unknown, CannotTell,
			func(q *Question, c map[card.Which]string) {
				q.Image.Matrices = append(q.Image.Matrices, asks(t, 6, "android.hardware.keymaster"))
				with(c, card.FactManifest, strings.Replace(deviceText, ` target-level="5"`, "", 1))
			}},
		{"no target level, and a higher one asks for another kernel", "kernel", Unknown, FitsCare,
			func(q *Question, c map[card.Which]string) {
				q.Image.Matrices = append(q.Image.Matrices, parseMatrix(t,
					`<compatibility-matrix version="1.0" type="framework" level="6">`+
						`<kernel version="5.4.1"/></compatibility-matrix>`))
				with(c, card.FactManifest, strings.Replace(deviceText, ` target-level="5"`, "", 1))
			}},
		{"an unread manifest", "vendor-hals", Unknown, CannotTell,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactManifest)
			}},
		{"the vendor asks for an SDK", "framework-hals", Warn, FitsCare,
			func(_ *Question, c map[card.Which]string) {
				with(c, card.FactMatrix,
					`<compatibility-matrix version="1.0" `+
						`type="device"><system-sdk><version>29</version></system-sdk></compatibility-matrix>`)
			}},
		{"an image without a manifest", "framework-hals", Warn, FitsCare,
			func(q *Question, _ map[card.Which]string) {
				q.Image.Manifest = nil
			}},
		{"an older kernel", "kernel", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactKernel, "4.19.100")
		}},
		{"a kernel of another configuration", "kernel", Warn, FitsCare,
			func(_ *Question, c map[card.Which]string) {
				with(c, card.FactKernelConf, "CONFIG_A=m")
			}},
		{"a configuration nobody knows", "kernel", Unknown, FitsCare,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactKernelConf)
			}},
		{"libraries that are not brought", "vndk", Stop, DoesNotFit,
			func(q *Question, _ map[card.Which]string) {
				q.Image.VNDK = []string{"31"}
			}},
		{"a vendor that needs none", "vndk", Good, Fits, func(q *Question, c map[card.Which]string) {
			q.Image.VNDK = nil
			with(c, card.FactVNDK, "none")
		}},
		{"a vendor of no known version", "vndk", Unknown, CannotTell,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactVNDK)
			}},
		{"a policy without a mapping", "policy", Stop, DoesNotFit,
			func(q *Question, _ map[card.Which]string) {
				q.Image.Policies = []string{"31.0"}
			}},
		{"a policy of no known version", "policy", Unknown, CannotTell,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactPolicy)
			}},
		{"an image older than the vendor", "api-level", Stop, DoesNotFit,
			func(q *Question, _ map[card.Which]string) {
				q.Image.API = 29
			}},
		{"a vendor of 2024 and its system", "api-level", Good, Fits,
			func(q *Question, c map[card.Which]string) {
				q.Image.API = 35
				with(c, card.FactVendorAPI, "202404")
			}},
		{"a vendor of 2025 and an older system", "api-level", Stop, DoesNotFit,
			func(q *Question, c map[card.Which]string) {
				q.Image.API = 35
				with(c, card.FactVendorAPI, "202504")
			}},
		{"an older patch level", "patch-level", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactBound, "2026-06")
		}},
		{"the same month", "patch-level", Good, Fits, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactBound, "2026-05")
		}},
		{"too large", "room", Stop, DoesNotFit, func(q *Question, _ map[card.Which]string) {
			q.Image.Size = 33 << 20
		}},
		{"no size told", "room", Unknown, CannotTell, func(_ *Question, c map[card.Which]string) {
			delete(c, card.FactSize.Of(card.At("system", "a")))
		}},
		{"super has room", "room", Good, Fits, func(_ *Question, c map[card.Which]string) {
			super(c, "50331648")
		}},
		{"super has room once something goes", "room", Warn, FitsCare,
			func(_ *Question, c map[card.Which]string) {
				super(c, "41943040")
			}},
		{"super has no room", "room", Stop, DoesNotFit, func(_ *Question, c map[card.Which]string) {
			super(c, "33554432")
		}},
		{"the other slot has what super has", "room", Stop, DoesNotFit,
			func(_ *Question, c map[card.Which]string) {
				super(c, "50331648")
				with(c, card.FactSuperFree, "1048576")
			}},
		{"super can't be read", "room", Unknown, CannotTell, func(_ *Question, c map[card.Which]string) {
			super(c, "50331648")
			delete(c, card.FactGroupMax)
			delete(c, card.FactSize.Of(card.At("system", "a")))
		}},
		{"a tree is enforced", "verified-boot", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactTree.Of(card.At("system", "a")), "enforced")
		}},
		{"a tree is enforced, the first stage has the key", "verified-boot", Good, Fits,
			func(q *Question, c map[card.Which]string) {
				with(c, card.FactTree.Of(card.At("system", "a")), "enforced")
				with(c, card.FactStageKeys, "aa,bb")
				q.Image.Key = "bb"
			}},
		{"no vbmeta", "verified-boot", Good, Fits, func(_ *Question, c map[card.Which]string) {
			delete(c, card.FactTree.Of(card.At("system", "a")))
			with(c, card.FactSize.Of(card.At("vbmeta", "a")), card.Nothing)
		}},
		{"locked", "verified-boot", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactUnlocked, "no")
		}},
		{"a vbmeta nobody read", "verified-boot", Unknown, FitsCare,
			func(_ *Question, c map[card.Which]string) {
				delete(c, card.FactTree.Of(card.At("system", "a")))
			}},
		{"encrypted data", "data", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactData, card.DataEncrypted)
		}},
		{"the maker's firmware is too old", "base", Warn, FitsCare,
			func(q *Question, c map[card.Which]string) {
				q.Model = &model.Model{Base: &model.Base{Variable: "version-baseband", Min: "5.0"}}
				with(c, card.FactBase, "4.9")
			}},
		{"half of another build", "base", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactManifest, strings.Replace(deviceText, `"5"`, `"7"`, 1))
		}},
		{"an overlay", "overlays", Warn, FitsCare, func(_ *Question, c map[card.Which]string) {
			with(c, card.FactOverlays, "A,B")
		}},
		{"an add-on for another processor", "extras", Warn, FitsCare,
			func(q *Question, _ map[card.Which]string) {
				q.Extras = []*ident.File{{Path: "x.zip", Kind: ident.Addon, ABIs: []string{"x86"}}}
			}},
		{"an add-on for another release", "extras", Warn, FitsCare,
			func(q *Question, _ map[card.Which]string) {
				q.Extras = []*ident.File{{Path: "x.zip", Kind: ident.Addon,
					Demands: []script.Demand{{Property: "ro.build.version.release", Values: []string{"13"}}}}}
			}},
		{"an add-on that goes with it", "extras", Good, Fits, func(q *Question, _ map[card.Which]string) {
			q.Extras = []*ident.File{{Path: "x.zip", Kind: ident.Addon, ABIs: []string{"arm64-v8a"}}}
		}},
	} {
		q, facts := good(t)
		c.change(&q, facts)
		q.Card = &card.Card{}
		for name, v := range facts {
			q.Card.Learn(name, v, card.Read)
		}
		v := Judge(q)
		i := slices.IndexFunc(v.Checks, func(k Check) bool { return k.Name == c.check })
		if got := v.Checks[i]; got.Outcome != c.outcome || v.Verdict != c.verdict || got.Why == "" ||
			got.Image == "" || got.Phone == "" {
			t.Errorf("%s: %+v, %s (%s), want %s, %s", c.what, got, v.Verdict, v.Sentence, c.outcome,
				c.verdict)
		}
		if (len(v.Todo) == 0) != (v.Verdict == DoesNotFit) {
			t.Errorf("%s: %s, to do: %q", c.what, v.Verdict, v.Todo)
		}
	}
	for _, n := range Names() {
		if x, ok := Explain(n); !ok || x.Meaning == "" || x.Why == "" || x.Remedy == "" {
			t.Errorf("%s is not explained", n)
		}
	}
}

// TestBars: the room before and after, worked out by hand.
func TestBars(t *testing.T) {
	q, facts := good(t)
	delete(facts, card.FactSize.Of(card.At("system", "a")))
	for name, v := range map[card.Which]string{card.FactSize.Of(card.Part("super")): "104857600",
		card.FactGroupMax:                           "41943040",
		card.FactSize.Of(card.Part("system_a")):     "10485760",
		card.FactLogical.Of(card.Part("system_a")):  "yes",
		card.FactSize.Of(card.Part("product_a")):    "10485760",
		card.FactLogical.Of(card.Part("product_a")): "yes",
		card.FactSize.Of(card.Part("vendor_a")):     "4194304",
		card.FactLogical.Of(card.Part("vendor_a")):  "yes",
		card.FactSize.Of(card.Part("system_b")):     "10485760",
		card.FactLogical.Of(card.Part("system_b")):  "yes"} {
		facts[name] = v
	}
	q.Card = &card.Card{}
	for name, v := range facts {
		q.Card.Learn(name, v, card.Read)
	}
	before, after, known := q.Bars()
	const mib = 1 << 20
	if !known || !slices.Equal(before.Segments, []Segment{
		{"product_a", 10 * mib, false},
		{"system_a", 10 * mib, false},
		{"vendor_a", 4 * mib, false},
		{"", 16 * mib, false},
	}) ||
		!slices.Equal(after.Segments, []Segment{
			{"system_a", 30 * mib, true},
			{"vendor_a", 4 * mib, false},
			{"", 6 * mib, false},
		}) || after.Over != 0 || after.Total != 40*mib {
		t.Errorf("before %+v, after %+v", before, after)
	}
	q.Image.Size = 50 * mib
	if _, after, _ = q.Bars(); after.Over != 14*mib {
		t.Errorf("too large: %+v", after)
	}
}
