package phone

import (
	"context"
	"errors"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/usb"
	"jarlid/internal/phone/wire"
)

// Seen is a phone that answered a look, with what was read.
type Seen struct {
	*Phone
	Mode    card.Mode
	Address string
	Card    *card.Card
	Denied  *adb.NotAuthorisedError // it is there and does not know this computer
	Busy    bool                    // another jarlid works on it, so it was not asked
	// Stop is what keeps this computer from a phone on a cable; it is there and was not asked.
	Stop *finding.Finding
	// Failed is why it could not be read, though something answered.
	Failed error
	// Device is what it is on a cable; nil when it is on none.
	Device *usb.Device
}

// Look connects, reads and lets go again. A phone that another jarlid works on is not
// asked: Busy.
func (p *Phone) Look(ctx context.Context) (*Seen, error) {
	unlock, err := p.Lock(p.LockNames()...)
	if err == ErrBusy {
		return &Seen{Phone: p, Busy: true, Card: &card.Card{}}, nil
	}
	if err != nil {
		return nil, err
	}
	defer unlock()
	s, err := p.Connect(ctx, nil)
	seen := &Seen{Phone: p, Card: &card.Card{}}
	var stop *finding.StopError
	switch denied := wire.NotAuthorised(err); {
	case denied != nil:
		seen.Mode, seen.Denied = card.System, denied
		seen.at(p.AdbAddress())
		return seen, nil
	case errors.As(err, &stop) && len(p.Addresses()) > 0:
		seen.Stop = &stop.Findings[0]
		seen.at(p.Addresses()[0])
		return seen, nil
	case err != nil:
		return nil, err
	}
	defer s.Close()
	if err := s.Read(ctx); err != nil {
		return nil, err
	}
	seen.Mode, seen.Card = s.Mode(), s.Card
	seen.at(s.Address())
	return seen, nil
}

// at notes where the phone is.
func (s *Seen) at(a wire.Address) {
	s.Address = a.String()
	if d, ok := s.Phone.Device(a); ok {
		s.Device = &d
	}
}
