package bench

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/graft"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/wrap"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// graftWish says which recovery goes into which slot's image.
type graftWish struct {
	Home plan.Home
	Slot string
	// Ramdisk is the recovery's, as ramdiskOf gives it.
	Ramdisk []byte
	Base    string // the image it goes into; "": the one on the phone
	Dir     string // where the new image is put
}

// grafted is an image with another ramdisk.
type grafted struct {
	Path     string   // of the new image
	Previous []byte   // what was on the phone, where it was read
	Lost     []string // what a normal start may need and the new ramdisk lacks
	Packed   string   // how the ramdisk is compressed, where it had to be changed
}

// GraftAll makes the images of all slots that have one, from the recovery in a file, and the
// writes that put them there; base is the image they go into, "" for the phone's own. What
// was made lies in dir. It finds what the new ramdisks lack for a normal start.
func (j *Job) GraftAll(ctx context.Context, home plan.Home, writes []*plan.Write, recovery, base, dir string) (made []*plan.Write, found []finding.Finding, err error) {
	ramdisk, err := ramdiskOf(recovery)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range writes {
		if err := j.LearnDevices(ctx, w.Name()); err != nil {
			return nil, nil, err
		}
		g, err := j.graft(ctx, graftWish{Home: home, Slot: w.Slot, Ramdisk: ramdisk, Base: base, Dir: dir})
		if errors.Is(err, ErrEmptySlot) {
			j.Obs.Say("note", "%s is empty and left alone; what is installed there brings its own", w.Name())
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		if g.Packed != "" {
			j.Obs.Say("note", "the ramdisk: %s", g.Packed)
		}
		found = append(found, plan.LostFindings(w.Name(), g.Lost)...)
		n := *w
		n.Label, n.Previous = "the rebuilt image with "+filepath.Base(recovery), g.Previous
		if n.File, err = identify(g.Path); err != nil {
			return nil, nil, err
		}
		j.Obs.Say(Good, "%s: the recovery's ramdisk is in it, everything else is as it was; read again and compared", w.Name())
		made = append(made, &n)
	}
	return made, found, nil
}

// rebuild makes the images of all slots, and then writes them.
func (j *Job) rebuild(ctx context.Context, s *plan.Rebuild) (Record, error) {
	rec := Record{Confirm: NotKnown}
	dir, err := os.MkdirTemp("", "jarlid-")
	if err != nil {
		return rec, err
	}
	defer os.RemoveAll(dir)
	made, found, err := j.GraftAll(ctx, s.Home, s.Writes, s.File.Path, "", dir)
	if err != nil {
		return rec, err
	}
	found = finding.Apply(found, j.Accept)
	for _, f := range found {
		j.Obs.Found(f)
	}
	if stops := finding.Blocking(found); len(stops) > 0 {
		rec.Found = stops
		return rec, &FindingError{Findings: stops, Acted: j.acted}
	}
	for _, w := range made {
		one, err := j.writeImage(ctx, w)
		rec.Bytes, rec.Confirm = rec.Bytes+one.Bytes, one.Confirm
		if err != nil {
			return rec, err
		}
	}
	return rec, nil
}

// ErrEmptySlot says that there is no image on a slot that could be changed.
var ErrEmptySlot = errors.New("there is no image on it")

// ramdiskOf takes the recovery's ramdisk out of what a person gave: a boot image, a
// vendor boot image, or the ramdisk itself.
func ramdiskOf(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if st.Size() > graft.MaxImage {
		return nil, fmt.Errorf("%s has %d bytes, more than any image with a recovery", path, st.Size())
	}
	var r io.Reader = io.NewSectionReader(f, 0, st.Size())
	if m, err := boot.Parse(f, st.Size()); err == nil {
		r = m.Open(f, "ramdisk")
	} else if v, verr := boot.ParseVendor(f, st.Size()); verr == nil {
		if v.Recovery() == nil {
			return nil, fmt.Errorf("%s is a vendor boot image without a recovery in it", path)
		}
		r = io.NewSectionReader(f, v.Recovery().Offset, v.Recovery().Size)
	}
	b, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	rd, err := boot.ReadRamdisk(bytes.NewReader(b))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if !rd.Recovery {
		return nil, fmt.Errorf("%s holds no recovery", path)
	}
	return b, nil
}

// graft makes the image of one slot with the recovery's ramdisk in it, and makes sure
// that the result reads as what was meant.
func (j *Job) graft(ctx context.Context, w graftWish) (*grafted, error) {
	ramdisk := w.Ramdisk
	name := plan.Suffixed(w.Home.Partition, w.Slot)
	base, err := j.graftBase(ctx, w, name)
	if err != nil {
		return nil, err
	}
	g := &grafted{Path: filepath.Join(w.Dir, name+".img")}
	if w.Base == "" {
		g.Previous = base
	}
	if w.Base == "" && image.IsZero(base[:min(len(base), blockSize)]) {
		return nil, fmt.Errorf("%s: %w", name, ErrEmptySlot)
	}
	room, _ := j.Card.Number(card.FactSize + name)
	old, err := oldRamdisk(w.Home, base)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if len(old) > 0 {
		if wrap.Detect(old) == wrap.Xz && wrap.Detect(ramdisk) != wrap.Xz {
			j.Obs.Say(Wait, "compressing the ramdisk with xz, as the phone's is; that may take a minute")
		}
		if ramdisk, g.Packed, err = packedAs(old, ramdisk); err != nil {
			return nil, err
		}
		if w.Home.Form == "ramdisk" {
			if g.Lost, err = lostFor(old, ramdisk); err != nil {
				return nil, err
			}
		}
	}
	put := graft.Ramdisk
	if w.Home.Form == "fragment" {
		put = graft.Fragment
	}
	img, err := put(bytes.NewReader(base), int64(len(base)), ramdisk, room)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	again, err := oldRamdisk(w.Home, img)
	if err != nil || !bytes.Equal(again, ramdisk) {
		return nil, fmt.Errorf("%s: read again, the image does not hold the ramdisk it was given (%v)", name, err)
	}
	return g, os.WriteFile(g.Path, img, 0o600)
}

// graftBase reads the image the ramdisk goes into.
func (j *Job) graftBase(ctx context.Context, w graftWish, name string) ([]byte, error) {
	if w.Base != "" {
		f, err := os.Open(w.Base)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return io.ReadAll(io.LimitReader(f, graft.MaxImage+1))
	}
	var b bytes.Buffer
	m := newMeter(j.Obs, Recv, name, 0)
	defer m.end()
	if j.Link != nil && j.Link.FB != nil && j.Link.Mode == card.Fastbootd {
		size, _ := j.Card.Number(card.FactSize + name)
		err := j.fetchWhole(ctx, name, min(size, graft.MaxImage), &b, m)
		return b.Bytes(), err
	}
	if !rootRecovery(j.Link, j.Card) {
		return nil, &UsageError{Text: fmt.Sprintf("the recovery goes into the phone's own %s, which can't be read in this mode: start a recovery with a root shell first (jarlid recovery try FILE), or name the image with --boot FILE", name)}
	}
	_, err := j.readDevice(ctx, device(name, false), &limitedBuffer{&b}, m.set)
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		return nil, &UsageError{Text: fmt.Sprintf("%s can't be read (%s); name the image with --boot FILE", name, refused.Message)}
	}
	return b.Bytes(), err
}

