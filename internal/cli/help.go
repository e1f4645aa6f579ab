package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jarlid/internal/cli/term"
)

// groups are the commands as the top help shows them.
var groups = []struct {
	title string
	names []string
}{
	{"Phone", []string{"bench", "card", "go", "slot", "unlock", "relock", "arrive"}},
	{"Files", []string{"ident", "proof", "lift", "fit"}},
	{"Work", []string{"recovery", "flash", "wipe", "sideload", "put", "app", "vbmeta"}},
	{"Whole job", []string{"sheet", "jobs"}},
	{"Safety", []string{"backup", "shelve", "unshelve"}},
	{"Practise", []string{"demo", "standin", "explain"}},
	{"More", []string{"completion", "help"}},
}

// examples are one or more of each command, by its path without the program's name. A test walks
// them: each is a command that can be typed.
var examples = map[string][]string{
	"":                 {"jarlid", "jarlid ident *.img *.zip", "jarlid demo"},
	"bench":            {"jarlid bench", "jarlid bench --why"},
	"bench name":       {"jarlid bench name WL-DU-0007 brook"},
	"card":             {"jarlid card", "jarlid card --save dunlin.json"},
	"go":               {"jarlid go recovery", "jarlid go system --wait 2m"},
	"slot":             {"jarlid slot"},
	"slot show":        {"jarlid slot show"},
	"slot use":         {"jarlid slot use b"},
	"slot copy":        {"jarlid slot copy", "jarlid slot copy radio --from a"},
	"unlock":           {"jarlid unlock"},
	"relock":           {"jarlid relock --images wickerlight-9.1-dunlin-firmware.zip"},
	"arrive":           {"jarlid arrive"},
	"ident":            {"jarlid ident saltmarsh-4.2-dunlin.zip", "jarlid ident --deep gsi.img.xz"},
	"proof":            {"jarlid proof rom.zip --against SHA256SUMS", "jarlid proof rom.zip --keys-of recovery.img"},
	"lift":             {"jarlid lift rom.zip boot -o out", "jarlid lift rom.zip --list"},
	"fit":              {"jarlid fit saltmarsh-gsi-4.2-arm64.img.gz", "jarlid fit gsi.img --card dunlin.json --page fit.html"},
	"recovery":         {"jarlid recovery install tideline-3.1-dunlin.img"},
	"recovery try":     {"jarlid recovery try tideline-3.1-dunlin.img"},
	"recovery install": {"jarlid recovery install tideline-3.1-dunlin.img", "jarlid recovery install --previous"},
	"recovery hold":    {"jarlid recovery hold"},
	"flash":            {"jarlid flash boot.img", "jarlid flash gsi.img.gz --into system", "jarlid flash firmware.zip --without radio"},
	"wipe":             {"jarlid wipe userdata", "jarlid wipe apps caches"},
	"sideload":         {"jarlid sideload rom.zip shoreline.zip", "jarlid sideload rom.zip --recovery-after recovery.img"},
	"put":              {"jarlid put rom.zip --to sd --install"},
	"app":              {"jarlid app fieldlog.apk"},
	"vbmeta":           {"jarlid vbmeta check"},
	"vbmeta show":      {"jarlid vbmeta show vbmeta.img"},
	"vbmeta check":     {"jarlid vbmeta check vbmeta.img --images firmware.zip"},
	"vbmeta loosen":    {"jarlid vbmeta loosen hashtree", "jarlid vbmeta loosen hashtree vbmeta.img -o loose.img"},
	"vbmeta tighten":   {"jarlid vbmeta tighten hashtree"},
	"sheet":            {"jarlid sheet draft recovery.img rom.zip", "jarlid sheet run evening.yaml --all"},
	"sheet draft":      {"jarlid sheet draft recovery.img rom.zip shoreline.zip", "jarlid sheet draft firmware.zip --for stock -o stock.yaml"},
	"sheet check":      {"jarlid sheet check evening.yaml", "jarlid sheet check evening.yaml --models dunlin,godwit"},
	"sheet run":        {"jarlid sheet run evening.yaml", "jarlid sheet run evening.yaml --on brook,marsh --table codes.csv"},
	"jobs":             {"jarlid jobs"},
	"jobs show":        {"jarlid jobs show 12", "jarlid jobs show 12 --page report.html"},
	"jobs resume":      {"jarlid jobs resume"},
	"jobs prune":       {"jarlid jobs prune --older 90d"},
	"backup":           {"jarlid backup take -o kept"},
	"backup take":      {"jarlid backup take -o kept", "jarlid backup take boot@both storage -o kept"},
	"backup restore":   {"jarlid backup restore boot@a -o kept"},
	"shelve":           {"jarlid shelve /vendor/overlay/WickerlightFrame"},
	"unshelve":         {"jarlid unshelve"},
	"demo":             {"jarlid demo", "jarlid demo --story tray"},
	"standin":          {"jarlid standin run dunlin --at practice/dunlin"},
	"standin run":      {"jarlid standin run dunlin --at practice/dunlin"},
	"standin press":    {`jarlid standin press dunlin "finish welcome" "debugging on"`},
	"standin fault":    {"jarlid standin fault dunlin drop --after 1048576"},
	"explain":          {"jarlid explain slot-empty", `jarlid explain "stuck at 47 percent"`},
}

