package bench

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// shelfMount is where a partition is mounted when the recovery has not mounted it
// itself.
const shelfMount = "/tmp/jarlid-mount"

// Moved is a file that was moved on the phone.
type Moved struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// shelfEntry is one line of the record that lies beside what was moved aside.
type shelfEntry struct {
	Path  string    `yaml:"path"`  // as it is named
	From  string    `yaml:"from"`  // within the partition
	Aside string    `yaml:"aside"` // within the partition
	When  time.Time `yaml:"when"`
}

// deviceReader reads a device through the shell, a block at a time.
type deviceReader struct {
	ctx  context.Context
	l    *Link
	dev  string
	size int64
	mu   sync.Mutex
	kept []block // what was read last, the newest first
}

// block is a piece of a device and where it begins.
type block struct {
	at   int64
	data []byte
}

const (
	// readerBlock is how much is read with one command, in bytes.
	readerBlock = 1 << 20
	// readerKept is how many blocks are kept: a file system is read here and there.
	readerKept = 8
)

// ReadAt reads from the device.
func (d *deviceReader) ReadAt(p []byte, off int64) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at < 0 || at >= d.size {
			return done, io.EOF
		}
		b, err := d.block(at - at%readerBlock)
		if err != nil {
			return done, err
		}
		done += copy(p[done:], b[at%readerBlock:])
	}
	return done, nil
}

// block gives the block that begins at start.
func (d *deviceReader) block(start int64) ([]byte, error) {
	if i := slices.IndexFunc(d.kept, func(b block) bool { return b.at == start }); i >= 0 {
		b := d.kept[i]
		copy(d.kept[1:i+1], d.kept[:i])
		d.kept[0] = b
		return b.data, nil
	}
	ctx, cancel := context.WithTimeout(d.ctx, shellLimit)
	defer cancel()
	out, err := d.l.ADB.Shell(ctx, fmt.Sprintf("dd if=%s bs=%d skip=%d count=1 2>/dev/null", d.dev, readerBlock, start/readerBlock))
	if err != nil {
		return nil, err
	}
	if want := min(readerBlock, d.size-start); int64(len(out.Stdout)) != want {
		return nil, fmt.Errorf("%s gave %d bytes at %d, %d were asked for", d.dev, len(out.Stdout), start, want)
	}
	d.kept = append([]block{{start, out.Stdout}}, d.kept[:min(len(d.kept), readerKept-1)]...)
	return out.Stdout, nil
}

// openDevice opens a device for reading through the shell. One that is not there
// is ErrNoPartition.
func openDevice(ctx context.Context, l *Link, dev string) (*deviceReader, error) {
	text, err := shell(ctx, l, "[ -e "+dev+" ] && echo it-is-there; blockdev --getsize64 "+dev+" 2>/dev/null")
	if err != nil {
		return nil, err
	}
	size, there := strings.CutPrefix(text, "it-is-there")
	if !there {
		return nil, fmt.Errorf("%s: %w", dev, ErrNoPartition)
	}
	var n int64
	if _, err := fmt.Sscanf(strings.TrimSpace(size), "%d", &n); err != nil || n <= 0 {
		return nil, &link.RefusedError{Command: "read " + dev, Message: "the recovery does not tell how large it is"}
	}
	return &deviceReader{ctx: ctx, l: l, dev: dev, size: n}, nil
}

// ReadTrees reads which hash trees the slot that runs has enforced.
func (j *Job) ReadTrees(ctx context.Context) error {
	if !rootRecovery(j.Link, j.Card) {
		return nil
	}
	enforced, off, missing, err := vbmeta.Trees(j.Partitions(ctx, j.Card.Value(card.FactStarted)), "vbmeta")
	none := errors.Is(err, ErrNoPartition) // no verified boot of this kind
	if !none && (err != nil || len(missing) > 0 && !off) {
		return nil // it can't be told
	}
	state := func(name string) string {
		switch {
		case off:
			return "off"
		case slices.Contains(enforced, name):
			return "enforced"
		}
		return "none"
	}
	for _, name := range plan.Shelvable {
		learn(j.Card, card.FactTree+name, state(name))
	}
	return nil
}

