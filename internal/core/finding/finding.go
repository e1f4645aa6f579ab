// Package finding holds what Jar Lid can find wrong or worth knowing before a
// step: each finding has a short name to look up, a severity, a reason and a
// remedy.
package finding

import (
	"errors"
	"maps"
	"sort"
	"strings"
)

// Severity says what a finding does to a job.
type Severity string

// The severities: Stop blocks until accepted by name, Warn asks, Note tells.
const (
	Stop Severity = "stop"
	Warn Severity = "warn"
	Note Severity = "note"
)

// The names of the findings.
const (
	LockedBootloader   = "locked-bootloader"
	BatteryLow         = "battery-low"
	WrongModel         = "wrong-model"
	NoSuchPartition    = "no-such-partition"
	ImageTooBig        = "image-too-big"
	NotARecovery       = "not-a-recovery"
	RecoveryOnOneSlot  = "recovery-on-one-slot"
	EncryptedData      = "encrypted-data"
	SlotEmpty          = "slot-empty"
	RecoveryReplaced   = "recovery-replaced"
	DamagedFile        = "damaged-file"
	AlteredFile        = "altered-file"
	NotAuthorised      = "not-authorised"
	NoPermission       = "no-permission"
	HeldByAnother      = "held-by-another"
	NoDriver           = "no-driver"
	LineSilent         = "line-silent"
	RestartUndoes      = "restart-undoes-recovery"
	TableWouldChange   = "table-would-change"
	SeveralPhones      = "several-phones"
	NoShell            = "no-root-shell"
	NotAPackage        = "not-a-package"
	DeltaPackage       = "delta-package"
	WrongDestination   = "wrong-destination"
	UnknownContent     = "unknown-content"
	StillWrapped       = "still-wrapped"
	ImageAsPartition   = "image-as-partition"
	UnlockNotAllowed   = "unlock-not-allowed"
	MergePending       = "merge-pending"
	FormatAfterInstall = "format-after-install"
	PreImageMissing    = "pre-image-missing"
	RiskyPartition     = "risky-partition"
	NotEnoughRoom      = "not-enough-room-in-super"
	CommandUnknown     = "command-unknown-to-bootloader"
	WrongVariant       = "wrong-variant"
	OtherFirmware      = "other-slot-firmware-differs"
	ModelContradicted  = "model-contradicted"
	BaseVersion        = "base-version"
	TemporaryRecovery  = "temporary-recovery"
	AskedFirst         = "asked-first"
	RecoveryOnly       = "recovery-only"
	WrongArch          = "wrong-arch"
	WrongSystem        = "wrong-system-version"
	OrderBroken        = "order-broken"
	SlotNotStarted     = "slot-not-started"
	SignatureUnknown   = "signature-unknown"
	NoRoom             = "no-room"
	StorageUnreadable  = "storage-unreadable"
	NotMounted         = "not-mounted"
	StorageHolds       = "storage-holds-package"
	NotApart           = "apps-not-apart"
	AccountLock        = "account-lock"
	OldApps            = "old-apps"
	NotAnApp           = "not-an-app"
	NormalStart        = "normal-start-at-risk"
	RelockBricks       = "relock-would-brick"
	StockRecovery      = "stock-update-needs-stock-recovery"
	BackupExists       = "backup-exists"
	OutputShared       = "output-shared"
	ReadableByOthers   = "readable-by-others"
	BackupDiffers      = "backup-differs"
	OtherPhone         = "other-phone"
	NoSuchFile         = "no-such-file"
	ReadOnly           = "read-only-partition"
	VerityRejects      = "verity-would-reject"
	NotAsSigned        = "not-as-signed"
	RollbackLow        = "rollback-low"
	NotConfirmed       = "not-confirmed"
	HandsNeeded        = "hands-needed"
	PhoneBusy          = "phone-busy"
	NotInThisMode      = "not-in-this-mode"
	NoSuchSlot         = "no-such-slot"
	SlotNotTold        = "slot-not-told"
	NameTheSlot        = "name-the-slot"
	DestinationUnknown = "destination-unknown"
	NothingThere       = "nothing-there"
	NothingKept        = "nothing-kept"
	CodeNeeded         = "code-needed"
	JournalDamaged     = "journal-damaged"
	ChainedVBMeta      = "chained-vbmeta"
	WontRun            = "will-not-run"
	FitUnknown         = "fit-unknown"
	OtherBuild         = "other-build"
	NoSystem           = "nothing-to-add-to"
	NotGeneric         = "not-generic"
	NoBackup           = "no-backup"
	TwoAlike           = "two-of-one-name"
	ConditionNotMet    = "condition-not-met"
	FileChanged        = "file-changed"
	NoTaskFits         = "no-task-fits"
	TasksContradict    = "tasks-contradict"
	OpenQuestion       = "open-question"
	TaskImpossible     = "task-impossible"
)

