package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
)

// Shelf is the folder, in the root of a partition, that files are moved aside to.
const Shelf = ".jarlid-shelf"

// ShelfRecord is the file in it that says what came from where.
const ShelfRecord = "record.yaml"

// Shelvable are the partitions whose files can be moved aside, by the first part
// of a path.
var Shelvable = []string{"system", "vendor", "product", "system_ext", "odm"}

// Item is one file or folder of the phone.
type Item struct {
	Path      string // as a person names it: /vendor/overlay/X
	Partition string // with the slot's suffix
	Inside    string // its path in the partition
	Missing   bool   // it is not there
}

// Aside is where it is kept in the partition while it is moved aside.
func (i Item) Aside() string { return path.Join(Shelf, i.Inside) }

// ParseShelfPath takes a path apart: the partition's name without a slot, and the
// rest below it.
func ParseShelfPath(s string) (partition, rest string, err error) {
	p := path.Clean("/" + strings.TrimSpace(s))
	first, rest, _ := strings.Cut(p[1:], "/")
	switch {
	case !strings.HasPrefix(s, "/"):
		return "", "", fmt.Errorf("%q is no path on the phone: it begins with /, as /vendor/overlay", s)
	case !slices.Contains(Shelvable, first):
		return "", "", fmt.Errorf("%s lies in no partition that files are moved aside in: /%s", s, strings.Join(Shelvable, ", /"))
	case rest == "":
		return "", "", fmt.Errorf("%s is a whole partition; name a file or folder in it", s)
	case first == "system" && (rest == "build.prop" || rest == "bin" || rest == "lib64" || rest == "lib" || rest == "framework" || rest == "etc"):
		return "", "", fmt.Errorf("nothing starts without %s", s)
	}
	return first, rest, nil
}

// Shelve moves files of the system aside, or back again.
type Shelve struct {
	base
	Items []Item
	Back  bool
}

// Title says what is done.
func (s *Shelve) Title() string {
	var names []string
	for _, i := range s.Items {
		names = append(names, i.Path)
	}
	if s.Back {
		return "put back " + strings.Join(names, ", ")
	}
	return "move aside " + strings.Join(names, ", ")
}

// Modes: the recovery.
func (*Shelve) Modes() []card.Mode { return []card.Mode{card.Recovery} }

// Touches is what can't be known meanwhile.
func (s *Shelve) Touches(*card.Card) []string {
	var list []string
	for _, i := range s.Items {
		list = append(list, card.FactShelved+i.Partition)
	}
	return list
}

// Check: the partition must be one that can be changed without harm.
func (s *Shelve) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	var list []finding.Finding
	if root, known := c.Yes(card.FactRoot); known && !root {
		return []finding.Finding{{Name: finding.NoShell, Severity: finding.Stop, Final: true,
			Text: "the recovery gives no root shell, and files can only be moved through one", Remedy: "use a recovery with a root shell: jarlid recovery set FILE"}}
	}
	for _, i := range s.Items {
		if i.Missing {
			f := finding.Finding{Name: finding.NoSuchFile, Severity: finding.Stop, About: i.Path, Final: true, Text: "there is no " + i.Path + " on " + i.Partition}
			if s.Back {
				f.Text = i.Path + " was not moved aside on " + i.Partition
			}
			list = append(list, f)
		}
		list = append(list, changeFinding(c, i.Partition)...)
	}
	return list
}

// changeFinding: whether files of a partition may be changed.
func changeFinding(c *card.Card, partition string) []finding.Finding {
	switch fs := c.Value(card.FactFS + partition); fs {
	case "erofs", "ext4-shared", "squashfs":
		return []finding.Finding{{Name: finding.ReadOnly, Severity: finding.Stop, About: partition, Final: true,
			Text:   map[string]string{"erofs": partition + " is an EROFS file system, which is never written", "squashfs": partition + " is a squashfs file system, which is never written", "ext4-shared": partition + " is an ext4 file system with shared blocks, which is never written"}[fs],
			Remedy: "write another image of it, made without what does harm: jarlid flash IMAGE"}}
	}
	base := baseOf(partition)
	f := finding.Finding{Name: finding.VerityRejects, Severity: finding.Stop, About: partition,
		Remedy: "switch the hash trees off first: jarlid vbmeta loosen hashtree"}
	switch c.Value(card.FactTree + base) {
	case "off", "none":
		return nil
	case "enforced":
		f.Text = fmt.Sprintf("the hash tree of %s is enforced at each start, also on an unlocked phone: one changed file, and the slot restarts until it is given up", base)
	default:
		f.Severity, f.Text = finding.Care, fmt.Sprintf("nobody can tell whether the hash tree of %s is enforced; if it is, one changed file keeps the slot from starting", base)
	}
	return []finding.Finding{f}
}

// Effects: what was moved is kept.
func (s *Shelve) Effects(c *card.Card) {
	for _, i := range s.Items {
		var list []string
		if have := c.Value(card.FactShelved + i.Partition); have != "" {
			list = strings.Split(have, ", ")
		}
		list = slices.DeleteFunc(list, func(p string) bool { return p == i.Path })
		if !s.Back {
			list = append(list, i.Path)
		}
		if len(list) == 0 {
			c.Set(card.FactShelved+i.Partition, card.Fact{})
			continue
		}
		c.Learn(card.FactShelved+i.Partition, strings.Join(list, ", "), card.Journal)
	}
}

// Restores tells whether a script found in a system puts the maker's recovery
// back: it applies a patch to the recovery's partition, or writes it
// (install-recovery.sh as the platform's ota_from_target_files makes it).
func Restores(script string) bool {
	for line := range strings.Lines(script) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "#") || !strings.Contains(line, "recovery") && !strings.Contains(line, "RECOVERY") {
			continue
		}
		for _, tool := range []string{"applypatch", "flash_image", "dd of=", "dd if="} {
			if strings.Contains(line, tool) {
				return true
			}
		}
	}
	return false
}
