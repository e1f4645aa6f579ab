package journal

import "slices"

// BrokenJob is a job that did not come to its end.
type BrokenJob struct {
	Job     string   `json:"job"`     // its folder's name
	Step    string   `json:"step"`    // what was under way
	Command []string `json:"command"` // as it was typed
}

// BrokenOff gives the last job of a phone when it broke off in the middle of a step: the program
// was ended, the phone lost, or a step failed. One that a person or a finding stopped before
// anything was done did not.
func BrokenOff(home string, w Who) (*BrokenJob, error) {
	j, err := last(home, w)
	if j == nil || err != nil || j.Damage != nil || len(j.Records) == 0 { // damage is told in other places
		return nil, err
	}
	if end := j.Records[len(j.Records)-1]; end.Event == End && end.Error == "" {
		return nil, nil
	}
	for _, r := range slices.Backward(j.Records) {
		if r.Event == Act || r.Event == Failed || r.Event == Interrupted {
			return &BrokenJob{Job: j.Name(), Step: r.Title, Command: j.Records[0].Command}, nil
		}
	}
	return nil, nil
}
