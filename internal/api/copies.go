package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/shape"
	"keenlodge/internal/copies"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// registerCopies has what is about copy rules; they are paused, and their copies rotate, as policies.
func (s *server) registerCopies(a huma.API) {
	get(s, a, "list-copies", "/api/v1/copies", "Copy rules, by name, with what they have to do", func(ctx context.Context, _ *none) ([]wire.Copy, error) {
		in := within(ctx)
		found, err := s.l.Copies.List(ctx, func(_ string, c site.Copy) bool { return in.All || in.SeenStores[c.From] && in.SeenStores[c.To] })
		return shape.Each(found, shape.Copy), err
	})
	type Asked struct { // huma fills in only what is exported
		Name  string `path:"name"`
		Force bool   `query:"force" doc:"the newest image of each machine, although it is not due yet"`
	}
	get(s, a, "list-copy-images", "/api/v1/copies/{name}/images", "What a copy rule does with each image that it selects, and why", func(ctx context.Context, in *Asked) ([]wire.CopyVerdict, error) {
		return s.l.Copies.Choice(ctx, in.Name, in.Force)
	})
	type start struct {
		Asked
		Rehearse bool `query:"rehearse" doc:"do everything but write; what it found is in the run's result"`
	}
	do(s, a, huma.Operation{OperationID: "run-copy", Method: http.MethodPost, Path: "/api/v1/copies/{name}/runs", Summary: "Start a run of a copy rule", DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *start) (wire.Run, error) {
			return started(s.l.Copies.Run(ctx, in.Name, who(ctx), copies.Request{Force: in.Force, Rehearse: in.Rehearse}))
		})
}
