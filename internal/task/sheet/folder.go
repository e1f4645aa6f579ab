package sheet

import (
	"context"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/place"
	"jarlid/internal/core/verify"
	"jarlid/internal/files"
	"jarlid/internal/task"
)

// Opened is a sheet with the folder it is in.
type Opened struct {
	*Sheet
	Path string // of the sheet
	Text []byte // as it was read
	// Elsewhere are files that were named on the command line, by their short names.
	Elsewhere map[string]string
	// Allowed are the stops that a person has allowed, of those the sheet needs allowed.
	Allowed []Accept
	// Rows are what differs from phone to phone, from a table.
	Rows []map[string]string
}

// Options say how a sheet is opened.
type Options struct {
	Elsewhere []string // NAME=PATH
	Table     string   // a CSV file; "" for none
}

// Open reads a sheet. Errors: *FormError, *task.UsageError.
func Open(path string, o Options) (*Opened, error) {
	path = files.Unquote(path)
	text, err := files.ReadText(path, maxSize)
	if err != nil {
		return nil, err
	}
	s, err := parse([]byte(text), path)
	if err != nil {
		return nil, err
	}
	return s.at(path, []byte(text), o)
}

func (s *Sheet) at(path string, text []byte, o Options) (*Opened, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	op := &Opened{Sheet: s, Path: abs, Text: text, Elsewhere: map[string]string{}}
	for _, w := range o.Elsewhere {
		name, at, ok := strings.Cut(w, "=")
		if !ok || at == "" {
			return nil, task.Usage("--file is NAME=PATH, not %q", w)
		}
		if !slices.ContainsFunc(s.Files, func(f File) bool { return f.Name == name }) {
			return nil, task.Usage("the sheet has no file called %q", name)
		}
		if op.Elsewhere[name], err = filepath.Abs(files.Unquote(at)); err != nil {
			return nil, err
		}
	}
	if o.Table != "" {
		op.Rows, err = readTable(files.Unquote(o.Table))
	}
	return op, err
}

// maxTable bounds a table, in bytes: it holds thousands of phones.
const maxTable = 4 << 20

// readTable reads what differs from phone to phone: a heading line, one column of it name or
// serial, and a line a phone.
func readTable(path string) ([]map[string]string, error) {
	text, err := files.ReadText(path, maxTable)
	if err != nil {
		return nil, err
	}
	r := csv.NewReader(strings.NewReader(text))
	r.TrimLeadingSpace = true
	if first, _, _ := strings.Cut(text, "\n"); !strings.Contains(first, ",") && strings.Contains(first, ";") {
		r.Comma = ';' // as spreadsheets write it where the comma is the decimal sign
	}
	head, err := r.Read()
	if errors.Is(err, io.EOF) {
		return nil, task.Usage("%s is empty: its first line names the columns, one of them name or serial",
			path)
	}
	if err != nil {
		return nil, tableError(path, err)
	}
	for i, h := range head {
		head[i] = strings.ToLower(strings.TrimSpace(h))
		if head[i] == "" || slices.Contains(head[:i], head[i]) {
			return nil, task.Usage("%s, line 1: column %d has no name of its own", path, i+1)
		}
	}
	if !slices.Contains(head, "name") && !slices.Contains(head, "serial") {
		return nil, task.Usage("%s, line 1: no column is called name or serial, so nobody can tell "+
			"which phone "+
			"a line is about", path)
	}
	var rows []map[string]string
	seen := map[string]bool{}
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, tableError(path, err)
		}
		row := map[string]string{}
		for i, h := range head {
			row[h] = strings.TrimSpace(fields[i])
		}
		for _, k := range []string{"name", "serial"} {
			if row[k] != "" && seen[k+row[k]] {
				line, _ := r.FieldPos(0)
				return nil, task.Usage("%s, line %d: %s %s has a line already", path, line, k, row[k])
			}
			seen[k+row[k]] = true
		}
		rows = append(rows, row)
	}
}

func tableError(path string, err error) error {
	var p *csv.ParseError
	if errors.As(err, &p) {
		what := "its quotes do not match"
		if errors.Is(err, csv.ErrFieldCount) {
			what = "it has another number of columns than the first line"
		}
		return task.Usage("%s, line %d: %s", path, p.Line, what)
	}
	return fmt.Errorf("%s: %w", path, err)
}

// vars are what stands for ${NAME} on one phone. A line of the table belongs to it by its name
// or its serial number.
func (o *Opened) vars(name, serial, model string) map[string]string {
	v := map[string]string{}
	for _, row := range o.Rows {
		if row["name"] != "" && row["name"] != name || row["serial"] != "" && row["serial"] != serial {
			continue
		}
		for k, w := range row {
			v[k] = w
		}
		break
	}
	for k, w := range map[string]string{"name": name, "serial": serial, "model": model} {
		if w != "" {
			v[k] = w
		}
	}
	return v
}

// Paths gives the sheet's files by their short names, where they are on this computer.
func (o *Opened) Paths() map[string]string {
	m := map[string]string{}
	for _, f := range o.Files {
		m[f.Name] = o.path(f)
	}
	return m
}

