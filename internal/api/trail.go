package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/called"
	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/schema"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// who is the name of the token with which a call was made.
func who(ctx context.Context) string { return called.Of(ctx).Deed.Who }

// noted has the trail for every call that changes something, and for every refusal: of one that is carried out, it is recorded before that
// begins (see do), and with its end here. Of strangers the trail has how many wrong tokens they showed.
func (s *server) noted(ctx huma.Context, next func(huma.Context)) {
	c, with := called.New(ctx)
	next(with)
	result := deed.ResultOf(ctx.Status())
	if result != deed.Done && c.Deed.Why == "" {
		c.Deed.Why = http.StatusText(ctx.Status())
	}
	switch {
	case c.Begun != nil:
		c.Begun.End(ctx.Context(), result, c.Deed.Why)
	case c.Deed.Who != "" && (c.Refused || called.Changes(ctx.Method()) && result != deed.Done):
		c.Deed.Result = result
		s.l.Trail.Note(ctx.Context(), c.Deed)
	}
}

// begin records what a call is about to do. What can't be recorded is not done.
func (s *server) begin(ctx context.Context) (err error) {
	c := called.Of(ctx)
	c.Begun, err = s.l.Trail.Begin(ctx, c.Deed)
	return err
}

func (s *server) registerTrail(a huma.API) {
	type deeds struct {
		paging.Query
		Who    string      `query:"who" doc:"by the holder of one token"`
		Verb   string      `query:"verb" doc:"of one operation"`
		Result deed.Result `query:"result" doc:"with one result"`
		Target string      `query:"target" doc:"to what has a path that begins with this"`
		Since  time.Time   `query:"since" doc:"from this moment on"`
		Until  time.Time   `query:"until" doc:"before this moment"`
	}
	paging.Register(s.log, a, "list-trail", "/api/v1/trail", "What was done, by whom, newest first", func(ctx context.Context, in *deeds) ([]wire.Deed, string, error) {
		if in.Verb != "" {
			if verbs := append(schema.Operations(a.OpenAPI()), deed.OwnVerbs...); !slices.Contains(verbs, in.Verb) {
				return nil, "", fmt.Errorf("%w: no operation is called %q%s", fault.ErrInvalid, in.Verb, suggest.Hint(in.Verb, verbs))
			}
		}
		found, next, err := s.l.Trail.List(ctx, records.DeedFilter{Who: in.Who, Verb: in.Verb, Result: string(in.Result), Target: in.Target, Since: in.Since, Until: in.Until, Page: in.Page()})
		return shape.Each(found, shape.Deed), in.Link(next), err
	})
	get(s, a, "verify-trail", "/api/v1/trail/verification", "Whether the trail is as it was written, by its chains and by what the stores keep of it",
		func(ctx context.Context, _ *none) (wire.TrailCheck, error) { return s.l.Witness.Verify(ctx) })
}
