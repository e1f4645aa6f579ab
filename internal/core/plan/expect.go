package plan

import (
	"time"

	"jarlid/internal/core/card"
)

// What is expected of a phone, for planning an evening and no more: our own estimates for a USB 2
// cable (whose bulk transfers reach some 50 MB/s at best, USB 2.0 specification, chapter 5.8.4) and
// a phone's flash memory, on the slow side.
const (
	expectSend    = 20 << 20 // bytes per second into a partition
	expectInstall = 8 << 20  // ... of a package, which is checked and extracted
	expectRestart = 45 * time.Second
	expectStart   = 5 * time.Minute // a first boot
	expectFormat  = 20 * time.Second
	expectStep    = 2 * time.Second
	expectAnswer  = time.Minute // somebody at the phone
)

// atRate gives how long n bytes take at a rate in bytes per second.
func atRate(n, rate int64) time.Duration {
	return time.Duration(float64(n) / float64(rate) * float64(time.Second))
}

// Expect gives how many bytes a step sends, and about how long it takes with somebody at the phone.
func Expect(s Step, c *card.Card) (bytes int64, takes time.Duration) {
	bytes, takes = s.Estimate(c)
	if s.ByHand(c) != "" {
		takes += expectAnswer
	}
	return bytes, takes
}
