package task

import (
	"context"

	"jarlid/internal/engine"
)

// Work is one command's wish for one phone. It is an engine.Task, or direct.
type Work interface {
	// Name is the command's name.
	Name() string
	// Load makes the files of it ready, and refuses words that mean nothing.
	Load(ctx context.Context, e *Env) error
}

// direct is work that is no plan of steps: it opens its phone and reads it by itself.
type direct interface {
	run(ctx context.Context, e *Env) (*engine.Job, error)
}

// Run loads work, where that was not done before, opens the phone that is meant and carries the work out on
// it. The job is given with an error too, once there is one: what it did is in it. Errors: those of
// engine.Open and engine.Job.Run, and UsageError.
func (e *Env) Run(ctx context.Context, w Work) (*engine.Job, error) {
	if !e.Loaded {
		if err := w.Load(ctx, e); err != nil {
			return nil, err
		}
	}
	if h, ok := w.(interface{ Configure(*engine.Options) }); ok {
		h.Configure(&e.Options)
	}
	if d, ok := w.(direct); ok {
		return d.run(ctx, e)
	}
	j, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	return j, j.Run(ctx, w.(engine.Task))
}
