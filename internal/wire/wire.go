// Package wire has what travels between a lodge and its clients over HTTP, as JSON. Its types have no behaviour; the faces and the parts
// of a lodge agree on them, and clients need nothing else of a lodge.
package wire

const (
	// Program is what this program is called in records, manifests and stores.
	Program = "keenlodge 0.1"
	// DefaultAddress is where a service listens unless told otherwise.
	DefaultAddress = "127.0.0.1:7433"
)

// Page asks for a part of a list.
type Page struct {
	// Sort is a column, with a dash before it for the largest first; "" is the list's own order.
	Sort string
	// After is the cursor of the page before; "" begins.
	After string
	// Limit is how many; 0 is all, page by page.
	Limit int
}