// placeholders say what an option takes, where its name does not.
var placeholders = map[string]string{
	"accept": "NAME[=WHAT]", "on": "PHONE", "card": "FILE", "cards": "FILE,...", "models": "MODEL,...", "model": "MODEL", "home": "DIR", "at": "DIR", "output": "PATH", "wait": "TIME", "page": "FILE",
	"save": "FILE", "table": "FILE", "file": "NAME=PATH", "for": "WHAT", "images": "SET", "from": "WHAT", "into": "PARTITION@SLOT", "boot": "FILE", "recovery-after": "FILE", "then": "WHAT", "to": "WHERE",
	"older": "AGE", "code": "CODE", "slot": "SLOT", "max-memory": "SIZE", "max-size": "SIZE", "against": "FILE", "signer": "FILE", "keys-of": "FILE", "over": "FILE", "vendor": "SET", "with": "FILE,...",
	"without": "NAME", "only": "NAME", "story": "NAME", "as": "NAME", "serial": "NUMBER", "fastboot": "ADDRESS", "adb": "ADDRESS", "battery": "PERCENT", "mode": "MODE", "after": "NUMBER",
}

// placeholder is what an option takes; "" for one that takes nothing.
func placeholder(f *pflag.Flag) string {
	if f.Value.Type() == "bool" {
		return ""
	}
	if p, ok := placeholders[f.Name]; ok {
		return p
	}
	return strings.ToUpper(f.Value.Type())
}

// mostHelp is how wide help is at most: longer lines are hard to read.
const mostHelp = 100

// help shows the help of a command, wrapped to the terminal.
func (a *app) help(c *cobra.Command) {
	text := helpText(c, min(term.Width(a.Stdout), mostHelp))
	if a.json || hasFlag(a.typed, "--json") {
		b, err := json.Marshal(struct {
			Event string `json:"event"`
			OK    bool   `json:"ok"`
			Exit  int    `json:"exit"`
			Help  string `json:"help"`
		}{"result", true, 0, text})
		if err == nil {
			text = string(b) + "\n"
		}
	}
	_, _ = io.WriteString(a.Stdout, text) // nobody is left to be told
}

// helpText is a command's help in so many columns.
func helpText(c *cobra.Command, width int) string {
	var out strings.Builder
	para := func(indent, text string) {
		for _, line := range strings.Split(text, "\n") {
			for _, part := range term.Wrap(line, width-len(indent)) {
				out.WriteString(strings.TrimRight(indent+part, " ") + "\n")
			}
		}
	}
	two := func(rows [][2]string) {
		wide := 0
		for _, r := range rows {
			wide = max(wide, len(r[0]))
		}
		wide = min(wide, width/3)
		for _, r := range rows {
			parts := term.Wrap(r[1], width-wide-4)
			head := fmt.Sprintf("  %-*s  ", wide, r[0])
			if len(r[0]) > wide {
				out.WriteString("  " + r[0] + "\n")
				head = strings.Repeat(" ", wide+4)
			}
			for i, p := range parts {
				if i > 0 {
					head = strings.Repeat(" ", wide+4)
				}
				out.WriteString(head + p + "\n")
			}
		}
	}
	if c.Long != "" {
		para("", paragraphs(c.Long))
	} else {
		para("", c.Short+".")
	}
	out.WriteString("\nUsage:\n")
	if c.Runnable() {
		para("  ", strings.Replace(c.UseLine(), "[flags]", "[options]", 1))
	}
	if c.HasAvailableSubCommands() {
		para("  ", c.CommandPath()+" COMMAND")
	}
	if list := examples[strings.TrimPrefix(strings.TrimPrefix(c.CommandPath(), "jarlid"), " ")]; len(list) > 0 {
		out.WriteString("\nFor example:\n")
		for _, e := range list {
			para("  ", e)
		}
	}
	if !c.HasParent() {
		for _, g := range groups {
			var rows [][2]string
			for _, name := range g.names {
				if i := slices.IndexFunc(c.Commands(), func(s *cobra.Command) bool {
					return s.Name() == name && s.IsAvailableCommand() || s.Name() == name && name == "help"
				}); i >= 0 {
					rows = append(rows, [2]string{name, c.Commands()[i].Short})
				}
			}
			out.WriteString("\n" + g.title + ":\n")
			two(rows)
		}
	} else if c.HasAvailableSubCommands() {
		var rows [][2]string
		for _, s := range c.Commands() {
			if s.IsAvailableCommand() {
				rows = append(rows, [2]string{s.Name(), s.Short})
			}
		}
		out.WriteString("\nCommands:\n")
		two(rows)
	}
	options := func(title string, flags *pflag.FlagSet) {
		var rows [][2]string
		flags.VisitAll(func(f *pflag.Flag) {
			if f.Hidden {
				return
			}
			name := "--" + f.Name
			if f.Shorthand != "" {
				name = "-" + f.Shorthand + ", " + name
			}
			if p := placeholder(f); p != "" {
				name += " " + p
			}
			usage := f.Usage
			if f.Name == "help" {
				usage = "this help"
			}
			if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" && f.DefValue != "0" && !strings.Contains(usage, "default") {
				usage += " (default: " + strings.TrimSuffix(strings.TrimSuffix(f.DefValue, "0s"), "0m") + ")"
			}
			rows = append(rows, [2]string{name, usage})
		})
		if len(rows) > 0 {
			out.WriteString("\n" + title + ":\n")
			two(rows)
		}
	}
	options("Options", c.LocalNonPersistentFlags())
	everywhere := c.InheritedFlags()
	if !c.HasParent() {
		everywhere = c.PersistentFlags()
	}
	options("Everywhere", everywhere)
	if c.HasAvailableSubCommands() {
		out.WriteString("\n")
		para("", c.CommandPath()+" COMMAND --help tells each at length.")
	}
	return out.String()
}

// paragraphs joins lines that were broken for the source's sake, and keeps empty ones.
func paragraphs(s string) string {
	var out []string
	for _, p := range strings.Split(s, "\n\n") {
		out = append(out, strings.ReplaceAll(p, "\n", " "))
	}
	return strings.Join(out, "\n\n")
}
