package adb

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"testing"
	"time"

	"jarlid/internal/link"
)

// memory is files that are kept in memory.
type memory map[string]*entry

type entry struct {
	bytes.Buffer
	stat FileStat
}

func (m memory) Stat(path string) (FileStat, error) {
	if e, ok := m[path]; ok {
		return e.stat, nil
	}
	return FileStat{}, fs.ErrNotExist
}

func (m memory) List(path string) ([]FileStat, error) {
	list := []FileStat{{Name: ".", Mode: 0o040755}}
	for name, e := range m {
		if rest, ok := strings.CutPrefix(name, path+"/"); ok {
			f := e.stat
			f.Name = rest
			list = append(list, f)
		}
	}
	return list, nil
}

func (m memory) Open(path string) (io.ReadCloser, error) {
	if e, ok := m[path]; ok {
		return io.NopCloser(bytes.NewReader(e.Bytes())), nil
	}
	return nil, errors.New("no such file")
}

type closing struct{ *entry }

func (closing) Close() error { return nil }

func (m memory) Create(path string, mode uint32) (io.WriteCloser, func(time.Time) error, error) {
	if strings.HasPrefix(path, "/ro/") {
		return nil, nil, errors.New("read-only file system")
	}
	e := &entry{}
	return closing{e}, func(t time.Time) error {
		e.stat = FileStat{Mode: mode, Size: int64(e.Len()), MTime: t}
		m[path] = e
		return nil
	}, nil
}

// TestSync holds both forms of the service to one conformance test, under a
// maximum payload of 4 KiB as well.
func TestSync(t *testing.T) {
	for _, features := range [][]string{nil, {featureStat2, featureList2, featureSend2}} {
		for _, payload := range []int{4096, MaxPayload} {
			files := memory{}
			d := &Device{Version: VersionNoSum, MaxPayload: payload,
				Banner: Banner{Kind: "recovery", Features: features},
				Serve: func(service string, s *Stream) bool {
					if service != "sync:" {
						return false
					}
					go func() {
						defer s.Close()
						s.Accept()
						ServeSync(s, files)
						s.Drain()
					}()
					return true
				}}
			c := connected(t, d)
			y, err := c.Sync(t.Context())
			if err != nil {
				t.Fatalf("c.Sync(): %v", err)
			}
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			when := time.Unix(1768000000, 0)
			want := bytes.Repeat([]byte("shorebird"), 30_000)
			if _, err := y.Stat(ctx, "/sdcard/rom.zip"); !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%v: nothing there: %v", features, err)
			}
			for name, data := range map[string][]byte{"/sdcard/rom.zip": want, "/sdcard/empty": nil} {
				if err := y.Send(ctx, name, 0o100644, when, bytes.NewReader(data), nil); err != nil {
					t.Fatalf("y.Send(%v, 0o100644, when, bytes.NewReader(data)): %v: %s: %v; want no error",
						name, features, name, err)
				}
				f, err := y.Stat(ctx, name)
				if err != nil || f.Size != int64(len(data)) || f.Mode != 0o100644 || !f.MTime.Equal(when) ||
					f.IsDir() {
					t.Errorf("y.Stat(%v): %v: %s: %+v, %v", name, features, name, f, err)
				}
			}
			var got bytes.Buffer
			if n, err := y.Receive(ctx, "/sdcard/rom.zip", &got, nil); n != int64(len(want)) || err != nil ||
				!bytes.Equal(got.Bytes(), want) {
				t.Errorf("%v: received %d bytes, %v", features, n, err)
			}
			list, err := y.List(ctx, "/sdcard")
			if err != nil || len(list) != 2 || list[0].MTime.IsZero() {
				t.Errorf("y.List('/sdcard'): %v: %+v, %v; unwanted: err != nil || len(list) != 2 || "+
					"list[0].MTime.IsZero()", features, list, err)
			}
			// A refusal leaves the service usable.
			var refused *link.RefusedError
			if err := y.Send(ctx, "/ro/x", 0o644, when, bytes.NewReader(want), nil); !errors.As(err,
				&refused) || refused.Message != "read-only file system" {
				t.Errorf("y.Send('/ro/x', 0o644, when, bytes.NewReader(want)): %v: %v", features, err)
			}
			if _, err := y.Receive(ctx, "/sdcard/none", io.Discard, nil); !errors.As(err, &refused) {
				t.Errorf("y.Receive('/sdcard/none', io.Discard): %v: %v; unwanted: !errors.As(err, &refused)",
					features, err)
			}
			if _, err := y.Stat(ctx, "/sdcard/rom.zip"); err != nil {
				t.Errorf("%v: after a refusal: %v", features, err)
			}
			if err := y.Send(ctx, "/"+strings.Repeat("x", 2000), 0o644, when, strings.NewReader(""),
				nil); err == nil {
				t.Error("a path that is too long was sent")
			}
			y.Close()
			cancel()
			c.Close()
		}
	}
}

