package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// taken is the result of lift.
type taken struct {
	Items []files.Taken `json:"items"`
	Left  []string      `json:"left,omitempty"` // what could not be read
}

// liftCommand: take out what is inside.
func (a *app) liftCommand() *cobra.Command {
	var o liftOptions
	var limit string
	c := &cobra.Command{Use: "lift FILE [ITEM...] -o DIR",
		Short: "Extract images and files out of packages, images and archives",
		Args:  words(1, -1, "which file, and perhaps which items in it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if o.dir == "" && !o.list {
				return task.Usage("say where to: -o DIR, or --list to see what is in it")
			}
			if o.noDigest && o.sums {
				return task.Usage("--sums lists the digests that --no-digest leaves out: one of the two")
			}
			var err error
			if o.limit, err = parseBytes(limit); err != nil {
				return err
			}
			if _, err := a.taskEnv(cmd); err != nil {
				return err
			}
			return a.lift(cmd.Context(), files.Unquote(args[0]), args[1:], o)
		}}
	c.Flags().StringVarP(&o.dir, "output", "o", "", "folder to write to; made when it is not there")
	c.Flags().BoolVar(&o.list, "list", false, "only list what is in it")
	c.Flags().BoolVar(&o.sparse, "sparse", false, "write images as sparse images")
	c.Flags().BoolVar(&o.sums, "sums", false, "also write a SHA256SUMS")
	c.Flags().BoolVar(&o.noDigest, "no-digest", false,
		"leave out digests that are not made on the way anyhow")
	c.Flags().StringVar(&limit, "max-size", "64GiB", "the most a compressed stream may unwrap to")
	a.maxMemory(c)
	return c
}

type liftOptions struct {
	dir                string
	list, sparse, sums bool
	noDigest           bool
	limit              int64
}

func (a *app) lift(ctx context.Context, path string, names []string, o liftOptions) error {
	f, size, err := files.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	r := &taken{Items: []files.Taken{}}
	a.result = r
	folder := files.BesideOf(path)
	defer folder.Close()
	src, err := lift.Open(f, size, path, lift.Options{MaxSize: o.limit, MaxMemory: a.env.MaxMemory,
		Beside: folder, Spool: files.Spool(o.limit)})
	if err != nil {
		return fmt.Errorf("%s: %w", base(path), err)
	}
	defer src.Close()
	a.say("", say.Info, "%s is %s, %s", base(path), src.File.Words(), image.Size(size))
	for _, n := range src.Notes {
		a.say("", say.Note, "%s", n)
	}
	if o.list {
		return a.listIn(src, path, names, r)
	}
	return a.takeOut(ctx, src, path, names, o, r)
}

// listIn shows what a file holds.
func (a *app) listIn(src *lift.Source, path string, names []string, r *taken) error {
	items, err := src.List(names)
	if err != nil {
		return err
	}
	for _, it := range items {
		r.Items = append(r.Items, files.Taken{Name: it.Name, Size: it.Size})
		if it.Size >= 0 {
			a.say("", say.Info, "%s, %s", it.Name, image.Size(it.Size))
		} else {
			a.say("", say.Info, "%s", it.Name)
		}
	}
	for _, in := range src.Inner {
		a.say("", say.Note, "%s is an archive itself: name what is in it as %s/NAME", in.Name, in.Name)
	}
	if len(items) > 0 {
		a.next = append(a.next, a.env.Command("", append(append([]string{"lift", path}, names...), "-o",
			"DIR")...))
	}
	return nil
}

// takeOut writes what is picked of a file to a folder.
func (a *app) takeOut(ctx context.Context, src *lift.Source, path string, names []string, o liftOptions,
	r *taken) error {
	known := len(src.Notes)
	items, err := src.Pick(names)
	if err != nil {
		return err
	}
	for _, n := range src.Notes[known:] {
		a.say("", say.Note, "%s", n)
	}
	if o.sparse && len(items) > 0 && src.File.Kind == ident.Unknown {
		a.say("", say.Note, "nothing is known about the contents; they are written sparse as they are")
	}
	a.keeps = true
	if err := os.MkdirAll(o.dir, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(o.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := files.RoomFor(o.dir, items); err != nil {
		return err
	}
	ctx, cancel := a.env.UntilStopped(ctx)
	defer cancel()
	taking := files.Taking{Dir: o.dir, Root: root, Sparse: o.sparse, NoDigest: o.noDigest,
		Working: a.env.Working, Names: &local.Names{}}

	for _, it := range items {
		row, err := taking.Take(ctx, it)
		if files.Shut(err) { // the others are taken
			a.say("", say.Fail, "%s: %s", it.Name, strings.TrimPrefix(err.Error(), it.Name+": "))
			r.Left = append(r.Left, it.Name)
			continue
		}
		if err != nil {
			return fmt.Errorf("%s: %w", it.Name, err)
		}
		r.Items = append(r.Items, row)
		if rel, err := filepath.Rel(o.dir, row.Path); err == nil && filepath.ToSlash(rel) != it.Name {
			a.say("", say.Note, "%q is written as %s: not every computer can hold its name beside the others",
				it.Name, filepath.ToSlash(rel))
		}
		text := row.Path + ", " + image.Size(row.Size)
		if row.SHA256 != "" {
			text += ", SHA-256 " + row.SHA256
		}
		a.say("", say.Good, "%s", text)
	}
	if o.sums {
		if err := files.WriteSums(root, r.Items); err != nil {
			return err
		}
	}
	if n := len(r.Left); n > 0 {
		return fmt.Errorf("%d of %s taken out of %s to %s; the others could not be read: %s", len(r.Items),
			spell.Counted(len(items), "file"), base(path), o.dir, strings.Join(r.Left[:min(len(r.Left), 5)],
				", "))
	}
	if err := a.env.Damage(ctx, path, src.File); err != nil {
		return fmt.Errorf("%d taken out of %s to %s, and %w", len(r.Items), base(path), o.dir, err)
	}
	a.say("", say.Done, "%d taken out of %s to %s", len(r.Items), base(path), o.dir)
	a.next = append(a.next, a.env.Command("", "ident", filepath.Join(o.dir, "*")))
	return nil
}
