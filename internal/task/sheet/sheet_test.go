package sheet

import (
	"errors"
	"flag"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/task"
)

var update = flag.Bool("update", false, "write the schema anew")

// head is a sheet up to its tasks: six lines.
const head = `sheet: 1
name: A test
files:
  rom: rom.zip
  set: {path: sub/set.zip, size: 7, sha256: 00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff}
tasks:
`

// TestBadSheets: everything that is wrong is named with line and column, and nothing is read as
// something else.
func TestBadSheets(t *testing.T) {
	bomb := "sheet: 1\nname: &a [x,x,x,x,x,x,x,x,x]\nfiles: {}\ntasks: [*a]\n"
	for _, c := range []struct{ text, want string }{
		{"", "line 1, column 1: it is empty"},
		{"# nothing\n", "it is empty"},
		{"just words\n", "line 1, column 1: a sheet is a mapping, and there is \"just words\""},
		{"name: x\ntasks: [recovery hold]\n", "line 1, column 1: it does not say that it is a sheet"},
		{"sheet: 2\ntasks: [recovery hold]\n", "line 1, column 8: it is of form 2"},
		{"sheet: one\ntasks: [recovery hold]\n", "line 1, column 8: sheet, the version of its form, is " +
			"a number"},
		{"sheet: 1\n", "a sheet has a list of tasks"},
		{"sheet: 1\ntasks: []\n", "line 2, column 8: a sheet has a list of tasks"},
		{"sheet: 1\ntasks:\n  - go: recovery\n  tasks: x\n", "can't be read as YAML"},
		{"sheet: 1\nsheet: 1\ntasks: [recovery hold]\n", "line 2, column 1: \"sheet\" is there twice"},
		{head + "- fly: away\n", `line 7, column 3: a task has no key "fly"`},
		{head + "- flsh: rom\n", `did you mean flash?`},
		{head + "- go: recovery\n  wipe: userdata\n",
			"line 8, column 3: a task is one command, and this is go and wipe"},
		{head + "- note: nothing\n", "line 7, column 3: a task names its command"},
		{head + "- go: moon\n", `line 7, column 7: "moon" is not a mode`},
		{head + "- go: {mode: recovery, wait: soon}\n", "line 7, column 30: wait is a time like 90s"},
		{head + "- flash: {files: rom, force: true}\n", `line 7, column 23: flash has no key "force"`},
		{head + "- put: {files: rom, to: storage, install: perhaps}\n",
			"line 7, column 43: install is true or false"},
		{head + "- flash: nothing-of-the-kind\n",
			`line 7, column 10: "nothing-of-the-kind" is none of the sheet's files`},
		{head + "- flash: rmo\n", "did you mean rom?"},
		{head + "- flash: ${rom}\n", "a file's name is written out"},
		{head + "- sideload: {packages: {a: b}}\n", "line 7, column 24: packages is a list, and there is a " +
			"mapping"},
		{head + "- wipe: []\n", "line 7, column 9: areas is an empty list"},
		{head + "- recovery hold: now\n", `line 7, column 18: recovery hold takes no word`},
		{head + "- unlock: {code: 12345}\n", "code is not kept in a sheet"},
		{head + "- backup take: {output: /etc}\n", "line 7, column 25: /etc is no path beside the sheet"},
		{head + "- backup take: {output: a/../../b}\n", "leads out of the sheet's folder"},
		{head + "- go: recovery\n  when: {colour: blue}\n", `line 8, column 10: when has no key "colour"`},
		{head + "- go: recovery\n  when: [slots]\n",
			"line 8, column 9: when is a mapping, and there is a list"},
		{head + "- go: recovery\n  accept: [{finding: no-such-thing, because: x}]\n",
			`there is no finding called "no-such-thing"`},
		{head + "- go: recovery\n  accept: [{finding: wrong-model}]\n",
			"an entry of accept names the finding, and because"},
		{"sheet: 1\nfiles: {x: ../x.img}\ntasks: [{flash: x}]\n", "line 2, column 12: ../x.img leads out"},
		{"sheet: 1\nfiles: {x: 'C:\\x.img'}\ntasks: [{flash: x}]\n", "is no path beside the sheet"},
		{"sheet: 1\nfiles: {x: '..\\x.img'}\ntasks: [{flash: x}]\n", "leads out"},
		{"sheet: 1\nfiles: {x: {path: x.img, size: -1}}\ntasks: [{flash: x}]\n", "size is a number from 0"},
		{"sheet: 1\nfiles: {x: {path: x.img, sha256: abc}}\ntasks: [{flash: x}]\n", "64 hexadecimal digits"},
		{"sheet: 1\nfiles: {x: {path: x.img, colour: red}}\ntasks: [{flash: x}]\n",
			`a file has no key "colour"`},
		{"sheet: 1\nfiles: {x y: x.img}\ntasks: [recovery hold]\n", "is no short name"},
		{"sheet: 1\nconditions: {battery: 101}\ntasks: [recovery hold]\n",
			"line 2, column 23: battery is a number from 0 to 100"},
		{"sheet: 1\nconditions: {free: {storage: 2 parsecs}}\ntasks: [recovery hold]\n",
			"free room is a number of bytes"},
		{"sheet: 1\nconditions: {slot: c}\ntasks: [recovery hold]\n", "slot is a or b"},
		{bomb, "line 2, column 7: a sheet has no anchors (&a)"},
		{"sheet: 1\ntasks: &t [*t]\n", "a sheet has no anchors"},
		{"sheet: 1\ntasks: [recovery hold]\n<<: {name: x}\n", "a sheet has no merge keys"},
		{"sheet: 1\ntasks: [!!binary aGk=]\n", "a sheet has no tags"},
		{"sheet: 1\ntasks: [recovery hold]\n---\nsheet: 1\n", "there is a second document"},
		{"sheet: 1\ntasks: " + strings.Repeat("[", 50) + strings.Repeat("]", 50) + "\n",
			"deeper in one another"},
		{"sheet: 1\n? [a]\n: b\n", "a key is a word"},
		{"sheet: 1\ntasks: [" + strings.Repeat("recovery hold,", maxTasks+1) + "]\n", "at most 500 tasks"},
		{strings.Repeat("#", maxSize+1), "a sheet has at most"},
		{"sheet: 1\ntasks: [\"\x00\"]\n", "can't be read as YAML"},
	} {
		_, err := parse([]byte(c.text), "test.yaml")
		var bad *FormError
		if !errors.As(err, &bad) {
			t.Errorf("%.60q is taken", c.text)
			continue
		}
		if !strings.Contains(err.Error(), c.want) || !strings.HasPrefix(err.Error(), "test.yaml, line ") {
			t.Errorf("%.60q: %v, and it should say %q", c.text, err, c.want)
		}
	}
}

