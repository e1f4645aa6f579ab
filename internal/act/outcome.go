package act

import (
	"jarlid/internal/core/card"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
)

// Outcome is what the acts of a job came to.
type Outcome struct {
	Writes   []WriteResult
	Packages []PackageResult
	Stored   []StoredFile
	Moves    []Moved
	Apps     []AppResult
	Wiped    []WipeResult
	// Restarted is how the last restart is known to have come to its end; ByHand says that a
	// person was asked to do it.
	Restarted string
	ByHand    bool
	// Barred says that the phone's system is there, and that something keeps this computer from it.
	Barred bool
	Kept   []string // files with what was on partitions before
}

// WriteResult is one image written.
type WriteResult struct {
	Partition string `json:"partition"`
	Slot      string `json:"slot,omitempty"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256"`
	Confirmed string `json:"confirmed"`
}

// WipeResult is one area or partition that was erased.
type WipeResult struct {
	What      string `json:"what"`
	Confirmed string `json:"confirmed"`
	Left      string `json:"left,omitempty"` // of it, in words
}

// PackageOutcome is the outcome of a package.
type PackageOutcome string

// Outcomes of a package.
const (
	Installed PackageOutcome = "installed"
	Refused   PackageOutcome = "refused"
	Failed    PackageOutcome = "failed"
	Unknown   PackageOutcome = journal.NotKnown
)

// PackageResult is one package sent.
type PackageResult struct {
	Path     string         `json:"path"`
	Outcome  PackageOutcome `json:"outcome"`
	By       string         `json:"by,omitempty"`
	Slot     string         `json:"slot_written,omitempty"`
	Passes   int            `json:"passes"`
	Served   int64          `json:"bytes_served"`
	Distinct int64          `json:"bytes_distinct"`
}

// StoredFile is one file put to the phone.
type StoredFile struct {
	Path      string `json:"path"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256"`
	Confirmed string `json:"confirmed"`
	There     bool   `json:"already_there,omitempty"` // it lay there before
}

// Moved is a file that was moved on the phone.
type Moved struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// AppResult is one app that was installed.
type AppResult struct {
	Path      string   `json:"path"`
	Parts     []string `json:"parts,omitempty"` // the paths of its further files
	Name      string   `json:"name"`
	Version   int64    `json:"version"`
	Confirmed string   `json:"confirmed"`
}

// What steps come to, once they are confirmed.

func (o *Outcome) wrote(s *plan.Write, d Done) { o.written(s.Name(), d) }

func (o *Outcome) copied(s *plan.CopySlot, d Done) { o.written(s.Target(), d) }

func (o *Outcome) written(p card.Partition, d Done) {
	o.Writes = append(o.Writes, WriteResult{Partition: p.Base, Slot: p.Slot, Bytes: d.Bytes, SHA256: d.SHA256,
		Confirmed: d.Confirm})
}

func (o *Outcome) restarted(_ *plan.Restart, d Done) { o.Restarted = d.Confirm }

func (o *Outcome) formatted(_ *plan.FormatData, d Done) {
	o.Wiped = append(o.Wiped, WipeResult{What: "userdata", Confirmed: d.Confirm})
}

func (o *Outcome) wiped(s *plan.WipeArea, d Done) {
	o.Wiped = append(o.Wiped, WipeResult{s.Area, d.Confirm, d.Left})
}

func (o *Outcome) erased(s *plan.Erase, d Done) {
	o.Wiped = append(o.Wiped, WipeResult{What: s.Area, Confirmed: d.Confirm})
}

func (o *Outcome) appInstalled(s *plan.InstallApp, d Done) {
	r := AppResult{Path: s.File.Path, Name: s.File.App.Name, Version: s.File.App.Version,
		Confirmed: d.Confirm}
	for _, part := range s.Parts {
		r.Parts = append(r.Parts, part.Path)
	}
	o.Apps = append(o.Apps, r)
}

// UnknownError says that an act's outcome can't be told.
type UnknownError struct{ Text, Hint string }

// Error says what is unknown.
func (e *UnknownError) Error() string { return e.Text }
