package host

import "time"

// Stamp identifies the contents of a file without reading them: a file that was written, replaced or
// moved has another one.
type Stamp struct {
	Device   uint64 `json:"device"`
	Inode    uint64 `json:"inode"`
	Size     int64  `json:"size"`     // bytes
	Modified int64  `json:"modified"` // nanoseconds since 1970, of the contents
	Changed  int64  `json:"changed"`  // of the file's own record, which nobody can set
}

// grain is the coarsest step in which the file systems of the supported systems stamp files: a
// kernel's tick of 10 ms, and another one for a clock that was read late.
const grain = 20 * time.Millisecond

// Settled reports whether a change from now on would give the file another stamp. One that was written
// within the last tick could be written again under the same times.
func (s Stamp) Settled() bool {
	last := time.Unix(0, max(s.Modified, s.Changed))
	return s.Inode != 0 && clock().Sub(last) > grain
}
