package place

import (
	"fmt"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/vbmeta"
)

// LearnVBMeta gives the facts that a vbmeta image in a partition of a slot states: which
// hash trees it enforces, and, of the top one, its flags.
func LearnVBMeta(m *vbmeta.Image, p card.Partition, learn func(w card.Which, value string)) {
	if p.Base == "vbmeta" {
		learn(card.FactFlags.Of(p), fmt.Sprint(m.Flags))
	}
	for i := range m.Descriptors {
		if d := &m.Descriptors[i]; d.Tag == vbmeta.TagHashtree {
			learn(card.FactTreeRoot.Of(card.At(d.PartitionName, p.Slot)), fmt.Sprintf("%x", d.Digest))
		}
	}
}
