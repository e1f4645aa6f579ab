// Package script reads the update scripts of packages as data: what they demand
// of a phone and what they do to it. Nothing is executed here.
//
// The language is published with the platform (bootable/recovery/edify and
// updater): expressions of strings, function calls and operators, separated by
// semicolons.
package script

import (
	"fmt"
	"strings"

	"jarlid/internal/core/image"
)

// Name is where a package keeps its script.
const Name = "META-INF/com/google/android/updater-script"

const (
	formatName = "update script"

	// MaxSize bounds a script, in bytes; the longest of full packages have some
	// hundred kilobytes.
	MaxSize = 4 << 20

	maxDepth = 100 // of nested expressions
)

// Node is an expression: a string, a call, or an operator with its operands as
// arguments.
type Node struct {
	Op   string // "string", "call", "==", "!=", "&&", "||", "+", "!", ";", "if"
	Text string // the string, or the name of the function
	Args []*Node
	At   int // offset in the script, in bytes
}

// Parse reads a whole script. Errors are *image.Error with the offset.
func Parse(text string) (*Node, error) {
	if len(text) > MaxSize {
		return nil, image.Errorf(formatName, 0, "%d bytes are too many for a script", len(text))
	}
	p := &parser{s: text}
	n, err := p.list(0, "")
	if err != nil {
		return nil, err
	}
	if p.skip(); p.at < len(p.s) {
		return nil, p.errorf("%q is not expected here", p.rest())
	}
	return n, nil
}

type parser struct {
	s  string
	at int
}

func (p *parser) errorf(format string, args ...any) error {
	return image.Errorf(formatName, int64(p.at), format, args...)
}

func (p *parser) rest() string { return p.s[p.at:min(len(p.s), p.at+20)] }

// skip goes past blanks and comments.
func (p *parser) skip() {
	for p.at < len(p.s) {
		switch c := p.s[p.at]; {
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			p.at++
		case c == '#':
			n := strings.IndexByte(p.s[p.at:], '\n')
			if n < 0 {
				n = len(p.s) - p.at
			}
			p.at += n
		default:
			return
		}
	}
}

// take goes past a token when it stands here.
func (p *parser) take(token string) bool {
	p.skip()
	if !strings.HasPrefix(p.s[p.at:], token) {
		return false
	}
	p.at += len(token)
	return true
}

// word takes a keyword of its own.
func (p *parser) word(w string) bool {
	p.skip()
	end := p.at + len(w)
	if !strings.HasPrefix(p.s[p.at:], w) || end < len(p.s) && bare(p.s[end]) {
		return false
	}
	p.at = end
	return true
}

func bare(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
		strings.IndexByte("_:/.", c) >= 0
}

// list reads expressions separated by semicolons.
func (p *parser) list(depth int, until ...string) (*Node, error) {
	n := &Node{Op: ";", At: p.at}
	for {
		p.skip()
		if p.at >= len(p.s) || p.s[p.at] == ')' || p.ends(until) {
			break
		}
		e, err := p.binary(depth+1, 0)
		if err != nil {
			return nil, err
		}
		n.Args = append(n.Args, e)
		if !p.take(";") {
			break
		}
	}
	if len(n.Args) == 1 {
		return n.Args[0], nil
	}
	return n, nil
}

// ends reports whether one of the keywords that close a list stands here.
func (p *parser) ends(until []string) bool {
	for _, w := range until {
		at := p.at
		if w != "" && p.word(w) {
			p.at = at
			return true
		}
	}
	return false
}

// The operators by their binding, the loosest first (edify's parser.yy).
var levels = [][]string{{"||"}, {"&&"}, {"==", "!="}, {"+"}}

