package inventory

import (
	"context"
	"fmt"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
)

// Parts lists the parts of a server's system state, and where measured how large each is.
func (inv *Inventory) Parts(ctx context.Context, m records.Machine, measured bool) ([]source.PartOf, error) {
	s, err := inv.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	h, err := inv.Connect(ctx, s, m.Hypervisor)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	parter, ok := h.(source.Parter)
	if !ok {
		return nil, fmt.Errorf("%w: %s has no agent of ours, which knows the parts of its system state; have it enrolled: keenlodge machine enroll NAME", fault.ErrConflict, m.Name)
	}
	parts, err := parter.Parts(ctx, m.Name, measured)
	if err == nil && len(parts) == 0 {
		err = fmt.Errorf("%w: server %s has no parts; on it: keenlodge agent parts --install", fault.ErrConflict, m.Name)
	}
	return parts, err
}
