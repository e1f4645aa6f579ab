package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
)

// readBack compares a written partition with the file, where the phone gives it
// out: userspace fastboot does so for vendor_boot alone, as published.
func (j *Job) readBack(ctx context.Context, s *plan.Write, f io.ReaderAt) (string, error) {
	if s.File.Inside > 0 {
		return PhoneWord, nil
	}
	size, known := j.Card.Number(card.FactSize + s.Name())
	cmp := &comparer{f: f, size: s.File.Size}
	var err error
	switch {
	case j.Link.Mode == card.Recovery:
		m := newMeter(j.Obs, Recv, s.Name(), size)
		_, err = j.readDevice(ctx, device(s.Name(), false), cmp, m.set)
		m.end()
	case j.Link.Mode == card.Fastbootd && s.Partition == "vendor_boot" && known:
		m := newMeter(j.Obs, Recv, s.Name(), size)
		err = j.fetchWhole(ctx, s.Name(), size, cmp, m)
		m.end()
	default:
		return PhoneWord, nil
	}
	var refused *link.RefusedError
	switch {
	case errors.As(err, &refused):
		return PhoneWord, nil // this one gives nothing out
	case err != nil:
		return "", err
	case cmp.differs || cmp.at < cmp.size:
		return "", &link.RefusedError{Command: s.Title(), Message: "it said yes, and what is read back is something else"}
	}
	return ReadBack, nil
}

// comparer holds what is written to it against a file; what comes behind the
// file's end is what the partition held before.
type comparer struct {
	f        io.ReaderAt
	size, at int64
	differs  bool
}

// Write compares.
func (c *comparer) Write(p []byte) (int, error) {
	if want := min(int64(len(p)), c.size-c.at); want > 0 {
		b := make([]byte, want)
		if _, err := c.f.ReadAt(b, c.at); err != nil && !errors.Is(err, io.EOF) {
			return 0, err
		}
		c.differs = c.differs || !bytes.Equal(b, p[:want])
	}
	c.at += int64(len(p))
	return len(p), nil
}

// makeRoom gives a logical partition the size that is needed, taking away what
// has to go.
func (j *Job) makeRoom(ctx context.Context, s *plan.MakeRoom) (Record, error) {
	rec := Record{Confirm: PhoneWord}
	room := plan.RoomFor(j.Card, s.Partition, s.Slot, s.Need)
	do := func(format string, args ...any) error {
		a, err := j.Link.FB.Command(ctx, fmt.Sprintf(format, args...), fastboot.LimitWrite)
		rec.Answers = append(rec.Answers, append(a.Lines, a.Text)...)
		return err
	}
	if room.Known && room.Fits && s.Need <= room.Have {
		return rec, nil // it is large enough already
	}
	for _, p := range room.Delete {
		j.Obs.Say(Wait, "taking away %s", p)
		if err := do("delete-logical-partition:%s", p); err != nil {
			return rec, err
		}
	}
	j.Obs.Say(Wait, "giving %s room for %s", s.Name(), image.Size(s.Need))
	if err := do("resize-logical-partition:%s:%d", s.Name(), image.Align(s.Need, 4096)); err != nil {
		return rec, err
	}
	s.Effects(j.Card)
	if err := j.reread(ctx); err != nil {
		return rec, err
	}
	if n, known := j.Card.Number(card.FactSize + s.Name()); known && j.Card.Get(card.FactSize+s.Name()).Evidence == card.Read {
		if n < s.Need {
			return rec, &link.RefusedError{Command: s.Title(), Message: fmt.Sprintf("it said yes, and %s has %d bytes", s.Name(), n)}
		}
		rec.Confirm = ReadBack
	}
	return rec, nil
}

// tryLimit is how long a recovery that was sent may take until it shows up;
// one without a shell never does.
const tryLimit = 90 * time.Second

// try sends an image and has the bootloader start it.
func (j *Job) try(ctx context.Context, s *plan.Try) (Record, error) {
	src, err := openSource(s.File.Path, s.File.Size)
	if err != nil {
		return Record{}, err
	}
	defer src.f.Close()
	rec := Record{Bytes: s.File.Size, Confirm: ReadBack}
	m := newMeter(j.Obs, Send, filepath.Base(s.File.Path), s.File.Size)
	err = j.Link.FB.Download(ctx, s.File.Size, src.reader(), m.set)
	m.end()
	if err != nil {
		return rec, err
	}
	before := j.Card
	a, err := j.Link.FB.Boot(ctx)
	rec.Answers = append(a.Lines, a.Text)
	if err != nil {
		j.learnRefusal("boot", err)
		return rec, err
	}
	j.Obs.Say(Wait, "the phone starts it")
	vanish(ctx, j.Link)
	j.Link.Close()
	effects := j.Card.Clone()
	s.Effects(effects)
	l, err := j.Phone.Await(ctx, card.Recovery, tryLimit, false)
	var away *NotHereError
	if errors.As(err, &away) {
		j.Link, j.Card, rec.Confirm = nil, effects, NotKnown
		return rec, nil
	}
	if err != nil {
		return rec, err
	}
	j.Link = l
	c, err := j.Phone.Read(ctx, l)
	if err != nil {
		return rec, err
	}
	// What runs is on no slot: what the slot holds is what it held before.
	if home := plan.RecoveryHome(c, j.Phone.model).Partition; home != "" {
		home = plan.Suffixed(home, c.Value(card.FactStarted))
		c.Set(card.FactHolds+home, before.Get(card.FactHolds+home))
	}
	c.Merge(effects)
	c.Set(card.FactTemporary, effects.Get(card.FactTemporary))
	j.Card = c
	return rec, j.Phone.sameSerial(before, c)
}

