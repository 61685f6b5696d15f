package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// mostSite is how large a site may be, in bytes: some 100,000 policies.
const mostSite = 64 << 20

// registerSite has the configuration as a whole.
func (s *server) registerSite(a huma.API) {
	get(s, a, "get-site", "/api/v1/site", "The whole configuration", func(ctx context.Context, _ *none) (site.Site, error) { return s.l.Site(ctx) })
	type apply struct {
		Try  bool `query:"try" doc:"only tell what would change"`
		Body site.Site
	}
	do(s, a, huma.Operation{OperationID: "apply-site", Method: http.MethodPut, Path: "/api/v1/site", Summary: "Replace the configuration", MaxBodyBytes: mostSite},
		func(ctx context.Context, in *apply) (wire.Applied, error) { return s.l.Apply(ctx, in.Body, in.Try) })
}