// ext4Super reads the super block in the first blocks of a partition; nil when it
// is no ext4.
func ext4Super(b []byte) *ext4.Super {
	s, _ := ext4.ParseSuper(bytes.NewReader(b), int64(len(b))) // of a file system that goes on behind them
	return s
}

// systemType tells a file system by its super block.
func systemType(b []byte) string {
	if len(b) < blockSize {
		return ""
	}
	le := binary.LittleEndian
	s := ext4Super(b)
	switch {
	case s != nil && s.SharedBlocks():
		return "ext4-shared"
	case s != nil:
		return "ext4"
	case le.Uint32(b[1024:]) == 0xe0f5e1e2: // Documentation/filesystems/erofs.rst
		return "erofs"
	case le.Uint32(b) == 0x73717368: // Documentation/filesystems/squashfs.rst
		return "squashfs"
	case le.Uint32(b[1024:]) == 0xf2f52010: // Documentation/filesystems/f2fs.rst
		return "f2fs"
	}
	return ""
}

// Locate finds where a path of the phone's system lies: its partition on the slot
// that runs, and its place there. Without a partition of that name it lies in the
// system's. back looks for what was moved aside.
func (j *Job) Locate(ctx context.Context, name string, back bool) (plan.Item, error) {
	base, rest, err := plan.ParseShelfPath(name)
	if err != nil {
		return plan.Item{}, &UsageError{Text: err.Error()}
	}
	item := plan.Item{Path: name}
	dev, part, err := j.systemDevice(ctx, base)
	if err == nil && dev == "" && base != "system" {
		dev, part, err = j.systemDevice(ctx, "system")
		base, rest = "system", base+"/"+rest
	}
	if err != nil {
		return item, err
	}
	item.Partition = part
	if dev == "" {
		item.Missing = true
		return item, nil
	}
	m, err := j.mountSystem(ctx, dev, false)
	if err != nil {
		return item, err
	}
	defer m.release(ctx)
	item.Inside = rest
	if base == "system" {
		item.Inside, err = m.inside(ctx, rest)
		if err != nil {
			return item, err
		}
	}
	look := item.Inside
	if back {
		look = item.Aside()
	}
	is, err := m.there(ctx, look)
	item.Missing = !is
	return item, err
}

// systemDevice gives the device of one of the system's partitions on the slot
// that runs, "" where there is none, and keeps its file system.
func (j *Job) systemDevice(ctx context.Context, base string) (dev, partition string, err error) {
	slot := j.Card.Value(card.FactStarted)
	for _, name := range []string{plan.Suffixed(base, slot), base} {
		for _, logical := range []bool{true, false} {
			d := device(name, logical)
			head, err := readDeviceHead(ctx, j.Link, d)
			if err != nil {
				return "", "", err
			}
			if head != nil {
				learn(j.Card, card.FactFS+name, systemType(head))
				return d, name, nil
			}
		}
	}
	return "", plan.Suffixed(base, slot), nil
}

// mount is a partition that is mounted for a while.
type mount struct {
	j       *Job
	at      string
	own     bool // mounted by Jar Lid
	remount bool // it was mounted for reading, and is for writing now
}