func (p *parser) binary(depth, level int) (*Node, error) {
	if depth > maxDepth {
		return nil, p.errorf("expressions are nested more than %d deep", maxDepth)
	}
	if level == len(levels) {
		return p.unary(depth)
	}
	left, err := p.binary(depth, level+1)
	if err != nil {
		return nil, err
	}
	for {
		op := ""
		for _, o := range levels[level] {
			if p.take(o) {
				op = o
				break
			}
		}
		if op == "" {
			return left, nil
		}
		right, err := p.binary(depth+1, level+1)
		if err != nil {
			return nil, err
		}
		left = &Node{Op: op, Args: []*Node{left, right}, At: left.At}
	}
}

func (p *parser) unary(depth int) (*Node, error) {
	p.skip()
	at := p.at
	if depth > maxDepth {
		return nil, p.errorf("expressions are nested more than %d deep", maxDepth)
	}
	switch {
	case p.at >= len(p.s):
		return nil, &image.Error{Format: formatName, Offset: int64(at),
			What: "it ends in the middle of an expression", Short: true}
	case p.s[p.at] == '!' && !strings.HasPrefix(p.s[p.at:], "!="):
		p.at++
		n, err := p.unary(depth + 1)
		return &Node{Op: "!", Args: []*Node{n}, At: at}, err
	case p.take("("):
		n, err := p.list(depth + 1)
		if err == nil && !p.take(")") {
			err = p.errorf("a bracket is not closed")
		}
		return n, err
	case p.s[p.at] == '"':
		s, err := p.quoted()
		return &Node{Op: "string", Text: s, At: at}, err
	case p.word("if"):
		return p.condition(depth, at)
	}
	for p.at < len(p.s) && bare(p.s[p.at]) {
		p.at++
	}
	name := p.s[at:p.at]
	if name == "" {
		return nil, p.errorf("%q is not expected here", p.rest())
	}
	if !p.take("(") {
		return &Node{Op: "string", Text: name, At: at}, nil // bare words are strings
	}
	n := &Node{Op: "call", Text: name, At: at}
	for !p.take(")") {
		arg, err := p.list(depth + 1)
		if err != nil {
			return nil, err
		}
		n.Args = append(n.Args, arg)
		if !p.take(",") {
			if !p.take(")") {
				return nil, p.errorf("the call of %s is not closed", name)
			}
			break
		}
	}
	return n, nil
}

// condition reads if A then B [else C] endif.
func (p *parser) condition(depth, at int) (*Node, error) {
	n := &Node{Op: "if", At: at}
	for _, end := range []string{"then", "else", "endif"} {
		e, err := p.list(depth+1, "then", "else", "endif")
		if err != nil {
			return nil, err
		}
		n.Args = append(n.Args, e)
		switch {
		case end == "then" && !p.word("then"):
			return nil, p.errorf("an \"if\" has no \"then\"")
		case end == "then":
		case p.word("endif"):
			return n, nil
		case end == "endif" || !p.word("else"):
			return nil, p.errorf("an \"if\" has no \"endif\"")
		}
	}
	return n, nil
}

// quoted reads a string with the escapes \n \t \" \\ \xHH.
func (p *parser) quoted() (string, error) {
	var b strings.Builder
	for i := p.at + 1; i < len(p.s); i++ {
		switch c := p.s[i]; {
		case c == '"':
			p.at = i + 1
			return b.String(), nil
		case c == '\\' && i+1 < len(p.s):
			i++
			switch p.s[i] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case 'x':
				var v byte
				if i+2 >= len(p.s) {
					return "", p.errorf("a string is not closed")
				}
				if _, err := fmt.Sscanf(p.s[i+1:i+3], "%02x", &v); err != nil {
					return "", p.errorf("\\x%s is no byte", p.s[i+1:i+3])
				}
				b.WriteByte(v)
				i += 2
			default:
				b.WriteByte(p.s[i])
			}
		default:
			b.WriteByte(c)
		}
	}
	return "", &image.Error{Format: formatName, Offset: int64(p.at), What: "a string is not closed",
		Short: true}
}

// Walk calls f for every node, outer ones first; f says whether to go in.
func (n *Node) Walk(f func(*Node) bool) {
	if n == nil || !f(n) {
		return
	}
	for _, a := range n.Args {
		a.Walk(f)
	}
}
