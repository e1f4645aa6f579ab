package adb

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"jarlid/internal/link"
)

// The sync service (SYNC.TXT and file_sync_protocol.h): requests and answers
// begin with four letters.
const (
	syncStat1, syncStat2 = "STAT", "STA2"
	syncList1, syncList2 = "LIST", "LIS2"
	syncDent1, syncDent2 = "DENT", "DNT2"
	syncSend1, syncSend2 = "SEND", "SND2"
	syncRecv1, syncRecv2 = "RECV", "RCV2"
	syncData, syncDone   = "DATA", "DONE"
	syncOkay, syncFail   = "OKAY", "FAIL"
	syncQuit             = "QUIT"

	// syncChunk is the most data one packet holds, in bytes.
	syncChunk = 64 << 10

	// maxSyncPath is the longest path the service takes, maxEntries how many a
	// folder may list.
	maxSyncPath = 1024
	maxEntries  = 1 << 20

	stat2Size = 68 // of the struct behind STA2
)

// Features by which a phone says that it speaks the newer forms.
const (
	featureStat2 = "stat_v2"
	featureList2 = "ls_v2"
	featureSend2 = "sendrecv_v2"
)

// FileStat is what the service tells of a file.
type FileStat struct {
	Name  string // in a list
	Mode  uint32 // as in stat(2)
	Size  int64  // bytes; the older form wraps at 4 GiB
	MTime time.Time
}

// IsDir reports whether it is a folder.
func (f FileStat) IsDir() bool { return f.Mode&0o170000 == 0o040000 }

// Sync is an open sync service; one thing at a time.
type Sync struct {
	s    *Stream
	peer Banner
	dead error
}

// Sync opens the service.
func (c *Conn) Sync(ctx context.Context) (*Sync, error) {
	s, err := c.Open(ctx, "sync:")
	if err != nil {
		return nil, err
	}
	return &Sync{s: s, peer: c.Peer}, nil
}

// Close ends the service.
func (y *Sync) Close() error {
	if y.dead == nil {
		_, _ = y.s.Write(syncHead(syncQuit, 0))
	}
	return y.s.Close()
}

func syncHead(id string, n uint32) []byte { return binary.LittleEndian.AppendUint32([]byte(id), n) }

// syncLimit is how long the phone may say nothing between two packets; a full
// disk and a slow card are silent for long.
const syncLimit = time.Minute

func (y *Sync) broken(format string, args ...any) error {
	y.dead = &link.ProtocolError{Protocol: "ADB sync", What: fmt.Sprintf(format, args...)}
	return y.dead
}

func (y *Sync) write(ctx context.Context, p []byte) error {
	if y.dead != nil {
		return y.dead
	}
	ctx, cancel := context.WithTimeout(ctx, syncLimit)
	defer cancel()
	if _, err := y.s.With(ctx).Write(p); err != nil {
		y.dead = link.Lost("a file transfer", err)
	}
	return y.dead
}

func (y *Sync) read(ctx context.Context, p []byte) error {
	if y.dead != nil {
		return y.dead
	}
	ctx, cancel := context.WithTimeout(ctx, syncLimit)
	defer cancel()
	if _, err := io.ReadFull(y.s.With(ctx), p); err != nil {
		y.dead = link.Lost("a file transfer", cut(err))
	}
	return y.dead
}

// request sends four letters and a path.
func (y *Sync) request(ctx context.Context, id, path string) error {
	if len(path) > maxSyncPath {
		return fmt.Errorf("the path %.40q... is longer than the %d bytes the phone takes", path, maxSyncPath)
	}
	return y.write(ctx, append(syncHead(id, uint32(len(path))), path...))
}

// fail reads the text behind FAIL.
func (y *Sync) fail(ctx context.Context, what string, n uint32) error {
	if n > 64<<10 {
		return y.broken("gave a reason of %d bytes", n)
	}
	b := make([]byte, n)
	if err := y.read(ctx, b); err != nil {
		return err
	}
	return &link.RefusedError{Command: what, Message: strings.TrimSpace(string(b))}
}

// Stat tells what is at a path. Nothing there is fs.ErrNotExist.
func (y *Sync) Stat(ctx context.Context, path string) (FileStat, error) {
	id := syncStat1
	if y.peer.Has(featureStat2) {
		id = syncStat2
	}
	if err := y.request(ctx, id, path); err != nil {
		return FileStat{}, err
	}
	f, code, err := y.stat(ctx, id)
	if err == nil && (code != 0 || f.Mode == 0) {
		err = fmt.Errorf("%s on the phone: %w", path, fs.ErrNotExist)
		if code == 13 { // EACCES
			err = fmt.Errorf("%s on the phone: %w", path, fs.ErrPermission)
		}
	}
	return f, err
}

// stat reads an answer of the older or newer form, its letters included; code
// is the phone's errno.
func (y *Sync) stat(ctx context.Context, id string) (f FileStat, code uint32, err error) {
	var word [4]byte
	if err := y.read(ctx, word[:]); err != nil {
		return f, 0, err
	}
	if string(word[:]) != id {
		return f, 0, y.broken("answered %s with %q", id, word[:])
	}
	return y.statBody(ctx, id == syncStat2)
}

