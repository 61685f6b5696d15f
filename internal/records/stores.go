package records

import (
	"context"
	"encoding/json"

	"keenlodge/internal/records/db"
)

// SetResult keeps what a run found.
func (r *Records) SetResult(ctx context.Context, run string, result any) error {
	body, err := json.Marshal(result)
	if err != nil {
		return err
	}
	return r.db.Exec(ctx, "update runs set result = $2 where id = $1", run, body)
}

// Adopt records an image that a store holds, with its proofs, unless it is known, and reports whether it was not. An error that
// [Refused] knows is about this image alone.
func (r *Records) Adopt(ctx context.Context, m Image, proofs []Proof) (bool, error) {
	tag, err := r.db.Pool.Exec(ctx, `insert into images (id, machine, machine_id, policy, store, taken, state, scope, capture, consistency, frozen, pinned, pin_note, disks, size, read, fresh, stored,
		since, capture_why, base, note, apart, took, adopted, firmware, files, rested, copy_of, copied_by, locked)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21, $22, $23, $24, $25, coalesce($26::jsonb, '[]'), $27, coalesce($28::jsonb, '[]'), $29, $30, $31) on conflict do nothing`,
		m.ID, m.Machine, m.MachineID, m.Policy, m.Store, m.Taken, m.State, m.Scope, m.Capture, m.Consistency, m.Frozen, m.Pinned, m.PinNote, m.Disks, m.Size, m.Read, m.NewBytes, m.Stored,
		m.Since, m.CaptureWhy, m.Base, m.Note, m.SeparateSet, m.Took, m.Adopted, m.Firmware, m.Files, m.Rested, m.CopyOf, m.CopiedBy, m.Locked)
	if err != nil || tag.RowsAffected() == 0 {
		return false, err
	}
	for _, p := range proofs {
		p.Image = m.ID
		if err := r.AddProof(ctx, p); err != nil {
			return true, err
		}
	}
	return true, nil
}

// StoreFigures is what the records know of a store's images.
type StoreFigures struct {
	Store  string `db:"store"`
	Images int    `db:"images"`
	Broken int    `db:"broken"`
	// Doubtful are those in which damage was found once.
	Doubtful int   `db:"doubtful"`
	Size     int64 `db:"size"`
}

// StoreImages sums up the images that are there, by store.
func (r *Records) StoreImages(ctx context.Context) (map[string]StoreFigures, error) {
	rows, err := db.All[StoreFigures](ctx, r.db.Pool, `select store, count(*)::int as images, count(*) filter (where state = 'broken')::int as broken, count(*) filter (where state = 'doubtful')::int as doubtful, coalesce(sum(size), 0)::bigint as size
		from images where gone is null group by store`)
	out := map[string]StoreFigures{}
	for _, row := range rows {
		out[row.Store] = row
	}
	return out, err
}

// SetRequest changes what a run that waits is asked for.
func (r *Records) SetRequest(ctx context.Context, id string, request any) error {
	body, err := json.Marshal(request)
	if err != nil {
		return err
	}
	return r.db.Exec(ctx, "update runs set request = $2 where id = $1 and state = 'queued'", id, body)
}
