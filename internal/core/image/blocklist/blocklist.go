// Package blocklist reads block-list packages' transfer lists, versions 1 to
// 4: which blocks of a partition a .dat file's bytes go to.
//
// The lists are published with the platform's releasetools (blockimgdiff.py)
// and its updater's block image functions.
package blocklist

import (
	"bufio"
	"fmt"
	"io"
	"strconv"
	"strings"

	"jarlid/internal/core/image"
)

const (
	formatName = "transfer list"

	// BlockSize is the unit of the lists in bytes.
	BlockSize = 4096

	maxLine   = 16 << 20 // a command may name some hundred thousand ranges
	maxBlocks = 1 << 32
)

// Range is a run of blocks, the end not included.
type Range struct{ Start, End int64 }

// Command is one line of a list.
type Command struct {
	Op     string // new, zero, erase
	Ranges []Range
}

// List is a parsed transfer list.
type List struct {
	Version   int
	NewBlocks int64 // as the list states it
	Blocks    int64 // the partition's size as far as the list reaches
	Commands  []Command
	Data      int64 // bytes of the .dat file that are needed
}

// IncrementalError says that a list needs the exact build it was made from.
type IncrementalError struct {
	Line int
	Op   string
}

// Error names the operation.
func (e *IncrementalError) Error() string {
	return fmt.Sprintf("transfer list, line %d: %q makes blocks from what is on the phone: the package is "+
		"incremental and needs the exact build it was made from", e.Line, e.Op)
}

// incremental are the commands that need what is on the phone.
var incremental = map[string]bool{"move": true, "bsdiff": true, "imgdiff": true, "stash": true, "free": true}

// Parse reads a list.
func Parse(r io.Reader) (*List, error) {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 64<<10), maxLine)
	line := 0
	fail := func(msg string, args ...any) error {
		return image.Errorf(formatName, -1, "line %d: %s", line, fmt.Sprintf(msg, args...))
	}
	number := func(what string) (int64, error) {
		if !s.Scan() {
			return 0, &image.Error{Format: formatName, Offset: -1, Short: true, What: "ends before " + what}
		}
		line++
		n, err := strconv.ParseInt(strings.TrimSpace(s.Text()), 10, 64)
		if err != nil || n < 0 || n > maxBlocks {
			return 0, fail("%.40q is not %s", s.Text(), what)
		}
		return n, nil
	}
	l := &List{}
	v, err := number("the version")
	if err != nil {
		return nil, err
	}
	if v < 1 || v > 4 {
		return nil, fail("version %d is not known", v)
	}
	l.Version = int(v)
	if l.NewBlocks, err = number("the number of blocks"); err != nil {
		return nil, err
	}
	if v >= 2 { // stash entries and the most blocks stashed at a time
		for _, what := range []string{"the number of stashes", "the size of the stash"} {
			if _, err := number(what); err != nil {
				return nil, err
			}
		}
	}
	for s.Scan() {
		line++
		op, rest, _ := strings.Cut(strings.TrimSpace(s.Text()), " ")
		switch op {
		case "":
			continue
		case "new", "zero", "erase":
		case "compute_hash_tree":
			return nil, fail("a hash tree made on the phone (compute_hash_tree) is not supported")
		default:
			if incremental[op] {
				return nil, &IncrementalError{Line: line, Op: op}
			}
			return nil, fail("%.40q is not a command", op)
		}
		ranges, err := parseRanges(strings.TrimSpace(rest))
		if err != nil {
			return nil, fail("%v", err)
		}
		for _, r := range ranges {
			l.Blocks = max(l.Blocks, r.End)
			if op == "new" {
				l.Data += (r.End - r.Start) * BlockSize
			}
		}
		l.Commands = append(l.Commands, Command{Op: op, Ranges: ranges})
	}
	if err := s.Err(); err != nil {
		return nil, &image.Error{Format: formatName, Offset: -1, What: "cannot be read", Err: err}
	}
	return l, nil
}

// parseRanges reads COUNT,START,END,START,END,... where the count is that of
// the numbers behind it.
func parseRanges(s string) ([]Range, error) {
	parts := strings.Split(s, ",")
	n, err := strconv.Atoi(parts[0])
	if err != nil || n != len(parts)-1 || n%2 != 0 || n == 0 {
		return nil, fmt.Errorf("%.40q is not a list of ranges", s)
	}
	list := make([]Range, 0, n/2)
	for i := 1; i < len(parts); i += 2 {
		a, err1 := strconv.ParseInt(parts[i], 10, 64)
		b, err2 := strconv.ParseInt(parts[i+1], 10, 64)
		if err1 != nil || err2 != nil || a < 0 || b <= a || b > maxBlocks {
			return nil, fmt.Errorf("blocks %.20q to %.20q are not a range", parts[i], parts[i+1])
		}
		list = append(list, Range{a, b})
	}
	return list, nil
}

// Target is where the image is written to.
type Target interface {
	io.WriterAt
	// Zero makes n bytes from off on read as zeros.
	Zero(off, n int64) error
}

// Apply writes the image: data is the extracted .dat file, read once from its
// start to its end.
func (l *List) Apply(t Target, data io.Reader) error {
	at := int64(0)
	buf := make([]byte, 1<<20)
	for _, c := range l.Commands {
		for _, r := range c.Ranges {
			off, n := r.Start*BlockSize, (r.End-r.Start)*BlockSize
			if c.Op != "new" {
				if err := t.Zero(off, n); err != nil {
					return err
				}
				continue
			}
			got, err := io.CopyBuffer(struct{ io.Writer }{io.NewOffsetWriter(t, off)},
				struct{ io.Reader }{io.LimitReader(data, n)}, buf)
			if err != nil {
				return err
			}
			if got < n {
				return image.Truncated("block data", at+got, n-got, 0)
			}
			at += n
		}
	}
	return nil
}
