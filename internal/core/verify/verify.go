// Package verify checks the stored bytes of a file against everything that covers them: digests that
// somebody states, and the digests, checksums and signatures the file carries itself. It tells a file
// that is damaged from one that is whole and was changed after its manufacturer signed it.
//
// Nothing is decompressed where a digest or signature covers the compressed bytes; package proof is the
// thorough check.
package verify

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/appsig"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/spell"
)

// Kind says what a failed check means.
type Kind string

// The kinds of fault.
const (
	// Damaged: bytes are missing or wrong. Nobody can use the file.
	Damaged Kind = "damaged"
	// Altered: the file is whole, and a footer, hash tree or signature belongs to other contents.
	Altered Kind = "altered"
)

// Fault is one check that failed.
type Fault struct {
	Kind  Kind   `json:"kind"`
	Check string `json:"check"` // what was compared: "SHA256SUMS", "footer"
	Text  string `json:"text"`  // what disagrees, as a clause about the file
}

// Stated are digests that somebody states of the whole file.
type Stated struct {
	From string // where they are written: a file's name
	Sums []sums.Sum
}

// Wish says what a file is compared with, beyond what it carries itself.
type Wish struct {
	Stated []Stated
	// Also are digests that are made as well, beyond the SHA-256.
	Also []sums.Algorithm
	// Unpacked says that the caller reads all that is inside, and compares its checksums by that.
	Unpacked bool
	// MaxMemory bounds what a decompressor may take, in bytes; 0: the usual limit.
	MaxMemory int64
	// Moved is called with the bytes read so far; may be nil.
	Moved func(int64)
}

// Result is what the checks found.
type Result struct {
	Digests map[sums.Algorithm]string `json:"digests"` // of the whole file, in hex; the SHA-256 always
	Passed  []string                  `json:"passed"`  // checks that agreed
	Faults  []Fault                   `json:"faults,omitempty"`
	// Partial says that the checksums of what is inside were not compared: Wish.Unpacked.
	Partial bool `json:"partial,omitempty"`
}

// SHA256 is the digest of the whole file, in hex.
func (r *Result) SHA256() string { return r.Digests[sums.SHA256] }

// Has reports whether a check of the kind failed.
func (r *Result) Has(k Kind) bool {
	return slices.ContainsFunc(r.Faults, func(f Fault) bool { return f.Kind == k })
}

// maxContents bounds what the contents of one file may decompress to while their checksums are
// compared, in bytes. What is larger stays unchecked.
const maxContents = 64 << 30

// runner is one run over a file.
type runner struct {
	ctx  context.Context
	r    io.ReaderAt
	size int64
	f    *ident.File
	wish Wish
	res  *Result
	// depth is how many archives it is in.
	depth int
}

// Run checks the size bytes of r, which f identifies. An error means that the computer could not
// read the file, or that ctx ended; what disagrees is a Fault.
func Run(ctx context.Context, r io.ReaderAt, size int64, f *ident.File, w Wish) (*Result, error) {
	if f.Failed != nil {
		return nil, f.Failed
	}
	v := &runner{ctx: ctx, r: r, size: size, f: f, wish: w,
		res: &Result{Passed: []string{}, Partial: w.Unpacked}}
	if f.Short {
		v.fault(Damaged, "length", "the file ends too early: "+f.Damage)
	}
	covers, taps := v.covers()
	// What nothing covers is read through while the digests are made.
	contents := beside(len(covers) == 0 && !w.Unpacked && !f.Short, v.contents)
	altered := beside(true, v.footer)
	var err error
	v.res.Digests, err = Digests(ctx, r, size, v.algorithms(), w.Moved, taps...)
	covered := false
	var stale []Fault
	for _, c := range covers {
		fault := c.check()
		switch {
		case fault == nil:
			covered = covered || c.whole
			v.res.Passed = append(v.res.Passed, c.name)
		case fault.Kind == Altered:
			stale = append(stale, *fault)
		default:
			v.res.Faults = append(v.res.Faults, *fault)
		}
	}
	found, cerr := contents()
	if err == nil && cerr == nil && len(covers) > 0 && !covered && !w.Unpacked && !v.res.Has(Damaged) {
		found, cerr = v.contents()
	}
	footers, ferr := altered()
	if err := errors.Join(err, cerr, ferr, ctx.Err()); err != nil {
		return nil, err
	}
	v.take(found)
	if !v.res.Has(Damaged) { // otherwise the damage is why they disagree
		v.res.Faults = append(v.res.Faults, stale...)
		v.take(footers)
	} else if i := slices.IndexFunc(footers.faults, func(f Fault) bool { return f.Kind == Damaged }); i >= 0 {
		v.res.Faults = append(v.res.Faults, footers.faults[i])
	}
	return v.res, nil
}

// outcome is what one group of checks came to.
type outcome struct {
	passed []string
	faults []Fault
	open   []string // what could not be compared, and why
}

