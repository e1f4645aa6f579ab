// Simulate runs commands on phones made of software with faults in them, thousands of times,
// and holds after each what was claimed against what the phone holds:
//
//	go run ./internal/simulate -runs 2000 -seed 1
//
// A run is given by its number and the seed: which phone, which command, which faults, and after
// how many bytes, records or commands each of them comes. A failure prints those, and
//
//	go run ./internal/simulate -seed 1 -from 417 -runs 1 -verbose
//
// repeats it. Whole evenings as sheets, each interrupted at one place:
//
//	go run ./internal/simulate -sheets 1
//
// Walks: a phone in a bad state, and a person who does what Jar Lid advises and nothing more:
//
//	go run ./internal/simulate -walks 300 -seed 1
//
// With -cable the phones are on cables in place of the network.
//
// Everything happens in bubbles of virtual time, in one process.
package main

import (
	"flag"
	"fmt"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"jarlid/internal/standin/standintest"
)

func main() {
	runs := flag.Int("runs", 100, "how many runs")
	seed := flag.Int64("seed", 1, "the seed")
	from := flag.Int("from", 0, "the number of the first run")
	sheets := flag.Int("sheets", 0, "run whole evenings as sheets instead, each broken off at one place "+
		"and gone on with: every stride-th place; 1 for all")
	walks := flag.Int("walks", 0, "take walks instead: do what is advised, and nothing more, from bad "+
		"states on")
	cable := flag.Bool("cable", false, "the phones are on cables, and not in the network")
	verbose := flag.Bool("verbose", false, "print what every command said")
	testing.Init()
	flag.Parse()
	dir, err := os.MkdirTemp("", "jarlid-simulate-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	standintest.Light()
	lab := newLab(dir)
	lab.cable = *cable
	began := time.Now()
	var bad atomic.Int64
	all := func(t *testing.T) {
		if *sheets > 0 {
			*runs = lab.evenings(t, *sheets, int(*seed), &bad, *verbose)
			fmt.Printf("%d evenings, %d failed\n", *runs, bad.Load())
			os.RemoveAll(dir)
			return
		}
		if *walks > 0 {
			lab.walks(t, *seed, *from, *walks, &bad, *verbose)
			fmt.Printf("%d walks with the seed %d in %v, %d failed\n", *walks, *seed,
				time.Since(began).Round(time.Second), bad.Load())
			os.RemoveAll(dir)
			return
		}
		t.Run("runs", func(t *testing.T) {
			for n := *from; n < *from+*runs; n++ {
				tallied(t, fmt.Sprint(n), &bad, func(t *testing.T) {
					lab.run(t, plan(*seed, n).damaged(), *verbose)
				})
			}
		})
		took := time.Since(began)
		fmt.Printf("%d runs with the seed %d in %v, %.1f a second, %d failed\n", *runs, *seed,
			took.Round(time.Second), float64(*runs)/took.Seconds(), bad.Load())
		lab.report(os.Stdout)
		os.RemoveAll(dir)
	}
	// Bubbles belong to tests, and this is the door other drivers of tests use.
	testing.Main(func(string, string) (bool, error) {
		return true, nil
	}, []testing.InternalTest{{Name: "simulate", F: all}}, nil, nil)
}

// evenings takes whole evenings as sheets, each interrupted at every stride-th place.
func (l *lab) evenings(t *testing.T, stride, seed int, bad *atomic.Int64, verbose bool) (runs int) {
	t.Run("sheets", func(t *testing.T) {
		for phone := range phones {
			for n, p := range l.sheetPlans(t, phone, 200) {
				if (n+seed)%stride != 0 {
					continue
				}
				runs, p.Quirk = runs+1, quirkOf(runs+1)
				tallied(t, p.String(), bad, func(t *testing.T) { l.sheet(t, p, verbose) })
			}
		}
	})
	return runs
}

// walks takes walks.
func (l *lab) walks(t *testing.T, seed int64, from, count int, bad *atomic.Int64, verbose bool) {
	t.Run("walks", func(t *testing.T) {
		var list []Walk
		for n := from; n < from+count; n++ {
			list = append(list, walkOf(seed, n))
		}
		for _, c := range circles {
			if count > len(circles) { // else single ones are taken again
				list = append(list, walkOf(c.seed, c.n))
			}
		}
		for _, p := range list {
			tallied(t, p.String(), bad, func(t *testing.T) { l.walk(t, p, verbose) })
		}
	})
}

// tallied runs a test beside others, and counts it where it fails.
func tallied(t *testing.T, name string, bad *atomic.Int64, do func(t *testing.T)) {
	t.Run(name, func(t *testing.T) {
		t.Parallel()
		defer func() { // a failure in a bubble ends the test there
			if t.Failed() {
				bad.Add(1)
			}
		}()
		do(t)
	})
}
