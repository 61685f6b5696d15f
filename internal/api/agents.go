package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/access"
	"keenlodge/internal/api/called"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/authority"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/wire"
)

// registerAgents has who admits agents, and what agents call to join and to be certified.
func (s *server) registerAgents(a huma.API) {
	get(s, a, "list-agents", "/api/v1/agents", "Servers' agents, by name", func(ctx context.Context, _ *none) ([]wire.Agent, error) {
		all, err := s.l.Agents.List(ctx)
		return shape.Each(all, shape.Agent), err
	})
	type named struct {
		Agent string `path:"agent"`
	}
	do(s, a, huma.Operation{OperationID: "admit-agent", Method: http.MethodPut, Path: "/api/v1/agents/{agent}", Summary: "Have a server's agent join, with a word that is told once"},
		func(ctx context.Context, in *struct {
			Agent  string `path:"agent"`
			Source string `query:"source" default:"servers" doc:"the source of the site that its server is one of; the usual one is made where there is none"`
		}) (wire.Admission, error) {
			word, until, err := s.l.Enroll(ctx, who(ctx), in.Agent, in.Source)
			return wire.Admission{Word: word, Until: until, Port: s.l.AgentsPort}, err
		})
	do(s, a, huma.Operation{OperationID: "revoke-agent", Method: http.MethodDelete, Path: "/api/v1/agents/{agent}", Summary: "End an agent, at once and in every process"},
		func(ctx context.Context, in *named) (done, error) {
			return done{true}, s.l.Agents.Revoke(ctx, in.Agent)
		})

	open := func(id, path, summary string) huma.Operation {
		return withoutSignIn(huma.Operation{OperationID: id, Method: http.MethodPost, Path: path, Summary: summary, Errors: []int{400, 401, 422, 429, 500, 503}})
	}
	type joining struct {
		Agent string `path:"agent"`
		Body  wire.Joining
	}
	huma.Register(a, open("join-agent", "/api/v1/agents/{agent}/certificate", "Join, with the word that an administrator was told"), func(ctx context.Context, in *joining) (*body[wire.Certificate], error) {
		call := called.Of(ctx)
		if !call.Secure {
			return nil, huma.Error400BadRequest("an agent joins over TLS; have the service speak it: keenlodge serve --tls")
		}
		err := s.l.Agents.MayJoin(ctx, in.Agent, in.Body.Word)
		return s.certified(ctx, in.Agent, err, func() (authority.Issued, error) {
			return s.l.Agents.Join(ctx, in.Agent, in.Body.Word, in.Body.Request, call.Deed.Address)
		})
	})
	huma.Register(a, open("renew-agent", "/api/v1/agent/certificate", "Be certified anew, by the certificate that the agent shows"), func(ctx context.Context, in *struct{ Body wire.CertificateRequest }) (*body[wire.Certificate], error) {
		call := called.Of(ctx)
		if call.Peer == nil {
			return nil, huma.Error401Unauthorized("an agent shows its certificate")
		}
		g, err := s.l.Agents.Known(ctx, call.Peer)
		return s.certified(ctx, g.Name, err, func() (authority.Issued, error) {
			return s.l.Agents.Renew(ctx, call.Peer, in.Body.Request, call.Deed.Address)
		})
	})
}

// certified has an agent certified, unless it is not known (err); it is recorded before, as whatever changes something is.
func (s *server) certified(ctx context.Context, name string, err error, issue func() (authority.Issued, error)) (*body[wire.Certificate], error) {
	var out authority.Issued
	if err == nil {
		called.Of(ctx).Deed.Who = "agent " + name
		err = s.begin(ctx)
	}
	if err == nil {
		out, err = issue()
	}
	if access.IsUnknown(err) {
		return nil, s.stranger(ctx, "no agent is known by this; an administrator enrolls its server: keenlodge machine enroll NAME")
	}
	if err != nil {
		called.Of(ctx).Deed.Why = fault.Text(err)
		return nil, problem.Of(err, s.log)
	}
	return &body[wire.Certificate]{wire.Certificate(out)}, nil
}
