package trust

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/records/db"
	"keenlodge/internal/records/listing"
)

// drillRow is a drill without its machines.
type drillRow struct {
	Run     string     `db:"run"`
	Who     string     `db:"who"`
	Note    string     `db:"note"`
	Way     drill.Way  `db:"way"`
	Whole   bool       `db:"whole"`
	Program string     `db:"program"`
	Began   time.Time  `db:"began"`
	Ended   *time.Time `db:"ended"`
	Parties string     `db:"parties"`
	Sum     *drill.Sum `db:"sum"`
}

var drillList = listing.List[drillRow]{Own: "-began", ID: "d.run", IDOf: func(d drillRow) string { return d.Run }, Columns: map[string]listing.Column[drillRow]{
	"began": {SQL: "d.began", Kind: "timestamptz", Value: func(d drillRow) string { return d.Began.Format(time.RFC3339Nano) }},
}}

// SaveDrill records a drill as it stands, with its machines at these places.
func (t Trust) SaveDrill(ctx context.Context, d drill.Result, places ...int) error {
	return pgx.BeginFunc(ctx, t.db.Pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "insert into drills (run, who, note, way, whole, program, began, ended, parties, sum) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) on conflict (run) do update set ended = excluded.ended, parties = excluded.parties, sum = excluded.sum",
			d.Run, d.Who, d.Note, d.Way, d.Whole, d.Program, d.Began, d.Ended, d.Of(), d.Sum())
		var all pgx.Batch
		for _, i := range places {
			all.Queue("insert into drill_machines (run, place, machine_id, report) values ($1, $2, $3, $4) on conflict (run, place) do update set report = excluded.report", d.Run, i, d.Machines[i].MachineID, d.Machines[i])
		}
		if err != nil {
			return err
		}
		return tx.SendBatch(ctx, &all).Close()
	})
}

// KeepDrillPicture keeps a picture that belongs to a drill; the same one is kept once.
func (t Trust) KeepDrillPicture(ctx context.Context, run, name string, body []byte) error {
	_, err := t.db.Pool.Exec(ctx, "insert into drill_pictures (run, name, body) values ($1, $2, $3) on conflict do nothing", run, name, body)
	return err
}

// DrillPictures are those of a drill, by name.
func (t Trust) DrillPictures(ctx context.Context, run string) (map[string][]byte, error) {
	type row struct {
		Name string `db:"name"`
		Body []byte `db:"body"`
	}
	rows, err := db.All[row](ctx, t.db.Pool, "select name, body from drill_pictures where run = $1", run)
	out := map[string][]byte{}
	for _, r := range rows {
		out[r.Name] = r.Body
	}
	return out, err
}

// Drill is one drill.
func (t Trust) Drill(ctx context.Context, run string) (drill.Result, error) {
	found, err := db.All[drillRow](ctx, t.db.Pool, "select * from drills where run = $1", run)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("%w: no drill is called %q; look at: keenlodge drill list", fault.ErrNotFound, run)
	}
	if err != nil {
		return drill.Result{}, err
	}
	return t.withMachines(ctx, found[0])
}

// DrillPage reads a page of the drills, newest first, and the cursor of the next one.
func (t Trust) DrillPage(ctx context.Context, p listing.Page) (drills []drill.Listed, next string, err error) {
	found, next, err := db.Page(ctx, t.db, drillList, "select d.* from drills d", listing.Conditions{}, p)
	for _, r := range found {
		if err != nil {
			return nil, "", err
		}
		l := drill.Listed{Result: r.result(), Of: r.Parties}
		if r.Sum != nil {
			l.Sum = *r.Sum
		} else {
			var whole drill.Result
			whole, err = t.withMachines(ctx, r)
			l.Of, l.Sum = whole.Of(), whole.Sum()
		}
		drills = append(drills, l)
	}
	return drills, next, err
}

// result is the drill without its machines.
func (r drillRow) result() drill.Result {
	return drill.Result{Run: r.Run, Who: r.Who, Note: r.Note, Way: r.Way, Whole: r.Whole, Program: r.Program, Began: r.Began, Ended: r.Ended, Machines: []drill.Comeback{}}
}

func (t Trust) withMachines(ctx context.Context, r drillRow) (out drill.Result, err error) {
	out = r.result()
	out.Machines, err = db.Column[drill.Comeback](ctx, t.db.Pool, "select report from drill_machines where run = $1 order by place", r.Run)
	return out, err
}

// Drilled is what became of a machine in its newest drill that is over for it.
type Drilled struct {
	MachineID string         `db:"machine_id"`
	Began     time.Time      `db:"began"`
	Report    drill.Comeback `db:"report"`
}

// DrillStandings are those of all machines.
func (t Trust) DrillStandings(ctx context.Context) ([]Drilled, error) {
	return db.All[Drilled](ctx, t.db.Pool, `select distinct on (m.machine_id) m.machine_id, d.began, m.report from drill_machines m join drills d using (run)
		where m.report ->> 'standing' <> all($1) order by m.machine_id, d.began desc`, []drill.Standing{drill.Pending, drill.Impossible})
}
