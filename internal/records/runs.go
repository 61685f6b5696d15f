package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
)

// Run is one carrying-out of a policy, a proof or a restore.
type Run struct {
	ID      string          `db:"id" json:"id"`
	Kind    string          `db:"kind" json:"kind" enum:"backup,proof,restore,check,sweep,fold"`
	Policy  string          `db:"policy" json:"policy"`
	Cause   string          `db:"cause" json:"cause" enum:"hand,schedule,upkeep"`
	Request json.RawMessage `db:"request" json:"request"`
	State   string          `db:"state" json:"state" enum:"queued,running,done,warned,failed,skipped"`
	Owner   int64           `db:"owner" json:"-"`
	Due     *time.Time      `db:"due" json:"due"`
	Made    time.Time       `db:"made" json:"made"`
	Started *time.Time      `db:"started" json:"started"`
	Ended   *time.Time      `db:"ended" json:"ended"`
	Error   string          `db:"error" json:"error"`
	// Result is what a check or a sweep found; null for others.
	Result json.RawMessage `db:"result" json:"result,omitempty"`
	// Note says what a run by hand is for; its images bear it.
	Note  string `db:"note" json:"note"`
	Tasks []Task `db:"-" json:"tasks"`
}

// Over reports whether the run has ended.
func (r Run) Over() bool { return r.State != "queued" && r.State != "running" }

// Task is the part of a run for one machine. Done, Total, Fresh and Stored are bytes: worked off, to work off, new to the
// store before and after compression.
type Task struct {
	ID         int64      `db:"id" json:"id"`
	Run        string     `db:"run" json:"run"`
	Machine    string     `db:"machine" json:"machine"`
	Hypervisor string     `db:"hypervisor" json:"hypervisor"`
	State      string     `db:"state" json:"state" enum:"queued,running,done,warned,failed"`
	Step       string     `db:"step" json:"step"`
	Image      string     `db:"image" json:"image"`
	Touched    bool       `db:"touched" json:"-"`
	Woken      bool       `db:"woken" json:"-"`
	Started    *time.Time `db:"started" json:"started"`
	Ended      *time.Time `db:"ended" json:"ended"`
	Done       int64      `db:"done" json:"done"`
	Total      int64      `db:"total" json:"total"`
	Fresh      int64      `db:"fresh" json:"fresh"`
	Stored     int64      `db:"stored" json:"stored"`
	Frozen     int64      `db:"frozen" json:"frozen" doc:"nanoseconds"`
	Warnings   []string   `db:"warnings" json:"warnings"`
	Error      string     `db:"error" json:"error"`
}

// LogLine is a line of a run's log.
type LogLine struct {
	ID      int64     `db:"id" json:"id"`
	Run     string    `db:"run" json:"-"`
	At      time.Time `db:"at" json:"at"`
	Machine string    `db:"machine" json:"machine"`
	Text    string    `db:"text" json:"text"`
}

// Work is the queue's job: carry out a run.
type Work struct {
	Run string `json:"run"`
}

// Kind implements river.JobArgs.
func (Work) Kind() string { return "run" }

// InsertOpts implements river's interface: a run is tried once, for a second try would be a run of its own.
func (Work) InsertOpts() river.InsertOpts { return river.InsertOpts{MaxAttempts: 1} }

// QueueRun records a run and queues its work, both or none. A second backup run of a policy is [ErrRunning]; it is
// recorded as skipped if it was due by schedule.
func (r *Records) QueueRun(ctx context.Context, run Run) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error { return r.queue(ctx, tx, run) })
	if err != nil {
		return err
	}
	return r.notify(ctx, "run "+run.ID)
}

func (r *Records) queue(ctx context.Context, tx pgx.Tx, run Run) error {
	if len(run.Request) == 0 {
		run.Request = json.RawMessage("{}")
	}
	// The inner transaction is a savepoint: a breach of the index must not spoil the caller's work.
	err := pgx.BeginFunc(ctx, tx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "insert into runs (id, kind, policy, cause, request, state, due, note) values ($1, $2, $3, $4, $5, 'queued', $6, $7)",
			run.ID, run.Kind, run.Policy, run.Cause, run.Request, run.Due, run.Note)
		return err
	})
	if breaks(err, "runs_one_at_a_time") {
		return ErrRunning
	}
	if err != nil {
		return err
	}
	_, err = r.jobs.InsertTx(ctx, tx, Work{run.ID}, nil)
	return err
}

