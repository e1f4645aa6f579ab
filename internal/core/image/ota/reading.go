package ota

import "slices"

// Reading follows which ranges of a package a phone asks for and tells from
// them what it is doing. A recovery reads a package more than once: the whole,
// to check it; then the payload, to write it; single blocks in between. So no
// percentage of the file is the percentage of the install.
type Reading struct {
	Served   int64 // bytes handed out, repeats counted
	Distinct int64 // bytes handed out at least once
	Pass     int   // 1: the first time through; 2: the second; ...

	size, block  int64
	payload, end int64 // the payload's range, 0,0 when not known
	times        []uint8
	last         int64 // block asked for last
	run          int64 // blocks in a row up to it
	begin        int64 // the first block of that row
}

// settleRun is how many blocks in a row make a pass: single blocks read out
// of order (a zip's table of contents) do not.
const settleRun = 4

// NewReading follows a package of size bytes served in blocks of block bytes.
// payload and payloadSize are where its payload lies, 0 when it has none.
func NewReading(size, block, payload, payloadSize int64) *Reading {
	return &Reading{size: size, block: block, payload: payload, end: payload + payloadSize,
		times: make([]uint8, (size+block-1)/block), last: -2}
}

// Ask takes note of one block handed out: n bytes at offset off.
func (r *Reading) Ask(off, n int64) {
	i := off / r.block
	if i < 0 || i >= int64(len(r.times)) {
		return
	}
	r.Served += n
	if r.times[i] == 0 {
		r.Distinct += n
	}
	if r.times[i] < 255 {
		r.times[i]++
	}
	if i == r.last+1 {
		r.run++
	} else {
		r.run, r.begin = 1, i
	}
	r.last = i
	if r.Pass == 0 || r.run >= settleRun || int64(len(r.times)) < settleRun {
		// The block of these that was asked for least tells: the others may
		// have been read out of order before.
		from := max(0, i-min(r.run, settleRun)+1)
		r.Pass = max(r.Pass, int(slices.Min(r.times[from:i+1])))
	}
}

// Whole reports whether the phone has read everything at least once, and in its
// last pass up to the end: what comes then is up to the phone.
func (r *Reading) Whole() bool {
	_, done, total := r.Doing()
	return r.Pass >= 2 && r.Distinct >= r.size && done >= total
}

// Doing says in words what the phone is doing, with how far it is in this
// pass and how long the pass is, both in bytes.
func (r *Reading) Doing() (what string, done, total int64) {
	at := min((r.last+1)*r.block, r.size)
	switch {
	case r.Pass == 0:
		return "waiting for the phone to begin", 0, r.size
	case r.Pass == 1:
		return "first time through", r.Distinct, r.size
	}
	what = "second time"
	if r.Pass > 2 {
		what = "once more"
	}
	if r.end > r.payload && r.begin >= r.payload/r.block && at >= r.payload {
		return what + ", only the payload", min(at, r.end) - r.payload, r.end - r.payload
	}
	return what + " through", at, r.size
}
