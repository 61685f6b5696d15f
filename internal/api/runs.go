package api

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/api/sight"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// started is the answer to what starts a run.
func started(r records.Run, err error) (wire.Run, error) { return shape.Run(r), err }

// registerRuns has what is about runs.
func (s *server) registerRuns(a huma.API) {
	type filter struct {
		paging.Query
		ID     string   `query:"id" doc:"how the runs' IDs begin"`
		Policy string   `query:"policy"`
		Kind   run.Kind `query:"kind"`
	}
	paging.Register(s.log, a, "list-runs", "/api/v1/runs", "Runs, newest first", func(ctx context.Context, in *filter) ([]wire.Run, string, error) {
		found, next, err := s.l.Runs.List(ctx, records.RunFilter{ID: in.ID, Policy: in.Policy, Kind: string(in.Kind), Within: reach(ctx), Page: in.Page()})
		seen := within(ctx)
		return shape.Each(found, func(r records.Run) wire.Run { return shape.Run(sight.Run(seen, r)) }), in.Link(next), err
	})
	get(s, a, "get-run", "/api/v1/runs/{id}", "A run with its tasks", func(ctx context.Context, in *byID) (wire.Run, error) {
		r, err := s.l.Runs.Find(ctx, in.ID)
		return started(sight.Run(within(ctx), r), err)
	})
	type tasks struct {
		ID    string `path:"id"`
		After int64  `query:"after" doc:"number of the task before"`
		Limit int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`
	}
	get(s, a, "list-tasks", "/api/v1/runs/{id}/tasks", "A run's tasks, by their numbers", func(ctx context.Context, in *tasks) ([]wire.Task, error) {
		found, err := s.l.Runs.Tasks(ctx, in.ID, in.After, in.Limit)
		return shape.Each(seenTasks(ctx, found), shape.Task), err
	})
	get(s, a, "get-run-log", "/api/v1/runs/{id}/log", "A run's log, oldest first", func(ctx context.Context, in *byID) ([]wire.LogLine, error) {
		lines, err := s.l.Runs.ReadLog(ctx, in.ID)
		if err == nil {
			lines, err = s.seenLines(ctx, lines)
		}
		return shape.Each(lines, shape.Line), err
	})
	get(s, a, "list-unread", "/api/v1/runs/{id}/unread", "Files that a run could not read as they were", func(ctx context.Context, in *byID) ([]wire.UnreadFile, error) {
		r, found, err := s.l.Runs.Unread(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		seen := seenTasks(ctx, r.Tasks)
		out := []wire.UnreadFile{}
		for _, f := range found {
			if i := slices.IndexFunc(seen, func(t records.Task) bool { return t.MachineID == f.Machine }); i >= 0 {
				out = append(out, wire.UnreadFile{Machine: seen[i].Machine, Path: files.Readable(string(f.Path)), Why: f.Why, Changed: f.Changed})
			}
		}
		return out, nil
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
