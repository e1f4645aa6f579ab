package standintest

import (
	"bytes"
	"sync"
)

// Owner is what the person at a stand-in presses for each thing that is asked for, by words of
// the request.
var Owner = map[string][]string{
	"From the computer":        {"packages", "from the computer"},
	`choose "Recovery"`:        {"volume-up+power"},
	"hold volume up":           {"volume-up+power"},
	"hold volume up and the s": {"battery-out", "battery-in", "volume-up+side+power"},
	"Press volume up to say y": {"battery-out", "battery-in", "volume-down+side+power", "volume-up"},
	"From the card":            {"packages", "from the card"},
	`"From the phone"`:         {"packages", "from the phone"},
	`switch "Debugging" on`:    {"finish welcome", "debugging on", "allow"},
	"welcome pages and switch": {"finish welcome", "debugging on", "allow"},
	`answer "Allow"`:           {"allow"},
	"allow debugging for this": {"allow"},
	"choose \"All data":        {"erase", "all data"},
	"restarts into recovery":   {"leave", "to the recovery"},
	"restarts into bootloader": {"leave", "to the bootloader"},
	"into system":              {"leave", "to the system"},
	"wipes the caches":         {"erase", "caches"},
	"old volume down":          {"volume-down+power"},
	"Press power for":          {"start"},
	"question on the phone":    {"yes"},
	`Choose "Yes"`:             {"yes"},
}

// Output keeps what a program prints, and tells of each whole line.
type Output struct {
	OnLine func(line string) // nil: none

	mu   sync.Mutex
	text bytes.Buffer
	told int // bytes of the lines that were told
}

// Write keeps b.
func (o *Output) Write(b []byte) (int, error) {
	o.mu.Lock()
	o.text.Write(b)
	var lines []string
	for all := o.text.Bytes(); ; {
		n := bytes.IndexByte(all[o.told:], '\n')
		if n < 0 {
			break
		}
		lines = append(lines, string(all[o.told:o.told+n]))
		o.told += n + 1
	}
	o.mu.Unlock()
	if o.OnLine != nil {
		for _, s := range lines {
			o.OnLine(s)
		}
	}
	return len(b), nil
}

// String gives all that was printed so far.
func (o *Output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}
