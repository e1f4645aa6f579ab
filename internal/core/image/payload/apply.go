package payload

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/wrap"
)

// Target is where a partition is written to.
type Target interface {
	io.WriterAt
	// Zero makes n bytes from off on read as zeros.
	Zero(off, n int64) error
}

// DeltaError says that a partition can't be made from the payload alone.
type DeltaError struct {
	Partition string
	Op        OpType
}

// Error names the partition and the operation.
func (e *DeltaError) Error() string {
	return fmt.Sprintf("partition %s is a delta (%s): it needs the exact build it was made from on the phone",
		e.Partition, e.Op)
}

// Apply runs one operation of a partition: data is read from r, the payload,
// and written to t. The digest of its data is checked before anything of it
// is trusted to be right; a wrong one is an *image.Error.
func (p *Payload) Apply(r io.ReaderAt, part *Partition, op *Operation, t Target) error {
	bs := int64(p.BlockSize)
	switch op.Type {
	case Zero, Discard:
		for _, e := range op.Dst {
			if err := t.Zero(int64(e.Start)*bs, int64(e.Blocks)*bs); err != nil {
				return err
			}
		}
		return nil
	}
	kinds := map[OpType]wrap.Kind{Replace: wrap.None, ReplaceBZ: wrap.Bzip2, ReplaceXZ: wrap.Xz,
		ReplaceZstd: wrap.Zstd}
	kind, ok := kinds[op.Type]
	if !ok {
		return &DeltaError{Partition: part.Name, Op: op.Type}
	}
	at := p.Blobs + int64(op.DataOffset)
	fail := func(what string, err error) error {
		return &image.Error{Format: formatName + ", partition " + part.Name, Offset: at, What: what, Err: err}
	}
	sum := sha256.New()
	src := io.TeeReader(io.NewSectionReader(r, at, int64(op.Length)), sum)
	z, err := wrap.NewReader(kind, src)
	if err != nil {
		return fail("the data cannot be unwrapped", err)
	}
	defer z.Close()
	for _, e := range op.Dst {
		w := io.NewOffsetWriter(t, int64(e.Start)*bs)
		n := int64(e.Blocks) * bs
		if got, err := io.CopyN(w, z, n); err != nil {
			if op.Type == Replace && got < n && err == io.EOF {
				// The last block of a raw operation may be cut; what is left is zeros.
				err = t.Zero(int64(e.Start)*bs+got, n-got)
			}
			if err != nil {
				return fail("the data cannot be unwrapped or written", err)
			}
		}
	}
	var more [1]byte
	if n, err := io.ReadFull(z, more[:]); n > 0 {
		return fail("it unwraps to more than the blocks it is for hold", nil)
	} else if err != io.EOF && err != io.ErrUnexpectedEOF {
		return fail("the data cannot be unwrapped", err)
	}
	if _, err := io.Copy(io.Discard, src); err != nil {
		return fail("cannot be read", err)
	}
	if len(op.SHA256) > 0 && !bytes.Equal(sum.Sum(nil), op.SHA256) {
		return fail(fmt.Sprintf("the data's SHA-256 is %x, the manifest says %x", sum.Sum(nil), op.SHA256),
			nil)
	}
	return nil
}