// TestTasks: each command is made as it is typed, and typed as it is made.
func TestTasks(t *testing.T) {
	text := head + `- recovery install: {file: rom, into: recovery@both}
- sideload: {packages: [rom, set], recovery-after: rom}
- go: recovery
- go: {mode: system, wait: 90s}
- wipe: [userdata, caches]
- put: {files: rom, to: sd, install: yes}
- vbmeta loosen: hashtree
- vbmeta tighten: {flag: hashtree, slot: a}
- unshelve
- shelve: [/vendor/overlay/X]
- backup take: {items: [boot, storage], output: "kept-${name}"}
- unlock: {code: "${code}"}
- relock: {images: set}
- arrive
- slot use: other
- flash: {files: set, without: [radio, dtbo]}
`
	s, err := parse([]byte(text), "x.yaml")
	if err != nil {
		t.Fatalf("Parse([]byte(text), 'x.yaml'): %v", err)
	}
	paths := map[string]string{"rom": "/files/rom.zip", "set": "/files/sub/set.zip"}
	vars := map[string]string{"name": "d1", "code": "4711"}
	var got []string
	for i := range s.Tasks {
		m, err := s.Tasks[i].Make(paths, vars, func(w string) string { return "/out/" + w })
		if err != nil {
			t.Fatalf("s.Tasks[i].Make(paths, vars, ...): %v", err)
		}
		got = append(got, strings.Join(m.Words, " "))
		back, err := fromWords(m.Words)
		if err != nil || !slices.Equal(back.Words, m.Words) {
			t.Errorf("%v comes back as %v, %v", m.Words, back, err)
		}
		switch v := m.Task.(type) {
		case *task.Unlock:
			if v.Code != "4711" || strings.Contains(strings.Join(m.Words, " "), "4711") {
				t.Errorf("the code is %q, the words %v", v.Code, m.Words)
			}
		case *task.Go:
			if v.Mode == card.System && v.Wait != 90*time.Second || v.Mode == card.Recovery &&
				v.Wait != time.Minute {
				t.Errorf("FromWords(m.Words): %+v", v)
			}
		case *task.Flags:
			if v.Off != strings.HasPrefix(got[len(got)-1], "vbmeta loosen") {
				t.Errorf("FromWords(m.Words): %+v; unwanted: v.Off != strings.HasPrefix(got[len(got)-1], "+
					"'vbmeta loosen')", v)
			}
		}
	}
	want := []string{"recovery install /files/rom.zip --into recovery@both",
		"sideload /files/rom.zip /files/sub/set.zip --recovery-after /files/rom.zip", "go recovery",
		"go system --wait 90s",
		"wipe userdata caches", "put /files/rom.zip --to sd --install", "vbmeta loosen hashtree",
		"vbmeta tighten hashtree --slot a", "unshelve", "shelve /vendor/overlay/X",
		"backup take boot storage --output /out/kept-d1", "unlock", "relock --images /files/sub/set.zip",
		"arrive", "slot use other", "flash /files/sub/set.zip --without radio --without dtbo"}
	if !slices.Equal(got, want) {
		t.Errorf("the tasks as typed are\n%q\nwant\n%q", got, want)
	}
	if _, err := s.Tasks[11].Make(paths, nil, nil); err == nil || !strings.Contains(err.Error(), "line 18") ||
		!strings.Contains(err.Error(), "${code}") {
		t.Errorf("without a table: %v", err)
	}
}

