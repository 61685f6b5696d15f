// Package inplace has the records of snapshots in place.
package inplace

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/records/db"
)

// InPlace is that part of the records.
type InPlace struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) InPlace { return InPlace{d} }

// Snapshot is a moment that a source keeps of a machine. Machine is what it is called there, Label how people are told of it; Ref is the source's own
// word for the snapshot. Frozen is nanoseconds, Bytes as in [inplace.Snapshot].
type Snapshot struct {
	ID          string            `db:"id"`
	MachineID   string            `db:"machine_id"`
	Machine     string            `db:"machine"`
	Label       string            `db:"label"`
	Hypervisor  string            `db:"hypervisor"`
	Policy      string            `db:"policy"`
	Run         string            `db:"run"`
	Note        string            `db:"note"`
	Ref         string            `db:"ref"`
	Taken       time.Time         `db:"taken"`
	Consistency image.Consistency `db:"consistency"`
	Frozen      int64             `db:"frozen"`
	Memory      bool              `db:"memory"`
	Bytes       int64             `db:"bytes"`
	State       inplace.State     `db:"state"`
	Pinned      bool              `db:"pinned"`
	PinNote     string            `db:"pin_note"`
	Until       *time.Time        `db:"until"`
	Gone        *time.Time        `db:"gone"`
	Why         string            `db:"why"`
	Trouble     string            `db:"trouble"`
	Troubled    *time.Time        `db:"troubled"`
	Passing     bool              `db:"passing"`
	// Region is where it is a copy, "" where its machine is; CopyOf is the snapshot of which it is one.
	Region string `db:"region"`
	CopyOf string `db:"copy_of"`
}

// Known is what core computes with.
func (s Snapshot) Known() inplace.Snapshot {
	out := inplace.Snapshot{ID: s.ID, Policy: s.Policy, Taken: s.Taken, State: s.State, Pinned: s.Pinned, Bytes: s.Bytes, Trouble: s.Trouble, Passing: s.Passing}
	if s.Until != nil {
		out.Until = *s.Until
	}
	if s.Troubled != nil {
		out.Troubled = *s.Troubled
	}
	return out
}

// columns are those of a snapshot, with how its machine is called by people now.
const columns = `select s.id, s.machine_id, s.machine, coalesce(m.label, s.machine) as label, s.hypervisor, s.policy, s.run, s.note, s.ref, s.taken, s.consistency, s.frozen, s.memory, s.bytes, s.state, s.pinned,
	s.pin_note, s.until, s.gone, s.why, s.trouble, s.troubled, s.region, s.copy_of, s.passing from snapshots s left join machines m on m.id = s.machine_id `

// Save makes a snapshot's record, or changes it.
func (p InPlace) Save(ctx context.Context, s Snapshot) error {
	_, err := p.db.Pool.Exec(ctx, `insert into snapshots (id, machine_id, machine, hypervisor, policy, run, note, ref, taken, consistency, frozen, memory, bytes, state, until, region, copy_of, passing)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18)
		on conflict (id) do update set machine = $3, hypervisor = $4, ref = $8, taken = $9, consistency = $10, frozen = $11, memory = $12, bytes = $13, state = $14`,
		s.ID, s.MachineID, s.Machine, s.Hypervisor, s.Policy, s.Run, s.Note, s.Ref, s.Taken, s.Consistency, s.Frozen, s.Memory, s.Bytes, s.State, s.Until, s.Region, s.CopyOf, s.Passing)
	return err
}

// Filter narrows a list; what is empty narrows nothing. Without Gone only those are listed that are there, or may be.
type Filter struct {
	IDs, MachineIDs []string
	Policy          string
	Hypervisor      string
	States          []inplace.State
	Gone            bool
	// Passing narrows it to those that go by themselves.
	Passing bool
}

// List lists snapshots, newest first.
func (p InPlace) List(ctx context.Context, f Filter) ([]Snapshot, error) {
	return db.All[Snapshot](ctx, p.db.Pool, columns+`where ($1::text[] is null or s.id = any($1)) and ($2::text[] is null or s.machine_id = any($2)) and ($3 = '' or s.policy = $3) and ($4 = '' or s.hypervisor = $4)
		and ($5::text[] is null or s.state = any($5)) and ($6 or s.state <> 'gone') and (s.passing or not $7) order by s.taken desc, s.id`, f.IDs, f.MachineIDs, f.Policy, f.Hypervisor, f.States, f.Gone, f.Passing)
}

// Get finds one; one that is not recorded is [fault.ErrNotFound].
func (p InPlace) Get(ctx context.Context, id string) (Snapshot, error) {
	found, err := p.List(ctx, Filter{IDs: []string{id}, Gone: true})
	if err == nil && len(found) == 0 {
		return Snapshot{}, fault.Unknown("snapshot", id, nil)
	}
	if err != nil {
		return Snapshot{}, err
	}
	return found[0], nil
}

// Leave records that snapshots are to be removed, and why; those that are pinned, or go already, stay as they are. It returns the IDs of those that go.
func (p InPlace) Leave(ctx context.Context, why map[string]string) (going []string, err error) {
	err = pgx.BeginFunc(ctx, p.db.Pool, func(tx pgx.Tx) error {
		going = nil
		for id, because := range why {
			tag, err := tx.Exec(ctx, "update snapshots set state = 'leaving', why = $2 where id = $1 and state = 'kept' and not pinned", id, because)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 1 {
				going = append(going, id)
			}
		}
		return nil
	})
	return going, err
}

// Abandon records that a snapshot is to be removed whose taking nobody brought to an end.
func (p InPlace) Abandon(ctx context.Context, id, why string) error {
	_, err := p.db.Pool.Exec(ctx, "update snapshots set state = 'leaving', why = $2 where id = $1 and state = 'making'", id, why)
	return err
}

// Went records that a snapshot is there no more. why is kept from before where it is "".
func (p InPlace) Went(ctx context.Context, id, why string) error {
	_, err := p.db.Pool.Exec(ctx, "update snapshots set state = 'gone', gone = now(), why = coalesce(nullif($2, ''), why), trouble = '', troubled = null where id = $1 and state <> 'gone'", id, why)
	return err
}

// Trouble records that a snapshot could not be removed, and since when that is so.
func (p InPlace) Trouble(ctx context.Context, id, why string) error {
	_, err := p.db.Pool.Exec(ctx, "update snapshots set trouble = $2, troubled = coalesce(troubled, now()) where id = $1 and state <> 'gone'", id, why)
	return err
}

// Pin pins a snapshot that is there, with a note, or lets it go again where pinned is false; ok is whether it was there.
func (p InPlace) Pin(ctx context.Context, id string, pinned bool, note string) (ok bool, err error) {
	tag, err := p.db.Pool.Exec(ctx, "update snapshots set pinned = $2, pin_note = $3 where id = $1 and state = 'kept'", id, pinned, note)
	return tag.RowsAffected() == 1, err
}

// Grew records how large a snapshot is by now.
func (p InPlace) Grew(ctx context.Context, id string, bytes int64) error {
	_, err := p.db.Pool.Exec(ctx, "update snapshots set bytes = $2 where id = $1", id, bytes)
	return err
}
