package api

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// call is what is known of a call while it is answered.
type call struct {
	who string // the name of its token
	why string // why it was refused or failed
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
func who(ctx context.Context) string { return callOf(ctx).who }

// noted puts every change that somebody makes into the trail, once it is over. Who is not signed in changes nothing and is not noted:
// strangers must not be able to fill the database.
func (s *server) noted(ctx huma.Context, next func(huma.Context)) {
	c := &call{}
	next(huma.WithValue(ctx, callKey{}, c))
	if c.who == "" || slices.Contains([]string{http.MethodGet, http.MethodHead}, ctx.Method()) {
		return
	}
	address, _, err := net.SplitHostPort(ctx.RemoteAddr())
	if err != nil {
		address = ctx.RemoteAddr()
	}
	result, target := deed.ResultOf(ctx.Status()), ctx.URL().Path
	if result != deed.Done && c.why == "" {
		c.why = http.StatusText(ctx.Status())
	}
	s.l.Trail.Note(ctx.Context(), records.Deed{Who: c.who, Address: address, Verb: ctx.Operation().OperationID, Target: target, Result: result, Why: c.why})
}

func (s *server) registerTrail(a huma.API) {
	type deeds struct {
		PageQuery
		Who    string      `query:"who" doc:"by the holder of one token"`
		Verb   string      `query:"verb" doc:"of one operation"`
		Result deed.Result `query:"result" doc:"with one result"`
		Target string      `query:"target" doc:"to what has a path that begins with this"`
	}
	pages(s, a, "list-trail", "/api/v1/trail", "What was done, by whom, newest first", func(ctx context.Context, in *deeds) ([]wire.Deed, string, error) {
		if in.Verb != "" {
			if verbs := changes(a.OpenAPI()); !slices.Contains(verbs, in.Verb) {
				return nil, "", fmt.Errorf("%w: no operation that changes something is called %q%s", fault.ErrInvalid, in.Verb, suggest.Hint(in.Verb, verbs))
			}
		}
		found, next, err := s.l.Trail.List(ctx, records.DeedFilter{Who: in.Who, Verb: in.Verb, Result: string(in.Result), Target: in.Target, Page: in.page()})
		return eachOf(found, deedOf), in.link(next), err
	})
}

// changes are the names of all operations that are noted.
func changes(doc *huma.OpenAPI) (names []string) {
	for _, path := range doc.Paths {
		for _, op := range []*huma.Operation{path.Post, path.Put, path.Patch, path.Delete} {
			if op != nil {
				names = append(names, op.OperationID)
			}
		}
	}
	slices.Sort(names)
	return names
}

func deedOf(d records.Deed) wire.Deed { return wire.Deed(d) }
