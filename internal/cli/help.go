package cli

import (
	"cmp"
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
	{"Phone", []string{"bench", "card", "model", "go", "slot", "unlock", "relock", "arrive"}},
	{"Files", []string{"ident", "proof", "lift", "fit"}},
	{"Work", []string{"recovery", "flash", "wipe", "sideload", "put", "app", "vbmeta"}},
	{"Whole job", []string{"sheet", "jobs"}},
	{"Safety", []string{"backup", "shelve", "unshelve"}},
	{"Practise", []string{"demo", "standin", "explain"}},
	{"More", []string{"help", "man", "completion"}},
}

// examples are one or more of each command, by its path without the program's name. A test walks
// them: each is a command that can be typed.
var examples = map[string][]string{
	"":            {"jarlid", "jarlid ident *.img *.zip", "jarlid demo"},
	"bench":       {"jarlid bench", "jarlid bench --why"},
	"bench name":  {"jarlid bench name WL-DU-0007 brook"},
	"card":        {"jarlid card", "jarlid card --save dunlin.json"},
	"model":       {"jarlid model draft", "jarlid model show dunlin"},
	"model draft": {"jarlid model draft", "jarlid model draft brook firmware.zip -o plover.yaml"},
	"model check": {"jarlid model check plover.yaml"},
	"model show":  {"jarlid model show dunlin"},
	"model add":   {"jarlid model add plover.yaml"},
	"go":          {"jarlid go recovery", "jarlid go system --wait 2m"},
	"slot":        {"jarlid slot"},
	"slot show":   {"jarlid slot show"},
	"slot use":    {"jarlid slot use b"},
	"slot copy":   {"jarlid slot copy", "jarlid slot copy radio --from a"},
	"unlock":      {"jarlid unlock"},
	"relock":      {"jarlid relock --images wickerlight-9.1-dunlin-firmware.zip"},
	"arrive":      {"jarlid arrive"},
	"ident":       {"jarlid ident saltmarsh-4.2-dunlin.zip", "jarlid ident --deep gsi.img.xz"},
	"proof": {"jarlid proof rom.zip --against SHA256SUMS",
		"jarlid proof rom.zip --keys-of recovery.img"},
	"lift": {"jarlid lift rom.zip boot -o out", "jarlid lift rom.zip --list"},
	"fit": {"jarlid fit saltmarsh-gsi-4.2-arm64.img.gz",
		"jarlid fit gsi.img --card dunlin.json --page fit.html"},
	"recovery":     {"jarlid recovery install tideline-3.1-dunlin.img"},
	"recovery try": {"jarlid recovery try tideline-3.1-dunlin.img"},
	"recovery install": {"jarlid recovery install tideline-3.1-dunlin.img",
		"jarlid recovery install --previous"},
	"recovery hold": {"jarlid recovery hold"},
	"flash": {"jarlid flash boot.img", "jarlid flash gsi.img.gz --into system",
		"jarlid flash firmware.zip --without radio"},
	"wipe": {"jarlid wipe userdata", "jarlid wipe apps caches"},
	"sideload": {"jarlid sideload rom.zip shoreline.zip",
		"jarlid sideload rom.zip --recovery-after recovery.img"},
	"put":          {"jarlid put rom.zip --to sd --install"},
	"app":          {"jarlid app fieldlog.apk"},
	"vbmeta":       {"jarlid vbmeta check"},
	"vbmeta show":  {"jarlid vbmeta show vbmeta.img"},
	"vbmeta check": {"jarlid vbmeta check vbmeta.img --images firmware.zip"},
	"vbmeta loosen": {"jarlid vbmeta loosen hashtree",
		"jarlid vbmeta loosen hashtree vbmeta.img -o loose.img"},
	"vbmeta tighten": {"jarlid vbmeta tighten hashtree"},
	"sheet":          {"jarlid sheet draft recovery.img rom.zip", "jarlid sheet run evening.yaml --all"},
	"sheet draft": {"jarlid sheet draft recovery.img rom.zip shoreline.zip",
		"jarlid sheet draft firmware.zip --for stock -o stock.yaml"},
	"sheet check": {"jarlid sheet check evening.yaml",
		"jarlid sheet check evening.yaml --models dunlin,godwit"},
	"sheet run": {"jarlid sheet run evening.yaml",
		"jarlid sheet run evening.yaml --on brook,marsh --table codes.csv"},
	"jobs":           {"jarlid jobs"},
	"jobs show":      {"jarlid jobs show 12", "jarlid jobs show 12 --page report.html"},
	"jobs resume":    {"jarlid jobs resume"},
	"jobs prune":     {"jarlid jobs prune --older 90d"},
	"backup":         {"jarlid backup take -o kept"},
	"backup take":    {"jarlid backup take -o kept", "jarlid backup take boot@both storage -o kept"},
	"backup restore": {"jarlid backup restore boot@a -o kept"},
	"shelve":         {"jarlid shelve /vendor/overlay/WickerlightFrame"},
	"unshelve":       {"jarlid unshelve"},
	"demo":           {"jarlid demo", "jarlid demo --story tray"},
	"standin":        {"jarlid standin run dunlin --at practice/dunlin"},
	"standin run":    {"jarlid standin run dunlin --at practice/dunlin"},
	"standin press":  {`jarlid standin press dunlin "finish welcome" "debugging on"`},
	"standin draft":  {"jarlid standin draft firmware.zip --slots 2"},
	"standin fault":  {"jarlid standin fault dunlin drop --after 1048576"},
	"help":           {"jarlid help slots", "jarlid help recovery install"},
	"man":            {"jarlid man man1"},
	"completion":     {"jarlid completion bash"},
	"explain":        {"jarlid explain slot-empty", `jarlid explain "stuck at 47 percent"`},
}

