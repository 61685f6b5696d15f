package client

import (
	"context"
	"net/http"
	"net/url"

	"keenlodge/internal/wire"
)

func handbackPath(id string) string { return "/api/v1/images/" + url.PathEscape(id) + "/handbacks" }

// PreviewHandback says what it would do if an appliance took the export of an image back.
func (c *Client) PreviewHandback(ctx context.Context, id string, b wire.HandbackBody) (out wire.HandbackPreview, err error) {
	return out, c.call(ctx, http.MethodPost, handbackPath(id)+"/preview", b, &out)
}

// HandBack has an appliance take the export of an image back.
func (c *Client) HandBack(ctx context.Context, id string, b wire.HandbackBody) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, handbackPath(id), b, &out)
}
