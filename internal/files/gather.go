package files

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/core/verify"
)

// Material is a set of files made ready to be written: wrapped ones extracted to
// a temporary place, a set's members taken out.
type Material struct {
	Images   []place.Image
	Manifest plan.Manifest
	Set      string          // the file or folder that was a whole set; "" for single images
	Left     []string        // members that are no images, which are left alone
	Held     int             // members that are what the set's own digests state
	Missing  []string        // names the set's digests state and nothing in it has
	dir      string          // the temporary folder; "" while nothing was extracted
	done     func()          // takes it away
	stated   []Stated        // what the set's files of digests state
	seen     map[string]bool // the names that were found in it
	// taken are files that came in with another one that they are a piece of.
	taken map[string]bool
	// damaged are findings of members that are damaged; label is how a person calls the one that is read.
	damaged []finding.Finding
	label   string
}

// inside reads a member that a person calls by another name than that of its temporary file.
func (m *Material) inside(label string, read func() error) error {
	before := m.label
	m.label = label
	err := read()
	m.label = before
	if err == nil && before == "" && len(m.damaged) > 0 {
		err = &finding.StopError{Findings: m.damaged}
	}
	return err
}

// within says in which member of which file something went wrong; where the member is damaged, as the
// finding that says so.
func within(name, member string, err error) error {
	label := filepath.Base(name)
	if stop := place.Damaged(label, err); stop != nil {
		stop.Findings[0].Text = fmt.Sprintf("%s is damaged: its member %s can't be taken out (%s)", label,
			member, spell.Error(err))
		return stop
	}
	return fmt.Errorf("%s, %s: %w", name, member, err)
}

// Close removes what was extracted.
func (m *Material) Close() {
	if m.done != nil {
		m.done()
	}
}

// Gathering says how files are made ready.
type Gathering struct {
	Home    string // under which the temporary folder is made
	MaxSize int64  // the most one file may extract to, in bytes; 0: the usual limit
	// MaxMemory bounds what extracting may take, in bytes; 0: the usual limit.
	MaxMemory int64
	// Verifier verifies what is given, and the images inside; nil: one that remembers nothing.
	Verifier *Verifier
	// Look says that nothing of it is written anywhere: what nobody states a digest of is not read for that.
	Look bool
	// Single keeps an archive as it is: a person named one partition for it.
	Single bool
	// Inside takes the images out of a package of block lists too, which is otherwise kept for a recovery.
	Inside bool
	// Working is told what is being extracted, and how far it is; kind is what was done with it.
	Working Working
}

// maxManifest bounds the text files of a set, in bytes.
const maxManifest = 1 << 20

// Gather makes files ready: images as they are, wrapped images extracted, and of
// folders, archives, payloads and super images every image inside.
func Gather(ctx context.Context, paths []string, g Gathering) (*Material, error) {
	if g.Verifier == nil {
		g.Verifier = &Verifier{}
	}
	m := &Material{taken: map[string]bool{}, seen: map[string]bool{}}
	for _, p := range paths {
		if m.taken[filepath.Clean(p)] {
			continue
		}
		st, err := os.Stat(p)
		if errors.Is(err, fs.ErrNotExist) {
			err = &MissingError{p}
		}
		if err == nil && st.IsDir() {
			err = m.folder(ctx, p, g)
		} else if err == nil {
			err = m.file(ctx, p, g, 0)
		}
		if err != nil {
			m.Close()
			return nil, err
		}
	}
	m.miss()
	return m, nil
}

