package sourcetest

import (
	"context"

	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

// BareKind is the kind of a second fake: hosts whose machines can be listed and captured, and no more. No guest is made from an image
// there, and none is looked after from inside.
const BareKind = "bare"

// bare is a fake's connection with all taken away that a source need not have.
type bare struct {
	source.Source
	source.Capturer
}

func init() {
	source.Register(BareKind, func(_ context.Context, spec site.Hypervisor) (source.Source, error) {
		c := &Conn{Named(spec.URI)}
		return bare{c, c}, nil
	}, nil)
}
