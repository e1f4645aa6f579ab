package vbmeta

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"jarlid/internal/core/image"
)

// Source opens a partition by its name without a slot's suffix. A partition
// that is not there is an error that matches fs.ErrNotExist.
type Source func(partition string) (r io.ReaderAt, size int64, err error)

// Verdict is what the chain says of one partition.
type Verdict struct {
	Partition string
	Kind      string // vbmeta, hash, hashtree, fec
	By        string // the vbmeta that answers for it
	Image     *Image // of a vbmeta
	// Invalid says that a vbmeta can't be used at all, which no lock state
	// forgives; Err that what is there is not what was signed.
	Invalid, Err error
	Location     uint32 // of a vbmeta: where its rollback index is stored
}

// Chain is a whole chain, verified.
type Chain struct {
	Verdicts []Verdict
	Top      *Image // nil when it can't be used
}

// Invalid gives the first vbmeta that can't be used at all.
func (c *Chain) Invalid() error {
	for _, v := range c.Verdicts {
		if v.Invalid != nil {
			return fmt.Errorf("%s: %w", v.Partition, v.Invalid)
		}
	}
	return nil
}

// Bad gives the verdicts that are not good, of the kinds given; none: of all that
// verified boot demands, which error correction (fec) is not.
func (c *Chain) Bad(kinds ...string) []Verdict {
	var list []Verdict
	for _, v := range c.Verdicts {
		wanted := len(kinds) == 0 && v.Kind != "fec"
		for _, k := range kinds {
			wanted = wanted || k == v.Kind
		}
		if wanted && (v.Err != nil || v.Invalid != nil) {
			list = append(list, v)
		}
	}
	return list
}

// Missing gives the partitions whose image was not there to be compared with the chain.
func (c *Chain) Missing() (list []string) {
	for _, v := range c.Verdicts {
		if v.Missing() && !slices.Contains(list, v.Partition) {
			list = append(list, v.Partition)
		}
	}
	return list
}

// There gives the chain without what was not there.
func (c *Chain) There() *Chain {
	o := *c
	o.Verdicts = slices.DeleteFunc(slices.Clone(c.Verdicts), func(v Verdict) bool { return v.Missing() })
	return &o
}

// Missing tells that the image was not there, which says nothing about what it would be.
func (v *Verdict) Missing() bool {
	return errors.Is(v.Err, fs.ErrNotExist) || errors.Is(v.Invalid, fs.ErrNotExist)
}

// Contents are the partitions whose contents a verification checks, by how a vbmeta answers
// for them: WithHashes or WithTrees, or both.
type Contents uint

// The partitions with a digest of the whole, and those with a tree of digests.
const (
	WithHashes Contents = 1 << iota
	WithTrees
)

// maxChain bounds how many vbmeta images one chain may have; libavb allows
// chains from the top image only.
const maxChain = 32

// VerifyChain verifies the partition named top and everything it answers for,
// by the rules of avb_slot_verify.c: signatures and keys of chained partitions, and
// of the partitions what also names; those are read whole. With
// FlagVerificationDisabled in the top image nothing below it is checked.
func VerifyChain(ctx context.Context, open Source, top string, also Contents) (*Chain, error) {
	c := &Chain{}
	m := c.vbmeta(open, top, nil, 0)
	c.Top = m
	if m == nil || m.Flags&FlagVerificationDisabled != 0 {
		return c, nil
	}
	return c, c.below(ctx, open, m, top, also, true)
}

// vbmeta reads one vbmeta image and checks its signature, and its key against
// the one a chain descriptor states.
func (c *Chain) vbmeta(open Source, name string, key []byte, location uint32) *Image {
	v := Verdict{Partition: name, Kind: "vbmeta", Location: location}
	defer func() { c.Verdicts = append(c.Verdicts, v) }()
	r, size, err := open(name)
	if err != nil {
		v.Invalid = err
		return nil
	}
	m, _, err := Open(r, size)
	if err != nil {
		v.Invalid = err
		return nil
	}
	v.Image = m
	if key == nil {
		v.Location = m.RollbackIndexLocation
	}
	if err := m.Verify(); err != nil {
		v.Err = err
	} else if key != nil && string(m.PublicKey) != string(key) {
		v.Err = &SignatureError{"it was signed with another key than the chain names"}
	}
	return m
}

