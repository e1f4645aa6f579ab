package disk

import (
	"fmt"
	"maps"
	"slices"
)

// Block is a partition as the phone's kernel has it.
type Block struct {
	Partition string // its full name
	Kernel    string // sda5, dm-3
	Number    string // major:minor
	Size      int64  // bytes
	Mapped    bool   // by the device mapper: a logical partition
}

// Blocks are the block devices there are now: logical ones where the recovery maps them.
func (st *Disk) Blocks() (list []Block) {
	for i, name := range slices.Sorted(maps.Keys(st.Sizes)) {
		list = append(list, Block{Partition: name, Kernel: fmt.Sprintf("sda%d", i+1),
			Number: fmt.Sprintf("259:%d", i+1), Size: st.Sizes[name]})
	}
	m, err := st.Super()
	if err != nil || st.Unmapped.Load() {
		return list
	}
	for i := range m.Partitions {
		list = append(list, Block{Partition: m.Partitions[i].Name, Kernel: fmt.Sprintf("dm-%d", i),
			Number: fmt.Sprintf("253:%d", i), Size: m.Partitions[i].Size(), Mapped: true})
	}
	return list
}
