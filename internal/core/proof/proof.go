// Package proof says whether a file is intact: against digests that somebody
// states, and against those it carries itself.
package proof

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"sync"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/spell"
	"jarlid/internal/core/verify"
)

// Verdict is what comes of all checks of a file.
type Verdict string

// The verdicts.
const (
	Match     Verdict = "match"
	Mismatch  Verdict = "mismatch"
	NotListed Verdict = "not-listed" // sums were given, and none is for this file
	Unchecked Verdict = "unchecked"  // there was nothing to check against
	// Missing: a list names the file, and it is not there; or it is one piece of several, and another
	// is not there.
	Missing Verdict = "missing"
)

// Check is one thing that was checked.
type Check struct {
	What    string  `json:"what"`
	Verdict Verdict `json:"verdict"`
	Why     string  `json:"why,omitempty"`
	// over tells of the check against the app package that the file would take the place of.
	over bool
}

// Signer is who signed a package.
type Signer struct {
	Name    string `json:"name"`
	SHA256  string `json:"sha256"`
	Trusted *bool  `json:"trusted"` // null when nobody said whom to trust
	By      string `json:"trusted_by,omitempty"`
}

// Result is what was found out about one file.
type Result struct {
	Path    string  `json:"path"`
	Size    int64   `json:"size"`
	SHA256  string  `json:"sha256"`
	Verdict Verdict `json:"verdict"`
	Against string  `json:"against,omitempty"`
	// ListedAs is the name under which its digest is listed, where that is another one than the file's.
	ListedAs string  `json:"listed_as,omitempty"`
	Signer   *Signer `json:"signer"`
	App      *App    `json:"app,omitempty"` // of an app package
	Checks   []Check `json:"checks"`
}

// Wish is what a file is compared with.
type Wish struct {
	Sums    []sums.Sum // those for this file
	Against string     // where they come from
	Listed  bool       // sums were given, whether or not for this file
	// Others are all that are in the same lists, of files with other names too; In names the lists.
	Others []sums.Sum
	In     string
	// Trusted are certificates by where they come from.
	Trusted map[string][]*x509.Certificate
	// Over is an app package that the file would take the place of; nil when none was named.
	Over *Package
	// Beside is what is in the file's folder; may be nil.
	Beside image.Folder
	// Moved is called with the bytes read so far; may be nil.
	Moved func(int64)
}

func (r *Result) check(what string, err error) {
	c := Check{What: what, Verdict: Match}
	switch {
	case err == nil:
	case image.AboutNoDamage(err): // nothing was compared
		c.Verdict, c.Why = Unchecked, spell.Error(err)
	default:
		c.Verdict, c.Why = Mismatch, spell.Error(err)
	}
	r.Checks = append(r.Checks, c)
}

// Run checks the size bytes of r, a file at path. The error is for what keeps
// it from being read; a mismatch is a verdict.
func Run(ctx context.Context, r io.ReaderAt, size int64, path string, w Wish) (*Result, error) {
	res := &Result{Path: path, Size: size, Against: w.Against, Checks: []Check{}}
	if w.Moved == nil {
		w.Moved = func(int64) {}
	}
	f := ident.Identify(r, size, path, ident.Options{})
	if f.Failed != nil {
		return nil, f.Failed
	}
	// The digests of the file and what it carries itself are worked out at the
	// same time, each on its own core.
	var wg sync.WaitGroup
	var digests map[sums.Algorithm]string
	var derr error
	wg.Go(func() {
		need := map[sums.Algorithm]bool{sums.SHA256: true}
		for _, s := range append(w.Sums[:len(w.Sums):len(w.Sums)], w.Others...) {
			need[s.Algorithm] = true
		}
		digests, derr = verify.Digests(ctx, r, size, need, w.Moved)
	})
	own := &Result{}
	var oerr error
	wg.Go(func() { oerr = own.inner(ctx, f, r, size, w) })
	wg.Wait()
	if err := errors.Join(derr, oerr); err != nil {
		return nil, err
	}
	res.SHA256, res.Signer, res.App = digests[sums.SHA256], own.Signer, own.App
	for _, s := range w.Sums {
		var err error
		if got := digests[s.Algorithm]; got != s.Digest {
			err = fmt.Errorf("it is %s, %s says %s", got, w.Against, s.Digest)
		}
		res.check(string(s.Algorithm)+" digest", err)
	}
	other := res.listedAs(digests, w)
	res.Checks = append(res.Checks, own.Checks...)
	if w.Beside != nil {
		set := ident.Identify(r, size, path, ident.Options{Beside: w.Beside})
		if len(set.Pieces) > 0 && set.Short {
			res.Checks = append(res.Checks, Check{What: "pieces", Verdict: Missing, Why: set.Damage})
		}
	}
	res.Verdict = Unchecked
	if w.Listed && len(w.Sums) == 0 && !other {
		res.Verdict = NotListed
	}
	for _, c := range res.Checks {
		switch {
		case c.Verdict == Mismatch:
			res.Verdict = Mismatch
		case c.Verdict == Missing && res.Verdict != Mismatch:
			res.Verdict = Missing
		case c.Verdict == Match && res.Verdict == Unchecked:
			res.Verdict = Match
		}
	}
	return res, nil
}