// folder takes the images that are in a folder, not below it.
func (m *Material) folder(ctx context.Context, dir string, g Gathering) error {
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	m.Set = dir
	for _, e := range list {
		m.seen[e.Name()] = true
		if st, err := e.Info(); err != nil || !maybeSums(e.Name()) || !st.Mode().IsRegular() ||
			st.Size() > mostDigests {
			continue
		}
		b, err := ReadSmall(filepath.Join(dir, e.Name()), maxManifest)
		if err != nil {
			return err
		}
		if m.states(e.Name(), b) {
			m.taken[filepath.Join(filepath.Clean(dir), e.Name())] = true
		}
	}
	for _, e := range list {
		name := filepath.Join(dir, e.Name())
		if st, err := os.Stat(name); err != nil || !st.Mode().IsRegular() {
			// a link counts as what it leads to
			if err != nil {
				m.Left = append(m.Left, e.Name())
			}
			continue
		}
		if m.taken[filepath.Clean(name)] {
			continue
		}
		if manifest(e.Name()) {
			b, err := ReadSmall(name, maxManifest)
			if err != nil {
				return err
			}
			m.note(e.Name(), b)
			continue
		}
		m.heldInSet(name, g)
		f, err := Identify(name, ident.Options{MaxMemory: g.MaxMemory})
		if err != nil {
			return err
		}
		if err := m.verify(ctx, name, e.Name(), f, g, false); err != nil {
			return err
		}
		if done, err := m.pieces(ctx, name, f, g, 0); done || err != nil {
			if err != nil {
				return err
			}
			continue
		}
		if !isImage(f) {
			m.Left = append(m.Left, e.Name())
			continue
		}
		m.Images = append(m.Images, place.Image{File: f})
	}
	if len(m.damaged) > 0 {
		return &finding.StopError{Findings: m.damaged}
	}
	return nil
}

// verify verifies a file that is called label, and keeps the finding of one that is damaged: of a set, all
// of them are named. What is whole and was changed is told once it is known where it goes.
func (m *Material) verify(ctx context.Context, name, label string, f *ident.File, g Gathering,
	packed bool) error {
	if g.Look && len(g.Verifier.statedOf(name)) == 0 {
		return nil
	}
	run := g.Verifier.Verify
	if packed {
		run = g.Verifier.VerifyPacked
	}
	res, err := run(ctx, name, f, g.Working)
	if err != nil {
		return err
	}
	if res.Has(verify.Damaged) {
		m.damaged = append(m.damaged, place.Verified(label, f, res)...)
	}
	return nil
}

// isImage reports whether a set's member is something to be written.
func isImage(f *ident.File) bool {
	if f.IsArchive() || f.Kind == ident.Text || f.Kind == ident.Sums || f.Kind == ident.LoaderTable ||
		len(f.Wrapped) > 0 && f.Wrapped[0] != "sparse" {
		return false
	}
	return f.Kind != ident.Unknown || strings.HasSuffix(strings.ToLower(f.Path), ".img") || len(f.GoesTo) > 0
}

func manifest(name string) bool {
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	return base == "android-info.txt" || base == "fastboot-info.txt"
}

func (m *Material) note(name string, b []byte) {
	if strings.HasSuffix(name, "android-info.txt") {
		m.Manifest.ParseInfo(string(b))
	} else {
		m.Manifest.ParseOrder(string(b))
	}
}

// maxNesting is how many wrappings are taken off one file.
const maxNesting = 4

// file takes one file: as it is, or what is inside.
func (m *Material) file(ctx context.Context, name string, g Gathering, depth int) error {
	f, err := Identify(name, ident.Options{MaxMemory: g.MaxMemory})
	if err != nil {
		return err
	}
	if err := m.verify(ctx, name, cmp.Or(m.label, filepath.Base(name)), f, g,
		!asIs(f, g, depth)); err != nil {
		return err
	}
	if len(m.damaged) > 0 && m.label == "" {
		return &finding.StopError{Findings: m.damaged}
	}
	if done, err := m.pieces(ctx, name, f, g, depth); done || err != nil {
		return err
	}
	if asIs(f, g, depth) {
		m.asItIs(f)
		return nil
	}
	if isSet(f) {
		m.Set = name
	}
	return m.unwrap(ctx, name, f, g, depth)
}

