package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"keenlodge/internal/core/site"

	"keenlodge/internal/records/db"
)

const (
	// dueAtOnce is how many policies one transaction starts. Their work begins when it is committed, and competes with starting the rest,
	// so it is many.
	dueAtOnce = 5000
	// dueLanes is how many transactions start policies at the same time: the database works them off on as many processors.
	dueLanes = 2
)

// Due is a policy whose moment has come.
type Due struct {
	Policy string    `db:"name"`
	At     time.Time `db:"next_due"`
	Paused bool      `db:"paused"`
	Pause
}

// Pause is why and until when a policy is paused; Since is nil if it is not. An Until in the past has ended the pause.
type Pause struct {
	Since *time.Time `db:"paused_since" json:"since"`
	Until *time.Time `db:"paused_until" json:"until" doc:"null: until somebody resumes it"`
	Why   string     `db:"paused_why" json:"why"`
	By    string     `db:"paused_by" json:"by"`
}

// Holds reports whether it is in force at a moment.
func (p Pause) Holds(at time.Time) bool {
	return p.Since != nil && (p.Until == nil || at.Before(*p.Until))
}

// Firing is what becomes of a due policy: a run that is queued, or recorded as skipped, and its next moment, the zero time for none.
type Firing struct {
	Run  Run
	Next time.Time
}

// FireDue starts what is due at a moment. decide says, in the same order, what becomes of each policy; it is called by two goroutines
// at once. What it decides and the next moment are recorded, and work is queued, in the transaction that found the policy; other
// processes that look at the same time get others. A moment has one run, whatever happens; where a run of the policy is going it is
// recorded as skipped. It returns how many policies it went through.
func (r *Records) FireDue(ctx context.Context, now time.Time, decide func(site.Site, []Due) []Firing) (total int, err error) {
	var n [dueLanes]int
	var errs [dueLanes]error
	var all sync.WaitGroup
	for lane := range dueLanes {
		all.Go(func() { n[lane], errs[lane] = r.fireLane(ctx, now, decide) })
	}
	all.Wait()
	for _, k := range n {
		total += k
	}
	if err := errors.Join(errs[:]...); err != nil {
		return total, fmt.Errorf("start what is due: %w", err)
	}
	return total, nil
}

func (r *Records) fireLane(ctx context.Context, now time.Time, decide func(site.Site, []Due) []Firing) (total int, err error) {
	for {
		var made []string
		n := 0
		err := pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
			due, err := db.All[Due](ctx, tx, `select name, next_due, paused_since is not null and (paused_until is null or paused_until > $1) as paused,
				paused_since, paused_until, paused_why, paused_by from policies where next_due <= $1 order by next_due limit $2 for update skip locked`, now, dueAtOnce)
			if err != nil || len(due) == 0 {
				return err
			}
			// The locks on the policies keep a change of the site from being committed meanwhile.
			s, err := r.siteIn(ctx, tx)
			if err != nil {
				return err
			}
			n = len(due)
			made, err = r.fire(ctx, tx, decide(s, due))
			return err
		})
		if err != nil {
			return total, err
		}
		if total += n; n == 0 {
			return total, nil
		}
		if err := r.notifyRuns(ctx, made); err != nil {
			return total, err
		}
	}
}

// fire records firings and queues their work.
func (r *Records) fire(ctx context.Context, tx pgx.Tx, firings []Firing) (made []string, err error) {
	var policies []string
	var nexts []*time.Time
	runs := make([]Run, 0, len(firings))
	for _, f := range firings {
		policies = append(policies, f.Run.Policy)
		var next *time.Time
		if !f.Next.IsZero() {
			next = &f.Next
		}
		nexts = append(nexts, next)
		runs = append(runs, f.Run)
	}
	if _, err := tx.Exec(ctx, "update policies p set next_due = u.next from unnest($1::text[], $2::timestamptz[]) u(name, next) where p.name = u.name", policies, nexts); err != nil {
		return nil, err
	}
	return r.queueMany(ctx, tx, runs)
}

// queueMany records runs of policies. One whose policy has a run going is recorded as skipped; one whose moment has a run already is
// not recorded.
func (r *Records) queueMany(ctx context.Context, tx pgx.Tx, runs []Run) (made []string, err error) {
	added, err := insertRuns(ctx, tx, runs)
	if err != nil {
		return nil, err
	}
	var blocked []Run
	var jobs []river.InsertManyParams
	for _, run := range runs {
		switch {
		case !added[run.ID] && run.State == "queued":
			run.State, run.Error = "skipped", "the run before it was still going"
			blocked = append(blocked, run)
		case added[run.ID]:
			made = append(made, run.ID)
			if run.State == "queued" {
				jobs = append(jobs, river.InsertManyParams{Args: Work{run.ID}})
			}
		}
	}
	if len(blocked) > 0 {
		skipped, err := insertRuns(ctx, tx, blocked)
		if err != nil {
			return nil, err
		}
		for id := range skipped {
			made = append(made, id)
		}
	}
	if len(jobs) > 0 {
		_, err = r.db.Jobs.InsertManyFastTx(ctx, tx, jobs)
	}
	return made, err
}

