package task

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/journal"
	"jarlid/internal/phone"
)

// BenchRow is one phone that is here.
type BenchRow struct {
	Name     string    `json:"name"`
	Serial   *string   `json:"serial"`
	Model    *string   `json:"model"`
	Mode     card.Mode `json:"mode"`
	NextSlot *string   `json:"next_slot"`
	Unlocked *bool     `json:"unlocked"`
	Address  string    `json:"address"`
	Denied   string    `json:"not_authorised,omitempty"` // the fingerprint of the key it does not know
	Busy     bool      `json:"busy,omitempty"`           // another jarlid works on it
	USB      *Cable    `json:"usb,omitempty"`
	// Broken is the last job on it, when that was interrupted.
	Broken *journal.BrokenJob `json:"broken_off,omitempty"`
	// Failed is why the phone could not be read, though something answered there.
	Failed string `json:"failed,omitempty"`
	// Stop is what keeps this computer from a phone that is there.
	Stop *finding.Finding `json:"stop,omitempty"`

	OneSlot bool       `json:"-"`
	Card    *card.Card `json:"-"`
	// Next is the likely next command, and why.
	Next string `json:"-"`
	Why  string `json:"-"`
}

// Cable is where a phone is on a cable, and how fast.
type Cable struct {
	Port    string `json:"port"`
	Speed   int    `json:"speed"` // Mbit/s
	Vendor  string `json:"vendor"`
	Product string `json:"product"`
}

// Here is what is on the bench.
type Here struct {
	Phones []BenchRow `json:"phones"`
	// Alike are the names of phones that report one serial number, by that number.
	Alike  map[string][]string `json:"one_serial,omitempty"`
	Absent []string            `json:"absent,omitempty"`
	// Reach are what leads to phones that are listed and do not answer, where no other is here.
	Reach []Reach `json:"-"`
	// Away are interrupted last jobs of phones that are not here, unless one phone was named.
	Away []journal.AwayJob `json:"away,omitempty"`
	// Runs are those of sheets that was interrupted.
	Runs []BrokenRun `json:"runs_broken_off,omitempty"`
}

// Reach is the command that leads to a phone that does not answer, and why.
type Reach struct{ Phone, Next, Why string }

// mostReach is for how many phones that do not answer a command is worked out: a shelf of phones that are off
// is no task.
const mostReach = 3

// BrokenRun is a run of a sheet that did not come to its end on some phones.
type BrokenRun struct {
	Run    int      `json:"run"`
	Name   string   `json:"name"`
	Phones []string `json:"phones"`
	Next   string   `json:"-"`
}

// Look checks every listed phone, or at the one that is named.
func Look(ctx context.Context, e *Env) (*Here, error) {
	h := &Here{Phones: []BenchRow{}}
	var seen []phone.Seen
	if e.Options.On == "" {
		var err error
		if seen, h.Absent, err = e.Bench.Look(ctx); err != nil {
			return nil, err
		}
	} else {
		p, err := e.Bench.Pick(ctx, e.Options.On)
		if err != nil {
			return nil, err
		}
		s, err := p.Look(ctx)
		if err != nil {
			return nil, err
		}
		seen = append(seen, *s)
	}
	for _, s := range seen {
		r, err := benchRow(e, s)
		if err != nil {
			return nil, err
		}
		h.Phones = append(h.Phones, r)
	}
	if e.Options.On == "" {
		var here []journal.Who
		for _, s := range seen {
			here = append(here, s.Who(s.Card.Value(card.FactSerial)))
		}
		var err error
		if h.Away, err = journal.Away(e.Bench.Home, here); err != nil {
			return nil, err
		}
	}
	runs, err := journal.BrokenRuns(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		b := BrokenRun{Run: r.Number, Name: r.First().Name, Next: e.Command("", "jobs", "resume",
			strconv.Itoa(r.Number))}
		for _, p := range r.Broken() {
			b.Phones = append(b.Phones, p.Name)
		}
		h.Runs = append(h.Runs, b)
	}
	h.alike()
	return h, h.reach(e)
}