// FireDue queues a run for each policy whose moment has come, and sets its next moment, in one transaction a policy.
// next gives a policy's first moment after now, or the zero time. It returns the runs made.
func (r *Records) FireDue(ctx context.Context, now time.Time, newID func() string, next func(policy string) time.Time) (made []string, err error) {
	for {
		id := newID()
		var policy string
		err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
			var due time.Time
			row := tx.QueryRow(ctx, "select name, next_due from policies where next_due <= $1 order by next_due limit 1 for update skip locked", now)
			if err := row.Scan(&policy, &due); err != nil {
				return err
			}
			var after *time.Time
			if at := next(policy); !at.IsZero() {
				after = &at
			}
			if _, err := tx.Exec(ctx, "update policies set next_due = $2 where name = $1", policy, after); err != nil {
				return err
			}
			run := Run{ID: id, Kind: "backup", Policy: policy, Cause: "schedule", Due: &due}
			err := r.queue(ctx, tx, run)
			if errors.Is(err, ErrRunning) {
				_, err = tx.Exec(ctx, `insert into runs (id, kind, policy, cause, state, due, ended, error)
					values ($1, 'backup', $2, 'schedule', 'skipped', $3, now(), 'the run before it was still going') on conflict do nothing`, id, policy, due)
			}
			return err
		})
		if errors.Is(err, pgx.ErrNoRows) {
			return made, nil
		}
		if err != nil {
			return made, fmt.Errorf("start what is due: %w", err)
		}
		made = append(made, id)
		if err := r.notify(ctx, "run "+id); err != nil {
			return made, err
		}
	}
}

// BeginRun takes a queued run for a process.
func (r *Records) BeginRun(ctx context.Context, id string, owner int64) (Run, error) {
	run, err := one[runRow](ctx, r.pool, "update runs set state = 'running', owner = $2, started = now() where id = $1 and state = 'queued' returning *", id, owner)
	if err != nil {
		return Run{}, err
	}
	return run.run(), r.notify(ctx, "run "+id)
}

// EndRun records how a run ended.
func (r *Records) EndRun(ctx context.Context, id, state, text string) error {
	if err := r.exec(ctx, "update runs set state = $2, ended = now(), error = $3 where id = $1 and state in ('queued', 'running')", id, state, text); err != nil {
		return err
	}
	return r.notify(ctx, "run "+id)
}

// runRow is a Run as its table has it.
type runRow struct {
	ID      string          `db:"id"`
	Kind    string          `db:"kind"`
	Policy  string          `db:"policy"`
	Cause   string          `db:"cause"`
	Request json.RawMessage `db:"request"`
	State   string          `db:"state"`
	Owner   int64           `db:"owner"`
	Due     *time.Time      `db:"due"`
	Made    time.Time       `db:"made"`
	Started *time.Time      `db:"started"`
	Ended   *time.Time      `db:"ended"`
	Error   string          `db:"error"`
	Result  json.RawMessage `db:"result"`
	Note    string          `db:"note"`
}

func (r runRow) run() Run {
	return Run{r.ID, r.Kind, r.Policy, r.Cause, r.Request, r.State, r.Owner, r.Due, r.Made, r.Started, r.Ended, r.Error, r.Result, r.Note, []Task{}}
}

// Runs lists the newest runs with their tasks, newest first. An id narrows it to one.
func (r *Records) Runs(ctx context.Context, id string, limit int) ([]Run, error) {
	rows, err := all[runRow](ctx, r.pool, "select * from runs where $1 = '' or id = $1 order by made desc, id limit $2", id, limit)
	if err != nil {
		return nil, err
	}
	runs := make([]Run, len(rows))
	ids := make([]string, len(rows))
	at := map[string]int{}
	for i, row := range rows {
		runs[i], ids[i], at[row.ID] = row.run(), row.ID, i
	}
	tasks, err := all[Task](ctx, r.pool, "select * from tasks where run = any($1) order by id", ids)
	if err != nil {
		return nil, err
	}
	for _, t := range tasks {
		run := &runs[at[t.Run]]
		run.Tasks = append(run.Tasks, t)
	}
	return runs, nil
}

