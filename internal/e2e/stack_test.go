package e2e

import (
	"context"
	"net"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
)

// layersOfStep are the packages that a step of a sheet passes through, from the sheet down to the wire. Each
// calls the one behind it and is not called back meanwhile.
var layersOfStep = []string{"task/sheet", "task", "engine", "act", "phone", "phone/wire", "link/fastboot"}

// TestStackOfStep takes a stack wherever a step of a sheet sends something to its phone: each layer's package
// is one unbroken block in it, in the order of the layers.
func TestStackOfStep(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		var mu sync.Mutex
		var stacks [][]string
		l.writes = func() {
			if blocks := blocksOfStack(); slices.Contains(blocks, "act") {
				mu.Lock()
				defer mu.Unlock()
				stacks = append(stacks, blocks)
			}
		}
		l.standin("dunlin", "--fastboot", "127.0.0.1:0")
		l.want(0, nil, "sheet", "run", l.sheetOf("", "  - recovery install: recovery\n"), "--yes")
		if len(stacks) == 0 {
			t.Fatal("no step was seen to write to its phone")
		}
		for _, blocks := range stacks {
			// What lies above the wire is the lab's own.
			if n := slices.Index(blocks, "link/fastboot"); n < 0 ||
				!slices.Equal(blocks[:n+1], layersOfStep) {
				t.Errorf("a step passes through %v, want %v", blocks, layersOfStep)
			}
		}
	})
}

// blocksOfStack names the packages on the caller's stack, the outermost first and each as often as others lie
// between its functions.
func blocksOfStack() (blocks []string) {
	pcs := make([]uintptr, 100)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(2, pcs)])
	for {
		f, more := frames.Next()
		if name, ok := strings.CutPrefix(f.Function, "jarlid/internal/"); ok {
			dir, last := "", name
			if i := strings.LastIndex(name, "/"); i >= 0 {
				dir, last = name[:i+1], name[i+1:]
			}
			pkg, _, _ := strings.Cut(last, ".")
			if pkg = dir + pkg; len(blocks) == 0 || blocks[0] != pkg {
				blocks = slices.Insert(blocks, 0, pkg)
			}
		}
		if !more {
			return blocks
		}
	}
}

// heard is a lab's network with each write reported.
type heard struct{ l *lab }

func (h heard) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := h.l.net.DialContext(ctx, network, address)
	return heardConn{c, h.l.writes}, err
}

type heardConn struct {
	net.Conn
	writes func()
}

func (c heardConn) Write(b []byte) (int, error) {
	c.writes()
	return c.Conn.Write(b)
}
