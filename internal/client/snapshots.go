package client

import (
	"context"
	"net/http"
	"net/url"

	"keenlodge/internal/wire"
)

func snapshotPath(machine, rest string) string {
	return "/api/v1/machines/" + url.PathEscape(machine) + "/snapshots" + rest
}

// Snapshots lists snapshots in place, newest first.
func (c *Client) Snapshots(ctx context.Context, f wire.SnapshotFilter) ([]wire.Snapshot, error) {
	q := filled(map[string]string{"machine": f.Machine, "policy": f.Policy, "gone": flag(f.Gone), "others": flag(f.Others)})
	return list[wire.Snapshot](ctx, c, "/api/v1/snapshots?"+q.Encode())
}

// TakeSnapshot takes a snapshot in place of a machine.
func (c *Client) TakeSnapshot(ctx context.Context, machine string, b wire.SnapshotBody) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, snapshotPath(machine, ""), b, &out)
}

// DropSnapshot removes a snapshot in place of a machine.
func (c *Client) DropSnapshot(ctx context.Context, machine, id string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodDelete, snapshotPath(machine, "/"+url.PathEscape(id)), nil, &out)
}

// SnapshotLoss tells what going back to a snapshot would lose.
func (c *Client) SnapshotLoss(ctx context.Context, machine, id string) (out wire.SnapshotLoss, err error) {
	return out, c.call(ctx, http.MethodGet, snapshotPath(machine, "/"+url.PathEscape(id)+"/loss"), nil, &out)
}

// GoBack has a machine be as it was at a snapshot.
func (c *Client) GoBack(ctx context.Context, machine, id string, b wire.BackBody) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, snapshotPath(machine, "/"+url.PathEscape(id)+"/back"), b, &out)
}

// PinSnapshot pins a snapshot, with a note that says why; without one it is let go again.
func (c *Client) PinSnapshot(ctx context.Context, machine, id, note string) error {
	path := snapshotPath(machine, "/"+url.PathEscape(id)+"/pin")
	if note == "" {
		return c.call(ctx, http.MethodDelete, path, nil, nil)
	}
	return c.call(ctx, http.MethodPut, path, wire.PinBody{Note: note}, nil)
}