// listedAs names the entry of a list with the file's digest and another name. It reports whether that
// verifies the file: not where the list has the file's own name with another digest.
func (r *Result) listedAs(digests map[sums.Algorithm]string, w Wish) bool {
	i := slices.IndexFunc(w.Others, func(s sums.Sum) bool {
		return s.Name != "" && digests[s.Algorithm] == s.Digest && !slices.Contains(w.Sums, s)
	})
	if i < 0 {
		return false
	}
	r.ListedAs = w.Others[i].Name
	if len(w.Sums) > 0 {
		r.Checks = append(r.Checks, Check{What: string(w.Others[i].Algorithm) + " digest", Verdict: Unchecked,
			Why: "it is listed as " + r.ListedAs})
		return false
	}
	r.Against = w.In
	r.check(string(w.Others[i].Algorithm)+" digest", nil)
	return true
}

// Digest gives the digest of the size bytes of r, in hex. moved is told how far it is.
func Digest(ctx context.Context, r io.ReaderAt, size int64, a sums.Algorithm, moved func(int64)) (string,
	error) {
	all, err := verify.Digests(ctx, r, size, map[sums.Algorithm]bool{a: true}, moved)
	return all[a], err
}

// inner checks what a file says of itself.
func (r *Result) inner(ctx context.Context, f *ident.File, at io.ReaderAt, size int64, w Wish) error {
	if f.Damage != "" {
		r.check("form", errors.New(f.Damage))
		return nil
	}
	if f.Closed != "" {
		r.Checks = append(r.Checks, Check{What: "what is inside", Verdict: Unchecked, Why: f.Closed})
		return nil
	}
	for _, check := range []func() error{
		func() error { return r.appended(ctx, f, at, size) },
		func() error { return r.payload(ctx, f, at) },
		func() error { return r.footer(ctx, f, at, size) },
		func() error { return r.signature(ctx, f, at, size, w) },
		func() error { return r.app(ctx, f, at, size, w) },
		func() error { return r.contents(ctx, f, at, size) },
	} {
		if err := check(); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// appended checks the line behind a tar.
func (r *Result) appended(ctx context.Context, f *ident.File, at io.ReaderAt, size int64) error {
	if len(f.Wrapped) == 0 || f.Wrapped[0] != "tar" {
		return nil
	}
	s, covered, ok := ident.AppendedDigest(at, size)
	if !ok {
		return nil
	}
	got, err := verify.Digests(ctx, at, covered, map[sums.Algorithm]bool{s.Algorithm: true}, nil)
	if err != nil {
		return err
	}
	if got[s.Algorithm] != s.Digest {
		err = fmt.Errorf("it is %s, the line says %s", got[s.Algorithm], s.Digest)
	}
	r.check(string(s.Algorithm)+" line appended to the tar", err)
	return nil
}

// payload checks a payload's own digests and what the package says of it.
func (r *Result) payload(ctx context.Context, f *ident.File, at io.ReaderAt) error {
	p := f.Payload
	if p == nil {
		return nil
	}
	body := at
	if f.Package != nil {
		body = io.NewSectionReader(at, f.Package.PayloadOffset, f.Package.PayloadSize)
		if want := f.Package.Properties["FILE_HASH"]; want != "" {
			got, err := verify.Digests(ctx, body, f.Package.PayloadSize,
				map[sums.Algorithm]bool{sums.SHA256: true}, nil)
			if err != nil {
				return err
			}
			b, err := base64.StdEncoding.DecodeString(want)
			if err != nil || hex.EncodeToString(b) != got[sums.SHA256] {
				err = fmt.Errorf("it is %s, %s says %x", got[sums.SHA256], ota.PropertiesName, b)
			}
			r.check("payload properties", err)
		}
	}
	if p.Delta() {
		r.Checks = append(r.Checks, Check{What: "partitions of the payload", Verdict: Unchecked,
			Why: "it is a delta; its partitions only come to be on the phone"})
		return nil
	}
	errs := make([]error, len(p.Partitions))
	jobs := make(chan int)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := range jobs {
				_, errs[i] = lift.Digest(ctx, p, &p.Partitions[i], body, func(int64) {})
			}
		})
	}
	for i := range p.Partitions {
		jobs <- i
	}
	close(jobs)
	wg.Wait()
	for i := range p.Partitions {
		r.check("partition "+p.Partitions[i].Name, errs[i])
	}
	return ctx.Err()
}

