package adb

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"
)

// Files is what a phone's sync service gives access to.
type Files interface {
	Stat(path string) (FileStat, error)
	List(path string) ([]FileStat, error)
	Open(path string) (io.ReadCloser, error)
	// Create writes a file; the result is called once with the time it should
	// have when everything is there.
	Create(path string, mode uint32) (w io.WriteCloser, done func(mtime time.Time) error, err error)
}

// ServeSync is the phone's end of the sync service, of both forms.
func ServeSync(s io.ReadWriter, files Files) error {
	for {
		var h [8]byte
		if _, err := io.ReadFull(s, h[:]); err != nil {
			return err
		}
		id, n := string(h[:4]), binary.LittleEndian.Uint32(h[4:])
		if id == syncQuit {
			return nil
		}
		if n > maxSyncPath+16 {
			return syncRefuse(s, "the path is too long")
		}
		b := make([]byte, n)
		if _, err := io.ReadFull(s, b); err != nil {
			return err
		}
		var err error
		switch path := string(b); id {
		case syncStat1, syncStat2:
			f, serr := files.Stat(path)
			_, err = s.Write(append([]byte(id), statBytes(f, serr, id == syncStat2)...))
		case syncList1, syncList2:
			err = serveList(s, files, path, id == syncList2)
		case syncSend1, syncSend2:
			err = serveSend(s, files, path, id == syncSend2)
		case syncRecv1, syncRecv2:
			err = serveReceive(s, files, path, id == syncRecv2)
		default:
			return syncRefuse(s, "unknown request "+id)
		}
		if err != nil {
			return err
		}
	}
}

func syncRefuse(s io.Writer, text string) error {
	_, err := s.Write(append(syncHead(syncFail, uint32(len(text))), text...))
	return err
}

func statBytes(f FileStat, err error, newer bool) []byte {
	le := binary.LittleEndian
	if err != nil {
		f = FileStat{MTime: time.Unix(0, 0)}
	}
	if !newer {
		b := le.AppendUint32(nil, f.Mode)
		b = le.AppendUint32(b, uint32(f.Size))
		return le.AppendUint32(b, uint32(f.MTime.Unix()))
	}
	b := make([]byte, stat2Size)
	if err != nil {
		le.PutUint32(b, 2) // ENOENT
		if errors.Is(err, fs.ErrPermission) {
			le.PutUint32(b, 13) // EACCES
		}
	}
	le.PutUint32(b[20:], f.Mode)
	le.PutUint32(b[24:], 1)
	le.PutUint64(b[36:], uint64(f.Size))
	for _, at := range []int{44, 52, 60} {
		le.PutUint64(b[at:], uint64(f.MTime.Unix()))
	}
	return b
}

func serveList(s io.Writer, files Files, path string, newer bool) error {
	dent := syncDent1
	if newer {
		dent = syncDent2
	}
	list, _ := files.List(path) // what can't be listed is empty, as the protocol has it
	le := binary.LittleEndian
	for _, f := range append(list, FileStat{}) {
		id, err := dent, error(nil)
		if f.Name == "" {
			id, err = syncDone, io.EOF
		}
		b := append([]byte(id), statBytes(f, err, newer)...)
		b = append(le.AppendUint32(b, uint32(len(f.Name))), f.Name...)
		if _, err := s.Write(b); err != nil {
			return err
		}
	}
	return nil
}

func serveSend(s io.ReadWriter, files Files, path string, newer bool) error {
	le := binary.LittleEndian
	mode := uint64(0o644)
	if newer {
		var second [12]byte
		if _, err := io.ReadFull(s, second[:]); err != nil {
			return err
		}
		mode = uint64(le.Uint32(second[4:]))
	} else if i := strings.LastIndexByte(path, ','); i >= 0 {
		m, err := strconv.ParseUint(path[i+1:], 10, 32)
		if err == nil {
			path, mode = path[:i], m
		}
	}
	// What fails is told at the end, when everything that was sent has been
	// taken, so that no bytes are left on the way.
	w, done, fail := files.Create(path, uint32(mode))
	buf := make([]byte, syncChunk)
	for {
		var h [8]byte
		if _, err := io.ReadFull(s, h[:]); err != nil {
			return err
		}
		n := le.Uint32(h[4:])
		switch string(h[:4]) {
		case syncData:
			if n > syncChunk {
				return syncRefuse(s, "too much data at once")
			}
			if _, err := io.ReadFull(s, buf[:n]); err != nil {
				return err
			}
			if fail == nil {
				_, fail = w.Write(buf[:n])
			}
		case syncDone:
			if w != nil {
				if err := w.Close(); fail == nil {
					fail = err
				}
			}
			if fail == nil {
				fail = done(time.Unix(int64(n), 0))
			}
			if fail != nil {
				return syncRefuse(s, fail.Error())
			}
			_, err := s.Write(syncHead(syncOkay, 0))
			return err
		default:
			return fmt.Errorf("%q in a transfer", h[:4])
		}
	}
}

func serveReceive(s io.ReadWriter, files Files, path string, newer bool) error {
	if newer {
		var second [8]byte
		if _, err := io.ReadFull(s, second[:]); err != nil {
			return err
		}
	}
	r, err := files.Open(path)
	if err != nil {
		return syncRefuse(s, err.Error())
	}
	defer r.Close()
	buf := make([]byte, 8+syncChunk)
	for {
		n, err := io.ReadFull(r, buf[8:])
		if n > 0 {
			copy(buf, syncHead(syncData, uint32(n)))
			if _, err := s.Write(buf[:8+n]); err != nil {
				return err
			}
		}
		if err != nil {
			_, err := s.Write(syncHead(syncDone, 0))
			return err
		}
	}
}
