package disk

import "fmt"

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
	plain, mapped := 0, 0
	for _, name := range st.All() {
		d := Block{Partition: name}
		if st.Has(name) {
			plain++
			d.Kernel, d.Number = fmt.Sprintf("sda%d", plain), fmt.Sprintf("259:%d", plain)
		} else {
			if st.Unmapped.Load() {
				continue
			}
			d.Kernel, d.Number, d.Mapped = fmt.Sprintf("dm-%d", mapped), fmt.Sprintf("253:%d", mapped), true
			mapped++
		}
		if v, err := st.Open(name); err == nil {
			d.Size = v.Size
			v.Close()
		}
		list = append(list, d)
	}
	return list
}
