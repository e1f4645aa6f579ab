package spell

import (
	"errors"
	"io"
	"reflect"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Strict reads YAML that a person writes into a value. A name that is none of the value's is an error, which
// names those that are like it; one in words of our own, as Error would say it. io.EOF says that there is
// none.
func Strict(r io.Reader, into any) error {
	d := yaml.NewDecoder(r)
	d.KnownFields(true)
	err := d.Decode(into)
	var wrong *yaml.TypeError
	if !errors.As(err, &wrong) {
		return err
	}
	names := map[string][]string{}
	fields(reflect.TypeOf(into), names)
	return errors.New(allTyped(wrong, names))
}

// fields adds the names that a type's structs have in YAML, by the name of each type.
func fields(t reflect.Type, all map[string][]string) {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Map, reflect.Array:
		fields(t.Elem(), all)
		return
	case reflect.Struct:
	default:
		return
	}
	if _, there := all[t.String()]; there {
		return
	}
	all[t.String()] = nil
	for i := range t.NumField() {
		f := t.Field(i)
		name, more, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		fields(f.Type, all)
		switch {
		case !f.IsExported() && !f.Anonymous || name == "-":
		case more == "inline":
			all[t.String()] = append(all[t.String()], all[f.Type.String()]...)
		case name == "":
			all[t.String()] = append(all[t.String()], strings.ToLower(f.Name))
		default:
			all[t.String()] = append(all[t.String()], name)
		}
	}
}
