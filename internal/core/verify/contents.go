package verify

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync"

	"github.com/bodgit/sevenzip"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/wrap"
	"jarlid/internal/core/spell"
)

// Contents decompresses what the size bytes of r hold, to its end, and compares the checksums that are there:
// of a compressed file, of the members of an archive, of a payload's operations, of a sparse image. open says
// what was left out, and why. memory bounds what a decompressor may take, in bytes; 0: the usual limit.
// Errors are of the computer, or ctx's.
func Contents(ctx context.Context, r io.ReaderAt, size int64, f *ident.File, memory int64) (passed []string,
	faults []Fault, open []string, err error) {
	v := &runner{ctx: ctx, r: r, size: size, f: f, wish: Wish{MaxMemory: memory}}
	o, err := v.contents()
	return o.passed, o.faults, o.open, err
}

// contents compares the checksums that the parts of a file carry.
func (v *runner) contents() (outcome, error) {
	if v.f.Closed != "" || v.depth > maxDepth {
		return outcome{}, nil
	}
	// By its first bytes, not by what it was taken for: a package, an app and a set are zips too.
	head := v.f.Head
	compressed := wrap.Detect(head)
	switch {
	case v.f.Kind == ident.Payload:
		return v.operations(v.f.Payload, v.r)
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return v.zipped()
	case bytes.HasPrefix(head, []byte("7z\xbc\xaf\x27\x1c")):
		return v.sevenZip()
	case compressed != wrap.None:
		return v.stream(compressed)
	case len(v.f.Wrapped) > 0 && v.f.Wrapped[0] == "sparse":
		return v.sparse()
	case len(v.f.Wrapped) > 0 && v.f.Wrapped[0] == "tar":
		return v.tar()
	}
	return outcome{}, nil // it carries none
}

// maxDepth is how many archives in archives are opened.
const maxDepth = 4

// noneError says that a part has no checksum.
type noneError struct{}

// AboutNoDamage marks it as no fault of the file's.
func (noneError) AboutNoDamage() {}

// Error says so.
func (noneError) Error() string { return "it has no checksum" }

// part is one piece of a file that has a checksum of its own.
type part struct {
	name  string
	check func(ctx context.Context) error // nil where it agrees
}

// parts checks many on all cores. Errors that say nothing about the file end it; what a format does not
// cover, or can't be opened, is left out.
func (v *runner) parts(what string, list []part) (outcome, error) {
	ctx, cancel := context.WithCancel(v.ctx)
	defer cancel()
	errs := make([]error, len(list))
	jobs := make(chan int)
	var wg sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(list)) {
		wg.Go(func() {
			for i := range jobs {
				if ctx.Err() != nil {
					continue
				}
				if errs[i] = list[i].check(ctx); errs[i] != nil && !image.AboutNoDamage(errs[i]) {
					cancel() // one fault is enough
				}
			}
		})
	}
	for i := range list {
		jobs <- i
	}
	close(jobs)
	wg.Wait()
	if err := v.ctx.Err(); err != nil {
		return outcome{}, err
	}
	var o outcome
	skipped := 0
	for i, err := range errs {
		switch {
		case err == nil, errors.Is(err, context.Canceled):
		case image.ByComputer(err):
			return outcome{}, err
		case image.AboutNoDamage(err):
			if skipped++; len(o.open) < maxOpen && !errors.As(err, new(noneError)) {
				o.open = append(o.open, strings.TrimPrefix(list[i].name+": "+spell.Error(err), ": "))
			}
		default:
			return outcome{faults: []Fault{{Damaged, what, damagedPart(list[i].name, err)}}}, nil
		}
	}
	switch len(list) - skipped {
	case 0:
	case len(list):
		o.passed = []string{what}
	default:
		o.passed = []string{fmt.Sprintf("%s, %d of %d", what, len(list)-skipped, len(list))}
	}
	return o, nil
}

// maxOpen is how many parts that were left out are named.
const maxOpen = 5

func damagedPart(name string, err error) string {
	if errors.Is(err, zip.ErrChecksum) {
		return fmt.Sprintf("the checksum of its member %s does not match", name)
	}
	if name == "" {
		return spell.Error(err)
	}
	return fmt.Sprintf("its member %s is damaged (%s)", name, spell.Error(err))
}

// zipped compares the CRC-32 of every member of a zip.
func (v *runner) zipped() (outcome, error) {
	z, err := zip.NewReader(v.r, v.size)
	if err != nil {
		if image.ByComputer(err) {
			return outcome{}, err
		}
		return outcome{faults: []Fault{
			{Damaged, "table of contents", "its table of contents can't be read"}}}, nil
	}
	if err := ident.Overlap(z); err != nil {
		return outcome{faults: []Fault{{Damaged, "table of contents", spell.Error(err)}}}, nil
	}
	left := int64(maxContents)
	var list []part
	for _, m := range z.File {
		if m.FileInfo().IsDir() {
			continue
		}
		if left -= int64(min(m.UncompressedSize64, maxContents)); left < 0 {
			return outcome{}, nil // it says of itself that it is larger than any package
		}
		open := ident.OpenZip(m)
		list = append(list, part{m.Name, func(ctx context.Context) error { return drain(ctx, open) }})
	}
	return v.parts("checksums of its members", list)
}