// unknownCommand tells a refusal of a command the bootloader does not know from
// one of what was asked; the protocol has no other sign for it than the words.
func unknownCommand(err error) bool {
	var refused *link.RefusedError
	return errors.As(err, &refused) && strings.Contains(strings.ToLower(refused.Message), "unknown")
}

// learnRefusal keeps that a bootloader does not know a command, so that the
// next job knows it beforehand.
func (j *Job) learnRefusal(command string, err error) {
	if unknownCommand(err) {
		j.Card.Learn(card.FactCommand+command, "no", card.Journal)
	}
}

// erase erases one partition.
func (j *Job) erase(ctx context.Context, s *plan.Erase) (Record, error) {
	rec := Record{Confirm: PhoneWord}
	if err := j.erasePartition(ctx, s.Name(), &rec); err != nil {
		return rec, err
	}
	s.Effects(j.Card)
	return rec, nil
}

// unlock sends the command this bootloader knows, waits for the person at the
// phone, and reads whether it is open.
func (j *Job) unlock(ctx context.Context, _ *plan.Unlock) (Record, error) {
	rec := Record{}
	commands := []string{"flashing unlock", "oem unlock"}
	if m := j.Phone.model; m != nil && m.Bootloader.Unlock != "" {
		commands = []string{m.Bootloader.Unlock}
	}
	if j.Code != "" {
		commands[len(commands)-1] += " " + j.Code
		commands = commands[len(commands)-1:]
	}
	j.lockHands("unlock") // before the command: some answer it only after the person has
	var err error
	for _, cmd := range commands {
		var a fastboot.Answer
		a, err = j.Link.FB.Command(ctx, cmd, handsLimit)
		rec.Answers = append(append(rec.Answers, a.Lines...), a.Text)
		if !unknownCommand(err) {
			break
		}
	}
	var lost *link.LostError
	if err != nil && !errors.As(err, &lost) { // some restart before they answer
		return rec, err
	}
	return j.lockSettled(ctx, rec, &plan.Unlock{})
}

// lockSettled waits until the bootloader says that the lock is as a step leaves it;
// that erased the data, which a bootloader does not tell.
func (j *Job) lockSettled(ctx context.Context, rec Record, s plan.Step) (Record, error) {
	after := j.Card.Clone()
	s.Effects(after)
	l, c, err := j.awaitLock(ctx, after.Value(card.FactUnlocked) == "yes")
	if err != nil {
		return rec, err
	}
	j.Link, rec.Confirm = l, ReadBack
	c.Merge(after)
	for _, name := range []string{card.FactData, card.FactDebugging} {
		c.Set(name, after.Get(name))
	}
	j.Card = c
	return rec, nil
}

// lockHands shows how the phone's own question about its lock is answered.
func (j *Job) lockHands(recipe string) {
	j.Obs.Hands(j.Phone.hand(recipe, model.Recipe{Do: []string{`Read the question on the phone's screen and answer "yes" with its keys.`}}), handsLimit)
}

// relock sends the published command and waits until the bootloader says that it
// is shut.
func (j *Job) relock(ctx context.Context) (Record, error) {
	j.lockHands("relock")
	command := "flashing lock"
	if m := j.Phone.model; m != nil && strings.HasPrefix(m.Bootloader.Unlock, "oem unlock") {
		command = "oem lock" // its older counterpart
	}
	a, err := j.Link.FB.Command(ctx, command, handsLimit)
	rec := Record{Answers: append(a.Lines, a.Text)}
	var lost *link.LostError
	if err != nil && !errors.As(err, &lost) { // some restart before they answer
		return rec, err
	}
	return j.lockSettled(ctx, rec, &plan.Relock{})
}

// awaitLock looks again and again until the bootloader says that it is open, or
// shut.
func (j *Job) awaitLock(ctx context.Context, open bool) (*Link, *card.Card, error) {
	j.Link.Close()
	for end := time.Now().Add(handsLimit); time.Now().Before(end); {
		l, err := j.Phone.Connect(ctx, nil)
		if err == nil && l.FB != nil {
			c, err := j.Phone.Read(ctx, l)
			if yes, known := false, false; err == nil {
				if yes, known = c.Yes(card.FactUnlocked); known && yes == open && c.Get(card.FactUnlocked).Evidence == card.Read {
					return l, c, nil
				}
			}
		}
		l.Close()
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(2 * pollEvery):
		}
	}
	what, still := "unlock", "locked"
	if !open {
		what, still = "lock", "open"
	}
	return nil, nil, &link.RefusedError{Command: what, Message: "it is still " + still + ": nobody said yes at the phone, or it restarted into another mode"}
}
