package ident

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/spell"
)

// text tells texts, and among them files of digests and web pages, from bytes
// nothing is known about.
func (f *File) text(r io.ReaderAt, size int64, head []byte) {
	if size == 0 {
		f.Damage, f.Short = "the file is empty", true
		return
	}
	if !isText(head) && !bytes.HasPrefix(head, []byte{0xff, 0xfe}) && !bytes.HasPrefix(head,
		[]byte{0xfe, 0xff}) {
		return
	}
	if !isText([]byte(sums.Text(head))) {
		return
	}
	f.Kind = Text
	lower := bytes.ToLower(bytes.TrimSpace([]byte(sums.Text(head))))
	if bytes.HasPrefix(lower, []byte("<!doctype html")) || bytes.HasPrefix(lower, []byte("<html")) {
		f.Details["page"] = true
		f.Notes = append(f.Notes, "it is a web page, not an image: the download site answered with a page "+
			"instead of the file")
		return
	}
	if size > 1<<20 {
		return
	}
	b, err := image.ReadAt("text", r, size, 0, size)
	if err != nil {
		return
	}
	if table, err := parttable.Parse(b); err == nil && len(table) > 1 {
		f.Kind = LoaderTable
		f.Details["partitions"] = len(table)
		f.Notes = append(f.Notes, "a table says where everything lies on a phone; it is never written by "+
			"the way")
		return
	}
	if list := sums.Parse(sums.Text(b)); len(list) > 0 && 2*len(list) >= lines(b) {
		f.Kind = Sums
		f.Details["digests"] = len(list)
		f.Details["algorithm"] = list[0].Algorithm
	}
}

func lines(b []byte) (n int) {
	for l := range bytes.Lines(b) {
		if len(bytes.TrimSpace(l)) > 0 {
			n++
		}
	}
	return n
}

func isText(b []byte) bool {
	// A character may be cut at the end of what was read.
	for i := 0; i < 4 && len(b) > 0 && !utf8.Valid(b); i++ {
		b = b[:len(b)-1]
	}
	if len(b) == 0 || !utf8.Valid(b) {
		return false
	}
	return !bytes.ContainsFunc(b, func(r rune) bool {
		return r < ' ' && r != '\n' && r != '\r' && r != '\t' && r != '\f'
	})
}

// Page tells of a web page that was saved in place of a file.
func (f *File) Page() bool { return f.Details["page"] == true }

// What says what kind of file it is, with its article.
func (f *File) What() string {
	if f.Page() {
		return "a web page"
	}
	return f.Kind.Words()
}

// Words says in a few words what the file is: "a recovery for dunlin: boot
// image v2".
func (f *File) Words() string {
	s := f.What()
	if m := f.Models(); len(m) > 0 {
		s += " for " + strings.Join(m, " or ")
	}
	switch {
	case f.Boot != nil:
		s += fmt.Sprintf(": boot image v%d", f.Boot.HeaderVersion)
	case f.Payload != nil:
		kind := "full payload"
		if f.Payload.Delta() {
			kind = "delta payload"
		}
		s += fmt.Sprintf(": %s of %s", kind, spell.Counted(len(f.Payload.Partitions), "partition"))
	case len(f.Members) > 0 && f.Kind != Super && !(f.partial && f.inTar()):
		// of a tar's head nobody can tell
		s += ": " + f.counted()
	}
	if len(f.Wrapped) > 0 {
		s += ", wrapped as " + f.Wrapping()
	}
	return s
}

// Wrapping says what a file is wrapped in, as people do: "tar in gz".
func (f *File) Wrapping() string {
	list := slices.Clone(f.Wrapped)
	slices.Reverse(list)
	return strings.Join(list, " in ")
}

// counted says how many files an archive holds.
func (f *File) counted() string {
	return spell.Counted(max(f.Count, len(f.Members)), "file")
}

func (f *File) inTar() bool { return len(f.Wrapped) > 0 && f.Wrapped[len(f.Wrapped)-1] == "tar" }

// Lines says what else matters about the file, a line each.
func (f *File) Lines() []string {
	var l []string
	add := func(format string, args ...any) { l = append(l, fmt.Sprintf(format, args...)) }
	text := func(name string) string { s, _ := f.Details[name].(string); return s }
	if f.Inside > 0 {
		add("unwrapped it has %s", image.Size(f.Inside))
	}
	if b := f.Build(); b != "" {
		add("build: %s", b)
	}
	if f.Boot != nil {
		if v, patch := f.Boot.OS(); v != "" {
			add("made for system version %s, security patch level %s", v, patch)
		}
	}
	for _, d := range []struct{ name, words string }{{"kernel_version", "kernel"},
		{"release", "platform release"}, {"security_patch", "security patch level"},
		{"post_security_patch_level", "security patch level"},
		{"architecture", "processor"},
		{"kernel_architecture", "kernel for"},
		{"volume_name", "label"},
		{"algorithm_type", "signature"}, {"signer", "signed by"}, {"cmdline", "kernel command line"}} {
		if v := text(d.name); v != "" {
			add("%s: %s", d.words, v)
		}
	}
	if f.Wipes != "" {
		add("it erases all data when it is installed, as %s says", f.Wipes)
	}
	if f.Restores == "yes" {
		add("its system puts the maker's recovery back at each start")
	}
	if f.App != nil {
		s := f.App.Words()
		if f.App.MinSDK > 0 {
			s += fmt.Sprintf("; it wants API level %d at least", f.App.MinSDK)
		}
		add("%s", s)
	}
	if f.Ramdisk != nil {
		add("ramdisk: %s, compressed as %s", spell.Counted(f.Ramdisk.Files, "file"),
			orPlain(string(f.Ramdisk.Compression)))
	}
	if frags, ok := f.Details["vendor_ramdisk_table"].([]map[string]any); ok {
		for _, fr := range frags {
			name := ""
			if n := fmt.Sprint(fr["ramdisk_name"]); n != "" && n != fmt.Sprint(fr["ramdisk_type"]) {
				name = " " + n
			}
			add("ramdisk fragment%s: %v, %s", name, fr["ramdisk_type"],
				image.Size(fr["ramdisk_size"].(int64)))
		}
	}
	if avb, ok := f.Details["avb_footer"].(map[string]any); ok {
		add("verified boot footer: made for %v, %v, %v", avb["partition_name"], avb["descriptor"],
			avb["algorithm_type"])
		if k, ok := avb["public_key_sha256"].(string); ok {
			add("its key: SHA-256 %s", k)
		}
	}
	if names, ok := f.Details["partition_names"].([]string); ok && len(names) > 0 {
		add("speaks of: %s", strings.Join(names, ", "))
	}
	l = append(l, f.memberLines()...)
	return append(l, f.Notes...)
}

func orPlain(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

const shownMembers = 30

func (f *File) memberLines() []string {
	if f.Payload != nil || f.Kind == Super {
		var parts []string
		for _, m := range f.Members {
			parts = append(parts, m.Name+" "+image.Size(m.Size))
		}
		return []string{"partitions inside: " + strings.Join(parts, ", ")}
	}
	var l []string
	for i, m := range f.Members {
		if i == shownMembers {
			l = append(l, fmt.Sprintf("... and %d more", max(f.Count, len(f.Members))-i))
			break
		}
		s := fmt.Sprintf("inside: %s, %s", m.Name, image.Size(m.Size))
		if m.Kind != Unknown {
			s += ", " + m.Kind.Words()
		}
		if len(m.GoesTo) > 0 {
			s += ", goes to " + m.GoesTo[0].String()
		}
		l = append(l, s)
	}
	return l
}
