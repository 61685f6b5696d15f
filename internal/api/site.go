package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/sight"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// mostSite is how large a site may be, in bytes: some 100,000 policies.
const mostSite = 64 << 20

// registerSite has the configuration as a whole.
func (s *server) registerSite(a huma.API) {
	get(s, a, "get-site", "/api/v1/site", "The configuration, as far as the caller may see it", func(ctx context.Context, _ *none) (site.Site, error) {
		all, err := s.l.Site(ctx)
		return sight.Site(within(ctx), all), err
	})
	type apply struct {
		Try  bool `query:"try" doc:"only tell what would change"`
		Body site.Site
	}
	do(s, a, huma.Operation{OperationID: "apply-site", Method: http.MethodPut, Path: "/api/v1/site", Summary: "Replace the configuration", MaxBodyBytes: mostSite},
		func(ctx context.Context, in *apply) (wire.Applied, error) { return s.l.Apply(ctx, in.Body, in.Try) })
}