// mountSystem mounts a device, or uses the place where it is mounted.
func (j *Job) mountSystem(ctx context.Context, dev string, write bool) (*mount, error) {
	table, err := shell(ctx, j.Link, "cat /proc/mounts; echo; readlink -f "+dev)
	if err != nil {
		return nil, err
	}
	lines := strings.Split(strings.TrimSpace(table), "\n")
	real := lines[len(lines)-1]
	m := &mount{j: j, at: shelfMount, own: true}
	for _, line := range lines {
		f := strings.Fields(line)
		if len(f) > 3 && (f[0] == dev || f[0] == real) && f[1] != shelfMount {
			m.at, m.own = f[1], false
			m.remount = write && !strings.HasPrefix(f[3], "rw")
		}
	}
	command := ""
	switch {
	case m.own:
		how := "ro"
		if write {
			how = "rw"
		}
		command = fmt.Sprintf("umount %s 2>/dev/null; mkdir -p %s && mount -o %s %s %s", m.at, m.at, how, dev, m.at)
	case m.remount:
		command = "mount -o remount,rw " + m.at
	default:
		return m, nil
	}
	if err := j.inShell(ctx, command, "mount "+dev); err != nil {
		return nil, err
	}
	return m, nil
}

// inShell runs one command in the shell and makes sure that it went well, also on
// shells without exit codes.
func (j *Job) inShell(ctx context.Context, command, what string) error {
	sctx, cancel := context.WithTimeout(ctx, formatLimit)
	defer cancel()
	out, err := j.Link.ADB.Shell(sctx, "{ "+command+"; } 2>&1 && echo it-went-well")
	if err != nil {
		return err
	}
	text := strings.TrimSpace(string(out.Stdout))
	if !strings.HasSuffix(text, "it-went-well") {
		return &link.RefusedError{Command: what, Message: text}
	}
	return nil
}

// release unmounts what was mounted.
func (m *mount) release(ctx context.Context) {
	ctx = context.WithoutCancel(ctx)
	if m.own {
		shell(ctx, m.j.Link, "sync; umount "+m.at)
	} else if m.remount {
		shell(ctx, m.j.Link, "sync; mount -o remount,ro "+m.at)
	}
}

// inside gives the place of a path of /system: images that are the root of the
// phone's files have it in a folder.
func (m *mount) inside(ctx context.Context, rest string) (string, error) {
	is, err := m.there(ctx, "system/build.prop")
	if is {
		rest = "system/" + rest
	}
	return rest, err
}

func (m *mount) there(ctx context.Context, name string) (bool, error) {
	text, err := shell(ctx, m.j.Link, "[ -e "+quoteShell(path.Join(m.at, name))+" ] && echo it-is-there")
	return strings.HasSuffix(text, "it-is-there"), err
}

func (m *mount) record(ctx context.Context) ([]shelfEntry, error) {
	text, err := shell(ctx, m.j.Link, "cat "+path.Join(m.at, plan.Shelf, plan.ShelfRecord)+" 2>/dev/null")
	if err != nil || text == "" {
		return nil, err
	}
	var list []shelfEntry
	if err := yaml.Unmarshal([]byte(text), &list); err != nil {
		return nil, fmt.Errorf("the record of what was moved aside is damaged: %w", err)
	}
	return list, nil
}

func (m *mount) keep(ctx context.Context, list []shelfEntry) error {
	shelf := path.Join(m.at, plan.Shelf)
	if len(list) == 0 {
		return m.j.inShell(ctx, "rm -rf "+shelf, "take the empty shelf away")
	}
	b, err := yaml.Marshal(list)
	if err != nil {
		return err
	}
	return m.j.inShell(ctx, fmt.Sprintf("mkdir -p %s && printf '%%s' %s > %s", shelf, quoteShell(string(b)), path.Join(shelf, plan.ShelfRecord)), "write the record of what was moved aside")
}

// shelve moves files aside or back, one after the other, and looks where they are.
func (j *Job) shelve(ctx context.Context, s *plan.Shelve) (Record, error) {
	rec := Record{Confirm: ReadBack}
	for i := range s.Items {
		if err := j.shelveOne(ctx, &s.Items[i], s.Back); err != nil {
			return rec, err
		}
		rec.Answers = append(rec.Answers, fmt.Sprintf("%s: %s to %s", s.Items[i].Partition, j.Moves[len(j.Moves)-1].From, j.Moves[len(j.Moves)-1].To))
	}
	s.Effects(j.Card)
	return rec, nil
}

