package files

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/proof"
	"jarlid/internal/core/verify"
	"jarlid/internal/host"
)

// Working is called when a piece of work on files begins: kind is what is done with them, total is in
// bytes. moved takes how many of them are done.
type Working func(kind, what string, total int64) (moved func(int64), end func())

// Verifier verifies the stored bytes of files, each once as long as its stamp stays the same, in this
// program and, where Home is named, in later ones. Several may use it at the same time.
type Verifier struct {
	// Home is the folder in which the memory is kept; "" keeps none.
	Home string

	mu     sync.Mutex
	loaded bool
	known  map[host.Stamp]*verified
	inWork map[host.Stamp]chan struct{}
	stated map[string][]Stated   // by path: what a sheet or a set states of files
	last   map[string]host.Stamp // by path: the stamp it was verified with last
	gone   map[host.Stamp]bool   // files that changed while they were sent
	fresh  bool                  // something is known that was not saved
}

// verified is what was found about one file.
type verified struct {
	host.Stamp
	verify.Result

	racy bool // it could be written again under the same stamp, so it is read again
}

// memoryName is the file in the home folder, memoryForm its form, memoryMost how many files it holds.
const (
	memoryName = "verified.json"
	memoryForm = 1
	memoryMost = 2000
	memorySize = 8 << 20 // bytes it may have
)

// memory is the form of that file.
type memory struct {
	Form  int         `json:"form"`
	Files []*verified `json:"files"` // the newest last
}

// State adds digests that somebody states of the file at path, beyond the lists beside it.
func (v *Verifier) State(path string, s ...Stated) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.stated == nil {
		v.stated = map[string][]Stated{}
	}
	key := clean(path)
	for _, one := range s {
		if !slices.ContainsFunc(v.stated[key], func(o Stated) bool {
			return o.From == one.From && slices.Equal(o.List, one.List)
		}) {
			v.stated[key] = append(v.stated[key], one)
		}
	}
}

// ours reports whether a file is in a temporary folder of this program, where nobody else writes.
func ours(path string) bool { return strings.Contains(path, scratchName) }

func clean(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return filepath.Clean(path)
}

// Verify compares the file at path, which f identifies (nil: it is identified), with the digests beside it,
// those that were stated, and what it carries itself. Errors mean that it could not be read.
func (v *Verifier) Verify(ctx context.Context, path string, f *ident.File, working Working) (*verify.Result,
	error) {
	return v.verify(ctx, path, f, working, verify.Wish{})
}

// Known gives what is remembered of the file at path; nil where it was not verified as it is now.
func (v *Verifier) Known(path string) *verify.Result {
	file, _, err := Open(path)
	if err != nil {
		return nil
	}
	defer file.Close()
	stamp, err := host.StampOf(file)
	if err != nil {
		return nil
	}
	found, wait := v.begin(stamp, verify.Wish{Stated: v.statedOf(path)})
	if found == nil && wait == nil {
		v.end(stamp)
	}
	return found
}

// VerifyPacked does so for a file whose contents the caller takes out whole, which compares their checksums.
func (v *Verifier) VerifyPacked(ctx context.Context, path string, f *ident.File, working Working) (
	*verify.Result, error) {
	return v.verify(ctx, path, f, working, verify.Wish{Unpacked: true})
}

