package capture

import (
	"context"

	"keenlodge/internal/runs"
	"keenlodge/internal/source"
)

// Asking is what is asked of a source for a moment of a task's machine that is not read: a snapshot in place. What belongs to a freeze is as for an image.
func (c *Captures) Asking(ctx context.Context, h source.Source, o Order, t *runs.Task, id string) (source.Request, error) {
	k := &making{c: c, o: o, t: t}
	asked, err := c.request(ctx, o, t, id)
	asked.Rest, asked.Checkpoint = k.rest(h), false
	return asked, err
}