func (j *Job) shelveOne(ctx context.Context, item *plan.Item, back bool) error {
	dev, _, err := j.systemDevice(ctx, strings.TrimSuffix(item.Partition, "_"+j.Card.Value(card.FactStarted)))
	if err != nil {
		return err
	}
	m, err := j.mountSystem(ctx, dev, true)
	if err != nil {
		return err
	}
	defer m.release(ctx)
	list, err := m.record(ctx)
	if err != nil {
		return err
	}
	from, to := item.Inside, item.Aside()
	if back {
		from, to = to, from
	} else {
		// The record comes first: what is moved is never without it.
		list = append(list, shelfEntry{Path: item.Path, From: item.Inside, Aside: item.Aside(), When: now()})
		if err := m.keep(ctx, list); err != nil {
			return err
		}
	}
	src, dst := path.Join(m.at, from), path.Join(m.at, to)
	if err := j.inShell(ctx, fmt.Sprintf("mkdir -p %s && mv %s %s && [ -e %s ] && [ ! -e %s ] && sync",
		quoteShell(path.Dir(dst)), quoteShell(src), quoteShell(dst), quoteShell(dst), quoteShell(src)), "move "+item.Path); err != nil {
		return err
	}
	if back {
		var rest []shelfEntry
		for _, e := range list {
			if e.Path != item.Path {
				rest = append(rest, e)
			}
		}
		if err := m.keep(ctx, rest); err != nil {
			return err
		}
	}
	j.Moves = append(j.Moves, Moved{From: "/" + from, To: "/" + to})
	return nil
}

// Shelved reads what was moved aside on the slot that runs.
func (j *Job) Shelved(ctx context.Context) ([]plan.Item, error) {
	var items []plan.Item
	err := j.eachSystem(ctx, func(_, part string, m *mount) error {
		list, err := m.record(ctx)
		for _, e := range list {
			items = append(items, plan.Item{Path: e.Path, Partition: part, Inside: e.From})
		}
		return err
	})
	return items, err
}

// eachSystem mounts each of the system's partitions that there are, for reading.
func (j *Job) eachSystem(ctx context.Context, do func(base, partition string, m *mount) error) error {
	for _, base := range plan.Shelvable {
		dev, part, err := j.systemDevice(ctx, base)
		if err != nil {
			return err
		}
		if dev == "" || j.Card.Value(card.FactFS+part) == "" {
			continue
		}
		m, err := j.mountSystem(ctx, dev, false)
		if err != nil {
			return err
		}
		err = do(base, part, m)
		m.release(ctx)
		if err != nil {
			return err
		}
	}
	return nil
}

// scriptLimit is how many scripts of one folder are read.
const scriptLimit = 40

// Restorers finds the scripts that put the maker's recovery back: by what is in
// them, in the folders where makers have them.
func (j *Job) Restorers(ctx context.Context) ([]plan.Item, error) {
	var items []plan.Item
	err := j.eachSystem(ctx, func(base, part string, m *mount) error {
		for _, dir := range []string{"bin", "etc", "xbin", "vendor/bin", "vendor/etc"} {
			inside := dir
			if base == "system" {
				var err error
				if inside, err = m.inside(ctx, dir); err != nil {
					return err
				}
			}
			text, err := shell(ctx, j.Link, "ls "+quoteShell(path.Join(m.at, inside))+" 2>/dev/null")
			if err != nil {
				return err
			}
			read := 0
			for name := range strings.SplitSeq(text, "\n") {
				if !strings.HasSuffix(name, ".sh") || read >= scriptLimit {
					continue
				}
				read++
				script, err := shell(ctx, j.Link, "cat "+quoteShell(path.Join(m.at, inside, name)))
				if err != nil {
					return err
				}
				if plan.Restores(script) {
					items = append(items, plan.Item{Path: "/" + path.Join(base, dir, name), Partition: part, Inside: path.Join(inside, name)})
				}
			}
		}
		return nil
	})
	return items, err
}
