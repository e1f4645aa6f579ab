package engine

import (
	"context"
	"errors"
	"slices"

	"jarlid/internal/act"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/verify"
	"jarlid/internal/files"
	"jarlid/internal/say"
)

// verified is what was found out about the files of a plan.
type verified struct {
	found   []finding.Finding
	damaged []string // paths of files nobody can use
}

// of reports whether a step sends a damaged file.
func (v *verified) of(s plan.Step) bool {
	return slices.ContainsFunc(s.Sends(), func(f plan.Sent) bool {
		return slices.Contains(v.damaged, f.File.Path)
	})
}

// verify verifies every file that steps send, and those that were used to make them: before anything acts,
// on a phone as on a saved card. What was verified before costs nothing.
func (j *Job) verify(ctx context.Context, steps []plan.Step, uses []plan.Sent) (*verified, error) {
	ctx, stop := act.Awaiting(ctx, j.Stop) // nothing is written meanwhile
	defer stop()
	v := &verified{}
	list := slices.Clone(uses)
	for _, s := range steps {
		list = append(list, s.Sends()...)
	}
	had := map[string]bool{}
	for _, f := range list {
		if had[f.File.Path] {
			continue
		}
		had[f.File.Path] = true
		res, err := j.verifier().Verify(ctx, f.File.Path, f.File, j.working)
		if err != nil {
			return nil, act.Stopped(ctx, err)
		}
		if f.Made && !res.Has(verify.Damaged) {
			continue
		}
		if res.Has(verify.Damaged) {
			v.damaged = append(v.damaged, f.File.Path)
		}
		v.found = append(v.found, place.Verified(f.Label, f.File, res)...)
	}
	j.verifier().Save()
	return v, nil
}

// verifier is the one that the jobs of this program share, or one of this job's own.
func (j *Job) verifier() *files.Verifier {
	if j.Verifier == nil {
		j.Verifier = &files.Verifier{}
	}
	return j.Verifier
}

func (j *Job) working(kind, what string, total int64) (moved func(int64), end func()) {
	m := say.NewPiece(j.Obs, say.Read, kind, what, total)
	return m.Reach, m.End
}

// stopping reports whether the person wishes to stop.
func (j *Job) stopping() bool {
	select {
	case <-j.Stop:
		return true
	default:
		return false
	}
}

// asChanged makes the finding of a file that changed after it was verified; acted says whether the phone was
// changed before.
func asChanged(err error, acted bool) error {
	var c *files.ChangedError
	if !errors.As(err, &c) {
		return err
	}
	stop := finding.Stopped(finding.FileChanged, place.FileName(c.Path), c.Error(),
		"wait until nothing writes it any more, then run the command again")
	stop.Acted = acted || c.Sent
	return stop
}
