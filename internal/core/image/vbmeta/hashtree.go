package vbmeta

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash"
	"io"
	"runtime"
	"sync"

	"golang.org/x/crypto/blake2b"

	"jarlid/internal/core/image"
)

// hashes are the algorithms that descriptors of published builds have ("AVB: hashtree algorithm" in the
// README of external/avb; blake2b-256 since its version 1.3).
var hashes = map[string]func() hash.Hash{"sha1": sha1.New, "sha256": sha256.New, "sha512": sha512.New,
	"blake2b-256": func() hash.Hash {
		h, err := blake2b.New256(nil)
		if err != nil {
			panic(err) // only a key that is too long is an error
		}
		return h
	}}

// HashError says that an image can't be compared with a descriptor, as its algorithm is not known. It is no
// fault of the image's.
type HashError struct{ Algorithm, Partition string }

// AboutNoDamage marks it as no fault of the image's.
func (*HashError) AboutNoDamage() {}

// Error names both.
func (e *HashError) Error() string {
	return fmt.Sprintf("%s can't be checked: the hash algorithm %q is not known here", e.Partition,
		e.Algorithm)
}

// DigestError says that a partition is not what its descriptor says.
type DigestError struct{ Partition, What string }

// Error names the partition.
func (e *DigestError) Error() string { return e.Partition + ": " + e.What }

// CheckHash holds an image against a hash descriptor: the digest over salt and
// the first ImageSize bytes.
func CheckHash(ctx context.Context, d *Descriptor, r io.ReaderAt, size int64) error {
	make, ok := hashes[d.HashAlgorithm]
	if !ok {
		return &HashError{d.HashAlgorithm, d.PartitionName}
	}
	if d.ImageSize > uint64(size) {
		return image.Truncated(d.PartitionName, 0, int64(min(d.ImageSize, 1<<62)), size)
	}
	h := make()
	h.Write(d.Salt)
	if _, err := io.Copy(h, ctxReader{ctx, io.NewSectionReader(r, 0, int64(d.ImageSize))}); err != nil {
		return err
	}
	if !bytes.Equal(h.Sum(nil), d.Digest) {
		return &DigestError{d.PartitionName, fmt.Sprintf("the digest is %x, the descriptor says %x",
			h.Sum(nil), d.Digest)}
	}
	return nil
}

type ctxReader struct {
	ctx context.Context
	r   io.Reader
}

func (c ctxReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// tree works out a Linux dm-verity tree (Documentation/admin-guide/
// device-mapper/verity.rst, hash type 1): digests padded to a power of two,
// levels of whole hash blocks, the topmost first.
type tree struct {
	new           func() hash.Hash
	salt          []byte
	data, block   int64
	digest        int64   // padded size of one digest
	levels        []int64 // bytes of each level, the lowest first
	offsets       []int64 // where each level begins in the stored tree
	size          int64   // of the whole stored tree
	imageSize     int64
	partitionName string
}

func newTree(d *Descriptor) (*tree, error) {
	t := &tree{new: hashes[d.HashAlgorithm], salt: d.Salt, data: int64(d.DataBlockSize),
		block:     int64(d.HashBlockSize),
		imageSize: int64(d.ImageSize), partitionName: d.PartitionName}
	power := func(n int64) bool { return n >= 512 && n <= 1<<20 && n&(n-1) == 0 }
	switch {
	case t.new == nil:
		return nil, &HashError{d.HashAlgorithm, d.PartitionName}
	case d.DMVerityVersion != 1 || !power(t.data) || !power(t.block):
		return nil, image.Errorf(formatName, -1, "a tree of version %d with blocks of %d and %d bytes is "+
			"not known", d.DMVerityVersion, t.data, t.block)
	case t.imageSize <= 0 || t.imageSize%t.data != 0:
		return nil, image.Errorf(formatName, -1, "an image of %d bytes is not made of whole blocks",
			d.ImageSize)
	}
	for t.digest = 1; t.digest < int64(t.new().Size()); t.digest *= 2 {
	}
	for n, unit := t.imageSize, t.data; n > unit; unit = t.block {
		n = image.Align(n/unit*t.digest, t.block)
		t.levels = append(t.levels, n)
		t.size += n
		if n == t.block {
			break
		}
	}
	t.offsets = make([]int64, len(t.levels))
	at := int64(0)
	for i := len(t.levels) - 1; i >= 0; i-- {
		t.offsets[i] = at
		at += t.levels[i]
	}
	return t, nil
}

// span is how many bytes of data one worker hashes at a time: few enough to stay in its core's cache.
const span = 128 << 10

// hashLevel gives the digests of the size bytes of r, block by block, padded to
// whole hash blocks.
func (t *tree) hashLevel(ctx context.Context, r io.ReaderAt, size, unit, padded int64) ([]byte, error) {
	out := make([]byte, padded)
	per := max(span/unit, 1) * unit
	jobs := make(chan int64)
	var wg sync.WaitGroup
	var mu sync.Mutex
	var first error
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	fail := func(err error) {
		mu.Lock()
		if first == nil {
			first = err
		}
		mu.Unlock()
		cancel()
	}
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			buf := make([]byte, min(per, size))
			h := t.new()
			for off := range jobs {
				p := buf[:min(per, size-off)]
				if n, err := r.ReadAt(p, off); n < len(p) {
					fail(&image.Error{Format: t.partitionName, Offset: off + int64(n), What: "cannot be read",
						Short: true, Err: err})
					continue
				}
				for at := int64(0); at < int64(len(p)); at += unit {
					h.Reset()
					h.Write(t.salt)
					h.Write(p[at : at+unit])
					i := (off + at) / unit * t.digest
					h.Sum(out[i : i : i+t.digest])
				}
			}
		})
	}
