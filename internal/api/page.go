package api

import (
	"context"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/called"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/schema"
	"keenlodge/internal/core/fault"
)

// paged is a page of a list. The list is the body; the way to the next page is in a header.
type paged[T any] struct {
	Link string `header:"Link" doc:"address of the next page, with rel=next; none on the last"`
	Body []T
}

// pages registers a list that comes in pages.
func pages[I, O any](s *server, a huma.API, id, path, summary string, handle func(context.Context, *I) ([]O, string, error)) {
	op := huma.Operation{OperationID: id, Method: http.MethodGet, Path: path, Summary: summary, Errors: []int{401, 403, 404, 409, 422, 429, 500, 503}}
	huma.Register(a, op, func(ctx context.Context, in *I) (*paged[O], error) {
		out, link, err := handle(ctx, in)
		if err != nil {
			called.Of(ctx).Deed.Why = fault.Text(err)
			return nil, problem.Of(err, s.log)
		}
		return &paged[O]{link, out}, nil
	})
	schema.AddQueryWords(a.OpenAPI().Paths[path].Get.Parameters, reflect.TypeFor[I]())
}
