package witness

import (
	"bytes"
	"os"
	"os/exec"
	"testing"
)

// TestScript: .ci/witnesses installs the package of every tool, and nothing else.
func TestScript(t *testing.T) {
	b, err := os.ReadFile("../../../.ci/witnesses")
	if err != nil {
		t.Fatalf("os.ReadFile('../../../.ci/witnesses'): %v", err)
	}
	_, list, found := bytes.Cut(b, []byte("packages=\""))
	list, _, closed := bytes.Cut(list, []byte("\""))
	var want bytes.Buffer
	for _, p := range Packages() {
		want.WriteString(p + " ")
	}
	if got := bytes.Join(bytes.Fields(list), []byte(" ")); !found || !closed ||
		string(got)+" " != want.String() {
		t.Errorf("it installs %q, want %q", got, want.String())
	}
}

// TestFind: what is found is a program of that name.
func TestFind(t *testing.T) {
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("there is no sh here")
	}
	if out, err := exec.Command(Tool(t, "sh"), "-c", "echo found").Output(); err != nil ||
		string(out) != "found\n" {
		t.Errorf("....Output(): %q, %v; unwanted: err != nil || string(out) != 'found\\n'", out, err)
	}
	if find("no-such-witness") != "" {
		t.Error("something is found for a name that is none")
	}
}
