package api

import (
	"bytes"
	"context"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/run"
	"keenlodge/internal/drills"
	"keenlodge/internal/wire"
)

// registerDrills has what is about drills: bringing machines back as if they were lost.
func (s *server) registerDrills(a huma.API) {
	type order struct {
		Body wire.DrillOrder
	}
	do(s, a, huma.Operation{OperationID: "start-drill", Method: http.MethodPost, Path: "/api/v1/drills", DefaultStatus: http.StatusAccepted, Summary: "Bring groups, machines or the whole site back in closed networks, and measure it"},
		func(ctx context.Context, in *order) (wire.Run, error) {
			way := drill.AtOnce
			if in.Body.WriteOut {
				way = drill.Restored
			}
			return started(s.l.Drills.Start(ctx, who(ctx), drills.Order{Names: in.Body.Names, Whole: in.Body.Whole, Together: in.Body.Together, Way: way, Note: in.Body.Note}))
		})
	paging.Register(s.log, a, "list-drills", "/api/v1/drills", "Drills, newest first, with what they came to; what became of each machine is told of a single one", func(ctx context.Context, in *paging.Query) ([]wire.Drill, string, error) {
		found, next, err := s.l.Drills.List(ctx, in.Page())
		return shape.Each(found, shape.ListedDrill), in.Link(next), err
	})
	type byRun struct {
		Run string `path:"run"`
	}
	get(s, a, "get-drill", "/api/v1/drills/{run}", "What a drill showed", func(ctx context.Context, in *byRun) (wire.Drill, error) {
		found, err := s.l.Drills.Find(ctx, in.Run)
		return shape.Drill(found), err
	})
	huma.Register(a, huma.Operation{OperationID: "read-drill-page", Method: http.MethodGet, Path: "/api/v1/drills/{run}/page", Summary: "A drill as a page that stands alone and prints well, with its pictures"},
		func(ctx context.Context, in *byRun) (*huma.StreamResponse, error) {
			var page bytes.Buffer
			if err := s.l.Drills.WritePage(ctx, in.Run, &page); err != nil {
				return nil, problem.Of(err, s.log)
			}
			return s.stream(in.Run, io.NopCloser(&page), "text/html; charset=utf-8", nil), nil
		})
}

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
