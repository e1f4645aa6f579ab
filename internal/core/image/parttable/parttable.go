// Package parttable reads and writes the table of partitions of Jar Lid's open loader protocol
// (docs/loader-protocol.md, "Orders"), as it comes over a line and as it is in a file.
package parttable

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Partition is a line of a loader's table.
type Partition struct {
	Number   int
	Name     string
	Size     int64  // bytes
	Type     string // as the loader calls it, "" where it does not say
	Readable bool
	Writable bool
}

// mostSize bounds a partition's size, in bytes: 1 PiB.
const mostSize = 1 << 50

// Encode writes a table, a partition a line.
func Encode(list []Partition) []byte {
	var b strings.Builder
	for _, p := range list {
		fmt.Fprintf(&b, "%d %s %d %s %s\n", p.Number, p.Name, p.Size, dash(p.Type), rights(p))
	}
	return []byte(b.String())
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func rights(p Partition) string {
	s := ""
	if p.Readable {
		s += "r"
	}
	if p.Writable {
		s += "w"
	}
	return dash(s)
}

// Parse reads a table: NUMBER NAME SIZE TYPE RIGHTS, a partition a line. Further words behind them
// are for later versions. Two of one number or name are an error.
func Parse(b []byte) ([]Partition, error) {
	var list []Partition
	numbers, names := map[int]bool{}, map[string]bool{}
	err := Lines(b, maxLines, func(line string) error {
		w := strings.Fields(line)
		if len(w) < 5 {
			return fmt.Errorf("the line %q has fewer than five words", line)
		}
		n, err := strconv.Atoi(w[0])
		size, serr := strconv.ParseInt(w[2], 10, 64)
		if err != nil || serr != nil || n < 0 || size < 0 || size > mostSize {
			return fmt.Errorf("the line %q has a number that can't be", line)
		}
		if strings.Trim(w[1], "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._-") != "" ||
			len(w[1]) > 64 {
			return fmt.Errorf("%q is no name of a partition", w[1])
		}
		if numbers[n] || names[w[1]] {
			return fmt.Errorf("two partitions are called %d or %s", n, w[1])
		}
		numbers[n], names[w[1]] = true, true
		p := Partition{Number: n, Name: w[1], Size: size, Readable: strings.Contains(w[4], "r"),
			Writable: strings.Contains(w[4], "w")}
		if w[3] != "-" {
			p.Type = w[3]
		}
		list = append(list, p)
		return nil
	})
	return list, err
}

// maxLines bounds how many partitions a table has.
const maxLines = 4096

// Lines calls do for each line of a text in UTF-8: there are at most most, each ends, and none has control
// letters. Errors: what the text has instead, and those of do.
func Lines(b []byte, most int, do func(string) error) error {
	if !utf8.Valid(b) {
		return errors.New("it is not UTF-8")
	}
	count := 0
	for line := range strings.Lines(string(b)) {
		if count++; count > most {
			return fmt.Errorf("it has more than %d lines", most)
		}
		text, ended := strings.CutSuffix(line, "\n")
		if !ended {
			return errors.New("its last line has no end")
		}
		if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return fmt.Errorf("the line %q has control letters", text)
		}
		if err := do(text); err != nil {
			return err
		}
	}
	return nil
}
