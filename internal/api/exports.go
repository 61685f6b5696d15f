package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/core/right"
	"keenlodge/internal/wire"
)

// registerExports has exports that appliances take back.
func (s *server) registerExports(a huma.API) {
	type asked struct {
		ID   string `path:"id"`
		Body wire.HandbackBody
	}
	may := func(ctx context.Context, in *asked) error {
		word, err := s.l.Exports.MachineOf(ctx, in.ID, in.Body.Machine)
		if err == nil {
			_, err = s.allow(ctx, right.WriteToMachine, func(string) string { return word })
		}
		return err
	}
	do(s, a, huma.Operation{OperationID: "preview-handback", Method: http.MethodPost, Path: "/api/v1/images/{id}/handbacks/preview", Summary: "What it would do if an appliance took an export back; nothing is changed"},
		func(ctx context.Context, in *asked) (out wire.HandbackPreview, err error) {
			if err = may(ctx, in); err == nil {
				out, err = s.l.Exports.Preview(ctx, in.ID, in.Body.Machine)
			}
			return out, err
		})
	do(s, a, huma.Operation{OperationID: "hand-back", Method: http.MethodPost, Path: "/api/v1/images/{id}/handbacks", DefaultStatus: http.StatusAccepted, Summary: "Have an appliance take an export back"},
		func(ctx context.Context, in *asked) (wire.Run, error) {
			if err := may(ctx, in); err != nil {
				return wire.Run{}, err
			}
			return started(s.l.Exports.Start(ctx, who(ctx), in.ID, in.Body.Machine, in.Body.Confirm))
		})
}