func (y *Sync) statBody(ctx context.Context, newer bool) (f FileStat, code uint32, err error) {
	le := binary.LittleEndian
	if !newer {
		var b [12]byte
		err = y.read(ctx, b[:])
		return FileStat{Mode: le.Uint32(b[:]), Size: int64(le.Uint32(b[4:])),
			MTime: time.Unix(int64(le.Uint32(b[8:])), 0)}, 0, err
	}
	// error, dev, ino, mode, nlink, uid, gid, size, atime, mtime, ctime
	var b [stat2Size]byte
	if err = y.read(ctx, b[:]); err != nil {
		return f, 0, err
	}
	f = FileStat{Mode: le.Uint32(b[20:]), Size: int64(le.Uint64(b[36:])),
		MTime: time.Unix(int64(le.Uint64(b[52:])), 0)}
	if f.Size < 0 {
		err = y.broken("told a size of %d bytes", f.Size)
	}
	return f, le.Uint32(b[:]), err
}

// List gives what is in a folder, without . and ..
func (y *Sync) List(ctx context.Context, path string) ([]FileStat, error) {
	id, dent, newer := syncList1, syncDent1, false
	if y.peer.Has(featureList2) {
		id, dent, newer = syncList2, syncDent2, true
	}
	if err := y.request(ctx, id, path); err != nil {
		return nil, err
	}
	var list []FileStat
	for {
		var word [4]byte
		if err := y.read(ctx, word[:]); err != nil {
			return nil, err
		}
		if w := string(word[:]); w != dent && w != syncDone {
			return nil, y.broken("answered %s with %q", id, word[:])
		}
		f, _, err := y.statBody(ctx, newer)
		if err != nil {
			return nil, err
		}
		var n [4]byte
		if err := y.read(ctx, n[:]); err != nil {
			return nil, err
		}
		if string(word[:]) == syncDone {
			return list, nil
		}
		size := binary.LittleEndian.Uint32(n[:])
		if size > maxSyncPath || len(list) >= maxEntries {
			return nil, y.broken("listed a name of %d bytes, or more than %d entries", size, maxEntries)
		}
		name := make([]byte, size)
		if err := y.read(ctx, name); err != nil {
			return nil, err
		}
		if f.Name = string(name); f.Name != "." && f.Name != ".." {
			list = append(list, f)
		}
	}
}

// Send writes a file of the phone. moved is called with the bytes sent; may be
// nil.
func (y *Sync) Send(ctx context.Context, path string, mode uint32, mtime time.Time, r io.Reader,
	moved func(int64)) error {
	le := binary.LittleEndian
	var err error
	if y.peer.Has(featureSend2) {
		if err = y.request(ctx, syncSend2, path); err == nil {
			err = y.write(ctx, le.AppendUint32(syncHead(syncSend2, mode), 0)) // no compression
		}
	} else {
		err = y.request(ctx, syncSend1, fmt.Sprintf("%s,%d", path, mode))
	}
	buf := make([]byte, 8+syncChunk)
	for done := int64(0); err == nil; {
		n, rerr := io.ReadFull(r, buf[8:])
		if n > 0 {
			copy(buf, syncHead(syncData, uint32(n)))
			if err = y.write(ctx, buf[:8+n]); err != nil {
				break
			}
			if done += int64(n); moved != nil {
				moved(done)
			}
		}
		if errors.Is(rerr, io.EOF) || errors.Is(rerr, io.ErrUnexpectedEOF) {
			err = y.write(ctx, syncHead(syncDone, uint32(mtime.Unix())))
			break
		}
		if rerr != nil {
			// The phone waits for data that never comes: this service is over.
			y.dead = fmt.Errorf("the file could not be read while it was sent: %w", rerr)
			return y.dead
		}
	}
	// A phone that can't go on may say so and close while data is still being
	// sent; its reason is worth more than the broken connection.
	lost := err
	if lost != nil {
		if y.dead == nil {
			return lost // nothing was sent
		}
		y.dead = nil
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, 2*time.Second)
		defer cancel()
	}
	var h [8]byte
	if err := y.read(ctx, h[:]); err != nil {
		if lost != nil {
			y.dead = lost
		}
		return y.dead
	}
	switch string(h[:4]) {
	case syncOkay:
		return lost
	case syncFail:
		return y.fail(ctx, "write "+path, le.Uint32(h[4:]))
	}
	return y.broken("ended a transfer with %q", h[:4])
}

// Receive reads a file of the phone into w.
func (y *Sync) Receive(ctx context.Context, path string, w io.Writer, moved func(int64)) (int64, error) {
	le := binary.LittleEndian
	id := syncRecv1
	if y.peer.Has(featureSend2) {
		id = syncRecv2
	}
	err := y.request(ctx, id, path)
	if err == nil && id == syncRecv2 {
		err = y.write(ctx, syncHead(id, 0)) // no compression
	}
	done := int64(0)
	buf := make([]byte, syncChunk)
	for err == nil {
		var h [8]byte
		if err = y.read(ctx, h[:]); err != nil {
			break
		}
		n := le.Uint32(h[4:])
		switch string(h[:4]) {
		case syncDone:
			return done, nil
		case syncFail:
			return done, y.fail(ctx, "read "+path, n)
		case syncData:
			if n > syncChunk {
				return done, y.broken("sent %d bytes at once where at most %d are allowed", n, syncChunk)
			}
			if err = y.read(ctx, buf[:n]); err != nil {
				break
			}
			if _, werr := w.Write(buf[:n]); werr != nil {
				y.dead = werr
				return done, werr
			}
			if done += int64(n); moved != nil {
				moved(done)
			}
		default:
			return done, y.broken("sent %q in a transfer", h[:4])
		}
	}
	return done, err
}
