package phone

import (
	"errors"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Bar is what keeps this program from a phone that is awaited and is there: another program that has it,
// rights or a driver that lack, a line that is silent. It may pass: other programs look at what is new on a
// cable too, rights come late, and a loader's line is there before the loader is confirmed.
type Bar struct {
	stop   *finding.StopError
	since  time.Time
	warned bool
}

// Saw takes the outcome of a try to connect.
func (b *Bar) Saw(err error) {
	var stop *finding.StopError
	switch {
	case !errors.As(err, &stop) || stop.Findings[0].Name == finding.SeveralPhones ||
		wire.NotAuthorised(err) != nil:
		*b = Bar{}
	case b.stop == nil || b.stop.Findings[0].Name != stop.Findings[0].Name:
		*b = Bar{stop: stop, since: time.Now()}
	}
}

// Lasts reports whether it is no passing thing.
func (b *Bar) Lasts() bool { return b.stop != nil && time.Since(b.since) > settle }

// Warn tells of one that lasts, once, where the phone is waited for all the same.
func (b *Bar) Warn(obs say.To) {
	if b.Lasts() && !b.warned {
		b.warned = true
		WarnOf(obs, b.stop)
	}
}

// WarnOf tells of what would be a stop, where it is none since the work is done without it.
func WarnOf(obs say.To, stop *finding.StopError) {
	for _, f := range stop.Findings {
		f.Severity = finding.Warn
		obs.Found(f)
	}
}