// isSet reports whether a file holds several images.
func isSet(f *ident.File) bool {
	return f.Kind == ident.OTAAB || f.Kind == ident.OTABlock || f.Kind == ident.Payload ||
		f.Kind == ident.FirmwareSet ||
		f.Kind == ident.Images
}

// asIs reports whether a file is taken itself, and not what is inside.
func asIs(f *ident.File, g Gathering, depth int) bool {
	raw := len(f.Wrapped) == 0 || f.Wrapped[0] == "sparse"
	switch f.Kind {
	case ident.Addon, ident.App, ident.Ramdisk:
		return true
	case ident.OTABlock:
		return !g.Inside
	case ident.Archive:
		if f.Damage != "" {
			return true
		}
	}
	return raw && !isSet(f) || f.Short || f.Closed != "" || depth > maxNesting || g.Single && isSet(f)
}

// asItIs takes a file itself.
func (m *Material) asItIs(f *ident.File) {
	m.Images = append(m.Images, place.Image{File: f})
}

// extract takes what is inside a file to a temporary place.
func (m *Material) unwrap(ctx context.Context, name string, f *ident.File, g Gathering, depth int) error {
	// An archive that shows no image may hold them in archives of its own; what can't be looked into
	// stays an archive, which is a finding.
	archive := f.Kind == ident.Archive
	s, done, err := opened(name, f.Size, g)
	var images []lift.Item
	if err == nil {
		defer done()
		images, err = s.Images()
	}
	if archive && (err != nil || len(s.Inner) == 0 || len(images) == 0) {
		m.asItIs(f)
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if archive && m.Set == "" {
		m.Set = name
	}
	sub, err := m.temporary(g)
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, it := range images {
		wanted[it.Name] = true
	}
	for _, it := range s.Items {
		switch {
		case manifest(it.Name):
			images = append(images, it)
		case !wanted[it.Name]:
			m.seen[path.Base(it.Name)] = true
			if stated, err := m.statesItem(ctx, it, sub, g); stated || err != nil {
				if err != nil {
					return within(name, it.Name, err)
				}
				continue
			}
			m.Left = append(m.Left, it.Name)
		}
	}
	if err := RoomFor(sub, images); err != nil {
		return err
	}
	outs, err := m.takeAll(ctx, name, images, sub, g)
	if err != nil {
		return err
	}
	for _, it := range images {
		if out := outs[it.Name]; out != "" {
			m.heldInSet(out, g)
		}
	}
	// Behind the last: images in pieces are put together from what is there now.
	for _, it := range images {
		out := outs[it.Name]
		if out == "" || m.taken[filepath.Clean(out)] {
			continue
		}
		at := len(m.Images)
		if err := m.inside(it.Name, func() error { return m.file(ctx, out, g, depth+1) }); err != nil {
			return err
		}
		for i := range m.Images[at:] {
			if im := &m.Images[at+i]; im.Label == "" {
				im.Label = it.Name
				if len(images) == 1 && len(s.Items) <= 1 && f.Kind != ident.BlockList {
					im.Label = filepath.Base(name)
				}
			}
		}
	}
	return nil
}

// takeAll takes images out of an archive and gives where they are, by their names there.
func (m *Material) takeAll(ctx context.Context, name string, images []lift.Item, sub string, g Gathering) (
	map[string]string, error) {
	taken := map[string]string{}
	outs := map[string]string{}
	for _, it := range images {
		base := strings.ToLower(path.Base(it.Name))
		if other, twice := taken[base]; twice {
			return nil, finding.Stopped(finding.TwoAlike, filepath.Base(name),
				fmt.Sprintf("%s holds two files called %s, %s and %s, and which is meant is not guessed",
					filepath.Base(name), path.Base(it.Name), other, it.Name),
				"take out the one that is meant: jarlid lift "+local.Quote(name)+" "+local.Quote(it.Name)+
					" -o DIR")
		}
		taken[base] = it.Name
		out := filepath.Join(sub, local.Name(path.Base(it.Name)))
		if err := take(ctx, it, out, g); err != nil {
			return nil, within(name, it.Name, err)
		}
		if manifest(it.Name) {
			b, err := ReadSmall(out, maxManifest)
			if err != nil {
				return nil, err
			}
			m.note(it.Name, b)
			continue
		}
		outs[it.Name] = out
	}
	return outs, nil
}

// opened lists what is in a file; done closes it.
func opened(name string, size int64, g Gathering) (s *lift.Source, done func(), err error) {
	src, _, err := Open(name)
	if err != nil {
		return nil, nil, err
	}
	folder := BesideOf(name)
	limit := g.MaxSize
	if limit <= 0 {
		limit = lift.DefaultMaxSize
	}
	s, err = lift.Open(src, size, name, lift.Options{MaxSize: g.MaxSize, MaxMemory: g.MaxMemory,
		Beside: folder, Spool: Spool(limit)})
	if err != nil {
		folder.Close()
		src.Close()
		return nil, nil, err
	}
	return s, func() { s.Close(); folder.Close(); src.Close() }, nil
}

// temporary makes a folder for what is extracted.
func (m *Material) temporary(g Gathering) (string, error) {
	if m.dir == "" {
		dir, done, err := Scratch(g.Home)
		if err != nil {
			return "", err
		}
		m.dir, m.done = dir, done
	}
	return os.MkdirTemp(m.dir, "")
}

// pieces puts an image that is in several files together; done is false for others.
func (m *Material) pieces(ctx context.Context, name string, f *ident.File, g Gathering, depth int) (done bool,
	err error) {
	for _, n := range f.Pieces {
		m.taken[filepath.Join(filepath.Dir(name), n)] = true
	}
	switch {
	case f.Kind == ident.BlockList && f.Damage == "":
		return true, m.unwrap(ctx, name, f, g, depth)
	case len(f.Pieces) == 0 || f.Damage != "": // a damaged one is a finding, not an error
		return false, nil
	}
	folder := BesideOf(name)
	defer folder.Close()
	v, src, err := lift.Join(folder, filepath.Base(name))
	if err != nil {
		return true, err
	}
	sub, err := m.temporary(g)
	if err != nil {
		return true, err
	}
	out := filepath.Join(sub, local.Name(f.Whole()))
	w, err := os.OpenFile(out, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return true, err
	}
	moved, end := func(int64) {}, func() {}
	if g.Working != nil {
		moved, end = g.Working("put together", "putting "+f.Whole()+" together", src.Size())
	}
	_, err = v.WriteTo(&telling{ctx: ctx, w: w, moved: moved})
	end()
	if err = errors.Join(err, w.Close()); err != nil {
		return true, err
	}
	at := len(m.Images)
	if err := m.inside(f.Whole(), func() error { return m.file(ctx, out, g, depth+1) }); err != nil {
		return true, err
	}
	for i := range m.Images[at:] {
		if im := &m.Images[at+i]; im.Label == "" {
			im.Label = f.Whole()
		}
	}
	return true, nil
}

// telling writes, and tells how far it is.
type telling struct {
	ctx   context.Context
	w     io.Writer
	n     int64
	moved func(int64)
}

// Write writes until it is stopped.
func (t *telling) Write(b []byte) (int, error) {
	if err := t.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := t.w.Write(b)
	t.n += int64(n)
	t.moved(t.n)
	return n, err
}

// take writes one item to a new file.
func take(ctx context.Context, it lift.Item, out string, g Gathering) error {
	f, err := os.OpenFile(out, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	moved, end := func(int64) {}, func() {}
	if g.Working != nil && !manifest(it.Name) {
		moved, end = g.Working("unwrapped", "unwrapping "+it.Name, max(it.Size, 0))
	}
	_, err = it.Write(ctx, lift.Unsummed{Out: NewOut(f)}, moved)
	end()
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}
