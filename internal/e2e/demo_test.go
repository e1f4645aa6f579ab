package e2e

import (
	"path/filepath"
	"testing"
)

// TestTrayStory: the demo's evening with three phones is told to its end.
func TestTrayStory(t *testing.T) {
	if !*whole && !*cabled {
		t.Skip("-whole tells it")
	}
	inLab(t, func(t *testing.T, l *lab) {
		l.want(0, []string{"run 1 of saltmarsh-4.2-dunlin, for dunlin did not come to its end on dunlin-2",
			"dunlin-2: all 8 tasks done", "the report of"}, "demo", "--story", "tray", "--at",
			filepath.Join(l.dir, "tray"))
	})
}
