package local

import "strings"

// Shell is what a command is typed in.
type Shell string

// The shells, by how they take words apart.
const (
	Posix      Shell = "sh"
	Cmd        Shell = "cmd"
	PowerShell Shell = "powershell"
)

// plainLetters need no quotes in any shell.
const plainLetters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_./:@%+=,-"

// Quote writes a word so that the shell gives it to a program as it is.
//
//	sh          single quotes, in which nothing means anything; one in the word ends them (POSIX,
//	            Shell Command Language, 2.2.2)
//	PowerShell  single quotes, doubled within (about_Quoting_Rules)
//	cmd         double quotes; a percent sign can't be kept from it there, and stays
func (s Shell) Quote(word string) string {
	plain := plainLetters
	switch s {
	case Cmd:
		plain = strings.NewReplacer("%", "", "=", "", ",", "").Replace(plain) + `\`
	case PowerShell:
		plain = strings.NewReplacer("%", "", "@", "", ",", "").Replace(plain) + `\`
	}
	if word != "" && strings.Trim(word, plain) == "" && !strings.ContainsFunc(word, func(r rune) bool {
		return !strings.ContainsRune(plain, r)
	}) {
		return word
	}
	switch s {
	case Cmd:
		return `"` + strings.ReplaceAll(word, `"`, `\"`) + `"`
	case PowerShell:
		return "'" + strings.ReplaceAll(word, "'", "''") + "'"
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// typedIn is the shell that commands are typed in.
var typedIn = Posix

// TypedIn says which shell commands are typed in. Whoever starts the program says it, before anything
// else runs.
func TypedIn(s Shell) { typedIn = s }

// Quote writes a word as the shell takes it that commands are typed in.
func Quote(word string) string { return typedIn.Quote(word) }

// SetVariable is the command that sets a variable of the environment in that shell.
func SetVariable(name, value string) string { return typedIn.SetVariable(name, value) }

// SetVariable is the command that sets a variable of the environment.
func (s Shell) SetVariable(name, value string) string {
	switch s {
	case Cmd:
		return `set "` + name + "=" + value + `"`
	case PowerShell:
		return "$env:" + name + " = " + s.Quote(value)
	}
	return "export " + name + "=" + s.Quote(value)
}
