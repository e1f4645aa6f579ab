package sheet

import (
	"encoding/json"
	"reflect"

	"jarlid/internal/core/card"
)

type m = map[string]any

var (
	text  = m{"type": "string"}
	texts = m{"anyOf": []any{text, m{"type": "array", "items": text, "minItems": 1}}}
	value = m{"type": []string{"string", "number", "boolean"}}
)

// schema is the form of sheets as a JSON schema (draft 2020-12, json-schema.org), for editors. It
// is made from the same tables as sheets are read with.
func schema() ([]byte, error) {
	accept := m{"type": "array", "items": m{
		"type":                 "object",
		"additionalProperties": false,
		"required":             []string{"finding", "because"},
		"properties":           m{"finding": text, "because": text},
	}}
	tasks, one, bare := taskSchemas(accept)
	size := m{"anyOf": []any{m{"type": "integer", "minimum": 0},
		m{"type": "string", "pattern": `^[0-9]+ ?(KiB|MiB|GiB)?$`}}}
	s := m{
		"$schema":              "https://json-schema.org/draft/2020-12/schema",
		"title":                "Jar Lid: a sheet",
		"type":                 "object",
		"additionalProperties": false,
		"required":             []string{"sheet", "tasks"},
		"properties": m{
			"sheet":  m{"type": "integer", "minimum": 1, "maximum": Form},
			"name":   text,
			"models": texts,
			"ask":    texts,
			"open":   texts,
			"accept": accept,
			"conditions": m{"type": "object", "additionalProperties": false,
				"properties": m{"unlocked": m{"type": "boolean"},
					"battery": m{"type": "integer", "minimum": 0, "maximum": 100}, "base": value,
					"slot": m{"enum": []string{"a", "b"}},
					"free": m{
						"type":                 "object",
						"additionalProperties": false,
						"properties":           m{"storage": size, "sd": size},
					}}},
			"hands": m{"type": "array", "items": m{
				"type":                 "object",
				"additionalProperties": false,
				"properties":           m{"who": text, "for": text},
			}},
			"files": m{"type": "object",
				"additionalProperties": m{
					"anyOf": []any{text, m{"type": "object", "additionalProperties": false,
						"required": []string{"path"},
						"properties": m{
							"path":   text,
							"size":   m{"type": "integer", "minimum": 0},
							"sha256": m{"type": "string", "pattern": "^[0-9a-fA-F]{64}$"},
							"is":     text,
						}}}}},
			"tasks": m{
				"type":     "array",
				"minItems": 1,
				"maxItems": maxTasks,
				"items": m{"anyOf": []any{m{"enum": bare}, m{
					"type":                 "object",
					"additionalProperties": false,
					"properties":           tasks,
					"oneOf":                one,
				}}},
			},
		},
	}
	b, err := json.MarshalIndent(s, "", "  ")
	return append(b, '\n'), err
}

// taskSchemas are what a task may hold: all its keys, of which one is a command, and the commands that may
// stand alone.
func taskSchemas(accept m) (tasks m, one []any, bare []string) {
	when := m{}
	for _, w := range whenNames() {
		when[w] = m{"anyOf": []any{value, m{"type": "array", "items": value}}}
	}
	kind := func(o option) any {
		switch {
		case o.kind == reflect.TypeFor[card.Mode]():
			return m{"enum": card.Modes}
		case o.kind.Kind() == reflect.Slice:
			return texts
		case o.kind.Kind() == reflect.Bool:
			return m{"type": "boolean"}
		case o.kind == durationType:
			return m{"type": "string", "pattern": `^[0-9.]+(ns|us|ms|s|m|h)`}
		}
		return text
	}
	tasks = m{
		"when":   m{"type": "object", "additionalProperties": false, "properties": when},
		"note":   text,
		"accept": accept,
	}
	for _, name := range Commands() {
		props := m{}
		forms := []any{}
		for _, o := range optionsOf(name) {
			props[o.name] = kind(o)
			if o.name == commands[name].word {
				forms = append(forms, kind(o))
			}
		}
		forms = append(forms, m{"type": "object", "additionalProperties": false, "properties": props},
			m{"type": "null"})
		tasks[name] = m{"anyOf": forms}
		one = append(one, m{"required": []string{name}})
		bare = append(bare, name)
	}
	return tasks, one, bare
}
