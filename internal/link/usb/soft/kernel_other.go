//go:build !linux

package soft

import "errors"

// Kernel plugs devices into the kernel: Linux alone can.
type Kernel struct{}

// Ready says that it can't.
func (*Kernel) Ready() error { return errors.New("a stand-in on a cable wants Linux") }

// Plug refuses.
func (k *Kernel) Plug(*Device, bool) (func(), error) { return nil, k.Ready() }
