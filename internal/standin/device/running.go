package device

import (
	"time"

	"jarlid/internal/core/card"
)

// Running is the recovery or system that was started.
type Running struct {
	Slot   string
	Props  map[string]string
	Traits Traits
	Files  func(want string) ([]byte, bool) // of a recovery's ramdisk
	Log    []string                         // the recovery's log
	Record string                           // its record of the last install
	Vault  *vault                           // the system's opened data
	Mounts []Mounted                        // what a recovery has mounted, in its order
	Since  time.Time                        // when it began
	Key    []byte
	// Sessions are the package service's open ones by their number, with the files each holds.
	Sessions    map[string][]string
	LastSession int
}

// Traits say how a recovery behaves; its image carries them.
type Traits struct {
	Shell     bool     `yaml:"shell"`     // a root shell over ADB, and the restart service
	Lacks     []string `yaml:"lacks"`     // programs its shell does not have
	Unmapped  bool     `yaml:"unmapped"`  // does not map the logical partitions
	Fastbootd bool     `yaml:"fastbootd"` // holds userspace fastboot, where the phone has it
	Closing   string   `yaml:"closing"`   // honest, always-done, mute
	// Signature is what it does with a package that none of its keys signed:
	// nothing, ask, refuse.
	Signature string `yaml:"signature"`
	// Needs are marks that other partitions must hold for it to start: what its
	// manufacturers call pre-images.
	Needs map[string]string `yaml:"needs"`
}

// LoaderVersion names the version of the manufacturer's loader, "" without one.
func (p *Phone) LoaderVersion() string {
	if p.Spec.Loader == nil {
		return ""
	}
	return p.Spec.Loader.Version
}

// HasFastbootd reports whether the running recovery holds userspace fastboot.
func (p *Phone) HasFastbootd() bool {
	return p.Spec.Userspace && p.Running != nil && p.Running.Traits.Fastbootd
}

// Stopped ends what runs.
func (p *Phone) Stopped() {
	p.Mu.Lock()
	p.Running, p.State.Started = nil, ""
	p.Mu.Unlock()
	p.Store.Slot.Store(int32(max(p.NextSlot(), 0)))
}

// Reachable reports whether the running recovery or system answers over ADB.
func (p *Phone) Reachable(mode card.Mode) bool {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	switch mode {
	case card.Sideload:
		return true
	case card.Recovery:
		return p.Running != nil && p.Running.Traits.Shell
	case card.System:
		return p.Running != nil && p.Running.Vault != nil && p.Running.Vault.Debugging
	}
	return false
}

// Unlocked reports whether the bootloader is unlocked.
func (p *Phone) Unlocked() bool {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	return p.State.Unlocked
}

// Mounted is a file system somewhere in the tree of files.
type Mounted struct {
	At        string
	Partition string // "" of one that is kept as files of this computer
	Type      string
	Root      string // the folder of it that is seen
	Write     bool
	Local     string // where those files are
	Size      int64  // bytes
}