// Run is one run with its tasks.
func (r *Records) Run(ctx context.Context, id string) (Run, error) {
	runs, err := r.Runs(ctx, id, 1)
	if err == nil && len(runs) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Run{}, err
	}
	return runs[0], nil
}

// AddTask records a queued task and returns it with its number.
func (r *Records) AddTask(ctx context.Context, t Task) (Task, error) {
	return one[Task](ctx, r.pool, "insert into tasks (run, machine, hypervisor, state, image) values ($1, $2, $3, 'queued', $4) returning *",
		t.Run, t.Machine, t.Hypervisor, t.Image)
}

// SaveTask writes all of a task that changes.
func (r *Records) SaveTask(ctx context.Context, t Task) error {
	if t.Warnings == nil {
		t.Warnings = []string{}
	}
	err := r.exec(ctx, `update tasks set state = $2, step = $3, image = $4, touched = $5, woken = $6, started = $7, ended = $8, done = $9, total = $10,
		fresh = $11, stored = $12, frozen = $13, warnings = $14, error = $15 where id = $1`,
		t.ID, t.State, t.Step, t.Image, t.Touched, t.Woken, t.Started, t.Ended, t.Done, t.Total, t.Fresh, t.Stored, t.Frozen, t.Warnings, t.Error)
	if err != nil {
		return err
	}
	return r.notify(ctx, "run "+t.Run)
}

// Log adds a line to a run's log.
func (r *Records) Log(ctx context.Context, run, machine, text string) error {
	return r.exec(ctx, "insert into log (run, machine, text) values ($1, $2, $3)", run, machine, text)
}

// RunLog reads a run's log, oldest first.
func (r *Records) RunLog(ctx context.Context, run string) ([]LogLine, error) {
	return all[LogLine](ctx, r.pool, "select * from log where run = $1 order by id", run)
}

// Orphans lists the runs that a process began which lives no more.
func (r *Records) Orphans(ctx context.Context) ([]Run, error) {
	type row struct {
		ID string `db:"id"`
	}
	rows, err := all[row](ctx, r.pool, `select id from runs where state = 'running' and not exists (select from pg_locks
		where locktype = 'advisory' and objsubid = 1 and database = (select oid from pg_database where datname = current_database())
		and classid::bigint = (owner >> 32) and objid::bigint = (owner & 4294967295))`)
	if err != nil {
		return nil, err
	}
	var runs []Run
	for _, row := range rows {
		run, err := r.Run(ctx, row.ID)
		if err != nil {
			return nil, err
		}
		runs = append(runs, run)
	}
	return runs, nil
}

// Unclean lists the tasks of ended runs that may have left something on a hypervisor.
func (r *Records) Unclean(ctx context.Context) ([]Task, error) {
	return all[Task](ctx, r.pool, "select t.* from tasks t join runs r on r.id = t.run where t.touched and r.state not in ('queued', 'running') order by t.id")
}

// Requeue gives work back to the queue whose process died between taking it and beginning the run: such a run would
// stay queued for ever, and keep its policy from running.
func (r *Records) Requeue(ctx context.Context) error {
	rows, err := r.pool.Query(ctx, `select id from runs where state = 'queued' and made < now() - interval '1 minute' and not exists (
		select from river_job j where j.kind = $1 and j.args->>'run' = runs.id and
		(j.state in ('available', 'scheduled', 'retryable', 'pending') or j.attempted_at > now() - interval '1 minute'))`, Work{}.Kind())
	if err != nil {
		return err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, id := range ids {
		if _, err := r.jobs.Insert(ctx, Work{id}, nil); err != nil {
			return err
		}
	}
	return nil
}