func (v *Verifier) verify(ctx context.Context, path string, f *ident.File, working Working,
	wish verify.Wish) (*verify.Result, error) {
	file, size, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	stamp, err := host.StampOf(file)
	if err != nil {
		return nil, err
	}
	wish.Stated = v.statedOf(path)
	for {
		found, wait := v.begin(stamp, wish)
		if found != nil {
			return found, nil
		}
		if wait == nil {
			break
		}
		select {
		case <-wait:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	defer v.end(stamp)
	if f == nil {
		if f, err = Identify(path, ident.Options{}); err != nil {
			return nil, err
		}
	}
	settled := stamp.Settled() || ours(path)
	stop := func() {}
	if working != nil {
		wish.Moved, stop = working("verified", "verifying "+filepath.Base(path), size)
	}
	res, err := verify.Run(ctx, file, size, f, wish)
	stop()
	if err != nil {
		return nil, err
	}
	after, err := host.StampOf(file)
	if err != nil {
		return nil, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.last == nil {
		v.last = map[string]host.Stamp{}
	}
	v.last[clean(path)] = stamp
	v.known[stamp] = &verified{Stamp: stamp, Result: *res, racy: !settled || after != stamp}
	v.fresh = v.fresh || settled
	return res, nil
}

// begin gives what is known of a file, or something to wait for while another one verifies it; neither
// where it is to be verified now.
func (v *Verifier) begin(stamp host.Stamp, wish verify.Wish) (*verify.Result, chan struct{}) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.load()
	if k := v.known[stamp]; k != nil && !k.racy && !k.Has(verify.Damaged) && (wish.Unpacked || !k.Partial) {
		if r := k.compared(wish.Stated); r != nil {
			return r, nil
		}
	}
	if wait := v.inWork[stamp]; wait != nil {
		return nil, wait
	}
	if v.inWork == nil {
		v.inWork = map[host.Stamp]chan struct{}{}
	}
	v.inWork[stamp] = make(chan struct{})
	return nil, nil
}

func (v *Verifier) end(stamp host.Stamp) {
	v.mu.Lock()
	defer v.mu.Unlock()
	close(v.inWork[stamp])
	delete(v.inWork, stamp)
}

// compared is the result with what is stated now; nil where a digest that is stated was not made.
func (k *verified) compared(stated []verify.Stated) *verify.Result {
	r := k.Result
	r.Faults = slices.Clone(r.Faults)
	for _, s := range stated {
		for _, d := range s.Sums {
			if k.Digests[d.Algorithm] == "" {
				return nil
			}
			if fault := verify.Compare(k.Digests, s.From, d); fault != nil {
				r.Faults = []verify.Fault{*fault} // the damage is why others disagree
				return &r
			}
		}
	}
	return &r
}

// statedOf gives what lists beside a file and others state of it.
func (v *Verifier) statedOf(name string) (out []verify.Stated) {
	v.mu.Lock()
	list := slices.Clone(v.stated[clean(name)])
	v.mu.Unlock()
	for _, s := range append(Beside(name, func(error) {}), list...) {
		// what can't be read states nothing; proof reports it
		if !s.Loose {
			s.List = sums.For(s.List, name)
		}
		if len(s.List) > 0 {
			out = append(out, verify.Stated{From: s.From, Sums: s.List})
		}
	}
	return out
}

// SHA256 gives the digest of a file, in hex, and its size in bytes: the remembered one, or one that is made
// now.
func (v *Verifier) SHA256(ctx context.Context, path string, moved func(int64)) (sum string, size int64,
	err error) {
	f, size, err := Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	stamp, err := host.StampOf(f)
	if err != nil {
		return "", 0, err
	}
	if sum := v.remembered(stamp); sum != "" {
		return sum, size, nil
	}
	if moved == nil {
		moved = func(int64) {}
	}
	sum, err = proof.Digest(ctx, f, size, sums.SHA256, moved)
	return sum, size, err
}

// remembered is the SHA-256 of a file that was verified and can't have changed since; "" for others.
func (v *Verifier) remembered(stamp host.Stamp) string {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.load()
	if k := v.known[stamp]; k != nil && !k.racy {
		return k.SHA256()
	}
	return ""
}

// ChangedError says that a file is not the one that was verified.
type ChangedError struct {
	Path, How string
	Sent      bool // some of it went to the phone
}

// Error names the file.
func (e *ChangedError) Error() string {
	return filepath.Base(e.Path) + " changed since it was verified: " + e.How
}

// Source opens a file that was verified, to be sent. Errors: *MissingError, *ChangedError.
func (v *Verifier) Source(path string, size int64) (*Source, error) {
	s, err := openSource(path, size)
	if err != nil || v == nil {
		return s, err
	}
	stamp, err := host.StampOf(s.File)
	if err != nil {
		s.Close()
		return nil, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.load()
	if k := v.sameTimes(stamp, path); k != nil {
		s.verified, s.forget = k.SHA256(), func() { v.forget(k.Stamp) }
		return s, nil
	}
	s.Close()
	return nil, &ChangedError{Path: path, How: "its size or its times are different"}
}

// sameTimes gives what is known of a file. Some file systems, as those of cameras and network drives, number
// a file again each time it is opened: there the path and both times stand for the number, and the digest
// that is made while the file is sent has the last word. v.mu is held.
func (v *Verifier) sameTimes(stamp host.Stamp, path string) *verified {
	if k := v.known[stamp]; k != nil {
		return k
	}
	k := v.known[v.last[clean(path)]]
	if k == nil || k.Size != stamp.Size || k.Modified != stamp.Modified || k.Changed != stamp.Changed {
		return nil
	}
	return k
}

// forget drops what is known of a file.
func (v *Verifier) forget(stamp host.Stamp) {
	v.mu.Lock()
	delete(v.known, stamp)
	if v.gone == nil {
		v.gone = map[host.Stamp]bool{}
	}
	v.gone[stamp], v.fresh = true, true
	v.mu.Unlock()
	v.Save()
}

// load reads the memory, once. One that can't be read is none: files are verified again.
func (v *Verifier) load() {
	if v.loaded {
		return
	}
	v.loaded = true
	v.known = map[host.Stamp]*verified{}
	for _, k := range v.read() {
		v.known[k.Stamp] = k
	}
}

func (v *Verifier) read() []*verified {
	if v.Home == "" {
		return nil
	}
	b, err := ReadSmall(filepath.Join(v.Home, memoryName), memorySize)
	var m memory
	if err != nil || json.Unmarshal(b, &m) != nil || m.Form != memoryForm {
		return nil
	}
	return slices.DeleteFunc(m.Files, func(k *verified) bool {
		return k == nil || k.Digests[sums.SHA256] == ""
	})
}

// Save keeps what is known for later programs. Where that fails they verify again.
func (v *Verifier) Save() {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.Home == "" || !v.fresh {
		return
	}
	if _, err := os.Stat(v.Home); err != nil {
		return
	}
	m := memory{Form: memoryForm}
	for _, k := range v.read() { // of others that ran meanwhile
		if !v.gone[k.Stamp] {
			m.Files = append(m.Files, k)
		}
	}
	had := map[host.Stamp]bool{}
	for _, k := range m.Files {
		had[k.Stamp] = true
	}
	for stamp, k := range v.known {
		if !had[stamp] && !k.racy && !k.Has(verify.Damaged) {
			m.Files = append(m.Files, k)
		}
	}
	m.Files = m.Files[max(0, len(m.Files)-memoryMost):]
	if b, err := json.Marshal(m); err == nil && host.WriteWhole(filepath.Join(v.Home, memoryName), b,
		0o600) == nil {
		v.fresh = false
	}
}
