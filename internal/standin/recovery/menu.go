package recovery

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/link/adb"
	"jarlid/internal/standin/device"
)

// Runner is what a phone's recoveries and systems do: their shells, menus and installs.
type Runner struct{ *device.Phone }

// WipeArea erases one area as the recovery's menu does.
func (p *Runner) WipeArea(area string) error {
	plain := p.DataState() == device.DataPlain
	switch area {
	case "caches":
		if plain {
			if err := os.RemoveAll(p.PlainFile("dalvik-cache")); err != nil {
				return err
			}
		}
		if p.Store.Has("cache") {
			return p.FormatPartition("cache")
		}
	case "apps":
		if !plain {
			return errors.New("the data is encrypted; it can only be formatted as a whole")
		}
		return os.RemoveAll(p.Store.Overlay("userdata"))
	case "storage":
		return phoneFiles{p, card.Recovery}.tree().remove(SharedPaths[0])
	case "system":
		return p.FormatPartition(p.On("system", p.Running.Slot))
	}
	return nil
}

// NewestPackage gives the package that was put to a storage last.
func (p *Runner) NewestPackage(mount string) (string, error) {
	f := phoneFiles{p, card.Recovery}
	list, err := f.List(mount)
	if err != nil {
		return "", fmt.Errorf("that storage is not there")
	}
	best := adb.FileStat{}
	for _, e := range list {
		if strings.HasSuffix(strings.ToLower(e.Name), ".zip") &&
			(best.Name == "" || e.MTime.After(best.MTime)) {
			best = e
		}
	}
	if best.Name == "" {
		return "", fmt.Errorf("there is no package on it")
	}
	local, _, _ := f.tree().local(path.Join(mount, best.Name))
	return local, nil
}

// RemountData is what a recovery's own menu does after it formatted the data. p.Mu is free.
func (p *Runner) RemountData() {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	if p.Running == nil || p.Running.Vault != nil {
		return
	}
	p.Running.Mounts = slices.DeleteFunc(p.Running.Mounts, func(m device.Mounted) bool {
		return m.Partition == "userdata"
	})
	p.Running.Mounts = append(p.Running.Mounts, dataMounts(p.Quirks().Bind)...)
}

// InstallFile installs a package that is on the phone, while the recovery's
// menu stays.
func (p *Runner) InstallFile(local string) {
	f, err := os.Open(local)
	if err != nil {
		p.Show("The package can't be opened: %v", err)
		return
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return
	}
	_, _ = p.installed(context.Background(), f, st.Size()) // its screen and its record tell
}
