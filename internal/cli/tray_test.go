package cli

import (
	"slices"
	"testing"
	"testing/synctest"
)

// TestDesk: one phone is attended at a time; the next one is the nearest on the tray, whoever came
// first; who is not waited for any more gives up its turn.
func TestDesk(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &turns{}
		never := make(chan struct{})
		var order []string
		come := func(name string, at int, stop chan struct{}) {
			go func() {
				d.come(name, at, stop)
				select {
				case <-stop:
				default:
					order = append(order, name)
				}
			}()
			synctest.Wait()
		}
		come("d4", 4, never)
		come("d1", 1, never)
		come("d6", 6, never)
		given := make(chan struct{})
		come("d5", 5, given)
		come("d4", 4, never) // whose turn it is goes on
		if !slices.Equal(order, []string{"d4", "d4"}) {
			t.Fatalf("%v; unwanted: !slices.Equal(order, []string{'d4', 'd4'})", order)
		}
		close(given)
		synctest.Wait()
		for _, name := range []string{"d6", "d4", "d6", "d1", "nobody"} {
			d.leave(name)
			synctest.Wait()
		}
		if want := []string{"d4", "d4", "d6", "d1"}; !slices.Equal(order, want) {
			t.Errorf("%v, want %v", order, want)
		}
		if d.name != "" || len(d.waiting) != 0 {
			t.Errorf("in the end it is %q's turn, and %d wait", d.name, len(d.waiting))
		}
	})
}

// TestPhonesOf: names, serial numbers and addresses are taken apart; addresses alone are one phone.
func TestPhonesOf(t *testing.T) {
	for on, want := range map[string][]string{
		"d1":                      {"d1"},
		"d1,d2":                   {"d1", "d2"},
		" d1 , WL-7,":             {"d1", "WL-7"},
		"tcp:1.2.3.4,adb:1.2.3.4": {"tcp:1.2.3.4,adb:1.2.3.4"},
		"d1,usb:1-4":              {"d1", "usb:1-4"},
	} {
		if got := phonesOf(on); !slices.Equal(got, want) {
			t.Errorf("%q: %q, want %q", on, got, want)
		}
	}
}
