package client

import (
	"context"

	"keenlodge/internal/wire"
)

// Trail lists what was done, newest first; more tells that there is more than was asked for.
func (c *Client) Trail(ctx context.Context, f wire.DeedFilter) (deeds []wire.Deed, more bool, err error) {
	return pages[wire.Deed](ctx, c, "/api/v1/trail", filled(map[string]string{"who": f.Who, "verb": f.Verb, "result": f.Result, "target": f.Target}), f.Page)
}
