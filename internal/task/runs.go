package task

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/journal"
)

// RunOf gives the run of a sheet that a word means; nil where it means none.
func RunOf(e *Env, word string) (*journal.Run, error) {
	n, err := strconv.Atoi(word)
	if err != nil {
		return nil, nil
	}
	runs, err := journal.Runs(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		if r.Number == n {
			return r, nil
		}
	}
	return nil, nil
}

// ResumeRun finds the run of a sheet that is resumed: the one a number means, or a job of it,
// or the only thing that was interrupted. Without one the word is that of a single job.
func ResumeRun(e *Env, word string) (*journal.Run, string, error) {
	if word != "" {
		run, err := RunOf(e, word)
		if run != nil || err != nil {
			return run, word, err
		}
		s, err := ShowJob(e, word)
		if err != nil || s.Run == 0 {
			return nil, word, err
		}
		run, err = RunOf(e, strconv.Itoa(s.Run)) // a job of a run is resumed by its run
		return run, word, err
	}
	runs, err := journal.BrokenRuns(e.Bench.Home)
	if err != nil {
		return nil, "", err
	}
	if on := e.Options.On; on != "" {
		runs = slices.DeleteFunc(runs, func(r *journal.Run) bool {
			return !slices.ContainsFunc(r.Broken(), func(p journal.RunPhone) bool {
				return p.Name == on || p.Serial == on
			})
		})
	}
	alone, err := brokenJobs(e)
	if err != nil {
		return nil, "", err
	}
	var names []string
	for _, r := range runs {
		names = append(names, fmt.Sprintf("%d (%s)", r.Number, r.First().Name))
	}
	for _, s := range alone {
		names = append(names, fmt.Sprintf("%d on %s", s.Number, s.Phone))
	}
	switch {
	case len(names) > 1:
		first := 0
		if len(runs) > 0 {
			first = runs[0].Number
		} else {
			first = alone[0].Number
		}
		return nil, "", Usage("several jobs broke off: %s; say which: jarlid jobs resume %d",
			strings.Join(names, ", "), first)
	case len(runs) == 1:
		return runs[0], "", nil
	}
	return nil, "", nil
}
