package local

import (
	"os/exec"
	"runtime"
	"testing"
)

// TestQuote: a word reaches a program as it is, in the shell itself where it is here; the others by
// what their documents say.
func TestQuote(t *testing.T) {
	for word, want := range map[string]map[Shell]string{
		"rom.zip":       {Posix: "rom.zip", Cmd: "rom.zip", PowerShell: "rom.zip"},
		"":              {Posix: "''", Cmd: `""`, PowerShell: "''"},
		"a b":           {Posix: "'a b'", Cmd: `"a b"`, PowerShell: "'a b'"},
		`C:\set\a&b`:    {Cmd: `"C:\set\a&b"`, PowerShell: `'C:\set\a&b'`},
		`C:\set\x`:      {Cmd: `C:\set\x`, PowerShell: `C:\set\x`, Posix: `'C:\set\x'`},
		"don't":         {Posix: `'don'\''t'`, Cmd: `"don't"`, PowerShell: "'don''t'"},
		"$HOME":         {Posix: "'$HOME'", Cmd: `"$HOME"`, PowerShell: "'$HOME'"},
		"recovery@both": {Posix: "recovery@both", Cmd: "recovery@both", PowerShell: "'recovery@both'"},
		"a,b":           {Posix: "a,b", Cmd: `"a,b"`, PowerShell: "'a,b'"},
		"*.img":         {Posix: "'*.img'"},
	} {
		for shell, w := range want {
			if got := shell.Quote(word); got != w {
				t.Errorf("%s: %q is %s, want %s", shell, word, got, w)
			}
		}
	}
	if runtime.GOOS == "windows" {
		return
	}
	for _, word := range []string{"a b", "don't $HOME `x` \\ \"q\"", "*", "", "new\nline", "-n", "~"} {
		out, err := exec.Command("sh", "-c", "printf %s "+Posix.Quote(word)).Output()
		if err != nil || string(out) != word {
			t.Errorf("%q arrives as %q (%v)", word, out, err)
		}
	}
	for shell, want := range map[Shell]string{Posix: "export A='b c'", Cmd: `set "A=b c"`,
		PowerShell: "$env:A = 'b c'"} {
		if got := shell.SetVariable("A", "b c"); got != want {
			t.Errorf("%s, want %v", got, want)
		}
	}
}