func (o *Opened) path(f File) string {
	if p, ok := o.Elsewhere[f.Name]; ok {
		return p
	}
	return filepath.Join(filepath.Dir(o.Path), filepath.FromSlash(strings.ReplaceAll(f.Path, `\`, "/")))
}

// output is where a task puts what it makes: below the sheet's folder.
func (o *Opened) output(word string) string {
	clean := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:*?"<>|`, r) || r < ' ' {
			return '-'
		}
		return r
	}, strings.ReplaceAll(word, `\`, "/"))
	clean = filepath.FromSlash(clean)
	if !filepath.IsLocal(clean) { // what a variable brought in
		clean = strings.NewReplacer("/", "-", string(filepath.Separator), "-", "..", "-").Replace(clean)
	}
	return filepath.Join(filepath.Dir(o.Path), clean)
}

// changed verifies the files of the sheet, by what it states of them too: each is read once. Errors are
// those of the computer; what differs is found.
func (o *Opened) changed(ctx context.Context, e *task.Env) (list []Found, err error) {
	for _, f := range o.Files {
		path := o.path(f)
		missing := func(format string, args ...any) {
			list = append(list, Found{finding.Finding{Name: finding.NoSuchFile, Severity: finding.Stop,
				Final: true, About: f.Name,
				Text: fmt.Sprintf(format, args...),
				Remedy: "bring the file back; one that is elsewhere is named with --file " +
					f.Name + "=PATH"},
				f.Line})
		}
		st, err := os.Stat(path)
		if errors.Is(err, fs.ErrNotExist) {
			missing("%s (%s) is not there", f.Name, path)
			continue
		}
		if err != nil {
			return list, err
		}
		if _, named := o.Elsewhere[f.Name]; !named {
			if out, err := leadsOut(filepath.Dir(o.Path), path); err != nil {
				return list, err
			} else if out {
				missing("%s is a link that leads out of the sheet's folder, and is not followed", f.Path)
				continue
			}
		}
		text, err := o.differs(ctx, e, f, path, st)
		if err != nil {
			return list, err
		}
		if text != "" {
			list = append(list, Found{finding.Finding{Name: finding.DamagedFile, Severity: finding.Stop,
				Final: true, About: filepath.Base(path),
				Text: text,
				Remedy: "get the file again, or draft the sheet again; one that is elsewhere is named with " +
					"--file " + f.Name + "=PATH"},
				f.Line})
		}
	}
	return list, nil
}

// differs verifies a file or a folder of the sheet; "" where nothing disagrees.
func (o *Opened) differs(ctx context.Context, e *task.Env, f File, path string, st fs.FileInfo) (
	string, error) {
	v := e.Verifier()
	wrongSize := func(size int64) string {
		return fmt.Sprintf("%s has %s (%d bytes), and the sheet was written for one of %d bytes", f.Path,
			image.Size(size), size, f.Size)
	}
	if st.IsDir() {
		if f.SHA256 == "" && f.Size < 0 {
			return "", nil
		}
		sum, size, err := sumOf(ctx, v, path, nil)
		switch {
		case err != nil:
			return "", err
		case f.Size >= 0 && f.Size != size:
			return wrongSize(size), nil
		case f.SHA256 != "" && f.SHA256 != sum:
			return fmt.Sprintf("%s holds other files than the sheet was written for: their SHA-256 is %s",
				f.Path, sum), nil
		}
		return "", nil
	}
	if f.Size >= 0 && f.Size != st.Size() {
		return wrongSize(st.Size()), nil
	}
	if f.SHA256 != "" {
		v.State(path, files.Stated{From: "the sheet", Loose: true,
			List: []sums.Sum{{Algorithm: sums.SHA256, Digest: f.SHA256}}})
	}
	res, err := v.Verify(ctx, path, nil, e.Working)
	if err != nil || !res.Has(verify.Damaged) {
		return "", err
	}
	return place.Verified(filepath.Base(path), nil, res)[0].Text, nil
}

// leadsOut reports whether a path leads out of a folder by its links.
func leadsOut(dir, path string) (bool, error) {
	at, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return false, err
	}
	to, err := filepath.EvalSymlinks(path)
	if err != nil {
		return false, err
	}
	rel, err := filepath.Rel(at, to)
	return err != nil || !filepath.IsLocal(rel), nil
}

// maxInFolder bounds the files of a folder a sheet names.
const maxInFolder = 10000

// sumOf gives the size and the SHA-256 of a file, or of a folder: that of the list of its files
// in the order of their names, a line each as the GNU tools write it: digest, two blanks, path
// with slashes.
func sumOf(ctx context.Context, v *files.Verifier, path string, moved func(int64)) (sum string, size int64,
	err error) {
	st, err := os.Stat(path)
	if err != nil {
		return "", 0, err
	}
	if !st.IsDir() {
		return v.SHA256(ctx, path, moved)
	}
	var names []string
	err = filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			names = append(names, p)
		}
		if len(names) > maxInFolder {
			return fmt.Errorf("%s has more than %d files", path, maxInFolder)
		}
		return err
	})
	if err != nil {
		return "", 0, err
	}
	h := sha256.New()
	lines := map[string]string{}
	for _, n := range names {
		one, bytes, err := v.SHA256(ctx, n, nil)
		if err != nil {
			return "", 0, err
		}
		size += bytes
		rel, err := filepath.Rel(path, n)
		if err != nil {
			return "", 0, err
		}
		lines[filepath.ToSlash(rel)] = one
	}
	var rels []string
	for r := range lines {
		rels = append(rels, r)
	}
	slices.Sort(rels)
	for _, r := range rels {
		fmt.Fprintf(h, "%s  %s\n", lines[r], r)
	}
	return hex.EncodeToString(h.Sum(nil)), size, nil
}
