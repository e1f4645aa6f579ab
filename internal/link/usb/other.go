//go:build !windows && (!linux || !(amd64 || arm64))

package usb

import "context"

// System gives this computer's cables: none yet on this system.
func System() Bus { return none{} }

type none struct{}

func (none) List() ([]Device, error)                               { return nil, ErrUnsupported }
func (none) Watch(context.Context) <-chan struct{}                 { return nil }
func (none) Open(context.Context, Device, Interface) (Pipe, error) { return nil, ErrUnsupported }