// footer checks an image against the verified boot data behind it.
func (r *Result) footer(ctx context.Context, f *ident.File, at io.ReaderAt, size int64) error {
	if len(f.Wrapped) > 0 && f.Wrapped[0] == "sparse" && len(f.Pieces) == 0 {
		if view, err := sparse.NewView(at, size); err == nil {
			at, size = view, view.Size()
		}
	}
	m, ft, err := vbmeta.Open(at, size)
	if ft == nil {
		if m != nil {
			r.vbmeta(m)
		}
		return nil
	}
	if err != nil {
		r.check("verified boot footer", err)
		return nil
	}
	r.vbmeta(m)
	for i := range m.Descriptors {
		d := &m.Descriptors[i]
		switch d.Tag {
		case vbmeta.TagHash:
			r.check("hash of "+d.PartitionName, vbmeta.CheckHash(ctx, d, at, size))
		case vbmeta.TagHashtree:
			r.check("hashtree of "+d.PartitionName, vbmeta.CheckHashtree(ctx, d, at, size))
		}
	}
	return nil
}

// contents decompresses what is inside to its end, and compares the checksums that are there.
func (r *Result) contents(ctx context.Context, f *ident.File, at io.ReaderAt, size int64) error {
	if f.Kind == ident.Payload && f.Payload != nil && !f.Payload.Delta() {
		return nil // its partitions were compared
	}
	passed, faults, open, err := verify.Contents(ctx, at, size, f, 0)
	for _, what := range passed {
		r.check(what, nil)
	}
	for _, fault := range faults {
		r.check(fault.Check, errors.New(fault.Text))
	}
	for _, why := range open {
		r.Checks = append(r.Checks, Check{What: "what is inside", Verdict: Unchecked, Why: why})
	}
	return err
}

// vbmeta checks an image's signature with its own key.
func (r *Result) vbmeta(m *vbmeta.Image) {
	if m.AlgorithmType == 0 {
		r.Checks = append(r.Checks, Check{What: "vbmeta signature", Verdict: Unchecked,
			Why: "it is not signed"})
		return
	}
	r.check("vbmeta signature, by its own key", m.Verify())
}

// signature checks the signature over a whole package.
func (r *Result) signature(ctx context.Context, f *ident.File, at io.ReaderAt, size int64, w Wish) error {
	switch f.Kind {
	case ident.OTAAB, ident.OTABlock, ident.Addon:
	default:
		return nil
	}
	s, err := zipsig.Parse(at, size)
	if errors.Is(err, zipsig.ErrUnsigned) {
		if len(w.Trusted) > 0 {
			r.check("whole-file signature", err)
		}
		return nil
	}
	if err != nil {
		r.check("whole-file signature", err)
		return nil
	}
	err = s.Verify(ctx, at)
	if err != nil && !errors.Is(err, zipsig.ErrMismatch) {
		return err
	}
	r.check("whole-file signature", err)
	r.Signer = &Signer{Name: s.Signer().Subject.String(), SHA256: zipsig.Fingerprint(s.Signer())}
	if len(w.Trusted) == 0 {
		return nil
	}
	r.trusted(w, s.Signer())
	return nil
}

// trusted says whether a signer is one of those that are trusted.
func (r *Result) trusted(w Wish, signer *x509.Certificate) {
	trusted := false
	for from, certs := range w.Trusted {
		for _, c := range certs {
			// A recovery compares keys, not the certificates around them.
			if bytes.Equal(c.RawSubjectPublicKeyInfo, signer.RawSubjectPublicKeyInfo) {
				trusted, r.Signer.By = true, from
			}
		}
	}
	r.Signer.Trusted = &trusted
	var err error
	if !trusted {
		err = errors.New("it was signed by nobody you trust: " + r.Signer.Name)
	}
	r.check("trusted signer", err)
}