// TestWhen: what is known decides, a list is any of its values, and what is not known is said.
func TestWhen(t *testing.T) {
	all, err := model.Load(nil)
	if err != nil {
		t.Fatalf("model.Load(): %v", err)
	}
	for _, c := range []struct {
		when  string
		model string
		yes   bool
		open  int
	}{
		{"{slots: 2}", "dunlin", true, 0},
		{"{slots: 2}", "turnstone", false, 0},
		{"{slots: [1, 2]}", "turnstone", true, 0},
		{"{recovery: [boot, vendor_boot]}", "godwit", true, 0},
		{"{recovery: [boot, vendor_boot]}", "sanderling", false, 0},
		{"{treble: false}", "turnstone", true, 0},
		{"{treble: yes, super: yes}", "avocet", true, 0},
		{"{super: yes}", "dunlin", false, 0},
		{"{model: WL-DU}", "dunlin", true, 0},
		{"{model: [godwit, avocet]}", "dunlin", false, 0},
		{"{cpu: arm64-v8a, vndk: 30}", "godwit", true, 0},
		{"{slots: 2, vndk: 29}", "", true, 2},
	} {
		s, err := parse([]byte(head+"- recovery hold: {}\n  when: "+c.when+"\n"), "x.yaml")
		if err != nil {
			t.Fatalf("Parse(..., 'x.yaml'): %v", err)
		}
		facts := &card.Card{}
		m := all.Find(c.model)
		m.Learn(facts)
		yes, unknown := s.Tasks[0].fits(facts, m, all)
		if yes != c.yes || len(unknown) != c.open {
			t.Errorf("%s on %s: %v, %v", c.when, c.model, yes, unknown)
		}
	}
}

// TestTable: a line belongs to a phone by its name or its serial number; what can't be told is
// said with its line.
func TestTable(t *testing.T) {
	dir := t.TempDir()
	write := func(text string) string {
		path := filepath.Join(dir, "t.csv")
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatalf("os.WriteFile(%v, []byte(text), 0o644): %v", path, err)
		}
		return path
	}
	for _, text := range []string{"name,code\nd1,11\nd2,22\n", "\ufeffserial;Code\nS1;11\r\nS2;22\n"} {
		rows, err := readTable(write(text))
		if err != nil {
			t.Fatalf("readTable(write(text)): %v", err)
		}
		o := &Opened{Sheet: &Sheet{}, Rows: rows}
		if v := o.vars("d2", "S2", "dunlin"); v["code"] != "22" || v["name"] != "d2" || v["serial"] != "S2" ||
			v["model"] != "dunlin" {
			t.Errorf("readTable(write(text)): %q: %v", text, v)
		}
		if v := o.vars("d3", "S3", ""); v["code"] != "" {
			t.Errorf("a phone of no line has %v", v)
		}
	}
	for text, want := range map[string]string{"": "is empty",
		"code\n11\n":              "no column is called name or serial",
		"name,code\nd1\n":         "line 2: it has another number of columns",
		"name,name\na,b\n":        "column 2",
		"name,code\nd1,1\nd1,2\n": "line 3: name d1 has a line already", "name,code\n\"d1,1\n": "quotes"} {
		if _, err := readTable(write(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, and it should say %q", text, err, want)
		}
	}
}

