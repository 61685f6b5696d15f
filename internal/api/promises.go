package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/promises"
	"keenlodge/internal/wire"
)

// registerPromises has what is about what is owed to machines.
func (s *server) registerPromises(a huma.API) {
	type filter struct {
		paging.Query
		Standing promise.Standing `query:"standing" doc:"only those of which the worst stands so"`
		Machine  string           `query:"machine" doc:"only this one"`
	}
	paging.Register(s.log, a, "list-promises", "/api/v1/promises", "What is owed to machines, and how that stands, by machine", func(ctx context.Context, in *filter) ([]wire.OwedMachine, string, error) {
		id := ""
		if in.Machine != "" {
			m, err := s.seenMachine(ctx, in.Machine)
			if err != nil {
				return nil, "", err
			}
			id = m.ID
		}
		found, next, err := s.l.Promises.List(ctx, promises.Filter{Within: within(ctx), Standing: in.Standing, MachineID: id, After: in.After, Limit: in.Limit})
		if err != nil {
			return nil, "", err
		}
		out := []wire.OwedMachine{}
		for _, m := range found {
			status, err := s.l.Promises.Status(ctx, m)
			if err != nil {
				return nil, "", err
			}
			out = append(out, shape.OwedMachine(m, status))
		}
		return out, in.Link(next), nil
	})
}
