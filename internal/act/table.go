package act

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"jarlid/internal/core/image/parttable"
	"jarlid/internal/core/plan"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/journal"
)

// tableKept is the name under which the table that was there is kept beside the journal.
const tableKept = "previous-table.txt"

// mostTable bounds a file that holds a table, in bytes.
const mostTable = 1 << 20

// writeTable keeps the table that is there, and writes another one.
func (j *Actor) writeTable(ctx context.Context, s *plan.WriteTable) (Done, error) {
	src, err := j.Verifier.Source(s.File.Path, s.File.Size)
	if err != nil {
		return Done{}, err
	}
	defer src.Close()
	b, err := io.ReadAll(io.LimitReader(src.Reader(), mostTable))
	if err == nil {
		err = src.Sent(fmt.Sprintf("%x", sha256.Sum256(b)))
	}
	if err != nil {
		return Done{}, err
	}
	old, err := j.Table(ctx)
	if err != nil {
		return Done{}, err
	}
	kept := filepath.Join(j.Dir, tableKept)
	if _, err := os.Stat(kept); err != nil {
		// of a job that is resumed, the first is the one that was there
		if err := host.WriteWhole(kept, parttable.Encode(old), 0o600); err != nil {
			return Done{}, err
		}
	}
	j.Out.Kept = append(j.Out.Kept, kept)
	d := Done{Bytes: int64(len(b))}
	if d.SHA256, err = j.WriteTable(ctx, b); err != nil {
		return d, err
	}
	plan.Apply(s, j.Card)
	return d, nil
}

// tableRead holds the table that is there now against the one that was sent.
func (j *Actor) tableRead(ctx context.Context, s *plan.WriteTable, _ Done) (string, error) {
	b, err := files.ReadSmall(s.File.Path, mostTable)
	if err != nil {
		return "", err
	}
	want, err := parttable.Parse(b)
	if err != nil {
		return "", err
	}
	now, err := j.Table(ctx)
	if err != nil {
		return "", err
	}
	if !bytes.Equal(parttable.Encode(now), parttable.Encode(want)) {
		return journal.NotKnown, nil
	}
	return journal.ReadBack, nil
}
