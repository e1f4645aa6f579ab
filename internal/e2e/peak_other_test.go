//go:build !linux

package e2e

// watchPeak: the peak memory is not known here.
func watchPeak(int) func() float64 { return func() float64 { return 0 } }