// insertRuns tells which runs no unique index refused.
func insertRuns(ctx context.Context, tx pgx.Tx, runs []Run) (added map[string]bool, err error) {
	var ids, kinds, policies, causes, requests, states, errs, notes, whos, agains []string
	var dues []*time.Time
	for _, run := range runs {
		if len(run.Request) == 0 {
			run.Request = json.RawMessage("{}")
		}
		ids, kinds, policies, causes = append(ids, run.ID), append(kinds, string(run.Kind)), append(policies, run.Policy), append(causes, string(run.Cause))
		requests, states, errs, notes = append(requests, string(run.Request)), append(states, string(run.State)), append(errs, run.Error), append(notes, run.Note)
		dues, whos, agains = append(dues, run.Due), append(whos, run.Who), append(agains, run.Again)
	}
	inserted, err := db.Column[string](ctx, tx, `insert into runs (id, kind, policy, cause, request, state, error, note, due, who, again, ended)
		select id, kind, policy, cause, request::jsonb, state, error, note, due, who, again, case when state <> 'queued' then now() end
		from unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[], $9::timestamptz[], $10::text[], $11::text[])
		u(id, kind, policy, cause, request, state, error, note, due, who, again) on conflict do nothing returning id`,
		ids, kinds, policies, causes, requests, states, errs, notes, dues, whos, agains)
	if err != nil {
		return nil, err
	}
	added = map[string]bool{}
	for _, id := range inserted {
		added[id] = true
	}
	return added, err
}

// mostTold is how many runs are told of one by one; of more, listeners are told that there are new ones.
const mostTold = 20

func (r *Records) notifyRuns(ctx context.Context, ids []string) error {
	if len(ids) > mostTold {
		return r.db.Notify(ctx, "runs")
	}
	for _, id := range ids {
		if err := r.db.Notify(ctx, "run "+id); err != nil {
			return err
		}
	}
	return nil
}

// NextDue is the earliest moment that a policy waits for, or nil.
func (r *Records) NextDue(ctx context.Context) (next *time.Time, err error) {
	return next, r.db.Pool.QueryRow(ctx, "select min(next_due) from policies").Scan(&next)
}

// PullForward moves the next moments of policies forward where want names an earlier one: the clock was set back, or a process that knew
// another clock set them. A moment that has had its run is not repeated.
func (r *Records) PullForward(ctx context.Context, want func(site.Policy) time.Time) (moved []string, err error) {
	err = pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		type row struct {
			Name string     `db:"name"`
			Next *time.Time `db:"next_due"`
		}
		policies, err := db.All[row](ctx, tx, "select name, next_due from policies for update")
		if err != nil {
			return err
		}
		s, err := r.siteIn(ctx, tx)
		if err != nil {
			return err
		}
		for _, p := range policies {
			spec, err := s.Planned(p.Name)
			if err != nil {
				return err
			}
			at := want(spec)
			if at.IsZero() || p.Next != nil && !at.Before(*p.Next) {
				continue
			}
			moved = append(moved, p.Name)
			if _, err := tx.Exec(ctx, "update policies set next_due = $2 where name = $1", p.Name, at); err != nil {
				return err
			}
		}
		return nil
	})
	return moved, err
}

// Boot reports whether this boot of a host is seen for the first time, and notes it.
func (r *Records) Boot(ctx context.Context, id string) (first bool, err error) {
	tag, err := r.db.Pool.Exec(ctx, "insert into boots (boot) values ($1) on conflict do nothing", id)
	return tag.RowsAffected() == 1, err
}

// QueueRuns queues runs of policies that something else than a schedule starts; one whose policy has a run going is recorded as
// skipped.
func (r *Records) QueueRuns(ctx context.Context, runs []Run) error {
	var made []string
	err := pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) (err error) {
		made, err = r.queueMany(ctx, tx, runs)
		return err
	})
	return errors.Join(err, r.notifyRuns(ctx, made))
}

// PausePolicy pauses a policy, or resumes it with the zero Pause.
func (r *Records) PausePolicy(ctx context.Context, policy string, p Pause) error {
	if err := r.db.Exec(ctx, "update policies set paused_since = $2, paused_until = $3, paused_why = $4, paused_by = $5 where name = $1", policy, p.Since, p.Until, p.Why, p.By); err != nil {
		return err
	}
	return r.db.Notify(ctx, "site")
}

// Queue queues other jobs than runs, all or none.
func (r *Records) Queue(ctx context.Context, jobs ...river.JobArgs) error {
	if len(jobs) == 0 {
		return nil
	}
	params := make([]river.InsertManyParams, len(jobs))
	for i, job := range jobs {
		params[i].Args = job
	}
	_, err := r.db.Jobs.InsertMany(ctx, params)
	return err
}
