package main

import (
	"context"
	"time"

	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
)

// seams gives what a program of this world meets the world through.
func (w *world) seams() *seams {
	s := &seams{dial: w.net}
	if w.bus == nil {
		return s
	}
	s.cable, s.ports = tappedBus{w.bus, s}, tappedPorts{w.bus.Ports(), s}
	s.pull = func() {
		go func() {
			for _, key := range []string{"cable-out", "cable-in"} {
				<-w.begin(nil, nil, "standin", "press", w.name, key).done
				time.Sleep(outFor)
			}
		}()
	}
	return s
}

// outFor is how long a cable that was pulled is out.
const outFor = 3 * time.Second

// tappedBus is a bus whose bytes are counted, and that a program which was killed has no part in.
type tappedBus struct {
	usb.Bus
	s *seams
}

// Open opens a pipe.
func (b tappedBus) Open(ctx context.Context, d usb.Device, i usb.Interface) (usb.Pipe, error) {
	p, err := opened(b.s, func() (usb.Pipe, error) { return b.Bus.Open(ctx, d, i) })
	if err != nil {
		return nil, err
	}
	return tappedPipe{p, b.s}, nil
}

type tappedPipe struct {
	usb.Pipe
	s *seams
}

func (p tappedPipe) Read(ctx context.Context, b []byte) (int, error) {
	n, err := p.Pipe.Read(ctx, b)
	return p.s.counted(n, err)
}

func (p tappedPipe) Write(ctx context.Context, b []byte) (int, error) {
	if p.s.killed() {
		return 0, errKilled
	}
	n, err := p.Pipe.Write(ctx, b)
	return p.s.counted(n, err)
}

// tappedPorts are such lines.
type tappedPorts struct {
	serial.Ports
	s *seams
}

// Open opens a line.
func (p tappedPorts) Open(path string) (serial.Stream, error) {
	l, err := opened(p.s, func() (serial.Stream, error) { return p.Ports.Open(path) })
	if err != nil {
		return nil, err
	}
	return tappedLine{l, p.s}, nil
}

type tappedLine struct {
	serial.Stream
	s *seams
}

func (l tappedLine) Read(b []byte) (int, error) {
	n, err := l.Stream.Read(b)
	return l.s.counted(n, err)
}

func (l tappedLine) Write(b []byte) (int, error) {
	if l.s.killed() {
		return 0, errKilled
	}
	n, err := l.Stream.Write(b)
	return l.s.counted(n, err)
}
