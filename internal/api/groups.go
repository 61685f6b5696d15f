package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/shape"
	"keenlodge/internal/core/run"
	"keenlodge/internal/wire"
)

// registerGroups has what is about groups: machines that need each other.
func (s *server) registerGroups(a huma.API) {
	get(s, a, "list-groups", "/api/v1/groups", "Groups of machines that need each other, by name", func(ctx context.Context, _ *none) ([]wire.Group, error) {
		found, err := s.l.Trials.Groups(ctx)
		return shape.Each(found, shape.Group), err
	})
	type named struct {
		Name string `path:"name"`
	}
	do(s, a, huma.Operation{OperationID: "prove-group", Method: http.MethodPost, Path: "/api/v1/groups/{name}/proofs", DefaultStatus: http.StatusAccepted, Summary: "Start a group from the newest image of each member, in one closed network"},
		func(ctx context.Context, in *named) (wire.Run, error) {
			return started(s.l.Trials.StartGroup(ctx, run.Hand, who(ctx), in.Name))
		})
}