func (c *Chain) below(ctx context.Context, open Source, m *Image, by string, also Contents,
	first bool) error {
	for i := range m.Descriptors {
		d := &m.Descriptors[i]
		switch d.Tag {
		case TagChain:
			if !first || len(c.Verdicts) > maxChain {
				c.Verdicts = append(c.Verdicts, Verdict{Partition: d.PartitionName, Kind: "vbmeta", By: by,
					Invalid: image.Errorf(formatName, -1, "only the top vbmeta may chain to another")})
				continue
			}
			next := c.vbmeta(open, d.PartitionName, d.PublicKey, d.RollbackIndexLocation)
			c.Verdicts[len(c.Verdicts)-1].By = by
			if next != nil {
				if err := c.below(ctx, open, next, d.PartitionName, also, false); err != nil {
					return err
				}
			}
		case TagHash, TagHashtree:
			if d.Tag == TagHashtree && also&WithTrees == 0 || d.Tag == TagHash && also&WithHashes == 0 {
				continue
			}
			v := Verdict{Partition: d.PartitionName, Kind: TagNames[d.Tag], By: by}
			r, size, err := open(d.PartitionName)
			switch {
			case err != nil:
			case d.Tag == TagHash:
				err = CheckHash(ctx, d, r, size)
			default:
				err = CheckHashtree(ctx, d, r, size)
			}
			if errors.Is(err, context.Canceled) {
				return err
			}
			v.Err = err
			c.Verdicts = append(c.Verdicts, v)
			if r != nil && d.Tag == TagHashtree && d.FECSize > 0 {
				c.Verdicts = append(c.Verdicts, Verdict{Partition: d.PartitionName, Kind: "fec", By: by,
					Err: checkFEC(d, r, size)})
			}
		}
	}
	return nil
}

// checkFEC reports whether the error correction a descriptor names is there; it is not
// decoded.
func checkFEC(d *Descriptor, r io.ReaderAt, size int64) error {
	if d.FECOffset > uint64(size) || d.FECSize > uint64(size)-d.FECOffset {
		return image.Errorf(d.PartitionName, size, "its error correction would lie at %d, %d bytes of it, "+
			"behind the end", d.FECOffset, d.FECSize)
	}
	head := make([]byte, min(d.FECSize, 1<<20))
	if _, err := r.ReadAt(head, int64(d.FECOffset)); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if image.IsZero(head) {
		return image.Errorf(d.PartitionName, int64(d.FECOffset),
			"there are zeros where its error correction should be")
	}
	return nil
}

// Trees tells which partitions have a hash tree that the kernel enforces at the
// next start, by what the chain from the partition named top says; nothing is
// verified. off is set when the top image switches them off. A chained vbmeta that can't
// be read is left out, and named in missing.
func Trees(open Source, top string) (enforced []string, off bool, missing []string, err error) {
	r, size, err := open(top)
	if err != nil {
		return nil, false, nil, err
	}
	m, _, err := Open(r, size)
	if err != nil {
		return nil, false, nil, err
	}
	off = m.Flags&(FlagHashtreeDisabled|FlagVerificationDisabled) != 0
	images := []*Image{m}
	for i := range m.Descriptors {
		d := &m.Descriptors[i]
		if d.Tag != TagChain || len(images) > maxChain {
			continue
		}
		r, size, err := open(d.PartitionName)
		if err == nil {
			var next *Image
			if next, _, err = Open(r, size); err == nil {
				images = append(images, next)
			}
		}
		if err != nil {
			missing = append(missing, d.PartitionName)
		}
	}
	for _, m := range images {
		for i := range m.Descriptors {
			if d := &m.Descriptors[i]; d.Tag == TagHashtree && !off {
				enforced = append(enforced, d.PartitionName)
			}
		}
	}
	return enforced, off, missing, nil
}
