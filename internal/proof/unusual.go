package proof

import (
	"context"
	"fmt"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
	"keenlodge/internal/records/trust"
)

// Unusual is what is unusual in an image, whether somebody has looked at it or not.
func (pr *Proofs) Unusual(ctx context.Context, id string) ([]trust.Oddity, error) {
	return pr.rec.Unusual(ctx, id)
}

// Look notes that a person has looked at what is unusual in an image, with what he saw; rotation goes on where it waited for that.
func (pr *Proofs) Look(ctx context.Context, id, who, note string) (records.Image, error) {
	m, err := pr.stores.Image(ctx, id)
	if err != nil {
		return m, err
	}
	was, err := pr.rec.Look(ctx, id, who, note)
	if err == nil && !was {
		err = fmt.Errorf("%w: nothing in image %s is unusual at which nobody has looked", fault.ErrConflict, id)
	}
	if err != nil {
		return m, err
	}
	return pr.rec.Image(ctx, id)
}