// sevenZip compares the CRC-32 of every member of a 7z archive. Members of one solid block are read in
// order, since each needs what comes before it.
func (v *runner) sevenZip() (outcome, error) {
	z, err := ident.OpenSevenZip(v.r, v.size)
	if err != nil {
		if image.AboutNoDamage(err) {
			return outcome{}, nil
		}
		return outcome{faults: []Fault{{Damaged, "table of contents", spell.Error(err)}}}, nil
	}
	streams := map[int][]*sevenzip.File{}
	var order []int
	left := int64(maxContents)
	for _, m := range z.File {
		if !m.FileInfo().Mode().IsRegular() {
			continue
		}
		if left -= int64(min(m.UncompressedSize, maxContents)); left < 0 {
			return outcome{}, nil
		}
		if streams[m.Stream] == nil {
			order = append(order, m.Stream)
		}
		streams[m.Stream] = append(streams[m.Stream], m)
	}
	var list []part
	for _, s := range order {
		list = append(list, part{"", func(ctx context.Context) error {
			for _, m := range streams[s] {
				if err := drain(ctx, ident.OpenSevenZipMember(m)); err != nil {
					return err
				}
			}
			return nil
		}})
	}
	return v.parts("checksums of its members", list)
}

// tar compares the checksums of what is in a tar archive; the archive has none.
func (v *runner) tar() (outcome, error) {
	var list []part
	err := ident.EachTarMember(v.r, v.size, func(m ident.TarMember) error {
		if m.At == nil {
			return nil
		}
		list = append(list, part{m.Name, func(ctx context.Context) error {
			in := &runner{ctx: ctx, r: m.At, size: m.Size, depth: v.depth + 1, wish: v.wish,
				f: ident.Identify(m.At, m.Size, m.Name, ident.Options{MaxMemory: v.wish.MaxMemory})}
			o, err := in.contents()
			footers, ferr := in.footer()
			o.passed, o.faults = append(o.passed, footers.passed...), append(o.faults, footers.faults...)
			switch {
			case errors.Join(err, ferr) != nil:
				return errors.Join(err, ferr)
			case len(o.faults) > 0:
				return errors.New(o.faults[0].Text)
			case len(o.open) > 0:
				return &ident.ClosedError{Why: o.open[0]}
			case len(o.passed) == 0:
				return noneError{}
			}
			return nil
		}})
		return nil
	})
	if err != nil {
		if image.ByComputer(err) {
			return outcome{}, err
		}
		return outcome{faults: []Fault{{Damaged, "table of contents", spell.Error(err)}}}, nil
	}
	return v.parts("checksums of its members", list)
}

// stream decompresses a compressed file to its end, where its checksum is.
func (v *runner) stream(kind wrap.Kind) (outcome, error) {
	open := func() (io.ReadCloser, error) {
		return wrap.NewFile(kind, io.NewSectionReader(v.r, 0, v.size), v.wish.MaxMemory)
	}
	o, err := v.parts("checksum of the compressed stream", []part{{"", func(ctx context.Context) error {
		return drain(ctx, open)
	}}})
	if len(o.passed) > 0 && !wrap.Checksummed(kind, v.f.Head) {
		o.passed, o.open = nil, []string{"its compression (" + string(kind) + ") has no checksum here"}
	}
	return o, err
}

// drain reads a stream to its end; the readers compare the checksums that stand there.
func drain(ctx context.Context, open func() (io.ReadCloser, error)) error {
	r, err := open()
	if err != nil {
		return err
	}
	defer r.Close()
	buf := make([]byte, 64<<10)
	for n := int64(0); ; {
		if n > maxContents {
			return &ident.ClosedError{Why: "it decompresses to more than " + image.Size(maxContents)}
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		k, err := r.Read(buf)
		if n += int64(k); errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// sparse compares the checksums that a sparse image states.
func (v *runner) sparse() (outcome, error) {
	stated, err := sparse.States(v.r, v.size)
	if err == nil && !stated {
		return outcome{}, nil
	}
	const what = "checksum of the sparse image"
	return v.parts(what, []part{{"", func(context.Context) error { return sparse.Verify(v.r, v.size) }}})
}

// operations compares the SHA-256 of the data of every operation of a payload.
func (v *runner) operations(p *payload.Payload, body io.ReaderAt) (outcome, error) {
	if p == nil {
		return outcome{}, nil
	}
	var list []part
	for i := range p.Partitions {
		for k := range p.Partitions[i].Ops {
			op := &p.Partitions[i].Ops[k]
			if len(op.SHA256) == 0 || op.Length == 0 {
				continue
			}
			name := fmt.Sprintf("operation %d of %s", k, p.Partitions[i].Name)
			list = append(list, part{"", func(ctx context.Context) error {
				h := sha256.New()
				if err := ctx.Err(); err != nil {
					return err
				}
				if _, err := io.Copy(h, io.NewSectionReader(body, p.Blobs+int64(op.DataOffset),
					int64(op.Length))); err != nil {
					return err
				}
				if !bytes.Equal(h.Sum(nil), op.SHA256) {
					return fmt.Errorf("the data of %s has another SHA-256 than the payload states", name)
				}
				return nil
			}})
		}
	}
	return v.parts("digests of the payload's operations", list)
}

// payloadFault compares a payload with FILE_HASH, its SHA-256 in base64 (payload_properties.txt, published
// with the platform's update_engine).
func payloadFault(t *Tap, want string) *Fault {
	const name = "payload_properties.txt"
	b, err := base64.StdEncoding.DecodeString(want)
	if err == nil && bytes.Equal(b, t.Sum()) {
		return nil
	}
	return &Fault{Damaged, name, fmt.Sprintf("its payload has the SHA-256 %x, %s states %x", t.Sum(), name,
		b)}
}
