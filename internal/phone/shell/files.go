package shell

import (
	"context"
	"path"
	"strconv"
	"strings"
)

// File reads a small file; ok is false where it can't be read.
func (s *Shell) File(ctx context.Context, name string) (b []byte, ok bool, err error) {
	return s.content(ctx, file, name)
}

// Start reads the first bytes of a file, some 64 where the phone can do so.
func (s *Shell) Start(ctx context.Context, name string) (b []byte, ok bool, err error) {
	return s.content(ctx, start, name)
}

func (s *Shell) content(ctx context.Context, c *Command, name string) (b []byte, ok bool, err error) {
	a, err := s.ask(ctx, c, name)
	return a.out, err == nil && a.code == 0, err
}

// Exists reports whether something is there, a dangling link too. *UnreadError where that is unknown.
func (s *Shell) Exists(ctx context.Context, name string) (bool, error) {
	a, err := s.ask(ctx, exists, name)
	if err == nil && a.text() != "yes" && a.text() != "no" {
		err = &UnreadError{exists.Name, a.says()}
	}
	return a.text() == "yes", err
}

// Folder lists the names in a folder, hidden ones too. is is false where there is no such folder or it can't
// be read.
func (s *Shell) Folder(ctx context.Context, dir string) (names []string, is bool, err error) {
	a, err := s.ask(ctx, folder, dir)
	if err != nil || a.code != 0 {
		return nil, false, err
	}
	for _, name := range a.lines() {
		if name != "" && name != "." && name != ".." {
			names = append(names, name)
		}
	}
	return names, true, nil
}

// Real follows a path's links; the path as it is where the phone does not resolve it.
func (s *Shell) Real(ctx context.Context, name string) (string, error) {
	a, err := s.ask(ctx, realPath, name)
	if Unknown(err) {
		return name, nil
	}
	if to := a.text(); err == nil && a.code == 0 && path.IsAbs(to) && !strings.Contains(to, "\n") {
		return to, nil
	}
	return name, err
}

// Remove removes a file or folder and makes sure that it is gone.
func (s *Shell) Remove(ctx context.Context, name string) error {
	return s.do(ctx, "remove "+name, remove, name)
}

// Move moves a file or folder, makes the folder it goes to, and makes sure of it.
func (s *Shell) Move(ctx context.Context, from, to string) error {
	return s.do(ctx, "move "+from, move, from, to, path.Dir(to))
}

// WriteText writes a short text to a file, whose folder is made.
func (s *Shell) WriteText(ctx context.Context, name, text string) error {
	return s.do(ctx, "write "+name, writeText, path.Dir(name), name, text)
}

// Free gives the free bytes of the file system that a path is on; known is false where the phone does not
// report them.
func (s *Shell) Free(ctx context.Context, name string) (bytes int64, known bool, err error) {
	a, err := s.ask(ctx, free, name)
	if err != nil {
		return 0, false, err
	}
	bytes, known = parseFree(a.text())
	return bytes, known && a.code == 0, nil
}

// parseFree reads the free bytes out of what df -k prints: device, blocks of 1 KiB, used, available, share,
// mount point; a long device name breaks the line.
func parseFree(text string) (int64, bool) {
	_, rest, cut := strings.Cut(text, "\n")
	f := strings.Fields(rest)
	if !cut || len(f) < 5 {
		return 0, false
	}
	n, err := strconv.ParseInt(f[3], 10, 64)
	return n << 10, err == nil && n >= 0 && n < 1<<50
}

// digestsAtOnce bounds the length of one command line, in bytes: the oldest shells take 4096.
const digestsAtOnce = 3000

// Digests has the phone make the SHA-256 of files, in hex; "" for each where it has no such tool or can't
// read the file.
func (s *Shell) Digests(ctx context.Context, names []string) ([]string, error) {
	sums := make([]string, len(names))
	for i := 0; i < len(names); {
		n, length := i, 0
		for n < len(names) && (n == i || length+len(names[n]) < digestsAtOnce) {
			length += len(Quote(names[n])) + 1
			n++
		}
		a, err := s.ask(ctx, digest, names[i:n]...)
		if err != nil && !Unknown(err) {
			return nil, err
		}
		if got := digestLines(a.lines()); len(got) == n-i {
			// otherwise it is unknown which file each belongs to
			copy(sums[i:], got)
		}
		i = n
	}
	return sums, nil
}

// digestLines gives the digest of each file. A name with a line break is printed over several lines, of which
// the first counts, by tools that do not escape it.
func digestLines(lines []string) (sums []string) {
	for _, line := range lines {
		if sum := digestIn(line); sum != "" || line == "none" {
			sums = append(sums, sum)
		}
	}
	return sums
}

// digestIn is the digest that a line of sha256sum begins with; "" for another line.
func digestIn(line string) string {
	sum, _, _ := strings.Cut(strings.TrimPrefix(line, `\`), " ")
	if len(sum) != 64 || strings.Trim(sum, "0123456789abcdef") != "" {
		return ""
	}
	return sum
}

// Digest is Digests of one file.
func (s *Shell) Digest(ctx context.Context, name string) (string, error) {
	sums, err := s.Digests(ctx, []string{name})
	if err != nil {
		return "", err
	}
	return sums[0], nil
}

// DeviceDigest has the phone make the SHA-256 of a device; "" where it has no such tool. *link.RefusedError
// of a device that is not there any more.
func (s *Shell) DeviceDigest(ctx context.Context, d Device) (string, error) {
	if err := s.Same(ctx, d); err != nil {
		return "", err
	}
	a, err := s.ask(ctx, deviceDigest, d.args()...)
	if Unknown(err) {
		return "", nil
	}
	return digestIn(a.text()), err
}
