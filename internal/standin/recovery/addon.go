package recovery

import (
	"archive/zip"
	"bytes"
	"context"
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"jarlid/internal/core/image/ext4"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/script"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/disk"
)

// checkSignature holds a package against the keys in the running recovery's
// ramdisk.
func (p *Runner) checkSignature(ctx context.Context, r io.ReaderAt, size int64) error {
	how := p.Running.Traits.Signature
	if how == "" {
		return nil
	}
	err := p.signedByTrusted(ctx, r, size)
	if err == nil || ctx.Err() != nil {
		return err
	}
	p.logLine("E: signature: %v", err)
	if how == "refuse" {
		p.Show("The package was signed by nobody this recovery knows; it is not installed.")
		return fmt.Errorf("the package's signature is not trusted: %w", err)
	}
	if p.AskOwner(ctx, "Nobody this recovery knows signed the package. Go on with it?") {
		return nil
	}
	return fmt.Errorf("the owner did not want a package whose signature is not trusted")
}

func (p *Runner) signedByTrusted(ctx context.Context, r io.ReaderAt, size int64) error {
	ring, ok := p.Running.Files(zipsig.KeysFile)
	if !ok {
		return errors.New("this recovery has no keys")
	}
	keys, err := zipsig.ParseKeys(ring)
	if err != nil {
		return err
	}
	s, err := zipsig.Parse(r, size)
	if err != nil {
		return err
	}
	for _, k := range keys {
		if bytes.Equal(k.RawSubjectPublicKeyInfo, s.Signer().RawSubjectPublicKeyInfo) {
			return s.Verify(ctx, r)
		}
	}
	return fmt.Errorf("%s signed it, whom this recovery does not know", s.Signer().Subject)
}

// runScript installs a package by its update script. The subset that is known:
// assert, abort, getprop, ui_print, show_progress, set_progress, is_mounted, mount,
// unmount, ifelse, package_extract_dir and package_extract_file into /system or to
// a partition, block_image_update, set_metadata, set_metadata_recursive, delete,
// delete_recursive.
func (p *Runner) runScript(r io.ReaderAt, size int64) error {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return err
	}
	f, err := z.Open(script.Name)
	if err != nil {
		return fmt.Errorf("the package holds nothing this recovery can install")
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, script.MaxSize))
	if err != nil {
		return err
	}
	n, err := script.Parse(string(b))
	if err != nil {
		return err
	}
	props := map[string]string{}
	if sys, _, err := p.SystemProps(p.Running.Slot); err == nil {
		props = sys
	}
	for k, v := range p.Running.Props { // the recovery's own come first
		if !strings.HasPrefix(k, "ro.build.") {
			props[k] = v
		}
	}
	in := &installer{p: p, r: r, size: size, z: z, props: props, into: p.On("system", p.Running.Slot)}
	_, err = in.eval(n)
	return err
}

// installer evaluates a script.
type installer struct {
	p     *Runner
	r     io.ReaderAt
	size  int64
	z     *zip.Reader
	props map[string]string
	into  string // the partition that is /system
}

// room is how many bytes the system has free: what its super block says, less what
// was added before.
func (in *installer) room() (int64, error) {
	if in.p.Faulty("full") {
		return 0, nil
	}
	v, err := in.p.Store.Open(in.into)
	if err != nil {
		return 0, err
	}
	defer v.Close()
	s, err := ext4.ParseSuper(v, v.Size)
	if err != nil {
		return 0, fmt.Errorf("%s can't be mounted: %w", in.into, err)
	}
	added, err := bytesIn(in.p.Store.Overlay(in.into))
	return max(s.Free()-added, 0), err
}

func truth(b bool) string {
	if b {
		return "t"
	}
	return ""
}

func (in *installer) eval(n *script.Node) (string, error) {
	var args []string
	lazy := n.Op == "&&" || n.Op == "||" || n.Op == "if" || n.Text == "ifelse" && n.Op == "call"
	for i, a := range n.Args {
		if lazy && i > 0 {
			break
		}
		v, err := in.eval(a)
		if err != nil {
			return "", err
		}
		args = append(args, v)
	}
	switch n.Op {
	case "string":
		return n.Text, nil
	case ";":
		if len(args) == 0 {
			return "", nil
		}
		return args[len(args)-1], nil
	case "==":
		return truth(args[0] == args[1]), nil
	case "!=":
		return truth(args[0] != args[1]), nil
	case "+":
		return args[0] + args[1], nil
	case "!":
		return truth(args[0] == ""), nil
	case "&&", "||":
		if (args[0] != "") == (n.Op == "||") {
			return args[0], nil
		}
		return in.eval(n.Args[1])
	case "if":
		return in.branch(n.Args, args[0] != "")
	}
	if n.Text == "ifelse" && len(args) > 0 {
		return in.branch(n.Args, args[0] != "")
	}
	return in.call(n.Text, args)
}

func (in *installer) branch(args []*script.Node, yes bool) (string, error) {
	at := 1
	if !yes {
		at = 2
	}
	if at >= len(args) {
		return "", nil
	}
	return in.eval(args[at])
}

