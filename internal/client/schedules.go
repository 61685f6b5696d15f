package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"keenlodge/internal/wire"
)

func policyPath(name, rest string) string { return "/api/v1/policies/" + url.PathEscape(name) + rest }

// PausePolicy keeps a policy from running.
func (c *Client) PausePolicy(ctx context.Context, name string, p wire.PauseBody) (out wire.Pause, err error) {
	return out, c.call(ctx, http.MethodPut, policyPath(name, "/pause"), p, &out)
}

// ResumePolicy lets a paused policy run again.
func (c *Client) ResumePolicy(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, policyPath(name, "/pause"), nil, nil)
}

// RehearsePolicy starts a rehearsal.
func (c *Client) RehearsePolicy(ctx context.Context, name string, r wire.RehearseRequest) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, policyPath(name, "/rehearsals"), r, &out)
}

// Copies lists the copy rules.
func (c *Client) Copies(ctx context.Context) ([]wire.Copy, error) {
	return list[wire.Copy](ctx, c, "/api/v1/copies")
}

// CopyImages tells what a copy rule does with each image that it selects.
func (c *Client) CopyImages(ctx context.Context, rule string, force bool) ([]wire.CopyVerdict, error) {
	return list[wire.CopyVerdict](ctx, c, "/api/v1/copies/"+url.PathEscape(rule)+"/images?force="+fmt.Sprint(force))
}

// RunCopy starts a run of a copy rule; force copies what is not due yet, rehearse does everything but write.
func (c *Client) RunCopy(ctx context.Context, rule string, force, rehearse bool) (out wire.Run, err error) {
	q := url.Values{"force": {fmt.Sprint(force)}, "rehearse": {fmt.Sprint(rehearse)}}
	return out, c.call(ctx, http.MethodPost, "/api/v1/copies/"+url.PathEscape(rule)+"/runs?"+q.Encode(), nil, &out)
}

// Forecast plays the next days of policies; none named means all.
func (c *Client) Forecast(ctx context.Context, policies []string, days int) (out wire.Forecast, err error) {
	q := url.Values{"days": {fmt.Sprint(days)}}
	if len(policies) > 0 {
		q.Set("policy", strings.Join(policies, ","))
	}
	return out, c.call(ctx, http.MethodGet, "/api/v1/forecast?"+q.Encode(), nil, &out)
}

// CancelRun ends a run. why may be empty.
func (c *Client) CancelRun(ctx context.Context, id, why string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/runs/"+url.PathEscape(id)+"/cancel", map[string]string{"why": why}, &out)
}

// NewWebhookKey makes the key with which a webhook's events are signed.
func (c *Client) NewWebhookKey(ctx context.Context, name string) (out wire.SigningKey, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/webhooks/"+url.PathEscape(name)+"/key", nil, &out)
}

// TryWebhook sends a test event.
func (c *Client) TryWebhook(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, "/api/v1/webhooks/"+url.PathEscape(name)+"/tries", nil, nil)
}

// NewCalendar makes the address of the calendar feed.
func (c *Client) NewCalendar(ctx context.Context) (address string, err error) {
	var out wire.Feed
	err = c.call(ctx, http.MethodPost, "/api/v1/calendar", nil, &out)
	return c.url + out.Path, err
}

// GatherPolicy starts a run that takes a policy's images along from its former stores.
func (c *Client) GatherPolicy(ctx context.Context, name string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, policyPath(name, "/gatherings"), nil, &out)
}
