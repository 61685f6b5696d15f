package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// started is the answer to what starts a run.
func started(r records.Run, err error) (wire.Run, error) { return runOf(r), err }

// registerRuns has what is about runs.
func (s *server) registerRuns(a huma.API) {
	type limited struct {
		Policy string `query:"policy"`
		Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
	}
	get(s, a, "list-runs", "/api/v1/runs", "Runs, newest first", func(ctx context.Context, in *limited) ([]wire.Run, error) {
		found, err := s.l.Runs.List(ctx, records.RunFilter{Policy: in.Policy, Limit: in.Limit})
		return eachOf(found, runOf), err
	})
	type byID struct {
		ID string `path:"id"`
	}
	get(s, a, "get-run", "/api/v1/runs/{id}", "A run with its tasks", func(ctx context.Context, in *byID) (wire.Run, error) {
		return started(s.l.Runs.Find(ctx, in.ID))
	})
	get(s, a, "get-run-log", "/api/v1/runs/{id}/log", "A run's log, oldest first", func(ctx context.Context, in *byID) ([]wire.LogLine, error) {
		lines, err := s.l.Runs.ReadLog(ctx, in.ID)
		return eachOf(lines, lineOf), err
	})
	type cancel struct {
		ID   string `path:"id"`
		Body struct {
			Why string `json:"why,omitempty" maxLength:"500"`
		}
	}
	do(s, a, huma.Operation{OperationID: "cancel-run", Method: http.MethodPost, Path: "/api/v1/runs/{id}/cancel", Summary: "End a run: guests are thawed and all is cleared at once"},
		func(ctx context.Context, in *cancel) (wire.Run, error) {
			return started(s.l.Runs.Cancel(ctx, in.ID, who(ctx), in.Body.Why))
		})
}
