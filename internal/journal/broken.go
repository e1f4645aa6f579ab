package journal

import "slices"

// BrokenJob is a job that did not come to its end.
type BrokenJob struct {
	Job     string   `json:"job"`            // its folder's name
	Step    string   `json:"step"`           // what was under way
	Command []string `json:"command"`        // what resumes it: as it was typed, or what is left of it
	Then    []string `json:"then,omitempty"` // files of packages that are to be sent behind Command

	Of     *Part    `json:"-"` // the run of a sheet it belongs to
	Kind   string   `json:"-"` // of the step
	Behind []string `json:"-"` // files of packages that were to come behind the step

	steps Steps
	at    int // the step, counted from 1
	// failed says that the step came to its end, a bad one; refused, that the phone refused it.
	failed, refused bool
}

// Restart reports whether it ended in a step that changes nothing, and whose end the phone's mode shows: the
// last one was a reboot, or an image that was started without being written did not come up. The same again
// would end in the same way.
func (b *BrokenJob) Restart() bool {
	return b.Kind == "restart" && b.at == len(b.steps) || b.Kind == "try" && b.failed
}

// Vain reports whether resuming it would end in the same way, for all that is known: it ended in a reboot, or
// the phone refused its step.
func (b *BrokenJob) Vain() bool { return b.refused || b.Restart() }

// Landed is for a step that is done though the journal could not be told any more: the phone says
// it. What is left is what comes behind it.
func (b *BrokenJob) Landed() {
	b.Command, b.Then = []string{"jarlid", "go", "recovery"}, b.Behind
	if b.at < len(b.steps) {
		b.left(b.steps, b.at+1)
	}
}

// After are the commands that come behind Command, as words: packages that belong onto a ROM are
// sent once the phone has started from where that landed.
func (b *BrokenJob) After() (list [][]string) {
	if len(b.Then) == 0 {
		return nil
	}
	if len(b.Command) > 1 && b.Command[1] == "recovery" {
		list = append(list, []string{"go", "recovery"})
	}
	return append(list, append([]string{"sideload"}, b.Then...))
}

// BrokenOff gives the last job of a phone when it was interrupted in the middle of a step: the program
// was ended, the phone lost, or a step failed. One that a person or a finding stopped before
// anything was done did not.
func BrokenOff(home string, w Who) (*BrokenJob, error) {
	j, err := last(home, w)
	if j == nil || err != nil || j.Damage != nil || len(j.Records) == 0 { // damage is told in other places
		return nil, err
	}
	return j.BrokenOff(), nil
}

// AwayJob is the interrupted last job of a phone.
type AwayJob struct {
	Phone  string `json:"phone"`
	Serial string `json:"serial,omitempty"`
	BrokenJob
}

// Away gives the last jobs that were interrupted, of phones other than those here, the newest first. One of
// a sheet's run is left out: the run is resumed.
func Away(home string, here []Who) (list []AwayJob, err error) {
	jobs, err := Jobs(home)
	if err != nil {
		return nil, err
	}
	known := here
	for _, j := range slices.Backward(jobs) {
		if slices.ContainsFunc(known, j.Of) {
			continue
		}
		known = append(known, Who{Name: j.Phone, Serial: j.Serial})
		if b := j.BrokenOff(); b != nil && b.Of == nil {
			list = append(list, AwayJob{Phone: j.Phone, Serial: j.Serial, BrokenJob: *b})
		}
	}
	return list, nil
}

// BrokenOff tells what a job was at when it was interrupted; nil where it was not.
func (j *Entry) BrokenOff() *BrokenJob {
	if j.Damage != nil || len(j.Records) == 0 || j.OK() || j.Cancelled() {
		return nil
	}
	for _, r := range slices.Backward(j.Records) {
		if r.Event == Act || r.Event == Failed || r.Event == Interrupted {
			b := &BrokenJob{Job: j.Name(), Step: r.Title, Command: j.Records[0].Command, Of: j.Records[0].Of}
			if steps := j.Records[0].Steps; r.Step >= 1 && r.Step <= len(steps) {
				b.Kind = steps[r.Step-1].Kind
				b.Behind, b.steps, b.at = filesOf("sideload", steps[r.Step:]), steps, r.Step
				b.failed, b.refused = r.Event == Failed, r.Refused
				b.left(steps, r.Step)
			}
			return b
		}
	}
	return nil
}

// Cancelled reports whether a person ended the job before any step of it changed the phone: restarting it
// does not.
func (j *Entry) Cancelled() bool {
	if end := j.Records[len(j.Records)-1]; end.Event != End || !end.Cancelled {
		return false
	}
	steps := j.Records[0].Steps
	return !slices.ContainsFunc(j.Records, func(r Record) bool {
		if r.Event != Act {
			return false
		}
		kind := ""
		switch {
		case r.Data != nil:
			kind = r.Data.Kind
		case r.Step >= 1 && r.Step <= len(steps):
			kind = steps[r.Step-1].Kind
		}
		return kind != "restart" && kind != "try"
	})
}

// left makes the command from what is left of a job from a step on (counted from 1): what was
// written or installed is not done again.
func (b *BrokenJob) left(steps Steps, from int) {
	if to := restartsOnly(steps, from); to != "" {
		b.Command, b.Then = []string{"jarlid", "go", to}, nil
		return
	}
	if len(filesOf("sideload", steps[:from-1])) == 0 {
		return
	}
	packages, set := filesOf("sideload", steps[from-1:]), filesOf("write", steps[from-1:])
	switch {
	case len(set) == 0 && len(packages) > 0 && restartTo(steps[from-1]) == "recovery":
		// What comes behind belongs onto the slot where that restart lands.
		b.Command, b.Then = []string{"jarlid", "go", "recovery"}, packages
	case len(set) > 0: // the recovery that is set again behind a ROM
		b.Command, b.Then = []string{"jarlid", "recovery", "install", set[0]}, packages
	case len(packages) > 0:
		b.Command, b.Then = append([]string{"jarlid", "sideload"}, packages...), nil
	}
}

// restartTo gives the mode a step restarts into; "" for any other step.
func restartTo(s StepData) (to string) {
	if with, _ := s.With.(map[string]any); s.Kind == "restart" {
		to, _ = with["to"].(string)
	}
	return to
}

// restartsOnly gives the mode that is left to be reached where, from a step on (counted from 1),
// a job had nothing to do but restarts; "" where there was more, and where there was nothing else
// before.
func restartsOnly(steps Steps, from int) (to string) {
	if from < 2 || from > len(steps) {
		return ""
	}
	for _, s := range steps[from-1:] {
		if to = restartTo(s); to == "" {
			return ""
		}
	}
	return to
}

// filesOf gives the files of the steps of a kind.
func filesOf(kind string, steps Steps) (list []string) {
	for _, s := range steps {
		with, _ := s.With.(map[string]any)
		file, _ := with["file"].(map[string]any)
		if path, _ := file["path"].(string); s.Kind == kind && path != "" {
			list = append(list, path)
		}
	}
	return list
}
