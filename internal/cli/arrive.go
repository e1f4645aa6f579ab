package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/core/advice"
	"jarlid/internal/core/card"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) arriveCommand() *cobra.Command {
	var t task.Arrive
	c := &cobra.Command{Use: "arrive", Short: "Watch the first start, notice loops, compare what came up",
		Args: noWords,
		Long: "Watches a phone that is starting: says what is normal, notices a loop or a fall back to the " +
			"other slot, to the recovery or\n" +
			"to the bootloader, and what to do then. When the system is up it is read and compared with " +
			"what was installed.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &t)
		}}
	c.Flags().DurationVar(&t.Limit, "wait", 20*time.Minute, "how long to watch")
	return c
}

// showArrived shows how a start ended.
func (a *app) showArrived(r *task.Arrived) {
	if r == nil {
		return
	}
	a.result = r
	if r.Arrival.Text != "" {
		a.say(r.Phone, say.Warn, "%s", r.Arrival.Text)
	}
	for i, d := range r.Arrival.Causes {
		switch {
		case r.Mends && len(d.Words) > 0:
			a.say(r.Phone, say.Todo, "%s", r.Advice[i])
		case len(d.Words) > 0:
			a.say(r.Phone, say.Note, "it may be: %s; in the recovery: jarlid %s", d.Text,
				strings.Join(d.Words, " "))
		default:
			a.say(r.Phone, say.Note, "it may be: %s", d.Text)
		}
	}
	if r.Next != "" {
		a.say(r.Phone, say.Note, "%s", r.Why)
		a.next = append(a.next, r.Next)
	}
	c := r.Card
	switch {
	case r.Stage == advice.StageFinished && r.Said:
		a.say(r.Phone, say.Warn, "taken on your word; which system it is, nobody has read")
		a.say(r.Phone, say.Done, "the system is up, as you say")
	case r.Stage == advice.StageFinished:
		slot := ""
		if r.Slot != nil {
			slot = " from slot " + *r.Slot
		}
		a.out.Table([]string{"WHAT CAME UP", "AS IT SAYS"}, [][]string{{"version", c.Value(card.FactVersion)},
			{"build", c.Value(card.FactBuild)}, {"security patch",
				c.Value(card.FactPatch.Of(c.Value(card.FactStarted)))},
			{"data", c.Value(card.FactData)}, {"time", r.Took.Round(time.Second).String()}})
		switch r.Matches {
		case advice.MatchYes:
			a.say(r.Phone, say.Good, "it is what was installed")
		case advice.MatchUnknown:
			a.say(r.Phone, say.Info, "no job of Jar Lid installed it, so there is nothing to compare it with")
		}
		a.say(r.Phone, say.Note, "apps are still being prepared after a first start; the phone may be slow "+
			"for some minutes")
		a.say(r.Phone, say.Done, "%s is up%s", orUnknown(r.Version), slot)
	}
}