func (in *installer) call(name string, args []string) (string, error) {
	arg := func(i int) string {
		if i < len(args) {
			return args[i]
		}
		return ""
	}
	switch name {
	case "assert":
		for _, a := range args {
			if a == "" {
				return "", fmt.Errorf("an assertion of the package failed")
			}
		}
		return "t", nil
	case "abort":
		return "", fmt.Errorf("%s", arg(0))
	case "getprop":
		return in.props[arg(0)], nil
	case "ui_print":
		in.p.Show("%s", strings.Join(args, ""))
		return arg(0), nil
	case "show_progress", "set_progress", "mount", "unmount", "is_mounted", "set_metadata",
		"set_metadata_recursive":
		return "t", nil
	case "package_extract_dir":
		return "t", in.extract(arg(0)+"/", arg(1), true)
	case "package_extract_file":
		if len(args) == 1 {
			return args[0], nil // its contents, which only block_image_update uses
		}
		if part, ok := strings.CutPrefix(arg(1), byName); ok {
			return "t", in.image(arg(0), part)
		}
		return "t", in.extract(arg(0), arg(1), false)
	case "block_image_update":
		part, ok := strings.CutPrefix(arg(0), byName)
		if !ok {
			return "", fmt.Errorf("%s is no partition of this phone", arg(0))
		}
		return "t", in.blocks(part, strings.TrimSuffix(arg(1), ".transfer.list"))
	case "delete", "delete_recursive":
		for _, a := range args {
			to, err := in.place(a)
			if err == nil {
				err = os.RemoveAll(to)
			}
			if err != nil {
				return "", err
			}
		}
		return "t", nil
	}
	return "", fmt.Errorf("the package's script calls %s, which this recovery does not know", name)
}

// place gives where a file of the phone's system is in the overlay.
func (in *installer) place(name string) (string, error) {
	rest, ok := strings.CutPrefix(path.Clean("/"+name), "/system")
	if !ok || rest != "" && rest[0] != '/' {
		return "", fmt.Errorf("%s is not in the system", name)
	}
	return filepath.Join(in.p.Store.Overlay(in.into), "system", filepath.FromSlash(rest)), nil
}

func (in *installer) extract(from, to string, dir bool) error {
	left, err := in.room()
	if err != nil {
		return err
	}
	for _, f := range in.z.File {
		rest, ok := strings.CutPrefix(f.Name, from)
		if !ok || !dir && rest != "" || strings.HasSuffix(f.Name, "/") {
			continue
		}
		target := to
		if dir {
			target = path.Join(to, rest)
		}
		out, err := in.place(target)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
			return err
		}
		n, err := in.write(f, out, left)
		if left -= n; err != nil {
			return err
		}
		in.p.logLine("I: added %s", target)
	}
	return nil
}

// image writes a member to a partition.
func (in *installer) image(name, partition string) error {
	f, err := in.z.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	in.p.Show("Writing %s", partition)
	return in.onto(partition, func(v *disk.Volume) error {
		n, err := io.Copy(io.NewOffsetWriter(v, 0), f)
		if err == nil && n == 0 {
			err = fmt.Errorf("%s is empty", name)
		}
		return err
	})
}

// blocks writes what a block list says to a partition.
func (in *installer) blocks(partition, base string) error {
	src, err := lift.Open(in.r, in.size, "package.zip", lift.Options{})
	if err != nil {
		return err
	}
	items, err := src.Pick([]string{base + ".img"})
	if err != nil {
		return err
	}
	in.p.Show("Writing %s block by block", partition)
	return in.onto(partition, func(v *disk.Volume) error {
		_, err := items[0].Write(context.Background(), fixed{v}, func(int64) {})
		return err
	})
}

func (in *installer) onto(partition string, write func(*disk.Volume) error) error {
	if err := os.RemoveAll(in.p.Store.Overlay(partition)); err != nil {
		return err
	}
	v, err := in.p.Store.Open(partition)
	if err != nil {
		return err
	}
	defer v.Close()
	return write(v)
}

// fixed is a partition as a place to write to: it has the size it has.
type fixed struct{ *disk.Volume }

// SetSize refuses what does not fit.
func (f fixed) SetSize(n int64) error {
	if n > f.Size {
		return fmt.Errorf("%d bytes do not fit %s, which has %d", n, f.Name, f.Size)
	}
	return nil
}

func (in *installer) write(f *zip.File, out string, most int64) (int64, error) {
	r, err := f.Open()
	if err != nil {
		return 0, err
	}
	defer r.Close()
	w, err := os.Create(out)
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(w, io.LimitReader(r, most+1))
	if n > most {
		err = fmt.Errorf("there is no room left in %s", in.into)
	}
	if cerr := w.Close(); err == nil {
		err = cerr
	}
	return n, err
}

// elfMachines are the machines a phone's processor runs.
var elfMachines = map[string][]elf.Machine{"arm64-v8a": {elf.EM_AARCH64, elf.EM_ARM},
	"armeabi-v7a": {elf.EM_ARM}}

// AddedFits says whether the libraries added to a system run on this phone's
// processor: one for another makes the system restart over and over.
func (p *Runner) AddedFits(slot string) error {
	abi := p.Spec.Phone(p.Model).ABI
	return filepath.WalkDir(p.Store.Overlay(p.On("system", slot)),
		func(name string, d fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil || d.IsDir() || filepath.Ext(name) != ".so" {
				return err
			}
			b, err := os.ReadFile(name)
			if err != nil || len(b) < 20 || string(b[:4]) != elf.ELFMAG {
				return err
			}
			for _, m := range elfMachines[abi] {
				if elf.Machine(uint16(b[18])|uint16(b[19])<<8) == m {
					return nil
				}
			}
			return device.Loops("%s was built for another processor", filepath.Base(name))
		})
}