func (v *runner) take(o outcome) {
	v.res.Passed = append(v.res.Passed, o.passed...)
	v.res.Faults = append(v.res.Faults, o.faults...)
}

// beside runs a group of checks on a goroutine of its own, where it is wanted. The result waits for it
// and must be called.
func beside(wanted bool, run func() (outcome, error)) func() (outcome, error) {
	if !wanted {
		return func() (outcome, error) { return outcome{}, nil }
	}
	type result struct {
		o   outcome
		err error
	}
	ch := make(chan result, 1)
	go func() {
		o, err := run()
		ch <- result{o, err}
	}()
	return func() (outcome, error) {
		r := <-ch
		return r.o, r.err
	}
}

func (v *runner) fault(k Kind, check, text string) {
	v.res.Faults = append(v.res.Faults, Fault{k, check, text})
}

// algorithms are the digests of the whole file that are made.
func (v *runner) algorithms() map[sums.Algorithm]bool {
	need := map[sums.Algorithm]bool{sums.SHA256: true}
	for _, a := range v.wish.Also {
		need[a] = true
	}
	for _, s := range v.wish.Stated {
		for _, d := range s.Sums {
			need[d.Algorithm] = true
		}
	}
	return need
}

// cover is something that covers stored bytes without decompressing them. check is called once the
// digests are made.
type cover struct {
	name  string
	whole bool // it covers every byte that matters
	check func() *Fault
}

// covers lists what covers the file's stored bytes, and the ranges that have to be digested for it.
func (v *runner) covers() (list []cover, taps []*Tap) {
	for _, s := range v.wish.Stated {
		for _, d := range s.Sums {
			list = append(list, cover{s.From, true, func() *Fault {
				return Compare(v.res.Digests, s.From, d)
			}})
		}
	}
	tap := func(from, to int64, a *Tap) *Tap {
		a.From, a.To = from, to
		taps = append(taps, a)
		return a
	}
	if len(v.f.Wrapped) > 0 && v.f.Wrapped[0] == "tar" {
		if s, covered, ok := ident.AppendedDigest(v.r, v.size); ok {
			t := tap(0, covered, &Tap{Hash: s.Algorithm.New()})
			list = append(list, cover{"line after the archive", true, func() *Fault {
				return Compare(map[sums.Algorithm]string{s.Algorithm: t.Hex()}, "the line after the archive",
					s)
			}})
		}
	}
	if p := v.f.Package; p != nil && p.Payload != nil {
		if want := p.Properties["FILE_HASH"]; want != "" {
			t := tap(p.PayloadOffset, p.PayloadOffset+p.PayloadSize, &Tap{Hash: sums.SHA256.New()})
			list = append(list, cover{"payload_properties.txt", false, func() *Fault {
				return payloadFault(t, want)
			}})
		}
	}
	switch v.f.Kind {
	case ident.OTAAB, ident.OTABlock, ident.Addon:
		list = append(list, v.signature(tap)...)
	case ident.App:
		list = append(list, v.app()...)
	}
	return list, taps
}

// Compare compares a digest that from states with those that were made; nil where they agree.
func Compare(made map[sums.Algorithm]string, from string, want sums.Sum) *Fault {
	if got := made[want.Algorithm]; got != want.Digest {
		return &Fault{Damaged, from, fmt.Sprintf("its %s is %s, %s states %s", want.Algorithm, got, from,
			want.Digest)}
	}
	return nil
}

// signature gives the check of the signature over a whole package.
func (v *runner) signature(tap func(from, to int64, a *Tap) *Tap) []cover {
	const name = "signature of the package"
	s, err := zipsig.Parse(v.r, v.size)
	if errors.Is(err, zipsig.ErrUnsigned) {
		return nil
	}
	if err != nil {
		if image.ByComputer(err) {
			return nil // the digest of the whole file meets the same
		}
		return []cover{{name, false, func() *Fault {
			return &Fault{Altered, name, "its signature can't be read (" + spell.Error(err) + ")"}
		}}}
	}
	t := tap(0, s.Signed, &Tap{Hash: s.Hash.New()})
	return []cover{{name, true, func() *Fault {
		if s.Fits(t.Sum()) {
			return nil
		}
		return &Fault{Altered, name, "its contents were changed after it was signed"}
	}}}
}

// app gives the check of an app's signatures.
func (v *runner) app() []cover {
	const name = "signature of the app"
	result := beside(true, func() (outcome, error) {
		_, err := appsig.Verify(v.ctx, v.r, v.size, nil)
		return outcome{}, err
	})
	_, err := result()
	if errors.Is(err, appsig.ErrUnsigned) || image.ByComputer(err) || v.ctx.Err() != nil {
		return nil
	}
	return []cover{{name, true, func() *Fault {
		if err == nil {
			return nil
		}
		return &Fault{Altered, name, "its signature does not fit (" + spell.Error(err) + ")"}
	}}}
}
