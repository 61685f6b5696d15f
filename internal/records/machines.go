package records

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/records/db"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/seen"
)

// Machine is a machine that a source told of. Its ID is its identity: it stays when the machine is renamed or moves.
type Machine struct {
	ID         string            `db:"id"`
	Name       string            `db:"name"`
	Label      string            `db:"label"` // its name, or more of it where that is ambiguous; unique
	Hypervisor string            `db:"hypervisor"`
	UUID       string            `db:"uuid"`
	State      machine.State     `db:"state"`
	Tags       map[string]string `db:"tags"`
	Disks      []MachineDisk     `db:"disks"`
	Seen       time.Time         `db:"seen"`
	// AlsoOn is another source that has a machine of the same UUID, Notice what a person should look at.
	AlsoOn string `db:"also_on"`
	Notice string `db:"notice"`
	// Retired is when it was taken down on purpose, Keep the rotation phrase for its images since.
	Retired *time.Time `db:"retired"`
	Keep    string     `db:"keep"`
}

// Live reports whether it is there to be captured.
func (m Machine) Live() bool { return m.State != machine.Gone && m.Retired == nil }

// MachineDisk is a machine's disk. Size is in bytes.
type MachineDisk struct {
	Target string `json:"target"`
	Format string `json:"format"`
	Size   int64  `json:"size"`
}

const machineColumns = "id, name, label, hypervisor, uuid, state, tags, disks, seen, also_on, notice, retired, keep"

// Machines lists all machines by their labels.
func (r *Records) Machines(ctx context.Context) ([]Machine, error) {
	return db.All[Machine](ctx, r.db.Pool, "select "+machineColumns+" from machines order by label")
}

// MachineFilter narrows a listing of machines; empty fields do not.
type MachineFilter struct {
	Hypervisor string
	State      machine.State
	// Text is what the label contains.
	Text   string
	Within *listing.Reach
	listing.Page
}

// MachineRow is a machine in a list, with its newest usable image if it has one.
type MachineRow struct {
	Machine
	NewestImage  *string    `db:"newest_image"`
	NewestTaken  *time.Time `db:"newest_taken"`
	NewestProven string     `db:"newest_proven"`
	NewestFailed bool       `db:"newest_failed"`
}

const machineRows = `select m.id, m.name, m.label, m.hypervisor, m.uuid, m.state, m.tags, m.disks, m.seen, m.also_on, m.notice, m.retired, m.keep,
	newest.id as newest_image, newest.taken as newest_taken, coalesce(newest.proven, '') as newest_proven, coalesce(newest.proof_failed, false) as newest_failed from machines m
	left join lateral (select id, taken, proven, proof_failed from images i where i.machine_id = m.id and i.state = 'usable' and i.gone is null order by taken desc, id desc limit 1) newest on true`

var machineList = listing.List[MachineRow]{Own: "label", ID: "m.id", IDOf: func(m MachineRow) string { return m.ID }, Columns: map[string]listing.Column[MachineRow]{
	"label":      {SQL: "m.label", Kind: "text", Value: func(m MachineRow) string { return m.Label }},
	"hypervisor": {SQL: "m.hypervisor", Kind: "text", Value: func(m MachineRow) string { return m.Hypervisor }},
	"state":      {SQL: "m.state", Kind: "text", Value: func(m MachineRow) string { return string(m.State) }},
	"seen":       {SQL: "m.seen", Kind: "timestamptz", Value: func(m MachineRow) string { return m.Seen.Format(asTime) }},
}}

// MachinePage lists machines by their labels, with the cursor of the next page, "" for none.
func (r *Records) MachinePage(ctx context.Context, f MachineFilter) (machines []MachineRow, next string, err error) {
	var c listing.Conditions
	c.Add("m.hypervisor = $%d", f.Hypervisor)
	c.Add("m.state = $%d", string(f.State))
	c.Add("position($%d in m.label) > 0", f.Text)
	c.Within(f.Within, "m.id = any(%s)", "")
	return db.Page(ctx, r.db, machineList, machineRows, c, f.Page)
}

// MachinesCalled finds the machines that a word may mean: a label, a name, with its source before it or not, or an identity.
func (r *Records) MachinesCalled(ctx context.Context, word string) ([]Machine, error) {
	return db.All[Machine](ctx, r.db.Pool, "select "+machineColumns+" from machines where label = $1 or id = $1 or name = $1 or hypervisor || '/' || name = $1 order by label", word)
}

// Labels lists the labels of all machines.
func (r *Records) Labels(ctx context.Context) ([]string, error) {
	return db.Column[string](ctx, r.db.Pool, "select label from machines order by label")
}

// Machine finds one machine by its ID.
func (r *Records) Machine(ctx context.Context, id string) (Machine, error) {
	return db.One[Machine](ctx, r.db.Pool, "select "+machineColumns+" from machines where id = $1", id)
}

