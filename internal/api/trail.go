package api

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/access"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/schema"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/records"
	"keenlodge/internal/trail"
	"keenlodge/internal/wire"
)

// call is what is known of a call while it is answered.
type call struct {
	access.Caller
	secure  bool              // over TLS
	key     string            // what it shows to be let in
	peer    *x509.Certificate // that the caller shows, or nil
	refused bool              // for what it is not allowed to do
	within  right.Within
	run     records.Run  // that it is about, where the caller's role is narrowed
	deed    trail.Deed   // what is known of it for the trail: who makes it, from where, and why it did not go well
	begun   *trail.Begun // nil for what changes nothing, or was refused before anything was done
}

// callKey is where a request's context has its call.
type callKey struct{}

// callOf is the call that a context belongs to.
func callOf(ctx context.Context) *call {
	if c, ok := ctx.Value(callKey{}).(*call); ok {
		return c
	}
	return &call{}
}

// who is the name of the token with which a call was made.
func who(ctx context.Context) string { return callOf(ctx).deed.Who }

// reasonHeader carries why a call is made, for the trail.
const reasonHeader = "Keenlodge-Reason"

// mostReason is how long a reason is at the most; what is beyond is cut off.
const mostReason = 500

// changesSomething reports whether a method changes something (RFC 9110, section 9.2.1).
func changesSomething(method string) bool {
	return method != http.MethodGet && method != http.MethodHead
}

// noted has the trail for every call that changes something, and for every refusal: of one that is carried out, it is recorded before that
// begins (see do), and with its end here. Of strangers the trail has how many wrong tokens they showed.
func (s *server) noted(ctx huma.Context, next func(huma.Context)) {
	reason := []rune(ctx.Header(reasonHeader))
	c := &call{secure: ctx.TLS() != nil, deed: trail.Deed{Address: guard.AddressOf(ctx.RemoteAddr()), Verb: ctx.Operation().OperationID, Target: ctx.URL().Path, Reason: string(reason[:min(len(reason), mostReason)])}}
	if t := ctx.TLS(); t != nil && len(t.PeerCertificates) > 0 {
		c.peer = t.PeerCertificates[0]
	}
	next(huma.WithValue(ctx, callKey{}, c))
	result := deed.ResultOf(ctx.Status())
	if result != deed.Done && c.deed.Why == "" {
		c.deed.Why = http.StatusText(ctx.Status())
	}
	switch {
	case c.begun != nil:
		c.begun.End(ctx.Context(), result, c.deed.Why)
	case c.deed.Who != "" && (c.refused || changesSomething(ctx.Method()) && result != deed.Done):
		c.deed.Result = result
		s.l.Trail.Note(ctx.Context(), c.deed)
	}
}

// begin records what a call is about to do. What can't be recorded is not done.
func (s *server) begin(ctx context.Context) (err error) {
	c := callOf(ctx)
	c.begun, err = s.l.Trail.Begin(ctx, c.deed)
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
	pages(s, a, "list-trail", "/api/v1/trail", "What was done, by whom, newest first", func(ctx context.Context, in *deeds) ([]wire.Deed, string, error) {
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
