package phone

import (
	"context"

	"jarlid/internal/core/card"
	"jarlid/internal/phone/shell"
	"jarlid/internal/say"
)

// reader reads facts of one kind, where the mode the phone is in tells them; elsewhere
// it does nothing.
type reader struct {
	// once says that one reading tells all facts of the kind.
	once bool
	read func(ctx context.Context, s *Session, i card.ID) error
}

// readers is the table of facts that are read when somebody needs them, and not at
// every look.
var readers = map[card.Name]reader{
	card.Name(card.FactSize):    {read: readSize},
	card.Name(card.FactSlotted): {read: readSize},
	card.Name(card.FactDigest):  {once: true, read: readFirmware},
	card.Name(card.FactTrusts):  {read: inRecovery((*Session).readTrusted)},
	card.Name(card.FactRoom):    {read: inRecovery((*Session).readRoom)},
	card.Name(card.FactRelease): {once: true, read: inRecovery((*Session).readRelease)},
	card.Name(card.FactLying):   {read: inRecovery((*Session).readLying)},
	card.Name(card.FactFlags): {read: func(ctx context.Context, s *Session, i card.ID) error {
		return s.readVBMeta(ctx, card.Part(i.Key).Slot)
	}},
	card.Name(card.FactTree): {once: true, read: inRecovery((*Session).readTrees)},
	card.Name(card.FactFree): {read: func(ctx context.Context, s *Session, i card.ID) error {
		return s.readStorage(ctx, i.Key)
	}},
	card.Name(card.FactMounted): {read: func(ctx context.Context, s *Session, i card.ID) error {
		return s.readMounted(ctx, i.Key)
	}},
	card.Name(card.FactMayUnlock): {read: readUnlockAbility},
	card.Name(card.FactVendor): {read: func(ctx context.Context, s *Session, _ card.ID) error {
		return s.readVendor(ctx)
	}},
	card.Name(card.FactAccounts): {read: readOwner},
	card.Name(card.FactLock):     {read: readOwner},
}

func inRecovery(read func(*Session, context.Context) error) func(context.Context, *Session, card.ID) error {
	return func(ctx context.Context, s *Session, _ card.ID) error {
		if !s.RootRecovery() {
			return nil
		}
		return read(s, ctx)
	}
}

func readFirmware(ctx context.Context, s *Session, _ card.ID) error {
	if !s.RootRecovery() {
		return nil
	}
	return s.readFirmware(ctx)
}

func readUnlockAbility(ctx context.Context, s *Session, _ card.ID) error {
	if s.Mode() != card.Bootloader {
		return nil
	}
	return s.readUnlockAbility(ctx)
}

func readOwner(ctx context.Context, s *Session, _ card.ID) error {
	if s.Mode() != card.System {
		return nil
	}
	return s.readOwner(ctx)
}

// readSize reads whether a partition is there and how large it is.
func readSize(ctx context.Context, s *Session, i card.ID) error {
	p := card.Part(i.Key)
	if s.vars != nil {
		return s.readPartition(p.Base)
	}
	return s.learnDevices(ctx, p)
}

// Know reads the facts that are wanted and that this mode reports, each once in a session:
// what was read already, or can't be read here, is left as it is known. It reports whether
// anything was read.
func (s *Session) Know(ctx context.Context, wanted []card.ID) (read bool, err error) {
	if !s.Connected() {
		return false, nil
	}
	if s.read == nil {
		s.read = map[string]bool{}
	}
	var past *card.Card // as it was before anything was read
	defer func() {
		if read && err == nil {
			s.setRight(past)
			s.Card.Conclude()
		}
	}()
	for _, i := range wanted {
		r, ok := readers[i.Name]
		if !ok || s.Card.Get(i).Source == card.Read {
			continue
		}
		key := i.String()
		if r.once {
			key = string(i.Name)
		}
		if s.read[key] {
			continue
		}
		s.read[key] = true
		if !read {
			past, read = s.Card.Clone(), true
		}
		err := r.read(ctx, s, i)
		if shell.Unknown(err) {
			s.Obs.Say(say.Note, "%s stays unknown: %s", i, reason(err))
			continue
		}
		if err != nil {
			return read, err
		}
	}
	return read, nil
}
