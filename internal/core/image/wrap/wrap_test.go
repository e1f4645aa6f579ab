package wrap

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os/exec"
	"testing"

	"jarlid/internal/e2e/witness"
)

// pieces are contents that don't compress away.
func pieces() [][]byte {
	r := rand.New(rand.NewPCG(3, 4))
	var list [][]byte
	for _, n := range []int{100_000, 1, 0, 70_000} {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.IntN(7)) << r.IntN(3)
		}
		list = append(list, b)
	}
	return list
}

// TestNewFile: files as general tools pack them, in parallel and joined, are read to their real
// end; padding is none of it, and what is no member is said.
func TestNewFile(t *testing.T) {
	parts := pieces()
	want := bytes.Join(parts, nil)
	tools := []struct {
		kind Kind
		name string
		args []string
		// between and behind are bytes that are no contents.
		between, behind []byte
		bad             bool
	}{
		{Gzip, "gzip", []string{"-c"}, nil, nil, false},
		{Gzip, "gzip", []string{"-1c"}, nil, make([]byte, 511), false},
		{Gzip, "gzip", []string{"-c"}, make([]byte, 32), nil, false},
		{Gzip, "gzip", []string{"-c"}, nil, []byte("signature"), true},
		{Xz, "xz", []string{"-c"}, nil, nil, false},
		{Xz, "xz", []string{"-c", "-T2", "--block-size=16384"}, nil, nil, false},
		{Xz, "xz", []string{"-c"}, make([]byte, 8), make([]byte, 4), false},
		{Xz, "xz", []string{"-c"}, nil, []byte("garbage!"), true},
		{Bzip2, "bzip2", []string{"-c"}, nil, nil, false},
		{Bzip2, "bzip2", []string{"-c"}, nil, []byte("garbage"), true},
		{Zstd, "zstd", []string{"-c"}, nil, nil, false},
		// A skippable frame (RFC 8878, 3.1.2): magic 0x184D2A50 to 5F, length, anything.
		{Zstd, "zstd", []string{"-c"}, []byte{0x53, 0x2a, 0x4d, 0x18, 3, 0, 0, 0, 'a', 'b', 'c'}, nil, false},
		{Zstd, "zstd", []string{"-c"}, nil, []byte("garbage"), true},
		{LZ4, "lz4", []string{"-c"}, nil, nil, false},
		{LZ4, "lz4", []string{"-c", "-B4", "-BD"}, nil, nil, false},
	}
	for _, tool := range tools {
		path, ok := witness.Has(t, tool.name)
		if !ok {
			continue
		}
		var file bytes.Buffer
		for i, p := range parts {
			c := exec.Command(path, tool.args...)
			c.Stdin = bytes.NewReader(p)
			b, err := c.Output()
			if err != nil {
				t.Fatalf("c.Output(): %v", err)
			}
			if i > 0 {
				file.Write(tool.between)
			}
			file.Write(b)
		}
		file.Write(tool.behind)
		z, err := NewFile(tool.kind, bytes.NewReader(file.Bytes()), 0)
		if err != nil {
			t.Errorf("NewFile(tool.kind, bytes.NewReader(file.Bytes()), 0): %s %v: %v; want no error",
				tool.name, tool.args, err)
			continue
		}
		got, err := io.ReadAll(z)
		z.Close()
		if tool.bad != (err != nil) || !bytes.Equal(got, want) {
			t.Errorf("%s %v, %d bytes between, %d behind: %d of %d bytes, %v", tool.name, tool.args,
				len(tool.between), len(tool.behind), len(got), len(want), err)
		}
		var trailing *TrailingError
		if tool.kind == Gzip && tool.bad && (!errors.As(err, &trailing) ||
			trailing.After != int64(len(want))) {
			t.Errorf("what lies behind is called %v", err)
		}
	}
}

// FuzzNewFile: nothing that is read makes it panic, or go on for ever.
func FuzzNewFile(f *testing.F) {
	f.Add([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 3, 3, 0, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		z, err := NewFile(Detect(b), bytes.NewReader(b), 0)
		if err != nil {
			return
		}
		defer z.Close()
		_, _ = io.CopyN(io.Discard, z, 1<<20)
	})
}

// FuzzMember: whatever a zip's member holds, the decoders end, and give no more than was asked for.
func FuzzMember(f *testing.F) {
	// "a" with fixed codes, as RFC 1951, 3.2.6 has them: last block 1, type 01, literal 0x91, end of block.
	f.Add(uint16(9), []byte{0x4b, 0x04, 0x00})
	// Stored: last block 1, type 00, length 1, its inverse, the byte.
	f.Add(uint16(9), []byte{0x01, 0x01, 0x00, 0xfe, 0xff, 'a'})
	f.Add(uint16(14), []byte{9, 20, 5, 0, 0x5d, 0, 0, 1, 0, 0, 0x83})
	f.Add(uint16(95), []byte("\xfd7zXZ\x00\x00\x04"))
	f.Add(uint16(93), []byte{0x28, 0xb5, 0x2f, 0xfd, 4, 0})
	f.Fuzz(func(t *testing.T, method uint16, b []byte) {
		r, err := NewZipMember(method, bytes.NewReader(b), 1<<16, 1<<20)
		if err != nil {
			return
		}
		defer r.Close()
		if n, err := io.Copy(io.Discard, io.LimitReader(r, 1<<22)); n > 1<<22 {
			t.Errorf("%d bytes, %v", n, err)
		}
		_, _ = io.Copy(io.Discard, NewThumb(bytes.NewReader(b)))
	})
}

// TestDeflate64: streams written from the rules of RFC 1951, and ones that end too early.
func TestDeflate64(t *testing.T) {
	for _, c := range []struct {
		name string
		in   []byte
		want string
		err  error
	}{
		{"fixed codes", []byte{0x4b, 0x04, 0x00}, "a", nil},
		{"stored", []byte{0x01, 0x02, 0x00, 0xfd, 0xff, 'a', 'b'}, "ab", nil},
		{"cut", []byte{0x01, 0x02, 0x00, 0xfd, 0xff, 'a'}, "a", io.ErrUnexpectedEOF},
		{"a length without its inverse", []byte{0x01, 0x02, 0x00, 0xfc, 0xff, 'a', 'b'}, "", errDeflate64},
		{"an unknown type", []byte{0x07}, "", errDeflate64},
	} {
		got, err := io.ReadAll(NewDeflate64(bytes.NewReader(c.in)))
		if string(got) != c.want || !errors.Is(err, c.err) {
			t.Errorf("%s gives %q, %v; want %q, %v", c.name, got, err, c.want, c.err)
		}
	}
}