// arguments say what the words behind a command are, where its usage line does not.
var arguments = map[string][][2]string{
	"go": {{"bootloader", "what the phone runs before anything else; takes images"},
		{"fastbootd", "userspace fastboot, which knows logical partitions"},
		{"recovery", "the small system that installs packages"},
		{"sideload", "the recovery, waiting for one package"},
		{"system", "the phone as it is used"},
		{"loader", "a maker's own loader, of phones without fastboot; reached by keys"}},
	"slot use": {{"a, b", "the slot of that name"}, {"other", "the one that does not start next now"}},
	"slot copy": {{"PARTITION", "radio, bootloader or others of the maker's firmware; without one, " +
		"all of it"}},
	"wipe":           areaRows(),
	"vbmeta loosen":  switchRows,
	"vbmeta tighten": switchRows,
	"standin press": {{"KEY", "a key (power, volume-down+power, volume-up+power, power-long), cable-out " +
		"or cable-in, charge, or an entry or answer on its screen; a wrong one names those there are"}},
	"standin fault": faultRows(),
	"completion":    {{"SHELL", "bash, zsh, fish or powershell"}},
}

var switchRows = [][2]string{{"hashtree", "the check of the system's blocks while it runs"},
	{"verification", "the check of all images at the start, which carries the other"}}

