// Package screen says what a text on a phone's or a recovery's screen means
// and whether it matters. The person types the words seen, in any order and not
// always right; keywords lead to a meaning.
package screen

import (
	"slices"
	"sort"
	"strings"
	"unicode"
)

// Verdict says what a text asks of the person.
type Verdict string

// The verdicts.
const (
	Harmless Verdict = "harmless" // go on
	Wait     Verdict = "wait"     // it ends by itself
	Act      Verdict = "act"      // something has to be done
)

// Meaning is what a text means.
type Meaning struct {
	Name    string  `json:"name"`
	Verdict Verdict `json:"verdict"`
	Text    string  `json:"text"`              // what it means
	Do      string  `json:"do"`                // what to do
	Command string  `json:"command,omitempty"` // the command that follows
	Finding string  `json:"finding,omitempty"` // the finding it belongs to

	// keys are what leads here: each group is words of which one has to be seen,
	// the first groups weighing most. A word ending in * matches by its beginning.
	keys []string
	// need is how many of the first groups have to be seen whatever the score; 0: the first.
	need int
	// not are words that mean something else, whatever else is seen.
	not string
	// group is what a person was doing.
	group string
}

// Match is a meaning with how well the words lead to it.
type Match struct {
	Meaning
	Score float64 `json:"score"` // 0 to 1
}

// least is the score below which a meaning is not offered: half of its
// keywords.
const least = 0.5

// most is how many meanings are offered.
const most = 3

// Find gives the meanings that the words lead to, the best first, three at
// most.
func Find(text string) []Match {
	list := rank(text, func(m *Meaning, score float64, groups int, needed bool) bool {
		return score >= least && groups >= 2 && needed
	})
	// What is far behind the best is noise.
	for i := range list {
		if i == most || list[i].Score < list[0].Score-0.3 {
			return list[:i]
		}
	}
	return list
}

// Nearest gives what comes nearest to words that lead to nothing, the nearest first, three at
// most.
func Nearest(text string) []Match {
	list := rank(text, func(_ *Meaning, _ float64, groups int, _ bool) bool { return groups > 0 })
	return list[:min(most, len(list))]
}

// rank gives the meanings that are offered, the best first.
func rank(text string, offered func(m *Meaning, score float64, groups int, needed bool) bool) []Match {
	seen := words(text)
	var list []Match
	for i := range meanings {
		m := &meanings[i]
		if slices.ContainsFunc(strings.Split(m.not, "|"), func(k string) bool {
			return k != "" && has(seen, k)
		}) {
			continue
		}
		got, total, groups, needed := 0.0, 0.0, 0, true
		for i, group := range m.keys {
			weight := 1.0
			if i == 0 {
				weight = 2
			}
			total += weight
			if slices.ContainsFunc(strings.Split(group, "|"), func(k string) bool { return has(seen, k) }) {
				got += weight
				groups++
			} else if i < max(m.need, 1) {
				needed = false
			}
		}
		if score := got / total; offered(m, score, groups, needed) {
			list = append(list, Match{*m, score})
		}
	}
	sort.SliceStable(list, func(i, k int) bool {
		if list[i].Score != list[k].Score {
			return list[i].Score > list[k].Score
		}
		return len(list[i].keys) > len(list[k].keys) // the more exact one
	})
	return list
}

// Group is meanings that belong together, by what a person was doing.
type Group struct {
	Title string   `json:"title"`
	Names []string `json:"names"`
}

// Groups gives all meanings in groups, in the order of an evening.
func Groups() (list []Group) {
	for _, title := range groups {
		g := Group{Title: title}
		for _, m := range meanings {
			if m.group == title {
				g.Names = append(g.Names, m.Name)
			}
		}
		list = append(list, g)
	}
	return list
}

// ByName gives the meaning of that name.
func ByName(name string) (Meaning, bool) {
	i := slices.IndexFunc(meanings, func(m Meaning) bool { return m.Name == name })
	if i < 0 {
		return Meaning{}, false
	}
	return meanings[i], true
}

// words takes a text apart: letters and digits, lower case.
func words(text string) []string {
	text = strings.NewReplacer("'", "", "’", "").Replace(text) // can't, cant
	return strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	})
}

// has reports whether a keyword, of one or several words in any order, was seen.
func has(seen []string, key string) bool {
	for k := range strings.FieldsSeq(strings.ReplaceAll(key, "'", "")) {
		if !slices.ContainsFunc(seen, func(w string) bool { return same(w, k) }) {
			return false
		}
	}
	return true
}

// same compares a word that was typed with a keyword: the same, the same
// beginning where the keyword ends in *, or in a longer word one letter wrong.
func same(word, key string) bool {
	if stem, ok := strings.CutSuffix(key, "*"); ok {
		return strings.HasPrefix(word, stem)
	}
	if word == key {
		return true
	}
	const long = 5
	return len(key) >= long && len(word) >= long && near(word, key)
}

// near reports whether two words differ by one letter added, lost or changed, or
// by two neighbours swapped.
func near(a, b string) bool {
	x, y := []rune(a), []rune(b)
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(y)-len(x) > 1 {
		return false
	}
	i := 0
	for i < len(x) && x[i] == y[i] {
		i++
	}
	if len(x) < len(y) {
		return slices.Equal(x[i:], y[i+1:])
	}
	if i >= len(x)-1 {
		return true
	}
	return slices.Equal(x[i+1:], y[i+1:]) || x[i] == y[i+1] && x[i+1] == y[i] &&
		slices.Equal(x[i+2:], y[i+2:])
}
