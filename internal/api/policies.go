package api

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/api/sight"
	"keenlodge/internal/lodge"
	"keenlodge/internal/wire"
)

// previewMost is how many machines' sets a page of a preview has at the most: each has many images.
const previewMost = 10

// registerPolicies has what is about policies: when they run, what becomes of their sets, and what will come of it.
func (s *server) registerPolicies(a huma.API) {
	op := func(id, method, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: method, Path: "/api/v1/" + path, Summary: summary}
	}
	starts := func(id, path, summary string) huma.Operation {
		o := op(id, http.MethodPost, path, summary)
		o.DefaultStatus = http.StatusAccepted
		return o
	}
	type named struct {
		Name string `path:"name"`
	}
	get(s, a, "list-policies", "/api/v1/policies", "Policies, by name", func(ctx context.Context, _ *none) ([]wire.Policy, error) {
		seen := within(ctx)
		found, err := s.l.Policies(ctx, seen)
		return shape.Each(found, func(p lodge.PolicyView) wire.Policy {
			p.Policy = sight.Policy(seen, p.Name, p.Policy)
			out := shape.Policy(p)
			out.Partly = !seen.All && !seen.Policies[p.Name]
			return out
		}), err
	})
	type start struct {
		Name string `path:"name"`
		Note string `query:"note" maxLength:"500" doc:"what the run is for; its images bear it"`
	}
	do(s, a, starts("run-policy", "policies/{name}/runs", "Start a run of a policy"), func(ctx context.Context, in *start) (wire.Run, error) {
		return started(s.l.RunPolicy(ctx, in.Name, who(ctx), in.Note))
	})
	type rehearse struct {
		Name string `path:"name"`
		Body wire.RehearseRequest
	}
	do(s, a, starts("rehearse-policy", "policies/{name}/rehearsals", "Start a run that does everything but write; what it found is in its result"),
		func(ctx context.Context, in *rehearse) (wire.Run, error) {
			return started(s.l.Rehearsals.Start(ctx, in.Name, who(ctx), in.Body))
		})
	type preview struct {
		paging.Query
		Name string `path:"name"`
		Rule string `query:"rule" doc:"another rotation phrase to try"`
	}
	paging.Register(s.log, a, "preview-rotation", "/api/v1/policies/{name}/rotation", "What the next rotation of a policy, or of the copies of a rule, would do, machine by machine", func(ctx context.Context, in *preview) ([]wire.SetPreview, string, error) {
		sets, next, err := s.l.PreviewRotation(ctx, in.Name, in.Rule, in.After, min(in.Limit, previewMost))
		if seen := within(ctx); !seen.All && !seen.Named[in.Name] {
			sets = sight.Only(sets, func(p wire.SetPreview) bool { return seen.Machines[p.MachineID] })
		}
		return sets, in.Link(next), err
	})
	type confirm struct {
		Name string `path:"name"`
		Body struct {
			Drops []string `json:"drops" doc:"the images that were seen to go, of all sets; if others go now, nothing does"`
		}
	}
	do(s, a, op("confirm-rotation", http.MethodPost, "policies/{name}/rotation", "Let a rotation happen that the guard holds back"),
		func(ctx context.Context, in *confirm) ([]string, error) {
			return s.l.ConfirmRotation(ctx, in.Name, in.Body.Drops)
		})
	type pause struct {
		Name string `path:"name"`
		Body wire.PauseBody
	}
	do(s, a, op("pause-policy", http.MethodPut, "policies/{name}/pause", "Keep a policy, or a copy rule, from running"), func(ctx context.Context, in *pause) (wire.Pause, error) {
		until := time.Time{}
		if in.Body.Until != nil {
			until = *in.Body.Until
		}
		p, err := s.l.Planning.Pause(ctx, in.Name, who(ctx), in.Body.Why, until)
		return shape.Pause(p), err
	})
	do(s, a, op("resume-policy", http.MethodDelete, "policies/{name}/pause", "Let a paused policy, or copy rule, run again"),
		func(ctx context.Context, in *named) (none, error) { return none{}, s.l.Planning.Resume(ctx, in.Name) })
	do(s, a, op("gather-policy", http.MethodPost, "policies/{name}/gatherings", "Take a policy's images along from its former stores into its store"),
		func(ctx context.Context, in *named) (wire.Run, error) {
			return started(s.l.Copies.Gather(ctx, in.Name, who(ctx)))
		})
	type look struct {
		Policies []string `query:"policy" doc:"names, joined by commas; all if none is given"`
		Days     int      `query:"days" default:"30" minimum:"1" maximum:"400"`
	}
	get(s, a, "get-forecast", "/api/v1/forecast", "Coming runs, the images that will exist, and the space that they take",
		func(ctx context.Context, in *look) (wire.Forecast, error) {
			return s.l.Forecast(ctx, within(ctx), in.Policies, in.Days)
		})
	do(s, a, op("new-webhook-key", http.MethodPost, "webhooks/{name}/key", "Make the key with which a webhook's events are signed"),
		func(ctx context.Context, in *named) (wire.SigningKey, error) {
			key, err := s.l.Hooks.NewKey(ctx, in.Name)
			return wire.SigningKey{Key: key}, err
		})
	do(s, a, op("try-webhook", http.MethodPost, "webhooks/{name}/tries", "Send a test event"),
		func(ctx context.Context, in *named) (none, error) { return none{}, s.l.Hooks.Try(ctx, in.Name) })
	do(s, a, op("new-calendar", http.MethodPost, "calendar", "Make the address of the calendar feed, in place of an older one"),
		func(ctx context.Context, _ *none) (wire.Feed, error) {
			token, err := s.l.Access.NewCalendarToken(ctx, who(ctx))
			return wire.Feed{Path: "/api/v1/calendar.ics?" + url.Values{"token": {token}}.Encode()}, err
		})
}