// reach works out what leads to phones that are listed and do not answer. One whose job was interrupted is
// reminded of instead.
func (h *Here) reach(e *Env) error {
	if len(h.Phones) > 0 || len(h.Absent) > mostReach {
		return nil
	}
	for _, name := range h.Absent {
		if slices.ContainsFunc(h.Away, func(j journal.AwayJob) bool { return j.Phone == name }) {
			continue
		}
		list, err := e.Bench.Meant(name)
		if err != nil || len(list) != 1 {
			return err
		}
		s := list[0].NewSession(&card.Card{}, e.Obs())
		if err := s.Recall(); err != nil {
			return err
		}
		s.Card.Set(card.FactMode, card.Fact{})
		next, why := e.Suggest(name, s.Card, s.Model())
		h.Reach = append(h.Reach, Reach{Phone: name, Next: next, Why: why})
	}
	return nil
}

// benchRow is a phone's row: its facts, its interrupted job and the next command.
func benchRow(e *Env, s phone.Seen) (r BenchRow, err error) {
	r = BenchRow{Name: s.Name, Serial: Known(s.Card, card.FactSerial),
		Model: Known(s.Card, card.FactModel), Mode: s.Mode,
		NextSlot: Known(s.Card, card.FactNext),
		Unlocked: knownYes(s.Card, card.FactUnlocked),
		Address:  s.Address,
		Busy:     s.Busy,
		Card:     s.Card}
	if d := s.Device; d != nil {
		r.USB = &Cable{Port: d.Port, Speed: d.Speed, Vendor: fmt.Sprintf("%04x", d.Vendor),
			Product: fmt.Sprintf("%04x", d.Product)}
	}
	r.Stop = s.Stop
	if s.Failed != nil {
		r.Failed = spell.Error(s.Failed)
		if at := s.Addresses(); len(at) > 0 {
			r.Address = at[0].String()
		}
	}
	if r.Broken, err = journal.BrokenOff(e.Bench.Home, s.Who(s.Card.Value(card.FactSerial))); err != nil {
		return r, err
	}
	if r.Broken != nil && r.Broken.Of != nil {
		r.Broken = nil // the run it is of is resumed
	}
	if b := r.Broken; b != nil && b.Kind == "sideload" && s.Card.Landing() != "" {
		// The journal could not be told any more, but the phone says it: the package is in.
		b.Landed()
	}
	slots, told := s.Card.Slots()
	r.OneSlot = told && len(slots) == 0
	switch {
	case s.Denied != nil:
		r.Denied = s.Denied.Fingerprint
		r.Next = e.Command(s.Name, "explain", "not-authorised")
	case s.Stop != nil:
		r.Next = e.Command(s.Name, "bench", "--why")
	case s.Busy, r.Broken != nil && !r.Broken.Vain(): // what was interrupted comes first
	default:
		r.Next, r.Why = e.Suggest(s.Name, s.Card, s.Phone.Model())
	}
	return r, nil
}

// alike finds the serial numbers that several phones reported.
func (h *Here) alike() {
	by := map[string][]string{}
	for _, r := range h.Phones {
		if r.Serial != nil && r.Card.Get(card.FactSerial).Source == card.Read {
			by[*r.Serial] = append(by[*r.Serial], r.Name)
		}
	}
	for serial, names := range by {
		if len(names) > 1 {
			if h.Alike == nil {
				h.Alike = map[string][]string{}
			}
			h.Alike[serial] = names
		}
	}
}

// ModelInfo is what a model file says of a phone.
type ModelInfo struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Aliases []string `json:"aliases"`
	Twins   []string `json:"twins"`
	Quirks  []string `json:"quirks"`
	Ask     []string `json:"ask"`
}

