package bench

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// Through a recovery's root shell a partition is read by the sync service, which
// sends any file, devices too, and which no terminal in between can alter; it is
// written by pieces that are sent into the recovery's memory and copied by dd,
// since the sync service would put a file in the device's place.

const (
	// pieceSize is how many bytes of a partition are held in the recovery's memory
	// at once.
	pieceSize = 8 << 20
	pieceName = "/tmp/jarlid-piece"
	// blockSize is the unit offsets are counted in when a partition is written.
	blockSize = 4096
	// pieceLimit is how long copying a piece may take on the slowest storage.
	pieceLimit = 2 * time.Minute
)

// device gives the path of a partition as the recovery has it: logical ones are
// mapped elsewhere.
func device(partition string, logical bool) string {
	if logical {
		return "/dev/block/mapper/" + partition
	}
	return devicePath + partition
}

// writeDevice writes r to a device from off on, which is a multiple of 4096;
// wrote is told how many bytes are there.
func (j *Job) writeDevice(ctx context.Context, dev string, off int64, r io.Reader, wrote func(int64)) error {
	defer shell(context.WithoutCancel(ctx), j.Link, "rm -f "+pieceName)
	done := int64(0)
	for {
		n, err := j.writePiece(ctx, dev, off+done, io.LimitReader(r, pieceSize))
		done += n
		if err != nil {
			return err
		}
		wrote(done)
		if n < pieceSize {
			return nil
		}
	}
}

func (j *Job) writePiece(ctx context.Context, dev string, off int64, r io.Reader) (int64, error) {
	count := &counting{r: r}
	if err := j.push(ctx, pieceName, 0o100600, time.Unix(0, 0), count, nil); err != nil || count.n == 0 {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, pieceLimit)
	defer cancel()
	return count.n, j.inShell(ctx, fmt.Sprintf("dd if=%s of=%s bs=%d seek=%d conv=notrunc && sync", pieceName, dev, blockSize, off/blockSize), "write "+dev)
}

// push writes a file of the phone over a sync service of its own.
func (j *Job) push(ctx context.Context, to string, mode uint32, when time.Time, r io.Reader, moved func(int64)) error {
	y, err := j.Link.ADB.Sync(ctx)
	if err != nil {
		return err
	}
	defer y.Close()
	return y.Send(ctx, to, mode, when, r, moved)
}

// sendFile sends a file of the computer, shows how far it is under the given name,
// and gives the digest of what was sent.
func (j *Job) sendFile(ctx context.Context, from *ident.File, to, label string) (sum string, err error) {
	src, err := openSource(from.Path, from.Size)
	if err != nil {
		return "", err
	}
	defer src.f.Close()
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	made := digest(hctx, src.f, from.Size)
	m := newMeter(j.Obs, Send, label, from.Size)
	err = j.push(ctx, to, 0o100644, src.st.ModTime(), src.reader(), m.set)
	m.end()
	if err == nil {
		sum, err = made()
	}
	if err == nil {
		err = src.unchanged()
	}
	return sum, err
}

type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// tellRecovery leaves an order for the recovery in the bootloader message and
// restarts into it: it wipes by itself and starts the system. The rest of misc is
// left as it is; where it can't be read it is not written.
func (j *Job) tellRecovery(ctx context.Context, rec *Record, order string) error {
	misc, err := readBlock(ctx, j.Link, "misc", bcb.Size)
	if err != nil {
		return err
	}
	if misc == nil {
		return &link.RefusedError{Command: order, Message: "the recovery has no program to format with, and misc can't be read, so no order is left there; choose it in the recovery's menu"}
	}
	m, _ := bcb.ParseMessage(misc)
	m.Command, m.Recovery = bcb.CommandRecovery, []string{"recovery", order}
	if err := m.Put(misc); err != nil {
		return err
	}
	if err := j.writeDevice(ctx, device("misc", false), 0, strings.NewReader(string(misc[:bcb.MessageSize])), func(int64) {}); err != nil {
		return err
	}
	j.Obs.Say(Look, "this recovery has no program to format with; it was left an order in the bootloader message (%s), does it by itself and starts the system", order)
	from := j.Link
	if err := j.command(ctx, card.Recovery); err != nil {
		return err
	}
	vanish(ctx, from)
	from.Close()
	effects := j.Card.Clone()
	(&plan.Restart{From: card.Recovery, To: card.System}).Effects(effects)
	if order == "--wipe_data" {
		(&plan.FormatData{}).Effects(effects)
	}
	l, err := j.awaitSystem(ctx, effects)
	if err != nil {
		return err
	}
	j.Link, j.Card = l, effects
	rec.Confirm = PhoneWord
	return nil
}

// readDevice sends a partition's bytes to w; got is told how many there are.
func (j *Job) readDevice(ctx context.Context, dev string, w io.Writer, got func(int64)) (int64, error) {
	y, err := j.Link.ADB.Sync(ctx)
	if err != nil {
		return 0, err
	}
	defer y.Close()
	return y.Receive(ctx, dev, w, got)
}
