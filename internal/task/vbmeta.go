package task

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/graft"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Flag is one of the two flags of a top vbmeta that switch verified boot off.
type Flag string

// The flags.
const (
	FlagHashtree     Flag = "hashtree"
	FlagVerification Flag = "verification"
)

// Flags changes a flag of the top vbmeta, in a file or on the phone.
type Flags struct {
	Flag Flag   `json:"flag" yaml:"flag"`
	Off  bool   `json:"off" yaml:"off"` // loosen; else tighten
	File string `json:"file,omitempty" yaml:"file,omitempty"`
	// with a file: where the changed copy goes
	Output string `json:"output,omitempty" yaml:"output,omitempty"`
	// the image to change and write, where the phone's own can't be read
	From string `json:"from,omitempty" yaml:"from,omitempty"`
	Slot string `json:"slot,omitempty" yaml:"slot,omitempty"` // one slot only
	// write an empty vbmeta, where there is none to change
	Blank bool `json:"make-blank,omitempty" yaml:"make-blank,omitempty"`

	flag   uint32
	from   []byte
	source *ident.File // what from was read from
}

// Flagged is its outcome.
type Flagged struct {
	Flags uint32 `json:"flags,omitempty"`
	Path  string `json:"path,omitempty"`
	Written
	Kept string `json:"kept,omitempty"` // the folder with what was there before
}

// Name implements Work.
func (t *Flags) Name() string {
	if t.Off {
		return "vbmeta loosen"
	}
	return "vbmeta tighten"
}

// Load makes sure that the wish means something and reads the image that was named.
func (t *Flags) Load(ctx context.Context, e *Env) (err error) {
	var ok bool
	if t.flag, ok = plan.Loosening(string(t.Flag)); !ok {
		return Usage("%q is not a flag%s", t.Flag,
			spell.NoneOf(string(t.Flag), []string{"hashtree", "verification"}))
	}
	switch {
	case t.File != "" && t.Output == "":
		return Usage("with a file, -o OUT says where the changed copy goes; the file itself stays as it is")
	case t.File == "" && t.Output != "":
		return Usage("-o goes with a file")
	case t.Slot != "" && t.Slot != "a" && t.Slot != "b":
		return Usage("--slot is a or b, not %q", t.Slot)
	case t.From == "":
		return nil
	}
	name := files.Unquote(t.From)
	if t.source, err = files.Identify(name, ident.Options{}); err != nil {
		return err
	}
	if err := e.verify(ctx, name, t.source); err != nil {
		return err
	}
	data, err := files.ReadSmall(files.Unquote(t.From), graft.MaxImage)
	if err == nil {
		t.from, _, _, err = vbmeta.Bytes(bytes.NewReader(data), int64(len(data)))
	}
	if err != nil {
		return fmt.Errorf("%s: %w", t.From, err)
	}
	return nil
}

// apply gives the flags as they must be.
func (t *Flags) apply(flags uint32) uint32 {
	if t.Off {
		return flags | t.flag
	}
	return flags &^ t.flag
}

