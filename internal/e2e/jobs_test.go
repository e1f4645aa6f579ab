package e2e

import (
	"slices"
	"strconv"
	"strings"
	"testing"
)

type jobsResult struct {
	Jobs []struct {
		Number               int
		Phone, Outcome, Step string
		Command              []string
		Ended                *string
	}
}

type jobResult struct {
	Outcome, Step, Error string
	Steps                []struct {
		Outcome, Title, Confirmed string
		Began, Ended              *string
	}
	Broken struct{ Command []string } `json:"broken_off"`
}

// TestJobs: every job is listed as it ended, of a phone where one is named; at length each step is
// told with how it was confirmed, and what was interrupted says what resumes it.
func TestJobs(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "dunlin", 2)
		l.standin("dunlin")
		l.standin("godwit")
		l.want(0, []string{"no job was done"}, "jobs")
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes", "--on", "dunlin")
		l.want(0, nil, "go", "recovery", "--on", "dunlin")
		l.want(0, nil, "flash", kit.recovery, "--into", "recovery@a", "--accept", "recovery-on-one-slot",
			"--yes", "--on", "dunlin")
		l.fault("dunlin", "drop", sizeOf(kit.more.Package)/2)
		if code, out := l.run("sideload", kit.more.Package, "--then", "stay", "--accept", "encrypted-data",
			"--yes", "--on", "dunlin"); code != 5 && code != 1 {
			t.Fatalf("%d; unwanted: code != 5 && code != 1\n%s", code, out)
		}
		l.want(0, nil, "slot", "use", "b", "--accept", "slot-empty", "--yes", "--on", "godwit")
		var all, one jobsResult
		l.result(0, &all, "jobs")
		l.result(0, &one, "jobs", "--on", "dunlin")
		if len(all.Jobs) < 4 || len(one.Jobs) >= len(all.Jobs) || all.Jobs[0].Phone != "godwit" {
			t.Fatalf("%+v; unwanted: len(all.Jobs) < 4 || len(one.Jobs) >= len(all.Jobs) || ...\n%+v", all,
				one)
		}
		for i, j := range all.Jobs {
			broke := j.Phone == "dunlin" && slices.Contains(j.Command, "sideload")
			if (j.Outcome == "done") == broke || j.Ended == nil || (j.Step == "") == broke {
				t.Errorf("%+v; unwanted: (j.Outcome == 'done') == broke || j.Ended == nil || (j.Step == ...",
					j)
			}
			if i > 0 && j.Number >= all.Jobs[i-1].Number {
				t.Errorf("job %d stands behind %d", j.Number, all.Jobs[i-1].Number)
			}
		}
		var r jobResult
		l.result(0, &r, "jobs", "show", "1")
		if r.Outcome != "done" || len(r.Steps) != 2 || r.Steps[0].Confirmed != "phone-word" ||
			r.Steps[1].Ended == nil {
			t.Errorf("%+v; unwanted: r.Outcome != 'done' || len(r.Steps) != 2 || ...", r)
		}
		last := one.Jobs[0]
		r = jobResult{}
		l.result(0, &r, "jobs", "show", strconv.Itoa(last.Number))
		if r.Outcome != "failed" || r.Error == "" || !slices.Contains(r.Broken.Command, "sideload") ||
			r.Steps[len(r.Steps)-1].Outcome == "done" {
			t.Errorf("%+v; unwanted: r.Outcome != 'failed' || r.Error == '' || ...", r)
		}
		out := l.want(0, []string{"fail  ", "next  jarlid jobs resume "}, "jobs", "show",
			strconv.Itoa(last.Number))
		if strings.Contains(out, "done  ") {
			t.Errorf("it is told as done:\n%s", out)
		}
		l.want(2, []string{"there is no job x"}, "jobs", "resume", "x")
		l.want(3, []string{"stop  not-confirmed"}, "jobs", "resume")
		l.want(0, []string{"broke off: sideload saltmarsh-4.2-dunlin.zip", "done  "}, "jobs", "resume",
			"--yes")
		l.result(0, &one, "jobs", "--on", "dunlin")
		if one.Jobs[0].Outcome != "done" || slices.Contains(one.Jobs[0].Command, "resume") ||
			!slices.Contains(one.Jobs[0].Command, "sideload") {
			t.Errorf("%+v; unwanted: one.Jobs[0].Outcome != 'done' || ...", one.Jobs[0])
		}
		l.want(0, []string{"nothing broke off"}, "jobs", "resume")
		l.want(2, []string{"there is no job 99"}, "jobs", "show", "99")
		l.want(2, nil, "jobs", "show")
	})
}