// TestLinksLeadOut: a sheet reads no file outside its folder, by no link either, unless it is
// named on the command line.
func TestLinksLeadOut(t *testing.T) {
	dir := t.TempDir()
	inside := filepath.Join(dir, "in")
	if err := os.MkdirAll(inside, 0o755); err != nil {
		t.Fatalf("os.MkdirAll(inside, 0o755): %v", err)
	}
	secret := filepath.Join(dir, "secret.zip")
	if err := os.WriteFile(secret, []byte("x"), 0o644); err != nil {
		t.Fatalf("os.WriteFile(secret, []byte('x'), 0o644): %v", err)
	}
	if err := os.Symlink(secret, filepath.Join(inside, "rom.zip")); err != nil {
		t.Skip("this computer makes no links")
	}
	if out, err := leadsOut(inside, filepath.Join(inside, "rom.zip")); err != nil || !out {
		t.Errorf("a link out of the folder: %v, %v", out, err)
	}
	if err := os.WriteFile(filepath.Join(inside, "own.zip"), nil, 0o644); err != nil {
		t.Fatalf("os.WriteFile(filepath.Join(inside, 'own.zip'), 0o644): %v", err)
	}
	if out, err := leadsOut(inside, filepath.Join(inside, "own.zip")); err != nil || out {
		t.Errorf("a file of the folder: %v, %v", out, err)
	}
	o := &Opened{Path: filepath.Join(inside, "s.yaml")}
	for _, w := range []string{"../../x", `..\x`, "/etc/x", "a/../../b"} {
		if rel, err := filepath.Rel(inside, o.output(w)); err != nil || !filepath.IsLocal(rel) {
			t.Errorf("%q leads to %s", w, o.output(w))
		}
	}
}

// TestSchema: the schema that is in docs is the one of these tables.
func TestSchema(t *testing.T) {
	const path = "../../../docs/sheet.schema.json"
	want, err := schema()
	if err != nil {
		t.Fatalf("Schema(): %v", err)
	}
	if *update {
		if err := os.WriteFile(path, want, 0o644); err != nil {
			t.Fatalf("os.WriteFile(%v, want, 0o644): %v", path, err)
		}
	}
	got, err := os.ReadFile(path)
	if err != nil || string(got) != string(want) {
		t.Errorf("docs/sheet.schema.json is not what the tables say (%v); go test ./internal/task/sheet "+
			"-update writes it", err)
	}
	for _, name := range Commands() {
		if !strings.Contains(string(got), `"`+name+`"`) {
			t.Errorf("the schema lacks %s", name)
		}
	}
}

// TestWorst: of several phones the first of 1, 7, 5, 4, 3 that occurred.
func TestWorst(t *testing.T) {
	for _, c := range []struct {
		codes []int
		want  int
	}{
		{[]int{0, 0}, 0},
		{[]int{3, 0}, 3},
		{[]int{3, 4}, 4},
		{[]int{4, 5, 3}, 5},
		{[]int{5, 7}, 7},
		{[]int{7, 1, 5}, 1},
		{nil, 0},
	} {
		if got := task.Worst(c.codes); got != c.want {
			t.Errorf("%v: %d, want %d", c.codes, got, c.want)
		}
	}
}

// FuzzParse: whatever a file holds, it is a sheet or a *FormError that names a line; a sheet's
// tasks can all be made and typed.
func FuzzParse(f *testing.F) {
	f.Add([]byte(head + "- recovery install: rom\n  when: {slots: 2}\n  accept: [{finding: wrong-model, " +
		"because: x}]\n"))
	f.Add([]byte("sheet: 1\ntasks: [{go: {mode: system, wait: 1s}}, unshelve]\n"))
	f.Add([]byte("a: &a [*a]\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := parse(b, "f.yaml")
		var bad *FormError
		if err != nil {
			if !errors.As(err, &bad) || len(bad.Problems) == 0 || bad.Problems[0].Line < 1 {
				t.Fatalf("Parse(b, 'f.yaml'): %v", err)
			}
			return
		}
		for i := range s.Tasks {
			s.Tasks[i].Typed()
			if m, err := s.Tasks[i].Make(map[string]string{}, nil, func(w string) string {
				return w
			}); err == nil && m.Task == nil {
				t.Fatal("a task without a value")
			}
		}
	})
}
