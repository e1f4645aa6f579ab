package standin

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/model"
	"jarlid/internal/standin/scenario"
)

// spec is the stand-in part of a model file.
type spec struct {
	Serial  string `yaml:"serial"`
	Start   string `yaml:"start"`   // the mode a new one is in: bootloader, system
	Product string `yaml:"product"` // what the bootloader calls the phone
	ABI     string `yaml:"abi"`
	Battery struct {
		Percent   int               `yaml:"percent"`
		FullMV    int               `yaml:"full-millivolts"`
		Variables map[string]string `yaml:"variables"` // bootloader variable: percent, millivolts, verdict
	} `yaml:"battery"`
	MaxDownload    size            `yaml:"max-download"`
	SlotVariables  bool            `yaml:"slot-variables"`
	RebootRecovery bool            `yaml:"reboot-recovery"`
	Partitions     []partitionSpec `yaml:"partitions"`
	Factory        struct {
		A  []string `yaml:"a"` // the partitions of slot a that are filled; slot b is empty
		OS string   `yaml:"os"`
	} `yaml:"factory"`
	Delays struct {
		Restart    duration `yaml:"restart"`
		FirstStart duration `yaml:"first-start"`
	} `yaml:"delays"`
}

type partitionSpec struct {
	Name  string `yaml:"name"`
	Size  size   `yaml:"size"`
	Slots bool   `yaml:"slots"`
	Type  string `yaml:"type"` // what the bootloader says; empty: raw
}

// size is a number of bytes: 64MiB, 4096, 0x1000.
type size int64

// UnmarshalText reads a size.
func (s *size) UnmarshalText(b []byte) error {
	t := strings.TrimSpace(string(b))
	unit := int64(1)
	for suffix, u := range map[string]int64{"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30} {
		if v, ok := strings.CutSuffix(t, suffix); ok {
			t, unit = strings.TrimSpace(v), u
			break
		}
	}
	n, err := strconv.ParseInt(t, 0, 64)
	if err != nil || n < 0 || n > (1<<45)/unit {
		return fmt.Errorf("%q is not a size such as 64MiB", b)
	}
	*s = size(n * unit)
	return nil
}

type duration time.Duration

// UnmarshalText reads a duration as Go writes it: 250ms.
func (d *duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	*d = duration(v)
	return err
}

func parseSpec(m *model.Model) (*spec, error) {
	s := &spec{}
	if m.Standin.IsZero() {
		return nil, fmt.Errorf("the model file %s has no part \"standin\", so there is nothing to run", m.Name)
	}
	if err := m.Standin.Decode(s); err != nil {
		return nil, fmt.Errorf("model file %s, part \"standin\": %w", m.Name, err)
	}
	seen := map[string]bool{}
	for _, p := range s.Partitions {
		if p.Name == "" || strings.ContainsAny(p.Name, "/\\. ") || p.Size <= 0 || seen[p.Name] {
			return nil, fmt.Errorf("model file %s: partition %q needs a name of its own and a size", m.Name, p.Name)
		}
		seen[p.Name] = true
	}
	for _, name := range []string{"misc", "userdata", "metadata"} {
		if !seen[name] {
			return nil, fmt.Errorf("model file %s: a phone needs a partition %s", m.Name, name)
		}
	}
	if s.MaxDownload <= 0 || s.MaxDownload > 1<<30 {
		return nil, fmt.Errorf("model file %s: max-download has to be between 1 byte and 1 GiB", m.Name)
	}
	if s.Product == "" {
		s.Product = m.Name
	}
	if s.ABI == "" {
		s.ABI = "arm64-v8a"
	}
	return s, nil
}

func (s *spec) phone(m *model.Model) scenario.Phone {
	return scenario.Phone{Device: m.Name, Model: m.Title, ABI: s.ABI}
}

func (s *spec) partition(name string) *partitionSpec {
	for i := range s.Partitions {
		if s.Partitions[i].Name == name {
			return &s.Partitions[i]
		}
	}
	return nil
}
