package e2e

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/bench"
	"jarlid/internal/journal"
)

// TestBusy: while one program works on a phone, others keep off it, whatever home they have
// and by whatever name they know it; who only looks does not open it either.
func TestBusy(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		var here struct{ Phones []struct{ Address string } }
		l.result(0, &here, "bench")
		address := here.Phones[0].Address
		img := l.file("large.img", bigRecovery(8<<20))
		l.fault("dunlin", "stall", 12<<20, "--for", "50")
		job := l.begin(false, "", nil, "recovery", "install", img, "--yes")
		l.until("the job writes", func() bool {
			all := l.journals()
			return len(all) == 1 && all[0][len(all[0])-1].Event == journal.Act &&
				all[0][len(all[0])-1].Step == 2
		})
		time.Sleep(time.Second)

		began := time.Now()
		l.want(3, []string{"stop  phone-busy: another jarlid is working on dunlin",
			"wait until it has finished"}, "slot")
		if took := time.Since(began); took < 10*time.Second || took > 12*time.Second {
			t.Errorf("one who looks is waited for 10 s, and this took %v", took)
		}
		other := l.other("other")
		other.want(3, []string{"stop  phone-busy"}, "slot", "--on", address)
		l.want(3, []string{"stop  phone-busy"}, "backup", "take", "boot@a", "-o",
			filepath.Join(l.dir, "kept"))
		l.want(3, []string{"stop  phone-busy"}, "wipe", "userdata", "--yes")
		l.want(0, []string{"another jarlid works on it"}, "bench")
		if n := len(l.journals()); n != 1 {
			t.Errorf("%d journals, and one job has begun", n)
		}
		<-job.done
		if job.code != 0 {
			t.Fatalf("nobody disturbed it, and it ended with %d:\n%s", job.code, job.out)
		}
		l.want(0, nil, "slot")
	})
}

// TestWaitsForALook: a look at the phone takes moments, and a job that comes in between
// waits for it.
func TestWaitsForALook(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		b := must(bench.Open(bench.Options{Home: l.home, Locks: filepath.Join(l.dir, "locks"), Dial: l.net}))
		p := must(b.Pick(t.Context(), "dunlin"))
		unlock := must(p.Lock(p.LockNames()...))
		time.AfterFunc(5*time.Second, unlock)
		began := time.Now()
		l.want(0, []string{"recovery_a and recovery_b written"}, "recovery", "install", files.Recovery,
			"--yes")
		if took := time.Since(began); took < 5*time.Second {
			t.Errorf("it did not wait: %v", took)
		}
	})
}

// TestUnattended: without a terminal and without --yes, whatever writes ends with
// not-confirmed, and names what it would have done and where; nothing is changed and no
// journal is begun.
func TestUnattended(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		kit := kitOf(t, "dunlin", 2)
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
		l.want(0, nil, "go", "recovery", "--yes")
		before := len(l.journals())
		for _, c := range []struct {
			asks string
			args []string
		}{
			{"recovery_a and recovery_b, on dunlin?", []string{"recovery", "install", kit.recovery}},
			{"boot.img to boot_a", []string{"flash", kit.more.Boot}},
			{"userdata", []string{"wipe", "userdata"}},
			{"slot", []string{"slot", "use", "b", "--accept", "slot-empty", "--accept",
				"other-slot-firmware-differs"}},
			{"vbmeta_a and vbmeta_b", []string{"vbmeta", "loosen", "hashtree"}},
			{"saltmarsh-4.2-dunlin.zip", []string{"sideload", files.Package, "--accept", "encrypted-data"}},
		} {
			out := l.want(3, []string{"asks  ", "stop  not-confirmed"}, c.args...)
			if !strings.Contains(out, ", on dunlin?") && !strings.Contains(out, "on dunlin") {
				t.Errorf("%v does not name the phone:\n%s", c.args, out)
			}
			l.want(0, []string{"a dry run ends here"}, append(c.args, "--dry-run")...)
		}
		if n := len(l.journals()); n != before {
			t.Errorf("%d journals were begun", n-before)
		}
	})
}
