package client

import (
	"context"
	"net/http"
	"time"

	"keenlodge/internal/wire"
)

// Trail lists what was done, newest first; more tells that there is more than was asked for.
func (c *Client) Trail(ctx context.Context, f wire.DeedFilter) (deeds []wire.Deed, more bool, err error) {
	query := filled(map[string]string{"who": f.Who, "verb": f.Verb, "result": f.Result, "target": f.Target})
	for name, at := range map[string]time.Time{"since": f.Since, "until": f.Until} {
		if !at.IsZero() {
			query.Set(name, at.Format(time.RFC3339Nano))
		}
	}
	return pages[wire.Deed](ctx, c, "/api/v1/trail", query, f.Page)
}

// VerifyTrail looks whether the trail is as it was written.
func (c *Client) VerifyTrail(ctx context.Context) (out wire.TrailCheck, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/trail/verification", nil, &out)
}
