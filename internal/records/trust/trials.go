package trust

import (
	"context"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/records/db"
)

// Place is what a run of trials takes of its host: of so many guests, that may have so much memory all together, in bytes.
type Place struct {
	Run, Host string
	Guests    int
	Memory    int64
}

// TakePlace takes a place on a host, if it has one left: for so many guests at once, and so much memory, 0 for no bound of that. Who is alone there gets
// one in any case. It tells how many guests there are already.
func (t Trust) TakePlace(ctx context.Context, p Place, atOnce int, memory int64) (taken bool, others int, err error) {
	err = pgx.BeginFunc(ctx, t.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtext('trials'), hashtext($1))", p.Host); err != nil {
			return err
		}
		// What a dead process took counts until its run is known to be over.
		if _, err := tx.Exec(ctx, "delete from trials t using runs r where r.id = t.run and r.state not in ('queued', 'running')"); err != nil {
			return err
		}
		var used int64
		if err := tx.QueryRow(ctx, "select coalesce(sum(guests), 0)::int, coalesce(sum(memory), 0)::bigint from trials where host = $1 and run <> $2", p.Host, p.Run).Scan(&others, &used); err != nil {
			return err
		}
		if taken = others == 0 || others+p.Guests <= atOnce && (memory == 0 || used+p.Memory <= memory); !taken {
			return nil
		}
		_, err := tx.Exec(ctx, "insert into trials (run, host, guests, memory) values ($1, $2, $3, $4) on conflict (run) do update set host = excluded.host, guests = excluded.guests, memory = excluded.memory",
			p.Run, p.Host, p.Guests, p.Memory)
		return err
	})
	return taken, others, err
}

// LeavePlace gives the place of a run back.
func (t Trust) LeavePlace(ctx context.Context, run string) error {
	_, err := t.db.Pool.Exec(ctx, "delete from trials where run = $1", run)
	return err
}

// LastTrial is the newest proof by trial that an image of a machine passed, nil where there is none.
func (t Trust) LastTrial(ctx context.Context, machineID string) (*Proof, error) {
	found, err := db.All[Proof](ctx, t.db.Pool, `select p.* from proofs p join images i on i.id = p.image where i.machine_id = $1 and p.level = 'boot' and p.passed and p.report is not null
		order by p.id desc limit 1`, machineID)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}
