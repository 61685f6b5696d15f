package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/shape"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/restore"
	"keenlodge/internal/wire"
)

// registerBack has files that go back onto machines.
func (s *server) registerBack(a huma.API) {
	type Asked struct { // huma fills in only what is exported
		ID   string `path:"id"`
		Body wire.FilesBack
	}
	request := func(ctx context.Context, in *Asked) (restore.FilesRequest, error) {
		b := in.Body
		q := restore.FilesRequest{Image: in.ID, Paths: b.Paths, Parts: b.Parts, Machine: b.Machine, At: b.At, Existing: b.Existing, Delete: b.Delete, Forget: b.Forget, Snapshot: b.Snapshot, Personal: b.Personal, Look: b.Look, Digest: b.Digest}
		word, err := s.l.Restores.MachineOf(ctx, q)
		if err == nil {
			_, err = s.allow(ctx, right.WriteToMachine, func(string) string { return word })
		}
		return q, err
	}
	type previewed struct {
		Asked
		Most int `query:"most" default:"1000" minimum:"0" maximum:"100000" doc:"how many steps are told at the most"`
	}
	do(s, a, huma.Operation{OperationID: "preview-files", Method: http.MethodPost, Path: "/api/v1/images/{id}/files/preview", Summary: "What would become of files of an image that go back onto a machine; nothing is changed"},
		func(ctx context.Context, in *previewed) (wire.FilesPlan, error) {
			q, err := request(ctx, &in.Asked)
			if err != nil {
				return wire.FilesPlan{}, err
			}
			p, err := s.l.Restores.PreviewFiles(ctx, q, in.Most)
			return shape.FilesPlan(p), err
		})
	do(s, a, huma.Operation{OperationID: "restore-files", Method: http.MethodPost, Path: "/api/v1/images/{id}/files/restores", DefaultStatus: http.StatusAccepted, Summary: "Put files of an image back onto a machine"},
		func(ctx context.Context, in *Asked) (wire.Run, error) {
			q, err := request(ctx, in)
			if err != nil {
				return wire.Run{}, err
			}
			return started(s.l.Restores.StartFiles(ctx, who(ctx), q))
		})
	do(s, a, huma.Operation{OperationID: "undo-restore", Method: http.MethodPost, Path: "/api/v1/runs/{id}/undo", DefaultStatus: http.StatusAccepted, Summary: "Take back what a restore of files did, within a day, or one that replaced a guest"},
		func(ctx context.Context, in *byID) (wire.Run, error) {
			if r, err := s.l.Runs.Find(ctx, in.ID); err == nil && r.Kind == run.Restore && len(r.Tasks) > 0 {
				if _, err := s.allow(ctx, right.ReplaceMachine, func(string) string { return r.Tasks[0].Image }); err != nil {
					return wire.Run{}, err
				}
			}
			return started(s.l.Restores.Undo(ctx, who(ctx), in.ID))
		})
}