// CardShown is everything known about a phone.
type CardShown struct {
	Facts      map[string]card.Fact `json:"facts"`
	Partitions []card.TableRow      `json:"partitions"`
	Home       place.Home           `json:"recovery_home"`
	Model      *ModelInfo           `json:"model,omitempty"`
	// Contradicted are what the phone reports otherwise than its model file.
	Contradicted []finding.Finding `json:"contradicted,omitempty"`

	Job *engine.Job `json:"-"`
}

// ShowCard opens the phone and reads what can be read.
func ShowCard(ctx context.Context, e *Env) (*CardShown, error) {
	j, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := j.Know(ctx, []card.ID{card.FactMayUnlock.ID(), card.FactVendor.ID()}); err != nil {
		return nil, err
	}
	c := &CardShown{Facts: j.Card.Facts(), Partitions: j.Card.Partitions(),
		Home:         place.RecoveryHome(j.Card),
		Contradicted: place.ModelContradictions(j.Card, j.Model()), Job: j}
	if m := j.Model(); m != nil {
		c.Model = &ModelInfo{Name: m.Name, Title: m.Title, Aliases: m.Aliases, Twins: m.Twins,
			Quirks: m.Quirks, Ask: m.Ask}
	}
	return c, nil
}

// Save keeps the card in a file.
func (c *CardShown) Save(path string) error {
	b, err := c.Job.Card.Save(c.Job.Name)
	if err != nil {
		return err
	}
	return host.WriteWhole(path, b, 0o644)
}

// SlotRow is one slot.
type SlotRow struct {
	Slot       string       `json:"slot"`
	Started    *bool        `json:"started_from"`
	Next       *bool        `json:"next"`
	Bootable   *bool        `json:"bootable"`
	Successful *bool        `json:"successful"`
	Tries      *int64       `json:"tries_left"`
	Holds      []place.Held `json:"holds"`
}

// Slots are both slots side by side.
type Slots struct {
	Slots       []SlotRow `json:"slots"`
	NextInstall *string   `json:"next_install"`

	Told bool       `json:"-"` // the phone says whether it has slots
	Card *card.Card `json:"-"`
}

// ShowSlots opens the phone and reads its slots.
func ShowSlots(ctx context.Context, e *Env) (*Slots, error) {
	j, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	if m := j.Model(); m != nil && len(m.Firmware) > 0 {
		if _, err := j.Know(ctx, []card.ID{card.FactDigest.Of(card.At(m.Firmware[0], "a"))}); err != nil {
			return nil, err
		}
	}
	c := j.Card
	slots, told := c.Slots()
	r := &Slots{Slots: []SlotRow{}, Told: told, Card: c}
	for _, s := range slots {
		row := SlotRow{Slot: s, Bootable: knownYes(c, card.FactBootable.Of(s)),
			Successful: knownYes(c, card.FactGood.Of(s)), Holds: OrEmpty(place.Holds(c, j.Model(), s))}
		is := func(f card.Which) *bool {
			if v := c.Value(f); v != "" {
				same := v == s
				return &same
			}
			return nil
		}
		row.Started, row.Next = is(card.FactStarted), is(card.FactNext)
		if n, ok := c.Number(card.FactTries.Of(s)); ok {
			row.Tries = &n
		}
		r.Slots = append(r.Slots, row)
	}
	if to := place.NextInstall(c); to != "" && len(slots) > 1 {
		r.NextInstall = &to
	}
	return r, nil
}

// Ident says what files are and, where a phone is named, where they would go there.
type Ident struct {
	Files []string `json:"files" yaml:"files"`
	Deep  bool     `json:"deep,omitempty" yaml:"deep,omitempty"`
	// bytes that a compressed file may extract to
	MaxSize int64 `json:"max_size,omitempty" yaml:"max-size,omitempty"`
}

