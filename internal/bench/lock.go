package bench

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"jarlid/internal/host"
	"jarlid/internal/journal"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
)

const (
	// lockEvery is how often a lock is tried that is held.
	lockEvery = 50 * time.Millisecond
	// listLimit is how long the list's lock is waited for: it is held for moments.
	listLimit = 30 * time.Second
)

var errHeld = errors.New("another jarlid holds the lock and does not end")

// take tries for a lock until limit is over. Nothing blocks in it, so that a bubble of
// virtual time goes on.
func take(lock *flock.Flock, limit time.Duration) error {
	for end := time.Now().Add(limit); ; time.Sleep(lockEvery) {
		ok, err := lock.TryLock()
		if ok || err != nil {
			return err
		}
		if !time.Now().Before(end) {
			return errHeld
		}
	}
}

// lockFolder is the one folder of locks of a user: two jarlids with different homes work
// on the same phones.
func lockFolder() string {
	if dir := os.Getenv("XDG_RUNTIME_DIR"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "jarlid-locks")
	}
	if dir, err := os.UserCacheDir(); err == nil {
		return filepath.Join(dir, "jarlid", "locks")
	}
	return filepath.Join(os.TempDir(), fmt.Sprintf("jarlid-locks-%d", os.Getuid()))
}

// keep are locks that stay until they are all let go.
type keep struct {
	mu    sync.Mutex
	names []string
	free  []func()
}

// Keeping gives the same bench for one phone and several jobs on it: its serial numbers, once they
// were locked through it, stay locked between them, until release is called. A socket does not:
// another phone may come up in it meanwhile.
func (b *Bench) Keeping() (own *Bench, release func()) {
	k := &keep{}
	own = &Bench{Home: b.Home, Models: b.Models, locks: b.locks, doing: b.doing, dial: b.dial, cable: b.cable,
		ports: b.ports, kept: k}
	return own, func() {
		for _, f := range slices.Backward(k.free) {
			f()
		}
		k.free, k.names = nil, nil
	}
}

// lock makes this program the only one that works on a phone known under these names.
// It is not waited for. phone.ErrBusy when another one works on it.
func (b *Bench) lock(names ...string) (unlock func(), err error) {
	k := b.kept
	if k == nil {
		return b.take(names)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	var own, others []string
	for _, n := range names {
		switch {
		case slices.Contains(k.names, n):
		case wire.IsSerialName(n):
			own = append(own, n)
		default:
			others = append(others, n)
		}
	}
	if unlock, err = b.take(others); err != nil {
		return nil, err
	}
	free, err := b.take(own)
	if err != nil {
		unlock()
		return nil, err
	}
	k.names, k.free = append(k.names, own...), append(k.free, free)
	return unlock, nil
}

func (b *Bench) take(names []string) (unlock func(), err error) {
	if err := host.OwnFolder(b.locks); err != nil {
		return nil, err
	}
	var held []func()
	unlock = func() {
		for _, release := range slices.Backward(held) {
			release()
		}
	}
	// in one order, so that two programs don't block each other
	names = slices.Compact(slices.Sorted(slices.Values(names)))
	for _, n := range names {
		free := b.turn(n)
		l := host.Lock(filepath.Join(b.locks, lockName(n)))
		ok, err := l.TryLock()
		if err == nil && !ok {
			err = phone.ErrBusy
		}
		if err != nil {
			free()
			unlock()
			return nil, err
		}
		who := l.Path() + whoEnding
		// That it can't be said who works on the phone is no reason not to.
		_ = host.WriteWhole(who, fmt.Appendf(nil, "%d %s", os.Getpid(), b.doing), 0o600)
		held = append(held, func() { os.Remove(who); l.Unlock(); free() })
	}
	return unlock, nil
}

// whoEnding is the ending of the file beside a lock that says who holds it.
const whoEnding = ".who"

// holder says which program works on a phone known under these names, and at what; "" when
// that can't be told.
func (b *Bench) holder(names ...string) string {
	for _, n := range names {
		text, err := host.Read(filepath.Join(b.locks, lockName(n)+whoEnding))
		if err != nil || len(text) > 4096 {
			continue
		}
		pid, doing, _ := strings.Cut(string(text), " ")
		if doing != "" {
			return fmt.Sprintf("%s (process %s)", doing, pid)
		}
	}
	return ""
}

// turn waits for this program's own turn: a list may name one phone twice, and both are
// checked at the same time.
func (b *Bench) turn(name string) (free func()) {
	for {
		b.turnMu.Lock()
		if b.turns == nil {
			b.turns = map[string]chan struct{}{}
		}
		other, taken := b.turns[name]
		if !taken {
			mine := make(chan struct{})
			b.turns[name] = mine
			b.turnMu.Unlock()
			return func() {
				b.turnMu.Lock()
				delete(b.turns, name)
				b.turnMu.Unlock()
				close(mine)
			}
		}
		b.turnMu.Unlock()
		<-other
	}
}

// lockName makes a file's name of a lock's, which two of them never share.
func lockName(n string) string {
	sum := sha256.Sum256([]byte(n))
	return journal.SafeName(n)[:min(len(n), 60)] + "-" + hex.EncodeToString(sum[:4])
}
