package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// mostSite is how large a site may be, in bytes: some 100,000 policies.
const mostSite = 64 << 20

// registerSite has the configuration as a whole.
func (s *server) registerSite(a huma.API) {
	get(s, a, "get-site", "/api/v1/site", "The configuration, as far as the caller may see it", func(ctx context.Context, _ *none) (site.Site, error) {
		all, err := s.l.Site(ctx)
		return seenSite(within(ctx), all), err
	})
	type apply struct {
		Try  bool `query:"try" doc:"only tell what would change"`
		Body site.Site
	}
	do(s, a, huma.Operation{OperationID: "apply-site", Method: http.MethodPut, Path: "/api/v1/site", Summary: "Replace the configuration", MaxBodyBytes: mostSite},
		func(ctx context.Context, in *apply) (wire.Applied, error) { return s.l.Apply(ctx, in.Body, in.Try) })
}

// seenSite is what a caller may see of the site.
func seenSite(in right.Within, s site.Site) site.Site {
	if in.All {
		return s
	}
	s.Webhooks, s.Groups = nil, nil
	s.Hypervisors = seenOf(s.Hypervisors, in.SeenSources)
	s.Stores = seenOf(s.Stores, in.SeenStores)
	s.Policies = seenOf(s.Policies, in.SeenPolicies)
	for name, p := range s.Policies {
		s.Policies[name] = seenPolicy(in, name, p)
	}
	return s
}

// seenPolicy is what a caller may see of a policy: of one that is not wholly within, not what it selects, for that names others' machines.
func seenPolicy(in right.Within, name string, p site.Policy) site.Policy {
	if !in.All && !in.Policies[name] {
		p.Machines, p.Tags, p.Except = nil, "", nil
	}
	return p
}

func seenOf[T any](all map[string]T, seen map[string]bool) map[string]T {
	out := map[string]T{}
	for name, v := range all {
		if seen[name] {
			out[name] = v
		}
	}
	return out
}
