package engine

import (
	"context"
	"errors"
	"runtime/debug"
)

// What the service does by itself, again and again.
const (
	Compare   = "compare"   // what agents have given
	Schedules = "schedules" // whose time has come
	Notices   = "notices"   // that are to be told
	Looks     = "looks"     // that are missing, or too long ago
	Storage   = "storage"   // of what is not to be kept
)

// place waits until there is room for a chore. The context that it returns ends when the chore has to; leave makes
// room again.
func (d *Engine) place(ctx context.Context, chore string) (within context.Context, leave func(), err error) {
	if d.Place == nil {
		return ctx, func() {}, nil
	}
	return d.Place(ctx, chore)
}

// Round does a chore once, when there is room for it. Errors are logged, a panic included: the next round is another
// one.
func (d *Engine) Round(ctx context.Context, chore string, do func(context.Context) error) {
	within, leave, err := d.place(ctx, chore)
	if err == nil {
		defer leave()
		err = d.whole(within, chore, do)
	}
	if err != nil && ctx.Err() == nil {
		d.Log.Error("a chore", "what", chore, "error", err)
	}
}

// whole does something, and turns a panic into an error.
func (d *Engine) whole(ctx context.Context, chore string, do func(context.Context) error) (err error) {
	defer func() {
		if x := recover(); x != nil {
			d.Log.Error("panic in a chore", "what", chore, "panic", x, "stack", string(debug.Stack()))
			err = errors.New("a fault of this program, which its log tells")
		}
	}()
	return do(ctx)
}
