package proof

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/image/appsig"
	"jarlid/internal/core/image/zipsig"
)

// App is what an app package says of itself, and who signed it by which scheme.
type App struct {
	Name        string   `json:"name"`
	Version     int64    `json:"version"`
	VersionName string   `json:"version_name,omitempty"`
	Schemes     []string `json:"schemes"`
	Keys        []AppKey `json:"keys"`
}

// AppKey is one of an app's keys.
type AppKey struct {
	Scheme string `json:"scheme"`
	Name   string `json:"name"`
	SHA256 string `json:"sha256"` // of the certificate
	// MinSDK is the API level from which on it counts; 0: from the first.
	MinSDK int64 `json:"min_sdk,omitempty"`
	// Before are the certificates' digests of the keys that were the app's before, the first one first.
	Before []string `json:"before,omitempty"`
}

// Replaces reports whether it was compared with an app package it would take the place of.
func (r *Result) Replaces() bool {
	return slices.ContainsFunc(r.Checks, func(c Check) bool { return c.over })
}

// Refused reports whether the file is what it says, and a phone with the other app would refuse it.
func (r *Result) Refused() bool {
	return !slices.ContainsFunc(r.Checks, func(c Check) bool { return c.Verdict == Mismatch && !c.over })
}

// replaces adds the check against an app package that the file would take the place of.
func (r *Result) replaces(before *Package, err error) {
	r.check("takes the place of "+before.Path, err)
	r.Checks[len(r.Checks)-1].over = true
}

// Package is an app package as it was verified.
type Package struct {
	Path      string
	App       *apk.App
	Signature *appsig.Signature
}

// ReadPackage reads and verifies an app package. Errors: *image.Error, appsig.ErrUnsigned.
func ReadPackage(ctx context.Context, r io.ReaderAt, size int64, path string) (*Package, error) {
	a, err := apk.Parse(r, size)
	if err != nil {
		return nil, err
	}
	s, err := appsig.Verify(ctx, r, size, nil)
	if err != nil {
		return nil, err
	}
	return &Package{Path: path, App: a, Signature: s}, nil
}

// app verifies an app package's signatures, and compares it with the one it would replace.
func (r *Result) app(ctx context.Context, f *ident.File, at io.ReaderAt, size int64, w Wish) error {
	if f.Kind != ident.App {
		if w.Over != nil {
			r.replaces(w.Over, errors.New("it is "+f.What()+" and no app"))
		}
		return nil
	}
	s, err := appsig.Verify(ctx, at, size, nil)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	r.check("signature of the app", err)
	if err != nil {
		return nil
	}
	r.App = &App{}
	if f.App != nil {
		r.App.Name, r.App.Version, r.App.VersionName = f.App.Name, f.App.Version, f.App.Called
	}
	for _, x := range s.Schemes {
		r.App.Schemes = append(r.App.Schemes, string(x))
	}
	for _, x := range s.Signers {
		k := AppKey{Scheme: string(x.Scheme), Name: x.Cert.Subject.String(),
			SHA256: zipsig.Fingerprint(x.Cert), MinSDK: x.MinSDK}
		for i, a := range x.Earlier {
			if i < len(x.Earlier)-1 {
				k.Before = append(k.Before, zipsig.Fingerprint(a.Cert))
			}
		}
		r.App.Keys = append(r.App.Keys, k)
	}
	if s.Older != nil {
		r.Checks = append(r.Checks, Check{What: "scheme v1", Verdict: Unchecked, Why: s.Older.Error() +
			"; a later scheme counts, on platforms from API level 24 on"})
	}
	cert := s.Current()[0].Cert
	r.Signer = &Signer{Name: cert.Subject.String(), SHA256: zipsig.Fingerprint(cert)}
	if len(w.Trusted) > 0 {
		r.trusted(w, cert)
	}
	if w.Over != nil {
		r.replaces(w.Over, over(f.App, s, w.Over))
	}
	return nil
}

// over says why an app can't take the place of an installed one; nil when it can.
func over(a *apk.App, s *appsig.Signature, before *Package) error {
	if a == nil {
		return errors.New("what it is can't be read")
	}
	var why []string
	if a.Name != before.App.Name {
		why = append(why, fmt.Sprintf("it is %s and the other one %s: they stand beside each other", a.Name,
			before.App.Name))
	}
	if ok, text := s.Follows(before.Signature); !ok {
		why = append(why, text+": the phone refuses it until the other one is removed, with its data")
	}
	if a.Version < before.App.Version {
		why = append(why, fmt.Sprintf("its version %d is lower than %d", a.Version, before.App.Version))
	}
	if len(why) == 0 {
		return nil
	}
	return errors.New(strings.Join(why, "; "))
}
