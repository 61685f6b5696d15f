package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/wire"
)

// OneSnapshot is a call about a snapshot in place of a machine.
type OneSnapshot struct {
	NamedMachine
	ID string `path:"id"`
}

// registerSnapshots has what is about snapshots in place.
func (s *server) registerSnapshots(a huma.API) {
	type filter struct {
		Machine string `query:"machine"`
		Policy  string `query:"policy"`
		Gone    bool   `query:"gone" doc:"those too that went"`
		Others  bool   `query:"others" doc:"of one machine, those too that somebody else made: its source is asked"`
	}
	get(s, a, "list-snapshots", "/api/v1/snapshots", "Snapshots in place, newest first", func(ctx context.Context, in *filter) ([]wire.Snapshot, error) {
		return s.l.Snapshots.List(ctx, within(ctx), wire.SnapshotFilter(*in))
	})
	call := func(id, method, rest, says string, status int) huma.Operation {
		return huma.Operation{OperationID: id, Method: method, Path: "/api/v1/machines/{machine}/snapshots" + rest, Summary: says, DefaultStatus: status}
	}
	type take struct {
		NamedMachine
		Body wire.SnapshotBody
	}
	do(s, a, call("take-snapshot", http.MethodPost, "", "Take a snapshot in place of a machine by hand", http.StatusAccepted), func(ctx context.Context, in *take) (wire.Run, error) {
		return started(s.l.Snapshots.Take(ctx, who(ctx), in.word(), in.Body))
	})
	do(s, a, call("drop-snapshot", http.MethodDelete, "/{id}", "Remove a snapshot in place", http.StatusAccepted), func(ctx context.Context, in *OneSnapshot) (wire.Run, error) {
		return started(s.l.Snapshots.Drop(ctx, who(ctx), in.word(), in.ID))
	})
	get(s, a, "preview-back", "/api/v1/machines/{machine}/snapshots/{id}/loss", "What going back to a snapshot in place would lose", func(ctx context.Context, in *OneSnapshot) (wire.SnapshotLoss, error) {
		return s.l.Snapshots.Loss(ctx, in.word(), in.ID)
	})
	type back struct {
		OneSnapshot
		Body wire.BackBody
	}
	do(s, a, call("go-back", http.MethodPost, "/{id}/back", "Have a machine be as it was at a snapshot in place", http.StatusAccepted), func(ctx context.Context, in *back) (wire.Run, error) {
		return started(s.l.Snapshots.Back(ctx, who(ctx), in.word(), in.ID, in.Body))
	})
	type pin struct {
		OneSnapshot
		Body wire.PinBody
	}
	do(s, a, call("pin-snapshot", http.MethodPut, "/{id}/pin", "Pin a snapshot in place, so that rotation never touches it", 200), func(ctx context.Context, in *pin) (done, error) {
		return done{true}, s.l.Snapshots.Pin(ctx, in.word(), in.ID, in.Body.Note)
	})
	do(s, a, call("unpin-snapshot", http.MethodDelete, "/{id}/pin", "Let a pinned snapshot in place go", 200), func(ctx context.Context, in *OneSnapshot) (done, error) {
		return done{true}, s.l.Snapshots.Unpin(ctx, in.word(), in.ID)
	})
}