// machineLock is an arbitrary number; one process at a time records what a source told.
const machineLock = 0x6d616368

// withMachines does something to which machines there are, in a transaction, while nobody else does.
func (r *Records) withMachines(ctx context.Context, do func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock($1)", machineLock); err != nil {
			return err
		}
		return do(tx)
	})
}

// SaveMachines records what a source told, and returns the labels of machines that another source has, too, and how many have moved to one that
// had told of them before. A machine that is known by its UUID stays the same, whatever it is called and wherever it is. One that the source no longer has is marked as gone while images of
// it exist, or moves to the other source that has it; otherwise it is forgotten.
func (r *Records) SaveMachines(ctx context.Context, source string, found []Machine) (copies []string, moved int, err error) {
	err = r.withMachines(ctx, func(tx pgx.Tx) error {
		told := make([]machine.Found, len(found))
		var uuids, names []string
		for i, m := range found {
			told[i] = machine.Found{Name: m.Name, UUID: m.UUID, State: m.State}
			uuids, names = append(uuids, m.UUID), append(names, m.Name)
		}
		known, err := db.All[machine.Known](ctx, tx, `select id, name, hypervisor as source, uuid, also_on, state from machines
			where hypervisor = $1 or also_on = $1 or name = any($2) or uuid <> '' and uuid = any($3)`, source, names, uuids)
		if err != nil {
			return err
		}
		sight := machine.See(source, known, told)
		if err := r.saveSighting(ctx, tx, source, found, sight); err != nil {
			return err
		}
		moved = len(sight.Moved)
		copies, err = db.Column[string](ctx, tx, "select label from machines where id = any($1) order by label", alsoElsewhere(sight))
		return err
	})
	return copies, moved, err
}

// alsoElsewhere lists the machines that another source has, too.
func alsoElsewhere(sight machine.Sighting) []string {
	ids := slices.Clone(sight.AlsoHere)
	for _, s := range sight.Runs {
		ids = append(ids, s.ID)
	}
	return ids
}

