package journal

import "jarlid/internal/core/card"

// Span gives what jobs knew of a phone before the first of the numbered ones began, and after the
// last: each with what earlier jobs had told.
func Span(jobs []Entry, w Who, numbers []int) (before, after *card.Card) {
	first, last := numbers[0], numbers[0]
	for _, n := range numbers {
		first, last = min(first, n), max(last, n)
	}
	c := &card.Card{}
	for i := range jobs {
		j := &jobs[i]
		if !j.Of(w) || j.Damage != nil || len(j.Records) == 0 || j.Number > last {
			continue
		}
		if j.Number >= first && before == nil {
			// What was read as it began was so before it did anything.
			(&Entry{Number: j.Number, Records: j.Records[:1]}).replay(c)
			before = c.Clone()
		}
		j.replay(c)
	}
	if before == nil {
		before = &card.Card{}
	}
	return before, c
}
