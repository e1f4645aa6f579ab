package verify

import (
	"bytes"
	"context"
	"errors"
	"io"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/spell"
)

// footer compares an image with the verified boot data it carries: the hash or hash tree that its footer
// states, and the signature of a vbmeta image.
func (v *runner) footer() (outcome, error) {
	if v.f.IsArchive() || v.f.Closed != "" || v.f.Short {
		return outcome{}, nil
	}
	at, size := v.r, v.size
	switch {
	case len(v.f.Wrapped) == 0:
	case v.f.Wrapped[0] == "sparse" && len(v.f.Pieces) == 0:
		view, err := sparse.NewView(v.r, v.size)
		if err != nil {
			return outcome{}, nil // its form is what says so
		}
		at, size = view, view.Size()
	default:
		return outcome{}, nil // compressed: it is compared once it is decompressed
	}
	return footerOf(v.ctx, at, size)
}

// footerOf does that for the size bytes of an image.
func footerOf(ctx context.Context, r io.ReaderAt, size int64) (outcome, error) {
	var o outcome
	m, ft, err := vbmeta.Open(r, size)
	switch {
	case image.ByComputer(err):
		return o, err
	case err != nil && ft == nil:
		o.withoutFooter(r, size)
		return o, nil // an image of another kind
	case image.IsShort(err):
		o.faults = append(o.faults, Fault{Damaged, "footer", "the vbmeta its footer names is cut short"})
		return o, nil
	case err != nil:
		o.faults = append(o.faults, Fault{Altered, "footer", "the vbmeta its footer names can't be read (" +
			spell.Error(err) + ")"})
		return o, nil
	}
	o.signature(m)
	if ft == nil {
		return o, nil
	}
	for i := range m.Descriptors {
		d := &m.Descriptors[i]
		var err error
		name := ""
		switch d.Tag {
		case vbmeta.TagHash:
			name, err = "hash in the footer", vbmeta.CheckHash(ctx, d, r, size)
		case vbmeta.TagHashtree:
			name, err = "hash tree in the footer", vbmeta.CheckHashtree(ctx, d, r, size)
		default:
			continue
		}
		var differs *vbmeta.DigestError
		switch {
		case err == nil:
			o.passed = append(o.passed, name)
		case ctx.Err() != nil:
			return o, ctx.Err()
		case image.ByComputer(err):
			return o, err
		case errors.As(err, &differs), image.IsShort(err):
			o.faults = append(o.faults, Fault{Altered, name, "the " + name + " (for " + d.PartitionName +
				") belongs to other contents"})
		}
	}
	return o, nil
}

// withoutFooter looks for a footer that is there and can't be used, and for one that is cut.
func (o *outcome) withoutFooter(r io.ReaderAt, size int64) {
	if _, ok, err := vbmeta.ParseFooter(r, size); err != nil && !ok {
		o.faults = append(o.faults, Fault{Altered, "footer", "its verified boot footer can't be used (" +
			spell.Error(err) + ")"})
		return
	}
	b := make([]byte, min(size, vbmeta.FooterSize-1))
	if n, err := r.ReadAt(b, size-int64(len(b))); n < len(b) || err != nil && !errors.Is(err, io.EOF) {
		return
	}
	// The mark of a footer and its version, as they are in the specification (avb_footer.h).
	if bytes.Contains(b, []byte(vbmeta.FooterMagic+"\x00\x00\x00\x01")) {
		o.faults = append(o.faults, Fault{Damaged, "footer", "it ends within its verified boot footer"})
	}
}

// signature compares a vbmeta image with its signature. Only its flags may differ from what was signed:
// that is how dm-verity is disabled, and says itself what it is.
func (o *outcome) signature(m *vbmeta.Image) {
	const name = "signature of the vbmeta"
	err := m.Verify()
	_, known := vbmeta.Algorithms[m.AlgorithmType]
	switch {
	case m.AlgorithmType == 0, !known: // nobody signed it, or in a way that can't be checked
	case err == nil:
		o.passed = append(o.passed, name)
	case m.Flags != 0 && m.WithoutFlags().Verify() == nil:
		o.passed = append(o.passed, name+", flags aside")
	default:
		o.faults = append(o.faults, Fault{Altered, name, "its vbmeta was changed after it was signed"})
	}
}
