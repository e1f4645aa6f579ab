package plan

import (
	"slices"
	"testing"

	"jarlid/internal/core/place"
)

// TestCost: what one step changes is not kept by another one.
func TestCost(t *testing.T) {
	c := phone()
	home := place.RecoveryHome(c)
	ab := &Sideload{File: rom("dunlin", "boot", "system")}
	for _, tt := range []struct {
		name  string
		steps []Step
		want  []string
	}{
		{"the data", []Step{&FormatData{}}, []string{"the system, the recovery and the bootloader",
			"a memory card"}},
		{"the data, and a ROM", []Step{&FormatData{}, ab}, []string{"the recovery and the bootloader",
			"a memory card"}},
		{"and a recovery before both", []Step{&Write{Partition: "recovery", Slot: "a", File: rom("dunlin"),
			Home: home, Recovery: true}, &FormatData{}, ab}, []string{"the bootloader", "a memory card"}},
		{"the apps", []Step{&WipeArea{Area: "apps"}}, []string{"shared storage: pictures, downloads, files",
			"a memory card"}},
		{"the apps and the storage", []Step{&WipeArea{Area: "apps"}, &WipeArea{Area: "storage"}},
			[]string{"a memory card"}},
	} {
		cost := (&Plan{Steps: tt.steps}).Cost(c)
		if got := cost.KeptWords(); !slices.Equal(got, tt.want) {
			t.Errorf("%s: cost.KeptWords() = %q, want %q", tt.name, got, tt.want)
		}
	}
}
