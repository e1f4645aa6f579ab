package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/proof"
)

// parseBytes reads a size given on the command line: 64GiB, 512MiB, 4096.
func parseBytes(s string) (int64, error) {
	n, ok := card.ParseBytes(s)
	if !ok || n <= 0 {
		return 0, usage("%q is not a size such as 64GiB", s)
	}
	return n, nil
}

// missingError is a file that is not there.
type missingError struct{ path string }

func (e *missingError) Error() string { return "no such file: " + e.path }

func (e *missingError) Is(target error) bool { return target == fs.ErrNotExist }

// openFile opens a regular file and gives its size.
func openFile(path string) (*os.File, int64, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, &missingError{path}
	}
	if err != nil {
		return nil, 0, err
	}
	st, err := f.Stat()
	if err == nil && st.IsDir() {
		err = fmt.Errorf("%s is a folder; name the files in it", path)
	}
	if err == nil && !st.Mode().IsRegular() {
		err = fmt.Errorf("%s is not a file", path)
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, st.Size(), nil
}

// spool keeps a stream in a temporary file, so that it can be read at any
// place. Pieces of zeros take no room in it.
func spool(limit int64) func(io.Reader) (io.ReaderAt, int64, func(), error) {
	return func(r io.Reader) (io.ReaderAt, int64, func(), error) {
		f, err := os.CreateTemp("", "jarlid-deep-")
		if err != nil {
			return nil, 0, nil, err
		}
		done := func() { f.Close(); os.Remove(f.Name()) }
		o := &outFile{f: f}
		buf, at := make([]byte, 1<<20), int64(0)
		for {
			n, rerr := image.Fill(r, buf)
			if at+int64(n) > limit {
				err = &lift.TooLargeError{Limit: limit}
			} else if n > 0 && image.IsZero(buf[:n]) {
				err = o.Zero(at, int64(n))
			} else if n > 0 {
				_, err = o.WriteAt(buf[:n], at)
			}
			at += int64(n)
			if err == nil && rerr != nil && !errors.Is(rerr, io.EOF) {
				err = rerr
			}
			if err != nil {
				done()
				return nil, 0, nil, err
			}
			if rerr != nil {
				break
			}
		}
		if err := o.SetSize(at); err != nil {
			done()
			return nil, 0, nil, err
		}
		return f, at, done, nil
	}
}

// proofCommand: are the files whole, and whose are they.
func (a *app) proofCommand() *cobra.Command {
	var against, signers []string
	var recovery string
	c := &cobra.Command{Use: "proof FILE...", Short: "Whether files are intact: digests, signatures, and what they carry themselves", Args: words(1, -1, "one or more files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.proof(cmd.Context(), args, against, signers, recovery)
		}}
	c.Flags().StringArrayVar(&against, "against", nil, "a file of digests, or a digest as pasted (repeatable)")
	c.Flags().StringArrayVar(&signers, "signer", nil, "a certificate you trust (PEM or DER; repeatable)")
	c.Flags().StringVar(&recovery, "recovery", "", "a recovery image whose own keys count as trusted")
	return c
}

func (a *app) proof(ctx context.Context, args, against, signers []string, recovery string) error {
	paths, err := expand(args)
	if err != nil {
		return err
	}
	stated, err := readSums(against)
	if err != nil {
		return err
	}
	trusted, err := readTrusted(signers, recovery)
	if err != nil {
		return err
	}
	ctx, cancel := a.untilStopped(ctx)
	defer cancel()
	results := []*proof.Result{}
	a.result["files"] = results
	mismatch, notRead := 0, 0
	for _, path := range paths {
		res, err := a.proofOne(ctx, path, stated, trusted)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if !errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("%s: %w", path, err)
			}
			a.out.Say(bench.Fail, "%v", err)
			notRead++
			continue
		}
		results = append(results, res)
		a.result["files"] = results
		a.printProof(res)
		if res.Verdict == proof.Mismatch {
			mismatch++
		}
	}
	if mismatch > 0 {
		return &noError{fmt.Sprintf("%d of %d files do not match", mismatch, len(paths))}
	}
	if notRead > 0 {
		return fmt.Errorf("%d of %d files could not be read", notRead, len(paths))
	}
	return nil
}

// source is where sums come from.
type statedSums struct {
	from  string
	list  []sums.Sum
	loose bool // a pasted digest: for whatever file
}

func readSums(against []string) ([]statedSums, error) {
	var out []statedSums
	for _, s := range against {
		if d, ok := sums.ParseDigest(s); ok {
			if _, err := os.Stat(s); err != nil {
				out = append(out, statedSums{from: "the digest given", list: []sums.Sum{d}, loose: true})
				continue
			}
		}
		f, size, err := openFile(unquote(s))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, usage("%q is neither a file of digests nor a digest", s)
		}
		if err != nil {
			return nil, err
		}
		b, err := image.ReadAt(s, f, size, 0, min(size, 16<<20))
		f.Close()
		if err != nil {
			return nil, err
		}
		list := sums.Parse(string(b))
		if len(list) == 0 {
			return nil, fmt.Errorf("%s holds no digests in a form Jar Lid knows", s)
		}
		out = append(out, statedSums{from: filepath.Base(s), list: list})
	}
	return out, nil
}

// neighbours are the endings under which a file's digests lie beside it.
var neighbours = []string{".sha256", ".sha256sum", ".sha512", ".sha1", ".md5", ".md5sum"}

