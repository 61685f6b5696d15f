package client

import (
	"context"
	"net/http"

	"keenlodge/internal/wire"
)

// Trail lists what was done, newest first; more tells that there is more than was asked for.
func (c *Client) Trail(ctx context.Context, f wire.DeedFilter) (deeds []wire.Deed, more bool, err error) {
	return pages[wire.Deed](ctx, c, "/api/v1/trail", filled(map[string]string{"who": f.Who, "verb": f.Verb, "result": f.Result, "target": f.Target}), f.Page)
}

// VerifyTrail looks whether the trail is as it was written.
func (c *Client) VerifyTrail(ctx context.Context) (out wire.TrailCheck, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/trail/verification", nil, &out)
}
