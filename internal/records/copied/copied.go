// Package copied has the records of which images are copies of which.
package copied

import (
	"context"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/records/db"
)

// Copied is that part of the records.
type Copied struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Copied { return Copied{d} }

// Lying is an image as far as copying it asks for. Origin is the image of which it is a copy, or itself; Data and Stored are bytes.
type Lying struct {
	ID          string        `db:"id"`
	Origin      string        `db:"origin"`
	CopiedBy    string        `db:"copied_by"`
	Machine     string        `db:"machine"`
	MachineID   string        `db:"machine_id"`
	Policy      string        `db:"policy"`
	Scope       image.Scope   `db:"scope"`
	SeparateSet bool          `db:"apart"`
	Taken       time.Time     `db:"taken"`
	Capture     image.Capture `db:"capture"`
	Base        string        `db:"base"`
	State       image.State   `db:"state"`
	Pinned      bool          `db:"pinned"`
	Proven      image.Level   `db:"proven"`
	Failed      bool          `db:"proof_failed"`
	Size        int64         `db:"size"`
	Stored      int64         `db:"stored"`
	Gone        *time.Time    `db:"gone"`
	Locked      *time.Time    `db:"locked"`
}

// LyingIn lists the images of a store, those too that it had and let go, oldest first in each machine; of some machines, or of all where none are named.
func (c Copied) LyingIn(ctx context.Context, store string, machineIDs []string) ([]Lying, error) {
	return db.All[Lying](ctx, c.db.Pool, `select i.id, coalesce(nullif(i.copy_of, ''), i.id) as origin, i.copied_by, coalesce(m.label, i.machine) as machine, i.machine_id, i.policy, i.scope, i.apart, i.taken, i.capture,
		i.base, i.state, i.pinned, i.proven, i.proof_failed, i.size, i.stored, i.gone, i.locked from images i left join machines m on m.id = i.machine_id
		where i.store = $1 and ($2::text[] is null or i.machine_id = any($2)) order by i.machine_id, i.taken, i.id`, store, machineIDs)
}

// Twin is an image that is the same as another one, elsewhere.
type Twin struct {
	Of       string      `db:"twin_of" json:"-"`
	ID       string      `db:"id" json:"id"`
	Store    string      `db:"store" json:"store"`
	State    image.State `db:"state" json:"state"`
	CopiedBy string      `db:"copied_by" json:"copied_by" doc:"the copy rule that made it, empty for the one of which the others are copies"`
	Proven   image.Level `db:"proven" json:"proven"`
	Failed   bool        `db:"proof_failed" json:"failed"`
}

// Twins lists, for each of some images, those of the same origin in other places.
func (c Copied) Twins(ctx context.Context, ids []string) (map[string][]Twin, error) {
	found, err := db.All[Twin](ctx, c.db.Pool, `select a.id as twin_of, b.id, b.store, b.state, b.copied_by, b.proven, b.proof_failed from images a
		join images b on b.id <> a.id and b.gone is null and (b.copy_of = coalesce(nullif(a.copy_of, ''), a.id) or b.id = a.copy_of)
		where a.id = any($1) order by a.id, b.copied_by, b.store`, ids)
	out := map[string][]Twin{}
	for _, t := range found {
		out[t.Of] = append(out[t.Of], t)
	}
	return out, err
}

// NewestHere is the newest usable image of a machine in a store that has a scope; the empty string is none.
func (c Copied) NewestHere(ctx context.Context, store, machineID string, scope image.Scope) (string, error) {
	ids, err := db.Column[string](ctx, c.db.Pool, `select id from images where store = $1 and machine_id = $2 and scope = $3 and state = 'usable' and in_store and not leaving
		order by taken desc, id limit 1`, store, machineID, scope)
	if err != nil || len(ids) == 0 {
		return "", err
	}
	return ids[0], nil
}

// Pair is an image and a copy of it.
type Pair struct {
	There string `db:"there"`
	Here  string `db:"here"`
}

// NewestPair is the newest image of a machine, of those that two stores both have: as it is called in either. ok is false where there is none.
func (c Copied) NewestPair(ctx context.Context, there, here, machineID string, scope image.Scope) (p Pair, ok bool, err error) {
	found, err := db.All[Pair](ctx, c.db.Pool, `select a.id as there, b.id as here from images a join images b on coalesce(nullif(a.copy_of, ''), a.id) = coalesce(nullif(b.copy_of, ''), b.id)
		where a.store = $1 and b.store = $2 and a.machine_id = $3 and b.machine_id = $3 and a.scope = $4 and a.state = 'usable' and b.state = 'usable'
		and a.in_store and not a.leaving and b.in_store and not b.leaving order by a.taken desc, a.id limit 1`, there, here, machineID, scope)
	if err != nil || len(found) == 0 {
		return p, false, err
	}
	return found[0], true, nil
}
