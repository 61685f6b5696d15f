package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/wire"
)

// registerMachines has what is about machines and their sources.
func (s *server) registerMachines(a huma.API) {
	get(s, a, "list-machines", "/api/v1/machines", "Machines, by name", func(ctx context.Context, _ *none) ([]wire.Machine, error) {
		found, err := s.l.Inventory.Views(ctx)
		return eachOf(found, machineOf), err
	})
	do(s, a, huma.Operation{OperationID: "find-machines", Method: http.MethodPost, Path: "/api/v1/hypervisors/find", Summary: "Ask every hypervisor for its guests"},
		func(ctx context.Context, _ *none) ([]wire.Found, error) { return s.l.Inventory.Find(ctx) })
}
