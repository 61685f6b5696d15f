// Package paging is how lists are asked for page by page.
package paging

import (
	"net/url"

	"github.com/danielgtaylor/huma/v2"

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
