package cli

import (
	"context"
	"maps"
	"slices"
	"strings"

	"jarlid/internal/say"
	"jarlid/internal/task"
)

// status is the program without a command.
func (a *app) status(ctx context.Context) error {
	e, err := a.taskEnv(nil)
	if err != nil {
		return err
	}
	h, err := task.Look(ctx, e)
	if err != nil {
		return err
	}
	a.result = h
	for _, r := range h.Phones {
		switch {
		case r.Denied != "":
			a.say(r.Name, say.Info, "%s, with its system running, does not know this computer's key %s",
				r.Name, r.Denied)
		case r.Busy:
			a.say(r.Name, say.Info, "%s: another jarlid works on it", r.Name)
		case r.Failed != "":
			a.say(r.Name, say.Warn, "%s could not be read: %s", r.Name, r.Failed)
		case r.Stop != nil:
			a.say(r.Name, say.Warn, "%s: %s", r.Stop.Name, r.Stop.Text)
			a.say(r.Name, say.Todo, "%s", r.Stop.Remedy)
		default:
			a.say(r.Name, say.Info, "%s", phoneLine(r.Name, r.Card))
		}
		if b := r.Broken; b != nil {
			a.say(r.Name, say.Note, "the last job on %s, %s, was interrupted at this: %s", r.Name, b.Job,
				b.Step)
			if !b.Vain() || r.Next == "" { // the phone is in the mode that it reached
				a.next = append(a.next, e.Again(b.Command))
			}
			for _, words := range b.After() {
				a.next = append(a.next, e.Command(r.Name, words...))
			}
		}
		if r.Why != "" {
			a.say(r.Name, say.Note, "%s", r.Why)
		}
		if r.Next != "" {
			a.next = append(a.next, r.Next)
		}
	}
	for _, r := range h.Runs {
		a.say("", say.Note, "run %d of %s did not come to its end on %s", r.Run, r.Name,
			strings.Join(r.Phones, ", "))
		a.next = append([]string{r.Next}, a.next...)
	}
	for _, serial := range slices.Sorted(maps.Keys(h.Alike)) {
		a.say("", say.Warn, "%s report one serial number, %s: what was done to each is kept by its name on "+
			"the bench", strings.Join(h.Alike[serial], " and "), serial)
	}
	for _, n := range h.Absent {
		a.say(n, say.Note, "%s is listed and does not answer", n)
	}
	a.printAway(h)
	if len(h.Phones) == 0 {
		a.say("", say.Info, "no phone is here")
		for _, r := range h.Reach {
			a.say(r.Phone, say.Note, "%s: %s", r.Phone, r.Why)
			a.next = append(a.next, r.Next)
		}
		if len(h.Away)+len(h.Runs)+len(h.Absent) == 0 {
			a.next = append(a.next, "jarlid demo", "jarlid --help")
		} else {
			a.next = append(a.next, "jarlid bench --why")
		}
	}
	return nil
}

// printAway reminds of interrupted jobs on phones that are not here.
func (a *app) printAway(h *task.Here) {
	for _, j := range h.Away {
		a.say(j.Phone, say.Note, "the last job on %s, %s, was interrupted at this: %s; the phone is not here",
			j.Phone, j.Job, j.Step)
		if !j.Vain() {
			a.say(j.Phone, say.Todo, "connect %s, charged, and resume it: %s", j.Phone,
				a.env.Again(j.Command))
		}
	}
}
