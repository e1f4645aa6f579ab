package backup

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
)

const sum = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855" // of nothing

const good = `jarlid-backup: 1
model: dunlin
serial: WL-1
items:
    - {name: boot_a, file: boot_a.img, bytes: 4096, sha256: ` + sum + `}
    - {name: efs, file: efs.img, bytes: 4096, sha256: ` + sum + `}
    - {name: storage, file: storage, bytes: 0, files: [{path: a/b.txt, bytes: 0, sha256: ` + sum + `}]}
`

// TestParse: what leads out of the folder, or can't be, is refused.
func TestParse(t *testing.T) {
	if _, err := Parse([]byte(good)); err != nil {
		t.Fatalf("Parse([]byte(good)): %v", err)
	}
	for name, change := range map[string][2]string{
		"another form":       {"jarlid-backup: 1", "jarlid-backup: 2"},
		"a folder above":     {"file: boot_a.img", "file: ../boot_a.img"},
		"from the root":      {"file: boot_a.img", "file: /etc/passwd"},
		"another system's":   {"file: boot_a.img", `file: 'c:\x'`},
		"above, in storage":  {"path: a/b.txt", "path: a/../../b"},
		"a negative size":    {"bytes: 4096", "bytes: -1"},
		"a digest cut short": {sum, sum[:63]},
		"a name twice":       {"name: efs", "name: boot_a"},
		"not a manifest":     {good, "- 1\n- 2\n"},
	} {
		if _, err := Parse([]byte(strings.Replace(good, change[0], change[1], 1))); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
}

// TestCheck: another model, another phone, another size.
func TestCheck(t *testing.T) {
	m, err := Parse([]byte(good))
	if err != nil {
		t.Fatalf("Parse([]byte(good)): %v", err)
	}
	for _, c := range []struct{ word, model, serial, size, want string }{
		{"boot", "dunlin", "WL-1", "4096", ""},
		{"boot@a", "dunlin", "WL-1", "8192", "warn backup-differs"},
		{"boot", "godwit", "WL-1", "4096", "stop wrong-model"},
		{"boot", "dunlin", "WL-2", "4096", "warn other-phone"},
		{"efs", "dunlin", "WL-2", "4096", "stop other-phone"},
	} {
		p := &card.Card{}
		p.Learn(card.FactModel, c.model, card.Read)
		p.Learn(card.FactSerial, c.serial, card.Read)
		p.Learn(card.FactSize.Of(card.At("boot", "a")), c.size, card.Read)
		var got []string
		for _, f := range m.Check(p, m.Find(c.word)) {
			got = append(got, string(f.Severity)+" "+f.Name)
		}
		if s := strings.Join(got, ", "); s != c.want {
			t.Errorf("%s on %s %s: %q, want %q", c.word, c.model, c.serial, s, c.want)
		}
	}
	if len(m.Find("boot@b")) != 0 || len(m.Find("storage")) != 1 {
		t.Error("a word means something else")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Parse(b)
		if err != nil {
			return
		}
		for _, i := range m.Items {
			for _, file := range i.Files {
				if strings.HasPrefix(file.Path, "..") || strings.HasPrefix(file.Path, "/") {
					t.Errorf("%q leads out of the folder", file.Path)
				}
			}
		}
	})
}
