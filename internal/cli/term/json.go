package term

import (
	"bytes"
	"encoding/json"
	"fmt"
	"unicode/utf16"
	"unicode/utf8"
)

// Event writes one line of JSON: the fields of v behind the event's name. v is a struct, or
// nil. In text it writes nothing.
func (t *Term) Event(name, phone string, v any) {
	if !t.json {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.event(name, phone, v)
}

func (t *Term) event(name, phone string, v any) {
	head, err := json.Marshal(struct {
		Event string `json:"event"`
		Phone string `json:"phone,omitempty"`
	}{name, phone})
	body := []byte("{}")
	if err == nil && v != nil {
		body, err = json.Marshal(v)
	}
	if err != nil {
		fmt.Fprintf(t.w, "{\"event\":\"error\",\"error\":%q}\n", err.Error())
		return
	}
	fmt.Fprintf(t.w, "%s\n", ASCII(joined(head, body)))
}

// joined puts the fields of JSON objects into one.
func joined(objects ...[]byte) []byte {
	out := []byte("{")
	for _, o := range objects {
		inner := o[1 : len(o)-1]
		if len(inner) == 0 {
			continue
		}
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(out, inner...)
	}
	return append(out, '}')
}

// Result writes the last line of JSON: the command's typed result and how it ended.
func (t *Term) Result(result, ending any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	body, err := []byte("{}"), error(nil)
	if result != nil {
		body, err = json.Marshal(result)
	}
	end, eerr := json.Marshal(ending)
	if err != nil || eerr != nil || body[0] != '{' {
		t.event("result", "", ending)
		return
	}
	t.event("result", "", json.RawMessage(joined(end, body)))
}

// ASCII writes JSON with the letters of US-ASCII alone, the others escaped (RFC 8259, 7): it says the
// same, and no shell that reads another code page garbles it.
func ASCII(b []byte) []byte {
	if !bytes.ContainsFunc(b, func(r rune) bool { return r >= utf8.RuneSelf }) {
		return b
	}
	var out bytes.Buffer
	for _, r := range string(b) { // valid: it was marshalled
		switch high, low := utf16.EncodeRune(r); {
		case r < utf8.RuneSelf:
			out.WriteRune(r)
		case high != utf8.RuneError:
			fmt.Fprintf(&out, "\\u%04x\\u%04x", high, low)
		default:
			fmt.Fprintf(&out, "\\u%04x", r)
		}
	}
	return out.Bytes()
}
