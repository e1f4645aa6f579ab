package advice

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
)

func asks(f *Given) string {
	return fmt.Sprintf("what is %s for? It is %s", place.FileName(f.File.Path), f.File.What())
}

// sortRest finds the place of device trees once the recovery is known: one that shares its name belongs to
// it.
func (e *evening) sortRest() {
	for _, f := range e.unsorted {
		shared := ""
		if e.recovery != nil {
			shared = sharedName(place.FileName(e.recovery.File.Path), place.FileName(f.File.Path), e.model())
		}
		if shared == "" {
			e.Open = append(e.Open, asks(f))
			continue
		}
		f.role, f.shares = "an image that comes with the recovery", shared
		e.before = append(e.before, f)
	}
}

// words of file names: letters, or a version.
var nameWords = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`[a-z]+|[0-9]+(?:\.[0-9]+)*`)
})

// sharedName gives the word that two files' names share besides the phone's and a partition's; "" for none,
// or where they name different builds.
func sharedName(one, other, phone string) (shared string) {
	words := func(name string) (list []string, build string) {
		name = strings.TrimSuffix(strings.ToLower(name), strings.ToLower(path.Ext(name)))
		for _, w := range nameWords().FindAllString(strings.ReplaceAll(name, strings.ToLower(phone), " "),
			-1) {
			if w[0] <= '9' {
				build = cmp.Or(build, w)
			} else {
				list = append(list, w)
			}
		}
		return list, build
	}
	a, build := words(one)
	b, otherBuild := words(other)
	if build != "" && otherBuild != "" && build != otherBuild {
		return ""
	}
	for _, w := range a {
		if len(w) > 3 && slices.Contains(b, w) && !slices.Contains(place.Usual, w) && w != "recovery" &&
			w != "image" {
			return w
		}
	}
	return ""
}

// preImages are what this phone's recoveries are built for.
func (e *evening) preImages() {
	for _, base := range e.m.NeededBefore() {
		i := slices.IndexFunc(e.before, func(f *Given) bool {
			return slices.ContainsFunc(f.File.GoesTo, func(d ident.Destination) bool {
				return d.Partition == base
			})
		})
		if i < 0 {
			e.Open = append(e.Open,
				fmt.Sprintf("recoveries for this phone need an image of %s written before (%s), and none "+
					"of the files is one: which one belongs to it?", base, "the model file says so"))
			continue
		}
		e.add("flash", "recoveries for this phone are built for it; without it their screen stays black",
			opt("files", e.before[i].Name), opt("into", "@both"))
	}
	for _, f := range e.before {
		if f.shares == "" {
			continue
		}
		options := []Opt{opt("files", f.Name)}
		if e.slots > 1 {
			options = append(options, opt("into", "@both"))
		}
		e.add("flash", fmt.Sprintf("its name and the recovery's share %q: it belongs to it, and without it "+
			"the recovery's screen may stay black", f.shares), options...)
	}
}

// installed is the recovery with a root shell that is known to be set on the slot the phone runs on, or on
// both where that is unknown.
func (e *evening) installed() (set card.Fact) {
	slots := []string{e.c.Running()}
	if slots[0] == "" && e.slots > 1 {
		slots = []string{"a", "b"}
	}
	for _, slot := range slots {
		at := card.At(e.home.Partition, slot)
		set = e.c.Get(card.FactSet.Of(at))
		if quiet, known := e.c.Yes(card.FactQuiet.Of(at)); !set.Known() || !known || quiet {
			return card.Fact{}
		}
	}
	return set
}