// limitedBuffer takes no more than an image may have.
type limitedBuffer struct{ b *bytes.Buffer }

func (l *limitedBuffer) Write(p []byte) (int, error) {
	if l.b.Len()+len(p) > graft.MaxImage {
		return 0, fmt.Errorf("it is larger than any boot partition")
	}
	return l.b.Write(p)
}

// oldRamdisk gives the ramdisk that is replaced; nil when there is none.
func oldRamdisk(h plan.Home, img []byte) ([]byte, error) {
	r := bytes.NewReader(img)
	if h.Form != "fragment" {
		m, err := boot.Parse(r, int64(len(img)))
		if err != nil {
			return nil, err
		}
		s := m.Section("ramdisk")
		return img[s.Offset : s.Offset+s.Size], nil
	}
	m, err := boot.ParseVendor(r, int64(len(img)))
	if err != nil {
		return nil, err
	}
	f := m.Recovery()
	if m.HeaderVersion == 3 && len(m.Fragments) > 0 {
		f = &m.Fragments[0]
	}
	if f == nil {
		return nil, nil
	}
	return img[f.Offset : f.Offset+f.Size], nil
}

// packedAs compresses a ramdisk as the old one is: kernels are built to unpack one
// form. Forms that can't be made here stay as they were given, and are named.
func packedAs(old, ramdisk []byte) (out []byte, changed string, err error) {
	want, have := wrap.Detect(old), wrap.Detect(ramdisk)
	if want == have {
		return ramdisk, "", nil
	}
	z, err := wrap.NewReader(have, bytes.NewReader(ramdisk))
	if err != nil {
		return nil, "", err
	}
	defer z.Close()
	var b bytes.Buffer
	var w io.WriteCloser
	switch want {
	case wrap.None:
		w = nopCloser{&b}
	case wrap.Gzip:
		w = gzip.NewWriter(&b)
	case wrap.LZ4Legacy:
		l := lz4.NewWriter(&b)
		if err := l.Apply(lz4.LegacyOption(true), lz4.CompressionLevelOption(lz4.Level9)); err != nil {
			return nil, "", err
		}
		w = l
	case wrap.Xz:
		// The kernel checks CRC32 and no other sum (lib/xz/xz_dec_stream.c).
		if w, err = (xz.WriterConfig{CheckSum: xz.CRC32}).NewWriter(&b); err != nil {
			return nil, "", err
		}
	case wrap.Zstd:
		// The kernel's window is 128 MiB at most (lib/decompress_unzstd.c).
		if w, err = zstd.NewWriter(&b, zstd.WithEncoderLevel(zstd.SpeedBestCompression), zstd.WithWindowSize(8<<20)); err != nil {
			return nil, "", err
		}
	default:
		return ramdisk, fmt.Sprintf("it stays %s, the old one is %s, which is not made here", formName(have), formName(want)), nil
	}
	if _, err = io.Copy(w, io.LimitReader(z, boot.MaxRamdisk)); err == nil {
		err = w.Close()
	}
	return b.Bytes(), fmt.Sprintf("it was %s and is %s now, as the phone's is", formName(have), formName(want)), err
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

func formName(k wrap.Kind) string {
	if k == wrap.None {
		return "not compressed"
	}
	return string(k)
}

// neededToStart tells whether a normal start may need a file of the ramdisk: its
// first stage's table of mounts, kernel modules, init itself, and what patches of the
// system's start leave there ("Ramdisk partitions" in the platform's documentation).
func neededToStart(name string) bool {
	base := filepath.Base(name)
	return strings.HasPrefix(base, "fstab.") || strings.HasPrefix(name, "first_stage_ramdisk/") || strings.HasPrefix(name, "lib/modules/") ||
		name == "init" || strings.HasPrefix(name, "overlay.d/") || strings.HasPrefix(name, ".backup/") || base == "first_stage.fstab"
}

// lostFor compares two ramdisks: what the old one has for a normal start and the new
// one lacks.
func lostFor(old, ramdisk []byte) ([]string, error) {
	a, err := boot.ReadRamdisk(bytes.NewReader(old))
	if err != nil {
		return nil, fmt.Errorf("the ramdisk that is there: %w", err)
	}
	b, err := boot.ReadRamdisk(bytes.NewReader(ramdisk))
	if err != nil {
		return nil, err
	}
	has := map[string]bool{}
	for _, n := range b.Names {
		has[n] = true
	}
	var lost []string
	for _, n := range a.Names {
		if neededToStart(n) && !has[n] {
			lost = append(lost, n)
		}
	}
	return lost, nil
}