// TestSyncBytes: answers written by hand after SYNC.TXT, and ones that are
// against it.
func TestSyncBytes(t *testing.T) {
	var rule *link.ProtocolError
	var lost *link.LostError
	var refused *link.RefusedError
	for _, c := range []struct {
		name, answer string
		do           func(y *Sync) error
		target       any
	}{
		{"stat", "STAT\xa4\x81\x00\x00\x05\x00\x00\x00\x80\xbe\x61\x69", func(y *Sync) error {
			f, err := y.Stat(t.Context(), "/x")
			if err == nil && (f.Mode != 0o100644 || f.Size != 5 || f.MTime.Unix() != 0x6961be80) {
				t.Errorf("y.Stat('/x'): %+v", f)
			}
			return err
		}, nil},
		{"list", "DENT\xed\x41\x00\x00\x00\x10\x00\x00\x00\x00\x00\x00\x03\x00\x00\x00tmpDONE" +
			strings.Repeat("\x00", 16), func(y *Sync) error {
			l, err := y.List(t.Context(), "/")
			if err == nil && (len(l) != 1 || l[0].Name != "tmp" || !l[0].IsDir()) {
				t.Errorf("y.List('/'): %+v; unwanted: err == nil && (len(l) != 1 || l[0].Name != 'tmp' || "+
					"!l[0].IsDir())", l)
			}
			return err
		}, nil},
		{"refused on the way", "FAIL\x07\x00\x00\x00no room", func(y *Sync) error {
			return y.Send(t.Context(), "/x", 0o644, time.Unix(0, 0), bytes.NewReader(make([]byte, 4<<20)),
				nil)
		}, &refused},
		{"another answer", "LIST" + strings.Repeat("\x00", 12), func(y *Sync) error {
			_, err := y.Stat(t.Context(), "/x")
			return err
		}, &rule},
		{"too much data", "DATA\x01\x00\x01\x00", func(y *Sync) error {
			_, err := y.Receive(t.Context(), "/x", io.Discard, nil)
			return err
		}, &rule},
		{"a long name", "DENT" + strings.Repeat("\x00", 12) + "\xff\xff\xff\xff", func(y *Sync) error {
			_, err := y.List(t.Context(), "/x")
			return err
		}, &rule},
		{"a long reason", "FAIL\xff\xff\xff\x7f", func(y *Sync) error {
			_, err := y.Receive(t.Context(), "/x", io.Discard, nil)
			return err
		}, &rule},
		{"cut", "DATA\x10\x00\x00\x00short", func(y *Sync) error {
			_, err := y.Receive(t.Context(), "/x", io.Discard, nil)
			return err
		}, &lost},
	} {
		d := &Device{Version: VersionNoSum, MaxPayload: MaxPayload, Banner: Banner{Kind: "recovery"},
			Serve: func(_ string, s *Stream) bool {
				go func() {
					s.Accept()
					io.ReadFull(s, make([]byte, 9))
					io.WriteString(s, c.answer)
					if c.target == &refused { // it takes the rest, as phones do, and keeps nothing
						io.Copy(io.Discard, s)
					}
					s.Drain()
					s.Close()
				}()
				return true
			}}
		conn := connected(t, d)
		y, err := conn.Sync(t.Context())
		if err != nil {
			t.Fatalf("conn.Sync(): %v", err)
		}
		err = c.do(y)
		conn.Close()
		if c.target == nil && err != nil || c.target != nil && !errors.As(err, c.target) {
			t.Errorf("c.do(y): %s: %v", c.name, err)
		}
	}
}