// InFile changes the flag in a copy of a file.
func (t *Flags) InFile(ctx context.Context, e *Env) (*Flagged, error) {
	if err := t.Load(ctx, e); err != nil {
		return nil, err
	}
	path := files.Unquote(t.File)
	if err := e.verify(ctx, path, nil); err != nil {
		return nil, err
	}
	b, err := files.ReadSmall(path, graft.MaxImage)
	if err != nil {
		return nil, err
	}
	_, m, footer, err := vbmeta.Bytes(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if why := plan.TopOnly(m, footer, ""); why != "" {
		return nil, finding.Stopped(finding.ChainedVBMeta, filepath.Base(path), path+": "+why,
			"name the top image, the one of the partition vbmeta")
	}
	flags := t.apply(m.Flags)
	changed, err := vbmeta.WithFlags(b, flags)
	if err != nil {
		return nil, err
	}
	if err := host.WriteWhole(t.Output, changed, 0o644); err != nil {
		return nil, err
	}
	after, err := vbmeta.Parse(bytes.NewReader(changed), int64(len(changed)))
	if err != nil {
		return nil, err
	}
	t.sayFlags(e.Obs(), "before", m, after)
	t.sayCost(e.Obs(), m, after)
	return &Flagged{Flags: flags, Path: t.Output, Written: Written{Writes: OrEmpty[writeResult](nil)}}, nil
}

// sayFlags shows the flags; when says of when or where the earlier ones are, before is nil where they are
// not known.
func (*Flags) sayFlags(to say.To, when string, before, after *vbmeta.Image) {
	was := "not known"
	if before != nil {
		was = fmt.Sprintf("%d, %s", before.Flags, vbmeta.FlagWords(before.Flags))
	}
	to.Say(say.Info, "flags %s: %s; after: %d, %s", when, was, after.Flags, vbmeta.FlagWords(after.Flags))
}

// sayCost tells what changed flags mean.
func (*Flags) sayCost(to say.To, before, after *vbmeta.Image) {
	switch {
	case before != nil && before.Flags == after.Flags:
		to.Say(say.Note, "they are like that already")
		return
	case len(after.PublicKey) == 0:
	case after.Verify() == nil:
		to.Say(say.Note, "the signature fits the image again")
		return
	default:
		to.Say(say.Note, "the signature covers the flags and does not fit: an unlocked phone starts it and "+
			"warns, a locked one refuses it")
	}
	to.Say(say.Note, "the data stays readable; a stock update puts its own vbmeta back; before locking the "+
		"phone again everything has to be the maker's")
}

// Prepare makes the changed image of each slot.
func (t *Flags) Prepare(in *engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	if t.source != nil {
		d.Uses = []plan.Sent{{File: t.source, Label: filepath.Base(t.source.Path)}}
	}
	d.Lacks.Facts = []card.ID{card.FactSize.Of(card.At("vbmeta", ""))}
	target := place.Target{Partition: "vbmeta", Slot: t.Slot}
	if t.Slot == "" {
		target.Slot = "both"
	}
	slots, err := target.SlotsOf(in.Card)
	if err != nil {
		return nil, err
	}
	same, lacking := true, false
	for _, slot := range slots {
		p := card.At("vbmeta", slot)
		if in.Card.Value(card.FactSize.Of(p)) == card.Nothing {
			d.Nothing = "this phone has no vbmeta: nothing is enforced by it, and nothing has to be " +
				"switched off"
			return d, nil
		}
		d.Lacks.Contents = append(d.Lacks.Contents, p)
		c, had := in.Contents[p]
		if !had {
			lacking = true
			continue
		}
		w, changed, err := t.onSlot(in, p, c)
		if errors.Is(err, wire.ErrNoPartition) {
			d.Nothing = "this phone has no vbmeta: nothing is enforced by it, and nothing has to be " +
				"switched off"
			return d, nil
		}
		if errors.Is(err, files.ErrEmptySlot) {
			in.Notes.Say(say.Note, "%s is empty and left alone; what is installed there brings its own", p)
			continue
		}
		if err != nil {
			return nil, err
		}
		same = same && !changed
		d.Steps = append(d.Steps, w)
	}
	switch {
	case lacking:
	case len(d.Steps) == 0:
		return nil, finding.Stopped(finding.NothingThere, "vbmeta",
			"no slot of this phone holds a vbmeta to change", "name one with --from FILE")
	case same:
		d.Nothing, d.Steps = "nothing has to be changed", nil
	}
	return d, nil
}

// onSlot makes the changed image of one slot and the step that writes it; changed is false
// when its flags are like that already.
func (t *Flags) onSlot(in *engine.Input, p card.Partition, c engine.Content) (w *plan.Write, changed bool,
	err error) {
	old, m, footer, err := readVBMeta(c)
	blank := false
	switch {
	case t.from != nil && !errors.Is(err, wire.ErrNoPartition):
		old = t.from
		m, footer, err = nil, nil, nil
	case err == nil, errors.Is(err, wire.ErrNoPartition), errors.Is(err, files.ErrEmptySlot) && !t.Blank:
	case t.Blank:
		blank = true
		if old, err = vbmeta.Blank(); err == nil {
			in.Notes.Say(say.Warn, "%s gets an empty vbmeta, which answers for nothing: what a locked "+
				"phone or a stock update needs is not in it", p)
		}
	default:
		err = finding.Stopped(finding.NotInThisMode, p.String(),
			fmt.Sprintf("the vbmeta on %s can't be read to change it: %s", p, spell.Error(err)),
			fmt.Sprintf("jarlid %s %s --from FILE, with the image it was written from; or read it in a "+
				"recovery with a root shell", t.Name(), t.Flag))
	}
	if err != nil {
		return nil, false, err
	}
	if m == nil {
		if m, err = vbmeta.Parse(bytes.NewReader(old), int64(len(old))); err != nil {
			return nil, false, err
		}
	}
	if why := plan.TopOnly(m, footer, ""); why != "" {
		return nil, false, finding.Stopped(finding.ChainedVBMeta, p.String(), why,
			"name the top image, the one of the partition vbmeta")
	}
	flags, before := t.apply(m.Flags), m
	if blank {
		before = nil
	}
	b, err := vbmeta.WithFlags(old, flags)
	if err != nil {
		return nil, false, err
	}
	after, err := vbmeta.Parse(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, false, err
	}
	in.Notes.Say(say.Info, "%s:", p)
	when := "before"
	if t.from != nil {
		when = "in " + filepath.Base(t.From)
	}
	t.sayFlags(in.Notes, when, before, after)
	if p.Slot != "b" { // once is enough
		t.sayCost(in.Notes, before, after)
	}
	path := filepath.Join(in.Scratch, p.String()+".img")
	if err := os.WriteFile(path, b, 0o600); err != nil {
		return nil, false, err
	}
	f, err := files.Identify(path, ident.Options{})
	if err != nil {
		return nil, false, err
	}
	w = plan.WriteVBMeta(f, p.Slot, in.Card)
	w.Made = true
	return w, flags != m.Flags || t.from != nil || t.Blank, nil
}

// readVBMeta reads the vbmeta out of what a partition holds: its bytes without what
// follows, what they say, and its footer where it has one. Errors: files.ErrEmptySlot.
func readVBMeta(c engine.Content) ([]byte, *vbmeta.Image, *vbmeta.Footer, error) {
	if c.Err != nil {
		return nil, nil, nil, c.Err
	}
	f, size, err := files.Open(c.Path)
	if err != nil {
		return nil, nil, nil, err
	}
	defer f.Close()
	head := make([]byte, min(size, 4096))
	if _, err := f.ReadAt(head, 0); err == nil && !bytes.ContainsFunc(head, func(r rune) bool {
		return r != 0
	}) {
		return nil, nil, nil, files.ErrEmptySlot
	}
	return vbmeta.Bytes(f, size)
}

// Result is its outcome.
func (t *Flags) Result(j *engine.Job) Flagged {
	r := Flagged{Written: written(j)}
	if len(j.Out.Kept) > 0 {
		r.Kept = j.Dir
	}
	return r
}

// imageSet opens the images of a set by their partitions' names.
type imageSet struct {
	env   *Env // closes what was opened
	paths map[string]string
	count int
}

// set makes the images of a folder, an archive or a payload ready to be opened.
func (e *Env) set(ctx context.Context, images string) (*imageSet, error) {
	m, err := e.Gather(ctx, false, files.Unquote(images))
	if err != nil {
		return nil, err
	}
	return &imageSet{env: e, paths: files.ByPartition(m), count: len(m.Images)}, nil
}

func (s *imageSet) source(name string) (io.ReaderAt, int64, error) {
	path, ok := s.paths[name]
	if !ok {
		return nil, 0, fmt.Errorf("no image of %s is among them: %w", name, fs.ErrNotExist)
	}
	r, size, done, err := files.OpenImage(path)
	if err == nil {
		s.env.Later(done)
	}
	return r, size, err
}

// verify verifies the set's chain, for a phone nobody knows.
func (s *imageSet) verify(ctx context.Context) (plan.Verdict, error) {
	chain, err := vbmeta.VerifyChain(ctx, s.source, "vbmeta", vbmeta.WithHashes|vbmeta.WithTrees)
	if err != nil {
		return plan.Verdict{}, err
	}
	return plan.JudgeChain(chain, &card.Card{}), nil
}

// VBMetaShow reads the vbmeta of a file, or of a partition of the phone.
type VBMetaShow struct {
	Word string `json:"of" yaml:"of"`
}

// VBMetaShown is what it says, under the specification's names.
type VBMetaShown struct {
	Present               bool             `json:"present"`
	RequiredMajor         uint32           `json:"required_libavb_version_major"`
	RequiredMinor         uint32           `json:"required_libavb_version_minor"`
	Algorithm             string           `json:"algorithm_type"`
	Key                   string           `json:"public_key_sha256"`
	Signature             string           `json:"signature"`
	RollbackIndex         uint64           `json:"rollback_index"`
	RollbackIndexLocation uint32           `json:"rollback_index_location"`
	Flags                 uint32           `json:"flags"`
	FlagsWords            string           `json:"flags_words"`
	ReleaseString         string           `json:"release_string"`
	Size                  int64            `json:"size"`
	Descriptors           []DescriptorInfo `json:"descriptors"`

	Footer *vbmeta.Footer       `json:"-"`
	Of     []*vbmeta.Descriptor `json:"-"`
}

// Run reads it.
func (t *VBMetaShow) Run(ctx context.Context, e *Env) (*VBMetaShown, error) {
	m, footer, err := t.open(ctx, e)
	if errors.Is(err, wire.ErrNoPartition) && t.Word == "vbmeta" {
		return &VBMetaShown{Descriptors: []DescriptorInfo{}}, nil
	}
	if err != nil {
		return nil, err
	}
	r := &VBMetaShown{Present: true, RequiredMajor: m.RequiredMajor, RequiredMinor: m.RequiredMinor,
		Algorithm: vbmeta.Algorithms[m.AlgorithmType].Name, Key: "none: nobody signed it", Signature: "good",
		RollbackIndex:         m.RollbackIndex,
		RollbackIndexLocation: m.RollbackIndexLocation,
		Flags:                 m.Flags,
		FlagsWords:            vbmeta.FlagWords(m.Flags),
		ReleaseString:         m.ReleaseString,
		Size:                  m.Size,
		Footer:                footer, Descriptors: []DescriptorInfo{}}
	if len(m.PublicKey) > 0 {
		r.Key = vbmeta.Fingerprint(m.PublicKey)
	}
	if err := m.Verify(); err != nil {
		r.Signature = spell.Error(err)
	}
	for i := range m.Descriptors {
		r.Of = append(r.Of, &m.Descriptors[i])
		r.Descriptors = append(r.Descriptors, descriptorInfo(&m.Descriptors[i]))
	}
	return r, nil
}

func (t *VBMetaShow) open(ctx context.Context, e *Env) (*vbmeta.Image, *vbmeta.Footer, error) {
	f, size, err := files.Open(files.Unquote(t.Word))
	if err == nil {
		defer f.Close()
		_, m, footer, err := vbmeta.Bytes(f, size)
		if err != nil {
			err = fmt.Errorf("%s: %w", t.Word, err)
		}
		return m, footer, err
	}
	if !errors.Is(err, fs.ErrNotExist) || strings.ContainsAny(t.Word, `./\`) {
		return nil, nil, err
	}
	to, err := place.ParseTarget(t.Word)
	if err != nil {
		return nil, nil, Usage("%v", err)
	}
	j, err := e.Open(ctx)
	if err != nil {
		return nil, nil, err
	}
	if to.Slot == "" {
		to.Slot = j.Card.Value(card.FactStarted)
	}
	slots, err := to.SlotsOf(j.Card)
	if err != nil {
		return nil, nil, err
	}
	p := card.At(to.Partition, slots[0])
	if _, err := j.Know(ctx, []card.ID{card.FactSize.Of(p)}); err != nil {
		return nil, nil, err
	}
	if j.Card.Value(card.FactSize.Of(p)) == card.Nothing {
		return nil, nil, fmt.Errorf("%s: %w", p, wire.ErrNoPartition)
	}
	_, m, footer, err := j.ReadVBMeta(ctx, p)
	return m, footer, err
}

// VBMetaCheck verifies the whole chain, of a file against images or on the phone.
type VBMetaCheck struct {
	File   string `json:"file,omitempty" yaml:"file,omitempty"`
	Images string `json:"images,omitempty" yaml:"images,omitempty"`
	Slot   string `json:"slot,omitempty" yaml:"slot,omitempty"`
}

// VBMetaChecked is what was verified, and what phones make of it.
type VBMetaChecked struct {
	Present        bool              `json:"present"`
	Checks         []plan.ChainCheck `json:"checks"`
	Unlocked       bool              `json:"unlocked"`
	Missing        []string          `json:"missing"` // images that were not there to be compared with it
	LockedIfTrusts *string           `json:"locked_if_trusts"`

	Top     *vbmeta.Image `json:"-"`
	Verdict plan.Verdict  `json:"-"`
}

// Run verifies it.
func (t *VBMetaCheck) Run(ctx context.Context, e *Env) (*VBMetaChecked, error) {
	if t.File == "" {
		return t.onPhone(ctx, e)
	}
	if t.Images == "" {
		return nil, Usage("say which images it answers for: --images DIR, a zip or a payload")
	}
	top := files.Unquote(t.File)
	if f, _, err := files.Open(top); err != nil { // one that is not there is no vbmeta that is wrong
		return nil, err
	} else {
		f.Close()
	}
	set, err := e.set(ctx, t.Images)
	if err != nil {
		return nil, err
	}
	if set.count == 0 {
		return nil, Usage("there is no image in %s that %s could answer for", t.Images, filepath.Base(t.File))
	}
	known := &card.Card{}
	if e.Options.SavedCard != "" || e.Options.On != "" {
		j, err := e.Open(ctx)
		if err != nil {
			return nil, err
		}
		known = j.Card
	}
	e.Obs().Say(say.Info, "verifying %s with %s; hash trees are worked out whole", filepath.Base(t.File),
		spell.Counted(set.count, "image"))
	set.paths["vbmeta"] = top
	return judged(ctx, set.source, known, plan.JudgeThere)
}

func (t *VBMetaCheck) onPhone(ctx context.Context, e *Env) (*VBMetaChecked, error) {
	if t.Images != "" {
		return nil, Usage("--images goes with the vbmeta file it belongs to")
	}
	j, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	to := place.Target{Partition: "vbmeta"}
	slot := cmp.Or(t.Slot, j.Card.Value(card.FactNext))
	if all, known := j.Card.Slots(); slot == "" && known && len(all) > 0 {
		slot = "booted" // the active slot is unknown in this recovery
	}
	if slot != "" {
		if to, err = place.ParseTarget("vbmeta@" + slot); err != nil {
			return nil, Usage("%v", err)
		}
	}
	slots, err := to.SlotsOf(j.Card)
	if err != nil {
		return nil, err
	}
	if len(slots) != 1 {
		return nil, Usage("--slot means one slot: a, b, booted, active or other")
	}
	open := j.Partitions(ctx, slots[0])
	if _, _, err := open("vbmeta"); errors.Is(err, wire.ErrNoPartition) {
		return &VBMetaChecked{Checks: []plan.ChainCheck{}}, nil
	} else if err != nil {
		return nil, err
	}
	which := slots[0]
	if which == "" {
		which = "(there is one only)"
	}
	e.Obs().Say(say.Wait, "reading what slot %s holds and working out its hash trees; this takes minutes "+
		"on a real phone", which)
	return judged(ctx, open, j.Card, plan.JudgeChain)
}

func judged(ctx context.Context, source vbmeta.Source, known *card.Card,
	judge func(*vbmeta.Chain, *card.Card) plan.Verdict) (*VBMetaChecked, error) {
	chain, err := vbmeta.VerifyChain(ctx, source, "vbmeta", vbmeta.WithHashes|vbmeta.WithTrees)
	if err != nil {
		return nil, err
	}
	v := judge(chain, known)
	r := &VBMetaChecked{Present: true, Missing: OrEmpty(v.Missing), Checks: plan.ChainChecks(chain, known),
		Unlocked: v.Unlocked, Top: chain.Top, Verdict: v}
	if v.LockedIfTrusts != "" {
		r.LockedIfTrusts = &v.LockedIfTrusts
	}
	return r, nil
}

// SetSigned reports whether a firmware set's whole chain verifies, by the key a locked phone would
// have to trust; "" and why not otherwise.
func SetSigned(ctx context.Context, e *Env, images string) (key, why string, err error) {
	set, err := e.set(ctx, images)
	if err != nil {
		return "", "", err
	}
	if _, ok := set.paths["vbmeta"]; !ok {
		return "", "the set has no vbmeta, and what a locked phone would check is not known", nil
	}
	verdict, err := set.verify(ctx)
	if err != nil {
		return "", spell.Error(err), nil
	}
	return verdict.LockedIfTrusts, verdict.LockedWhy, nil
}
