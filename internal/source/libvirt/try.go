package libvirt

import (
	"context"

	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/trial"
)

// Try implements [source.Trier].
func (h *Host) Try(ctx context.Context, t source.Throwaway) (source.Trying, error) {
	return trial.Start(ctx, h.Conn, t)
}

// CanTry implements [source.Trier].
func (h *Host) CanTry(ctx context.Context, t source.Throwaway) (adapted []string, err error) {
	return trial.Can(ctx, h.Conn, t)
}

// ClearTrial implements [source.Trier].
func (h *Host) ClearTrial(ctx context.Context, id, pool string) (found []string, err error) {
	p, err := h.pool(ctx, pool)
	if err != nil {
		return nil, err
	}
	return trial.Clear(ctx, h.Conn, id, p)
}

// Spare implements [source.Trier].
func (h *Host) Spare(ctx context.Context, pool string) (source.Spare, error) {
	p, err := h.pool(ctx, pool)
	if err != nil {
		return source.Spare{}, err
	}
	return trial.Spare(ctx, h.Conn, p)
}

// Outline implements [source.Trier].
func (h *Host) Outline(t source.Throwaway) (memory int64, agent bool) { return trial.Outline(t) }
