package e2e

import (
	"hash/fnv"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/finding"
)

// sample gives the numbers from least to below most, or, unless the whole is asked for, so
// many of them: with the same seed the same ones.
func sample(t *testing.T, least, most int64, many int) []int64 {
	var all []int64
	for n := least; n < most; n++ {
		all = append(all, n)
	}
	if *whole || many >= len(all) {
		return all
	}
	all = share(t, all, many)
	slices.Sort(all)
	return all
}

// share gives so many of a list: in an order of the test's own, one share after the other with each seed, so
// that seeds that follow each other take all of it.
func share[T any](t *testing.T, list []T, many int) []T {
	t.Helper()
	if many >= len(list) {
		return list
	}
	h := fnv.New64a()
	h.Write([]byte(t.Name()))
	order := rand.New(rand.NewPCG(h.Sum64(), 0)).Perm(len(list))
	at := int((*seed * int64(many)) % int64(len(list)))
	var out []T
	for i := range many {
		out = append(out, list[order[(at+i)%len(list)]])
	}
	t.Logf("with -seed %d: %d of %d; -whole takes all", *seed, many, len(list))
	return out
}

// some runs cases in a lab each: a seeded sample of so many, or all of them where the whole is
// asked for, and on cables: CI runs them all there.
func some(t *testing.T, many int, cases map[string]func(l *lab)) {
	names := slices.Sorted(maps.Keys(cases))
	if !*whole && !*cabled && many < len(names) {
		names = share(t, names, many)
	}
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				cases[name](l)
				word := strings.FieldsFunc(name, func(r rune) bool { return r == ',' || r == ' ' })[0]
				if _, out := l.run("explain", word); slices.Contains(finding.Names(), word) &&
					!strings.Contains(out, "  "+word+" ") {
					t.Errorf("there is no explanation of %s", word)
				}
			})
		})
	}
}

// stride is how far to go to the next of many places: 1 for the whole, else a few.
func stride(t *testing.T) int64 {
	if *whole {
		return 1
	}
	return 3 + seeded(t).Int64N(5)
}

func seeded(t *testing.T) *rand.Rand {
	h := fnv.New64a()
	h.Write([]byte(t.Name()))
	return rand.New(rand.NewPCG(uint64(*seed), h.Sum64()))
}