// Finding is one thing found, on one phone and file.
type Finding struct {
	Name     string   `json:"name"`
	Severity Severity `json:"severity"`
	About    string   `json:"about,omitempty"` // the partition, slot or file it is about
	Text     string   `json:"text"`            // what is so, here
	Remedy   string   `json:"remedy,omitempty"`
	Final    bool     `json:"final,omitempty"` // cannot be accepted
	Named    bool     `json:"named,omitempty"` // accepted only with what it is about
	Accepted bool     `json:"accepted,omitempty"`
}

// Stops makes a finding that stops; remedy may be "".
func Stops(name, about, text, remedy string) Finding {
	return Finding{Name: name, Severity: Stop, About: about, Text: text, Remedy: remedy}
}

// Warns makes a finding that is asked about.
func Warns(name, about, text, remedy string) Finding {
	return Finding{Name: name, Severity: Warn, About: about, Text: text, Remedy: remedy}
}

// Notes makes a finding that is only told.
func Notes(name, about, text, remedy string) Finding {
	return Finding{Name: name, Severity: Note, About: about, Text: text, Remedy: remedy}
}

// Accept is what a person lifts: a finding by name, on everything or on one
// partition or file.
type Accept struct{ Name, What string }

// ParseAccept reads NAME or NAME=WHAT.
func ParseAccept(s string) Accept {
	name, what, _ := strings.Cut(s, "=")
	return Accept{Name: name, What: what}
}

// Apply marks the findings that are lifted by the given words. Findings that
// cannot be accepted stay as they are.
func Apply(list []Finding, accepts []Accept) []Finding {
	out := make([]Finding, len(list))
	for i, f := range list {
		for _, a := range accepts {
			if a.Name == f.Name && (a.What == f.About || a.What == "" && !f.Named) && !f.Final {
				f.Accepted = true
			}
		}
		out[i] = f
	}
	return out
}

// Blocking gives the findings that stop a job.
func Blocking(list []Finding) []Finding { return pick(list, Stop) }

// Asking gives the findings a person has to say yes to.
func Asking(list []Finding) []Finding { return pick(list, Warn) }

func pick(list []Finding, s Severity) []Finding {
	var out []Finding
	for _, f := range list {
		if f.Severity == s && !f.Accepted {
			out = append(out, f)
		}
	}
	return out
}

// Text is a finding explained at length.
type Text struct {
	Name    string `json:"name"`
	Meaning string `json:"meaning"` // what it says
	Why     string `json:"why"`     // what would happen
	Remedy  string `json:"remedy"`  // what to do
	Final   bool   `json:"final"`   // cannot be accepted

	// Barred is what a phone is that is there and can't be used, in words that follow its address.
	Barred   string `json:"-"`
	Reported bool   `json:"-"` // every phone reports what it rests on as soon as it is connected
}

// Explained gives the text for a finding; the zero value for a name there is none for.
func (f Finding) Explained() Text {
	t, _ := Explain(f.Name)
	return t
}

// texts are all of them.
var texts = func() map[string]Text {
	all := maps.Clone(aboutFiles)
	maps.Copy(all, aboutJobs)
	return all
}()

// Explain gives the text for a name.
func Explain(name string) (Text, bool) {
	t, ok := texts[name]
	t.Name = name
	return t, ok
}

// Names gives all names, sorted.
func Names() []string {
	list := make([]string, 0, len(texts))
	for n := range texts {
		list = append(list, n)
	}
	sort.Strings(list)
	return list
}

// StopError is work stopped by findings.
type StopError struct {
	Findings []Finding
	Acted    bool // something had been done before
	Declined bool // a person said no
	Told     bool // the findings were told already
}

// Error names the findings.
func (e *StopError) Error() string {
	var s []string
	for _, f := range e.Findings {
		s = append(s, f.Name+": "+f.Text)
	}
	return strings.Join(s, "; ")
}

// Stopped is the error of one finding that nobody can accept.
func Stopped(name, about, text, remedy string) *StopError {
	return &StopError{Findings: []Finding{{Name: name, Severity: Stop, About: about, Text: text,
		Remedy: remedy, Final: true}}}
}

// AsStop gives an error that is a finding as a StopError; other errors stay. acted says that something was
// changed before.
func AsStop(err error, acted bool) error {
	var is interface {
		error
		Finding() Finding
	}
	var stop *StopError
	if errors.As(err, &is) && !errors.As(err, &stop) {
		return &StopError{Findings: []Finding{is.Finding()}, Acted: acted}
	}
	return err
}
