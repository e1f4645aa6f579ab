package bench

import (
	"context"
	"fmt"
	"sync"

	"jarlid/internal/phone"
)

// Why finds out, for every listed phone or the one named, why it is not here.
// Nothing is changed on a phone, and no phone is restarted.
func (b *Bench) Why(ctx context.Context, on string) ([]phone.Cause, error) {
	list, err := b.Meant(on)
	if err != nil {
		return nil, err
	}
	causes := make([]phone.Cause, len(list))
	var wg sync.WaitGroup
	for i, p := range list {
		wg.Go(func() { causes[i] = p.Why(ctx) })
	}
	wg.Wait()
	return twice(causes), nil
}

// twice marks phones that report the same serial number.
func twice(causes []phone.Cause) []phone.Cause {
	first := map[string]string{}
	for i := range causes {
		c := &causes[i]
		if c.Serial == "" {
			continue
		}
		if other, ok := first[c.Serial]; ok {
			c.Cause = phone.CauseSameSerial
			c.Text = fmt.Sprintf("it reports the serial number %s, as %s does: the list may name one phone twice, or two phones never had numbers of their own", c.Serial, other)
			c.Do = "name it by its address or bench name, never by its serial number"
			continue
		}
		first[c.Serial] = c.Phone
	}
	return causes
}
