// Package inorder does several things at once whose outcomes are used in their order.
package inorder

import (
	"context"
	"iter"
)

// Do calls do for each item, several at once, and use with what comes of it, one after another in the order of the items. The first error ends it; what was
// begun by then is waited for.
func Do[T, R any](ctx context.Context, items iter.Seq[T], atOnce int, do func(ctx context.Context, item T) (R, error), use func(R) error) error {
	type outcome struct {
		r   R
		err error
	}
	ctx, end := context.WithCancel(ctx)
	waiting := make(chan chan outcome, atOnce-1) // one more is held by who uses it
	go func() {
		defer close(waiting)
		for item := range items {
			one := make(chan outcome, 1)
			select {
			case waiting <- one:
			case <-ctx.Done():
				return
			}
			go func() {
				r, err := do(ctx, item)
				one <- outcome{r, err}
			}()
		}
	}()
	var first error
	for one := range waiting {
		o := <-one
		if first == nil {
			if first = o.err; first == nil {
				first = use(o.r)
			}
			if first != nil {
				end()
			}
		}
	}
	if first == nil {
		first = context.Cause(ctx)
	}
	end()
	return first
}
