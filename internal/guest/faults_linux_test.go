package guest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"jarlid/internal/journal"
)

// broken holds a job that a fault ended to what is promised of one: a named end with exit 5, or
// 4 when the phone was not there any more, and a journal that does not say done.
func (d *workplace) broken(what string, code int, out string) {
	d.Helper()
	if code == 3 && strings.Contains(out, "stop  hands-needed") {
		return // it was out before the job began, and nobody is there
	}
	if code != 5 && code != 4 && code != 1 {
		d.Errorf("%s: it ended with %d:\n%s", what, code, out)
	}
	if !strings.Contains(out, "fail  ") || strings.Contains(out, "panic") {
		d.Errorf("%s: it is not said what happened:\n%s", what, out)
	}
	list := d.journals()
	if len(list) == 0 {
		return // before the first act
	}
	b, err := os.ReadFile(list[len(list)-1])
	if err != nil {
		d.Fatalf("os.ReadFile(list[len(list)-1]): %v", err)
	}
	lines := bytes.Split(bytes.TrimSpace(b), []byte("\n"))
	var last journal.Record
	if err := json.Unmarshal(lines[len(lines)-1], &last); err != nil || last.Event != journal.End ||
		last.Error == "" {
		d.Errorf("%s: the journal ends with %s (%v)", what, lines[len(lines)-1], err)
	}
}

// back waits until the phone is plugged in again.
func (d *workplace) back(before int) {
	d.until("the cable is back", func() bool { return phones() >= before })
}

// TestInFaultsWrite pulls the cable at every tenth of a write, and at the boundaries of its job's
// steps; each time the end has a name, and in the end the repeat is well.
func TestInFaultsWrite(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	img := file(t, "dunlin", "large-1")
	want, err := os.ReadFile(img)
	if err != nil {
		t.Fatalf("os.ReadFile(img): %v", err)
	}
	job := []string{"recovery", "install", img, "--into", "@a", "--accept", "recovery-on-one-slot", "--yes"}
	for tenth := 1; tenth < 10; tenth++ { // while it is checked, a pulled cable is only looked past
		d.want(0, nil, "standin", "fault", "dunlin", "drop", "--after", fmt.Sprint(len(want)*tenth/10))
		code, out := d.run(job...)
		d.broken(fmt.Sprintf("pulled at tenth %d", tenth), code, out)
		d.back(1)
	}
	// Each command is the boundary of a step, or lies between two. While the phone is checked, a
	// pulled cable is looked past, so the walk ends where the cable is not pulled any more.
	broke, pulls := 0, func() int { return strings.Count(d.said("dunlin"), "fault: drop-next") }
	for after := 0; ; after++ {
		before := pulls()
		d.want(0, nil, "standin", "fault", "dunlin", "drop-next", "--after", fmt.Sprint(after))
		code, out := d.run(job...)
		if pulls() == before {
			break
		}
		if code != 0 {
			broke++
			d.broken(fmt.Sprintf("pulled at command %d", after), code, out)
		}
		d.back(1)
	}
	if pulls() < 5 || broke == 0 {
		t.Errorf("the cable was pulled at %d commands, and %d jobs broke off", pulls(), broke)
	}
	d.want(0, nil, "standin", "fault", "dunlin", "clear")
	d.want(0, []string{"recovery_a written"}, job...)
	if !bytes.HasPrefix(d.stored("dunlin", "recovery_a"), want) {
		t.Error("recovery_a does not hold what was written")
	}
}

// TestInFaultsPackage pulls the cable at every tenth of a package.
func TestInFaultsPackage(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	d.want(0, nil, "recovery", "install", file(t, "dunlin", "tideline"), "--yes")
	d.want(0, nil, "go", "recovery")
	d.want(0, nil, "wipe", "userdata", "--yes")
	rom := file(t, "dunlin", "saltmarsh-4.2-dunlin.zip")
	st, err := os.Stat(rom)
	if err != nil {
		t.Fatalf("os.Stat(rom): %v", err)
	}
	job := []string{"sideload", rom, "--then", "stay", "--yes"}
	for tenth := 1; tenth < 10; tenth++ {
		d.want(0, nil, "standin", "fault", "dunlin", "drop", "--after", fmt.Sprint(st.Size()*int64(tenth)/10))
		code, out := d.run(job...)
		d.broken(fmt.Sprintf("pulled at tenth %d", tenth), code, out)
		d.back(1)
	}
	d.want(0, nil, "standin", "fault", "dunlin", "clear")
	d.want(0, []string{"slot b starts next"}, job...)
}