// saveSighting records what an answer of a source means.
func (r *Records) saveSighting(ctx context.Context, tx pgx.Tx, source string, found []Machine, sight machine.Sighting) error {
	now := time.Now()
	var added []string
	for _, a := range sight.Added {
		m := found[a.Found]
		notice, err := madeAnew(ctx, tx, m.Name, a.Older)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into machines (id, name, label, hypervisor, uuid, state, tags, disks, seen, notice) values ($1, $2, $1, $3, $4, $5, $6, $7, $8, $9)`,
			a.ID, m.Name, source, m.UUID, m.State, m.Tags, m.Disks, now, notice)
		if err != nil {
			return err
		}
		added = append(added, m.Name)
	}
	for _, s := range sight.Runs {
		if _, err := tx.Exec(ctx, "update machines set also_on = hypervisor where id = $1", s.ID); err != nil {
			return err
		}
	}
	var again []seen.Machine
	for _, s := range slices.Concat(sight.Same, sight.Runs) {
		m := found[s.Found]
		again = append(again, seen.Machine{ID: s.ID, Name: m.Name, UUID: m.UUID, State: string(m.State), Tags: m.Tags, Disks: m.Disks})
	}
	if err := seen.Again(ctx, tx, source, again, now); err != nil {
		return err
	}
	for _, change := range []struct {
		sql string
		ids []string
	}{
		{"update machines set also_on = '' where id = any($1)", sight.NoLongerHere},
		{"update machines set hypervisor = also_on, also_on = '' where id = any($1)", sight.Moved},
		{"update machines set state = 'gone' where id = any($1)", sight.Gone},
		{"delete from machines m where id = any($1) and retired is null and not exists (select from images i where i.machine_id = m.id and i.gone is null)", sight.Gone},
	} {
		if len(change.ids) > 0 {
			if _, err := tx.Exec(ctx, change.sql, change.ids); err != nil {
				return err
			}
		}
	}
	if len(sight.AlsoHere) > 0 {
		if _, err := tx.Exec(ctx, "update machines set also_on = $2 where id = any($1)", sight.AlsoHere, source); err != nil {
			return err
		}
	}
	if len(added) > 0 {
		if err := r.db.Happen(ctx, tx, event.Found(source, added)); err != nil {
			return err
		}
	}
	return relabel(ctx, tx, sight.Names)
}

// madeAnew says that a new machine bears the name of others, where these have images.
func madeAnew(ctx context.Context, tx pgx.Tx, name string, older []string) (notice string, err error) {
	for _, id := range older {
		var images int
		if err := tx.QueryRow(ctx, "select count(*) from images where machine_id = $1 and gone is null", id).Scan(&images); err != nil {
			return "", err
		}
		if images > 0 {
			notice = fmt.Sprintf("it was made anew: %d images are of an earlier machine of this name, whose identity is %s; if it is the same one, say so: keenlodge machine continue %s %s", images, id, name, id)
		}
	}
	return notice, nil
}

// relabel gives machines of some names their labels: the name for the only one that is there, more of it where that is ambiguous.
func relabel(ctx context.Context, tx pgx.Tx, names map[string]bool) error {
	var list []string
	for name := range names {
		list = append(list, name)
	}
	if len(list) == 0 {
		return nil
	}
	machines, err := db.All[Machine](ctx, tx, "select "+machineColumns+" from machines where name = any($1) order by name, id", list)
	if err != nil {
		return err
	}
	labels := machine.Labels(machines, func(m Machine) machine.Naming {
		return machine.Naming{ID: m.ID, Name: m.Name, Source: m.Hypervisor, Live: m.Live()}
	})
	var ids, wanted []string
	for i, m := range machines {
		if m.Label != labels[i] {
			ids, wanted = append(ids, m.ID), append(wanted, labels[i])
		}
	}
	// In two steps, for two machines may change labels with each other.
	if _, err := tx.Exec(ctx, "update machines set label = id where id = any($1)", ids); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "update machines m set label = u.label from unnest($1::text[], $2::text[]) u(id, label) where m.id = u.id", ids, wanted)
	return err
}

// AdoptMachine records a machine that only images tell of; one that is known stays as it is.
func (r *Records) AdoptMachine(ctx context.Context, m Machine) (added bool, err error) {
	err = r.withMachines(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `insert into machines (id, name, label, hypervisor, uuid, state, tags, disks, seen) values ($1, $2, $1, $3, $4, 'gone', $5, $6, $7) on conflict do nothing`,
			m.ID, m.Name, m.Hypervisor, m.UUID, m.Tags, m.Disks, m.Seen)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		added = true
		return relabel(ctx, tx, map[string]bool{m.Name: true})
	})
	return added, err
}

// ContinueMachine makes a machine, id, the one that another was, old: its images become the other's, and the other's identity is where
// the machine lives on.
func (r *Records) ContinueMachine(ctx context.Context, id, old string) error {
	err := r.withMachines(ctx, func(tx pgx.Tx) error {
		m, err := db.One[Machine](ctx, tx, "select "+machineColumns+" from machines where id = $1", id)
		if err != nil {
			return err
		}
		was, err := db.One[Machine](ctx, tx, "select "+machineColumns+" from machines where id = $1", old)
		if err != nil {
			return err
		}
		for _, sql := range []string{"update images set machine_id = $2 where machine_id = $1", "update tasks set machine_id = $2 where machine_id = $1"} {
			if _, err := tx.Exec(ctx, sql, id, old); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "delete from machines where id = $1", id); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update machines set name = $2, hypervisor = $3, uuid = $4, state = $5, tags = $6, disks = $7, seen = $8, also_on = $9, notice = '', retired = null, keep = '' where id = $1`,
			old, m.Name, m.Hypervisor, m.UUID, m.State, m.Tags, m.Disks, m.Seen, m.AlsoOn)
		if err != nil {
			return err
		}
		return relabel(ctx, tx, map[string]bool{m.Name: true, was.Name: true})
	})
	if err != nil {
		return err
	}
	return r.db.Notify(ctx, "site")
}

// RetireMachine marks a machine as taken down on purpose, with the rotation phrase for its images, or with an empty phrase takes that
// back.
func (r *Records) RetireMachine(ctx context.Context, id, keep string) error {
	err := pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		m, err := db.One[Machine](ctx, tx, "update machines set retired = case when $2 <> '' then now() end, keep = $2, notice = '' where id = $1 returning "+machineColumns, id, keep)
		if err != nil {
			return err
		}
		return relabel(ctx, tx, map[string]bool{m.Name: true})
	})
	if err != nil {
		return err
	}
	return r.db.Notify(ctx, "site")
}

// RetiredMachines lists the machines that were taken down on purpose.
func (r *Records) RetiredMachines(ctx context.Context) ([]Machine, error) {
	return db.All[Machine](ctx, r.db.Pool, "select "+machineColumns+" from machines where retired is not null order by label")
}

// SetMachineNotice says what a person must look at in a machine; "" takes it back.
func (r *Records) SetMachineNotice(ctx context.Context, id, notice string) error {
	return r.db.Exec(ctx, "update machines set notice = $2 where id = $1 and notice <> $2", id, notice)
}

// MachineStandings is MachinePage for all machines, with what a summary needs.
func (r *Records) MachineStandings(ctx context.Context) ([]MachineRow, error) {
	return db.All[MachineRow](ctx, r.db.Pool, machineRows+" order by m.label")
}
