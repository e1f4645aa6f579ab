package plan

import (
	"time"

	"jarlid/internal/core/card"
)

// What is expected of a phone, for planning an evening and no more: our own estimates for a USB 2
// cable (whose bulk transfers reach some 50 MB/s at best, USB 2.0 specification, chapter 5.8.4) and
// a phone's flash memory, on the slow side.
const (
	expectSend    = 20 << 20 // bytes a second into a partition
	expectInstall = 8 << 20  // ... of a package, which is checked and unpacked
	expectRestart = 45 * time.Second
	expectStart   = 5 * time.Minute // a first start
	expectFormat  = 20 * time.Second
	expectStep    = 2 * time.Second
	expectAnswer  = time.Minute // somebody at the phone
)

// Expect gives how many bytes a step sends, and about how long it takes.
func Expect(s Step, c *card.Card) (bytes int64, takes time.Duration) {
	at := func(n, rate int64) time.Duration {
		return time.Duration(float64(n) / float64(rate) * float64(time.Second))
	}
	takes = expectStep
	switch s := s.(type) {
	case *Write:
		bytes = s.File.Content()
		takes += at(bytes, expectSend)
	case *Try:
		bytes = s.File.Content()
		takes += at(bytes, expectSend) + expectRestart
	case *Graft:
		bytes = s.File.Content() * int64(len(s.Into)) // about as much is read, and written again
		takes += at(2*bytes, expectSend) + expectRestart
	case *Sideload:
		bytes = s.File.Size
		takes += at(bytes, expectInstall)
	case *Put:
		bytes = s.File.Size
		takes += at(bytes, expectSend)
	case *InstallFrom:
		takes += at(s.File.Size, expectInstall)
	case *InstallApp:
		bytes = s.File.Size
		takes += at(bytes, expectInstall)
	case *RestoreFiles:
		for _, f := range s.Item.Files {
			bytes += f.Bytes
		}
		takes += at(bytes, expectSend)
	case *CopySlot:
		if n, ok := c.Number(card.FactSize.Of(s.Source())); ok {
			takes += at(n, expectSend)
		}
	case *FormatData, *Erase, *WipeArea:
		takes += expectFormat
	case *Unlock, *Relock:
		takes += expectFormat + expectRestart
	case *Restart:
		takes = expectRestart
		if s.To == card.System {
			takes = expectStart
		}
	}
	if ByHand(s, c) != "" {
		takes += expectAnswer
	}
	return bytes, takes
}