// IdentResult is what they are.
type IdentResult struct {
	Files []*ident.File `json:"files"`
	// Spots are where each file would go on the phone, in the order of Files.
	Spots  [][]place.Spot `json:"-"`
	Errors []error        `json:"-"` // of files that could not be read
	// Damaged is how many of the files are damaged: the last ones of Files.
	Damaged int    `json:"-"`
	Phone   string `json:"-"`
}

// Run reads the files.
func (t *Ident) Run(ctx context.Context, e *Env) (*IdentResult, error) {
	paths, err := files.Expand(t.Files)
	if err == nil {
		paths, err = files.Within(paths)
	}
	if err != nil {
		return nil, err
	}
	r := &IdentResult{Files: []*ident.File{}}
	var j *engine.Job
	if e.Options.On != "" || e.Options.SavedCard != "" { // where would it go on that phone?
		if j, err = e.Open(ctx); err != nil {
			return nil, err
		}
		r.Phone = j.Name
	}
	told := map[string]bool{} // of a file in pieces, the whole
	var damaged []*ident.File
	for _, path := range paths {
		if told[filepath.Clean(path)] {
			continue
		}
		f, err := files.Identify(path, ident.Options{Deep: t.Deep, Spool: files.Spool(t.MaxSize),
			MaxMemory: e.MaxMemory})
		if err != nil {
			r.Errors = append(r.Errors, err)
			continue
		}
		for _, n := range f.Pieces {
			told[filepath.Join(filepath.Dir(path), n)] = true
		}
		if err := e.verifySmall(ctx, path, f); err != nil {
			r.Errors = append(r.Errors, err)
			continue
		}
		var spots []place.Spot
		if j != nil && f.Damage == "" {
			if spots, err = spotsOn(ctx, j, f); err != nil {
				return r, err
			}
		}
		if f.Damage != "" { // where what is left of it belongs is unknown; it is listed last
			f.GoesTo, spots = nil, nil
			damaged = append(damaged, f)
			continue
		}
		r.Files, r.Spots = append(r.Files, f), append(r.Spots, spots)
	}
	r.Damaged = len(damaged)
	for _, f := range damaged {
		r.Files, r.Spots = append(r.Files, f), append(r.Spots, nil)
	}
	return r, nil
}

// maxSmall is up to which size a file is verified when it is identified, in bytes: boot images, add-ons and
// apps take a second at most.
const maxSmall = 256 << 20

// verifySmall notes whether a file is damaged, or was changed after it was signed. Of a larger file that is
// noted where it was verified before.
func (e *Env) verifySmall(ctx context.Context, path string, f *ident.File) error {
	if f.Damage != "" || f.Closed != "" {
		return nil
	}
	res := e.Verifier().Known(path)
	if res == nil && f.Size <= maxSmall {
		var err error
		if res, err = e.Verifier().Verify(ctx, path, f, nil); err != nil {
			return err
		}
	}
	if res != nil {
		place.Note(f, res)
	}
	return nil
}

// spotsOn says where a file would go on the phone.
func spotsOn(ctx context.Context, j *engine.Job, f *ident.File) ([]place.Spot, error) {
	var spots []place.Spot
	for i := range f.GoesTo {
		d := &f.GoesTo[i]
		base := d.Partition
		if home := place.RecoveryHome(j.Card); base == "recovery" && home.Partition != "" {
			base = home.Partition
		}
		if _, err := j.Know(ctx, []card.ID{card.FactSize.Of(card.At(base, ""))}); err != nil {
			return nil, err
		}
		list, image := place.Spots(j.Card, j.Model(), f)
		if !image {
			list = place.OnPhone(j.Card, base, d.Slot, f)
		}
		for _, s := range list {
			d.OnPhone = append(d.OnPhone, s.Name.String())
			spots = append(spots, s)
		}
	}
	return spots, nil
}

// ModelsDir is where a person's own model files are put.
func ModelsDir(e *Env) string { return filepath.Join(e.Bench.Home, "models") }
