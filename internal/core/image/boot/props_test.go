package boot

import (
	"io/fs"
	"maps"
	"strings"
	"testing"
	"testing/fstest"
)

// TestReadProps: init's rules (system/core, init/README.md, "import" of
// property files), each with the value a phone would have.
func TestReadProps(t *testing.T) {
	files := fstest.MapFS{}
	for name, text := range map[string]string{
		"more.prop":    "a=2\nimport deep.prop\n",
		"deep.prop":    "deep=1\nro.x.one=1\nro.x.two=2\nro.y=3\nimport loop.prop\n",
		"loop.prop":    "import loop.prop\nlooped=1\n",
		"red/own.prop": "color=red\n",
	} {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	for _, c := range []struct{ name, text, want string }{
		{"no import", " a = 1 \r\n#b=2\nno line\nc=x=y\n", "a=1 c=x=y"},
		{"of two values the later one", "a=1\nimport /more.prop\n",
			"a=2 deep=1 ro.x.one=1 ro.x.two=2 ro.y=3 looped=1"},
		{"a value after the import", "import /more.prop\na=3\n",
			"a=3 deep=1 ro.x.one=1 ro.x.two=2 ro.y=3 looped=1"},
		{"a prefix alone", "import /deep.prop ro.x.*\n", "ro.x.one=1 ro.x.two=2"},
		{"one name alone", "import /deep.prop ro.x.one\n", "ro.x.one=1"},
		{"a name inserted", "kind=red\nimport /${kind}/own.prop\n", "kind=red color=red"},
		{"a default inserted", "import /${kind:-red}/own.prop\n", "color=red"},
		{"a name that only a phone knows", "import /${kind}/own.prop\nb=1\n", "b=1"},
		{"a file that is not there", "import /none.prop\nb=1\n", "b=1"},
	} {
		files["build.prop"] = &fstest.MapFile{Data: []byte(c.text)}
		got, err := ReadProps("/build.prop", func(name string) ([]byte, error) {
			return fs.ReadFile(files, strings.TrimPrefix(name, "/"))
		})
		want := map[string]string{}
		for _, pair := range strings.Fields(c.want) {
			k, v, _ := strings.Cut(pair, "=")
			want[k] = v
		}
		if err != nil || !maps.Equal(got, want) {
			t.Errorf("%s: ReadProps of %q gives %v, %v; want %v", c.name, c.text, got, err, want)
		}
	}
}
