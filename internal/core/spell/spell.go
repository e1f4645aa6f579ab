// Package spell puts into a person's words: the name a mistyped word was meant to be, how many there
// are of something, and what an error of a library or the system means.
package spell

import (
	"fmt"
	"slices"
	"strings"
)

// nearEnough is how many letters may be wrong, lost, added or swapped for a word still to be taken
// for a name: one in three.
const nearEnough = 3

// Near gives the names that a word was most likely meant to be, the nearest first, three at most;
// none when it is like none of them.
func Near(word string, names []string) []string {
	word = strings.ToLower(word)
	type near struct {
		name string
		far  int
	}
	var list []near
	for _, n := range names {
		far := distance([]rune(word), []rune(strings.ToLower(n)))
		starts := len(word) >= nearEnough && strings.HasPrefix(strings.ToLower(n), word)
		if starts {
			far = 1
		}
		if far*nearEnough <= max(len([]rune(n)), nearEnough) || starts {
			list = append(list, near{n, far})
		}
	}
	slices.SortStableFunc(list, func(a, b near) int { return a.far - b.far })
	var out []string
	for _, n := range list[:min(len(list), 3)] {
		out = append(out, n.name)
	}
	return out
}

// distance is how many letters have to be changed, added, lost or swapped with their neighbour to
// make one word of the other (Damerau and Levenshtein's, each place used once).
func distance(a, b []rune) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for k := range rows[0] {
		rows[0][k] = k
	}
	for i := 1; i <= len(a); i++ {
		for k := 1; k <= len(b); k++ {
			same := 1
			if a[i-1] == b[k-1] {
				same = 0
			}
			rows[i][k] = min(rows[i-1][k]+1, rows[i][k-1]+1, rows[i-1][k-1]+same)
			if i > 1 && k > 1 && a[i-1] == b[k-2] && a[i-2] == b[k-1] {
				rows[i][k] = min(rows[i][k], rows[i-2][k-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}

// DidYouMean is the end of a sentence about a word that is none of the names; "" where it is like
// none of them.
func DidYouMean(word string, names []string) string {
	near := Near(word, names)
	if len(near) == 0 {
		return ""
	}
	return "; did you mean " + strings.Join(near, ", or ") + "?"
}

// NoneOf is the end of a sentence about a word that is none of the names: which there are, and the one it
// is like.
func NoneOf(word string, names []string) string {
	all := strings.Join(names, ", ")
	if all == "" {
		all = "nothing"
	}
	return "; there is: " + all + DidYouMean(word, names)
}

// Once appends the words that list does not contain.
func Once(list []string, more ...string) []string {
	for _, s := range more {
		if !slices.Contains(list, s) {
			list = append(list, s)
		}
	}
	return list
}

// And joins words as a sentence does: "a", "a and b", "a, b and c".
func And(list []string) string {
	if n := len(list); n > 1 {
		return strings.Join(list[:n-1], ", ") + " and " + list[n-1]
	}
	return strings.Join(list, "")
}

// Counted says how many of a thing there are: "1 file", "2 files".
func Counted[N int | int64 | uint32](n N, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprintf("%d %s", n, what)
}

// SomeOf says of how many of all things something is so, "2 of 3 files do not match"; of a single one that it
// is: "the file does not match".
func SomeOf(n, all int, what, one, many string) string {
	if all == 1 {
		return "the " + what + " " + one
	}
	return fmt.Sprintf("%d of %s %s", n, Counted(all, what), many)
}
