package cli

import (
	"bytes"
	_ "embed"
	"html/template"
	"strings"
	"sync"
	"time"

	"jarlid/internal/core/fit"
	"jarlid/internal/core/image"
	"jarlid/internal/core/spell"
)

//go:embed fitpage.html
var pageText string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(pageText))
})

// pageCheck is a row of the page; those that are not good say why.
type pageCheck struct {
	fit.Check
	Loud bool
}

type pageVerdict struct {
	Verdict, Sentence string
	Checks            []pageCheck
	Todo              []string
}

type pageSegment struct {
	Class, Title, Text string
	X, Y, W, TX, TY    float64
}

type pageNote struct {
	X, Y float64
	Text string
}

type pageBar struct {
	Label, Note string
	LabelY      float64
	Segments    []pageSegment
	Legend      []pageNote
}

type pageData struct {
	Image                                *fit.Image
	Phone, Size, Made, TodoTitle, NoTodo string
	RoomTitle                            string
	Verdict                              pageVerdict
	Bars                                 []pageBar
	Height                               int
}

// page makes the answer as one page that needs nothing else.
func page(q fit.Question, v *fit.Verdict, phone string) ([]byte, error) {
	d := pageData{Image: q.Image, Phone: orUnnamed(phone), Size: image.Size(q.Image.Size),
		Made:      time.Now().Format("2006-01-02 15:04"),
		TodoTitle: "To do, in this order",
		NoTodo:    "Nothing: it would not run.",
		RoomTitle: "Room for the system",
		Verdict:   pageVerdict{Verdict: v.Verdict, Sentence: v.Sentence, Todo: v.Todo}}
	if v.Verdict == fit.CannotTell {
		d.TodoTitle = "To find out"
	}
	for _, k := range v.Checks {
		d.Verdict.Checks = append(d.Verdict.Checks,
			pageCheck{k, k.Outcome != fit.Good && k.Outcome != fit.Note})
	}
	if before, after, known := q.Bars(); known {
		if before.Super {
			d.RoomTitle = "Room in super for this slot"
		}
		y := 0.0
		for _, b := range []struct {
			label string
			bar   fit.Bar
		}{{"before", before}, {"after", after}} {
			made, height := drawBar(b.label, b.bar, y)
			d.Bars = append(d.Bars, made)
			y += height
		}
		d.Height = int(y)
	}
	var out bytes.Buffer
	err := pageTemplate().Execute(&out, d)
	return spell.Printable(out.Bytes()), err
}

func orUnnamed(phone string) string {
	if phone == "" {
		return "a phone known by its firmware"
	}
	return phone
}

// drawBar draws one bar at a height and gives how much height it took.
func drawBar(label string, b fit.Bar, y float64) (pageBar, float64) {
	const width, tall, line = 400.0, 26.0, 15.0
	out := pageBar{Label: label, Note: image.Size(b.Total) + " in all", LabelY: y + 12}
	if b.Over > 0 {
		out.Note += ", " + image.Size(b.Over) + " too little"
	}
	total := float64(max(b.Total+b.Over, 1))
	x, top := 0.0, y+18
	var small []string
	for _, s := range b.Segments {
		w := float64(s.Size) / total * width
		if s.Size == 0 {
			continue
		}
		name := s.Name
		class := "part"
		switch {
		case s.New:
			class = "new"
		case name == "":
			name, class = "free", "free"
		}
		g := pageSegment{Class: class, Title: name + ", " + image.Size(s.Size), X: x, Y: top, W: w,
			TX: x + w/2, TY: top + 17}
		// Letters of this size are some 7 units wide.
		if text := name + " " + image.Size(s.Size); float64(len(text))*7 < w {
			g.Text = text
		} else {
			if float64(len(name))*7 < w {
				g.Text = name
			}
			small = append(small, name+" "+image.Size(s.Size))
		}
		out.Segments = append(out.Segments, g)
		x += w
	}
	height := 18 + tall + 10
	if len(small) > 0 {
		out.Legend = append(out.Legend, pageNote{0, top + tall + line - 2, strings.Join(small, " · ")})
		height += line
	}
	return out, height
}