func (a *app) proofOne(ctx context.Context, path string, stated []statedSums, trusted map[string][]*x509.Certificate) (*proof.Result, error) {
	f, size, err := openFile(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	w := proof.Wish{Trusted: trusted}
	if len(stated) == 0 {
		for _, ext := range neighbours {
			if b, err := os.ReadFile(path + ext); err == nil {
				if s, ok := sums.ParseDigest(string(b)); ok {
					stated = append(stated, statedSums{from: filepath.Base(path + ext), list: []sums.Sum{s}, loose: true})
				} else {
					stated = append(stated, statedSums{from: filepath.Base(path + ext), list: sums.Parse(string(b))})
				}
			}
		}
	}
	var from []string
	for _, s := range stated {
		w.Listed = true
		mine := s.list
		if !s.loose {
			mine = sums.For(s.list, path)
		}
		if len(mine) > 0 {
			from = append(from, s.from)
		}
		w.Sums = append(w.Sums, mine...)
	}
	w.Against = strings.Join(from, ", ")
	p := a.progress(bench.Recv, filepath.Base(path), size)
	w.Moved = p.set
	defer p.end()
	return proof.Run(ctx, f, size, path, w)
}

func (a *app) printProof(r *proof.Result) {
	if a.json {
		return
	}
	name := filepath.Base(r.Path)
	for _, c := range r.Checks {
		switch c.Verdict {
		case proof.Match:
			a.out.Say(bench.Good, "%s: %s", name, c.What)
		case proof.Mismatch:
			a.out.Say("stop", "%s: %s: %s", name, c.What, c.Why)
		default:
			a.out.Say("note", "%s: %s: %s", name, c.What, c.Why)
		}
	}
	if r.Signer != nil {
		a.out.Say(bench.Look, "%s: signed by %s, certificate SHA-256 %s", name, r.Signer.Name, r.Signer.SHA256)
		if r.Signer.Trusted == nil {
			a.out.Say("note", "whether that signer is to be trusted was not asked: --signer FILE or --recovery IMAGE")
		}
	}
	a.out.Say(bench.Look, "%s: SHA-256 %s", name, r.SHA256)
	switch r.Verdict {
	case proof.Match:
		text := name + ": matches"
		if r.Against != "" {
			text += " " + r.Against
		} else {
			text += " what it says of itself"
		}
		a.out.Say(bench.Done, "%s", text)
	case proof.Mismatch:
		a.out.Say(bench.Fail, "%s: does not match; do not use it", name)
	case proof.NotListed:
		a.out.Say("care", "%s: no digest is listed for it", name)
	case proof.Unchecked:
		a.out.Say("care", "%s: there was nothing to check it against; --against FILE or DIGEST", name)
	}
}

// readTrusted reads certificates, and those a recovery image carries.
func readTrusted(signers []string, recovery string) (map[string][]*x509.Certificate, error) {
	out := map[string][]*x509.Certificate{}
	for _, path := range signers {
		b, err := os.ReadFile(unquote(path))
		if err != nil {
			return nil, err
		}
		certs, err := zipsig.ParseCerts(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		out[filepath.Base(path)] = certs
	}
	if recovery == "" {
		return out, nil
	}
	f, size, err := openFile(unquote(recovery))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	certs, err := recoveryCerts(f, size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", recovery, err)
	}
	out[filepath.Base(recovery)] = certs
	return out, nil
}

// recoveryRamdisk finds the ramdisk of a recovery: a boot image's, or the
// fragment of a vendor boot image.
func recoveryRamdisk(r io.ReaderAt, size int64) (io.Reader, error) {
	if v, err := boot.ParseVendor(r, size); err == nil {
		f := v.Recovery()
		if f == nil {
			return nil, errors.New("this vendor boot image holds no recovery")
		}
		return io.NewSectionReader(r, f.Offset, f.Size), nil
	}
	m, err := boot.Parse(r, size)
	if err != nil {
		return nil, err
	}
	return m.Open(r, "ramdisk"), nil
}

func recoveryCerts(r io.ReaderAt, size int64) ([]*x509.Certificate, error) {
	src, err := recoveryRamdisk(r, size)
	if err != nil {
		return nil, err
	}
	rd, err := boot.ReadRamdisk(src, zipsig.KeysFile)
	if err != nil {
		return nil, err
	}
	b, ok := rd.Wanted[zipsig.KeysFile]
	if !ok {
		return nil, fmt.Errorf("its ramdisk has no %s, so it trusts no certificate that could be read", zipsig.KeysFile)
	}
	return zipsig.ParseKeys(b)
}

// untilStopped ends with the first Ctrl-C: nothing is changed on a phone here.
func (a *app) untilStopped(ctx context.Context) (context.Context, func()) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-a.soft:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// work is progress of reading and writing files.
type work struct {
	o     *output
	mu    sync.Mutex
	p     bench.Progress
	start time.Time
	last  time.Time
}

func (a *app) progress(w bench.Word, what string, total int64) *work {
	k := &work{o: a.out, p: bench.Progress{Word: w, What: what, Total: max(total, 0)}, start: time.Now()}
	k.o.Work(k.p)
	return k
}

func (k *work) set(done int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := time.Now()
	k.p.Done = max(done, k.p.Done)
	if now.Sub(k.last) < 100*time.Millisecond {
		return
	}
	k.last = now
	if el := now.Sub(k.start).Seconds(); el > 0 {
		k.p.Rate = int64(float64(k.p.Done) / el)
	}
	if k.p.Rate > 0 && k.p.Total > 0 {
		k.p.Left = time.Duration(float64(k.p.Total-k.p.Done) / float64(k.p.Rate) * float64(time.Second))
	}
	k.o.Work(k.p)
}

func (k *work) end() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.p.End, k.p.Left = true, 0
	k.o.Work(k.p)
}
