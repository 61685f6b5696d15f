// Package paging is how lists are asked for page by page.
package paging

import (
	"context"
	"log/slog"
	"net/http"
	"net/url"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/called"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/schema"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/records/listing"
)

// Query is how a list is asked for page by page.
type Query struct {
	Sort  string `query:"sort" doc:"column to sort by, with a dash before it for the largest first"`
	After string `query:"after" doc:"cursor of the page before, from its Link header"`
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`

	address *url.URL
}

// Resolve implements [huma.Resolver]: it keeps the address, for that of the next page is made from it.
func (q *Query) Resolve(ctx huma.Context) []error {
	address := ctx.URL()
	q.address = &address
	return nil
}

// Page is what the records are asked for.
func (q *Query) Page() listing.Page {
	return listing.Page{Sort: q.Sort, After: q.After, Limit: q.Limit}
}

// Link is the Link header (RFC 8288) that leads to the next page, or "".
func (q *Query) Link(next string) string {
	if next == "" || q.address == nil {
		return ""
	}
	query := q.address.Query()
	query.Set("after", next)
	return "<" + q.address.Path + "?" + query.Encode() + `>; rel="next"`
}

// paged is a page of a list. The list is the body; the way to the next page is in a header.
type paged[T any] struct {
	Link string `header:"Link" doc:"address of the next page, with rel=next; none on the last"`
	Body []T
}

// Register registers a list that comes in pages.
func Register[I, O any](log *slog.Logger, a huma.API, id, path, summary string, handle func(context.Context, *I) ([]O, string, error)) {
	op := huma.Operation{OperationID: id, Method: http.MethodGet, Path: path, Summary: summary, Errors: []int{401, 403, 404, 409, 422, 429, 500, 503}}
	huma.Register(a, op, func(ctx context.Context, in *I) (*paged[O], error) {
		out, link, err := handle(ctx, in)
		if err != nil {
			called.Of(ctx).Deed.Why = fault.Text(err)
			return nil, problem.Of(err, log)
		}
		return &paged[O]{link, out}, nil
	})
	schema.AddQueryWords(a.OpenAPI().Paths[path].Get.Parameters, reflect.TypeFor[I]())
}