// placeholders say what an option takes, where its name does not.
var placeholders = map[string]string{
	"accept":         "NAME[=WHAT]",
	"on":             "PHONE",
	"card":           "FILE",
	"cards":          "FILE,...",
	"models":         "MODEL,...",
	"model":          "MODEL",
	"home":           "DIR",
	"at":             "DIR",
	"output":         "PATH",
	"wait":           "TIME",
	"page":           "FILE",
	"save":           "FILE",
	"slots":          "1|2",
	"recovery-in":    "PARTITION",
	"table":          "FILE",
	"file":           "NAME=PATH",
	"for":            "WHAT",
	"images":         "SET",
	"from":           "WHAT",
	"into":           "PARTITION@SLOT",
	"boot":           "FILE",
	"recovery-after": "FILE",
	"then":           "WHAT",
	"to":             "WHERE",
	"older":          "AGE",
	"code":           "CODE",
	"slot":           "SLOT",
	"max-memory":     "SIZE",
	"max-size":       "SIZE",
	"against":        "FILE",
	"signer":         "FILE",
	"keys-of":        "FILE",
	"over":           "FILE",
	"vendor":         "SET",
	"with":           "FILE,...",
	"without":        "NAME",
	"only":           "NAME",
	"story":          "NAME",
	"as":             "NAME",
	"serial":         "NUMBER",
	"fastboot":       "ADDRESS",
	"loader":         "ADDRESS",
	"adb":            "ADDRESS",
	"battery":        "PERCENT",
	"mode":           "MODE",
	"after":          "NUMBER",
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

// leastHelp is how wide it is where nothing says how wide the screen is.
const leastHelp = 80

// columns is how wide what is to be read at length is set.
func (a *app) columns() int {
	return min(cmp.Or(a.Columns, term.Columns(a.Stdout), leastHelp), mostHelp)
}

// help shows the help of a command, wrapped to the terminal.
func (a *app) help(c *cobra.Command) { a.tellHelp(func(p *helpPage) { commandHelp(p, c) }) }

// tellHelp shows what is written on a page.
func (a *app) tellHelp(write func(p *helpPage)) {
	p := &helpPage{width: a.columns()}
	write(p)
	text := p.out.String()
	if a.json || hasFlag(a.typed, "--json") {
		b, err := json.Marshal(struct {
			Event string `json:"event"`
			OK    bool   `json:"ok"`
			Exit  int    `json:"exit"`
			Help  string `json:"help"`
		}{"result", true, 0, text})
		if err == nil {
			text = string(term.ASCII(b)) + "\n"
		}
	}
	_, _ = io.WriteString(a.Stdout, text) // nobody is left to be told
	a.helped = true
}

// helpPage is text that is set to a width.
type helpPage struct {
	out   strings.Builder
	width int
}

func (p *helpPage) line(text string) { p.out.WriteString(strings.TrimRight(text, " ") + "\n") }

// para is a paragraph, each of its lines indented.
func (p *helpPage) para(indent, text string) {
	for _, line := range strings.Split(text, "\n") {
		for _, part := range term.Wrap(line, p.width-len(indent)) {
			p.line(indent + part)
		}
	}
}

// hang is a paragraph whose first line begins with a mark.
func (p *helpPage) hang(mark, text string) {
	for i, part := range term.Wrap(text, p.width-len(mark)) {
		if i > 0 {
			mark = strings.Repeat(" ", len(mark))
		}
		p.line(mark + part)
	}
}

// command is a line to type, with what it does behind it where that fits, else below.
func (p *helpPage) command(text string) {
	line, does, found := strings.Cut(text, "   ")
	does = strings.TrimSpace(does)
	if !found || len("  "+text) <= p.width {
		p.line("  " + text)
		return
	}
	p.line("  " + line)
	p.para("      ", does)
}

// two is rows of a name and what it is.
func (p *helpPage) two(rows [][2]string) {
	wide := 0
	for _, r := range rows {
		wide = max(wide, len(r[0]))
	}
	wide = min(wide, p.width/3)
	for _, r := range rows {
		head := fmt.Sprintf("  %-*s  ", wide, r[0])
		if len(r[0]) > wide {
			p.line("  " + r[0])
			head = strings.Repeat(" ", wide+4)
		}
		for i, part := range term.Wrap(r[1], p.width-wide-4) {
			if i > 0 {
				head = strings.Repeat(" ", wide+4)
			}
			p.line(head + part)
		}
	}
}

// pathOf is a command's name with those it belongs to, without the program's; "" for the program.
func pathOf(c *cobra.Command) string {
	return strings.TrimPrefix(strings.TrimPrefix(c.CommandPath(), "jarlid"), " ")
}

// commandHelp is a command's help.
func commandHelp(p *helpPage, c *cobra.Command) {
	c.InitDefaultHelpFlag()
	if c.Long != "" {
		p.para("", paragraphs(c.Long))
	} else {
		p.para("", c.Short+".")
	}
	p.line("\nUsage:")
	if c.Runnable() {
		p.para("  ", strings.Replace(c.UseLine(), "[flags]", "[options]", 1))
	}
	if c.HasAvailableSubCommands() {
		p.para("  ", c.CommandPath()+" COMMAND")
	}
	if list := examples[pathOf(c)]; len(list) > 0 {
		p.line("\nFor example:")
		for _, e := range list {
			p.para("  ", e)
		}
	}
	if what := arguments[pathOf(c)]; len(what) > 0 {
		p.line("")
		p.two(what)
	}
	switch {
	case !c.HasParent():
		for _, g := range groups {
			var rows [][2]string
			for _, name := range g.names {
				if i := slices.IndexFunc(c.Commands(), func(s *cobra.Command) bool {
					return s.Name() == name
				}); i >= 0 {
					rows = append(rows, [2]string{name, c.Commands()[i].Short})
				}
			}
			p.line("\n" + g.title + ":")
			p.two(rows)
		}
	case c.HasAvailableSubCommands():
		var rows [][2]string
		for _, s := range c.Commands() {
			if s.IsAvailableCommand() {
				rows = append(rows, [2]string{s.Name(), s.Short})
			}
		}
		p.line("\nCommands:")
		p.two(rows)
	}
	p.options("Options", c.LocalNonPersistentFlags())
	everywhere := c.InheritedFlags()
	if !c.HasParent() {
		everywhere = c.PersistentFlags()
	}
	p.options("Everywhere", everywhere)
	if c.HasAvailableSubCommands() {
		p.line("")
		p.para("", c.CommandPath()+" COMMAND --help tells each at length.")
	}
}

// options are rows of options and what they do.
func (p *helpPage) options(title string, flags *pflag.FlagSet) {
	var rows [][2]string
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if what := placeholder(f); what != "" {
			name += " " + what
		}
		usage := f.Usage
		if f.Name == "help" {
			usage = "this help"
		}
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" && f.DefValue != "0" &&
			!strings.Contains(usage, "default") {
			usage += " (default: " + shortTime(f.DefValue) + ")"
		}
		rows = append(rows, [2]string{name, usage})
	})
	if len(rows) > 0 {
		p.line("\n" + title + ":")
		p.two(rows)
	}
}

// paragraphs joins lines that were broken for the source's sake, and keeps empty ones.
func paragraphs(s string) string {
	var out []string
	for _, p := range strings.Split(s, "\n\n") {
		out = append(out, strings.ReplaceAll(p, "\n", " "))
	}
	return strings.Join(out, "\n\n")
}

// shortTime leaves out the parts of a duration that are zero: "20m" for "20m0s".
func shortTime(s string) string {
	for _, zero := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(s, zero) {
			s = s[:len(s)-2]
		}
	}
	return s
}