feed:
	for off := int64(0); off < size; off += per {
		select {
		case jobs <- off:
		case <-ctx.Done():
			break feed
		}
	}
	close(jobs)
	wg.Wait()
	if first != nil {
		return nil, first
	}
	return out, ctx.Err()
}

// root gives the digest of the topmost block.
func (t *tree) root(top []byte) []byte {
	h := t.new()
	h.Write(t.salt)
	h.Write(top)
	return h.Sum(nil)
}

// build works out all levels and the root.
func (t *tree) build(ctx context.Context, r io.ReaderAt) (levels [][]byte, root []byte, err error) {
	size, unit := t.imageSize, t.data
	for _, padded := range t.levels {
		l, err := t.hashLevel(ctx, r, size, unit, padded)
		if err != nil {
			return nil, nil, err
		}
		levels = append(levels, l)
		r, size, unit = bytes.NewReader(l), padded, t.block
	}
	if len(levels) == 0 { // a single block of data is its own top
		b := make([]byte, t.data)
		if _, err := r.ReadAt(b, 0); err != nil && err != io.EOF {
			return nil, nil, err
		}
		return nil, t.root(b), nil
	}
	return levels, t.root(levels[len(levels)-1]), nil
}

// CheckHashtree holds an image against a hashtree descriptor: the tree is
// worked out from the data, its root compared with the descriptor's and, level
// by level, with the tree that is stored in the image. All cores are used.
func CheckHashtree(ctx context.Context, d *Descriptor, r io.ReaderAt, size int64) error {
	if d.ImageSize > uint64(size) || d.TreeOffset > uint64(size) || d.TreeSize > uint64(size)-d.TreeOffset {
		return image.Truncated(d.PartitionName, 0,
			int64(min(max(d.ImageSize, d.TreeOffset+d.TreeSize), 1<<62)), size)
	}
	t, err := newTree(d)
	if err != nil {
		return err
	}
	levels, root, err := t.build(ctx, r)
	if err != nil {
		return err
	}
	if !bytes.Equal(root, d.Digest) {
		return &DigestError{d.PartitionName, fmt.Sprintf("the tree's root is %x, the descriptor says %x",
			root, d.Digest)}
	}
	if int64(d.TreeSize) < t.size {
		return &DigestError{d.PartitionName, fmt.Sprintf("the stored tree has %d bytes, %d are needed",
			d.TreeSize, t.size)}
	}
	for i, l := range levels {
		at := int64(d.TreeOffset) + t.offsets[i]
		stored, err := image.ReadAt(d.PartitionName, r, size, at, int64(len(l)))
		if err != nil {
			return err
		}
		if !bytes.Equal(stored, l) {
			return &DigestError{d.PartitionName,
				fmt.Sprintf("level %d of the stored tree, at byte %d, is not the tree of the data", i, at)}
		}
	}
	return nil
}

// BuildHashtree works out the tree of the first ImageSize bytes of r by d's
// algorithm, salt and block sizes, and gives it as it is stored, with its root.
func BuildHashtree(ctx context.Context, d *Descriptor, r io.ReaderAt) (stored, root []byte, err error) {
	t, err := newTree(d)
	if err != nil {
		return nil, nil, err
	}
	levels, root, err := t.build(ctx, r)
	for i := len(levels) - 1; i >= 0; i-- {
		stored = append(stored, levels[i]...)
	}
	return stored, root, err
}
