package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records/db"
	"keenlodge/internal/records/listing"
)

// Run is one carrying-out of a policy, a proof or a restore.
type Run struct {
	ID        string          `db:"id" json:"id"`
	Kind      run.Kind        `db:"kind" json:"kind"`
	Policy    string          `db:"policy" json:"policy"`
	Cause     run.Cause       `db:"cause" json:"cause"`
	Who       string          `db:"who" json:"who" doc:"the token's name, of a run that a person started"`
	Request   json.RawMessage `db:"request" json:"request"`
	State     run.State       `db:"state" json:"state"`
	Waits     string          `db:"waits" json:"waits" doc:"what a queued run waits for"`
	NotBefore *time.Time      `db:"not_before" json:"not_before"`
	Cancel    string          `db:"cancel" json:"cancel" doc:"why it is to end, once somebody wants that"`
	Owner     int64           `db:"owner" json:"-"`
	Due       *time.Time      `db:"due" json:"due"`
	Made      time.Time       `db:"made" json:"made"`
	Started   *time.Time      `db:"started" json:"started"`
	Ended     *time.Time      `db:"ended" json:"ended"`
	Error     string          `db:"error" json:"error"`
	// Result is what a check or a sweep found; null for others.
	Result json.RawMessage `db:"result" json:"result,omitempty"`
	// Note says what a run is for; its images bear it.
	Note string `db:"note" json:"note"`
	// Again names the run that this one takes up, which was interrupted.
	Again string `db:"again" json:"again,omitempty"`
	Tasks []Task `db:"-" json:"tasks"`
	// Figures sum its tasks up.
	Figures RunFigures `db:"-" json:"-"`
}

// Over reports whether the run has ended.
func (r Run) Over() bool { return r.State.Over() }

// Task is the part of a run for one machine. Done, Total, NewBytes and Stored are bytes: worked off, to work off, new to the
// store before and after compression.
type Task struct {
	ID  int64  `db:"id" json:"id"`
	Run string `db:"run" json:"run"`
	// Machine is what the task's machine was called, Guest its name on its source, MachineID its identity.
	Machine       string     `db:"machine" json:"machine"`
	MachineID     string     `db:"machine_id" json:"machine_id"`
	Guest         string     `db:"guest" json:"-"`
	Hypervisor    string     `db:"hypervisor" json:"hypervisor"`
	Store         string     `db:"store" json:"store"`
	State         run.State  `db:"state" json:"state"`
	Why           string     `db:"why" json:"why" doc:"why it was skipped, or what it waits for"`
	Tries         int        `db:"tries" json:"tries"`
	Steps         []TaskStep `db:"steps" json:"steps"`
	Step          string     `db:"step" json:"step"`
	Image         string     `db:"image" json:"image"`
	NeedsCleanup  bool       `db:"touched" json:"-"`
	StartedPaused bool       `db:"woken" json:"-"`
	// Owed are applications that were brought to rest in its guest, and have yet to be told to go on: that is so also where its capture was ended
	// well, and nothing else is left to clear.
	Owed     []string   `db:"owed" json:"-"`
	Cleaner  int64      `db:"cleaner" json:"-"`
	Started  *time.Time `db:"started" json:"started"`
	Ended    *time.Time `db:"ended" json:"ended"`
	Done     int64      `db:"done" json:"done"`
	Total    int64      `db:"total" json:"total"`
	NewBytes int64      `db:"fresh" json:"fresh"`
	Stored   int64      `db:"stored" json:"stored"`
	Frozen   int64      `db:"frozen" json:"frozen" doc:"nanoseconds"`
	Warnings []string   `db:"warnings" json:"warnings"`
	Error    string     `db:"error" json:"error"`
}

// TaskStep is a step of a task that has ended. Took is in nanoseconds.
type TaskStep struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
	Took int64     `json:"took"`
}

// LogLine is a line of a run's log.
type LogLine struct {
	ID      int64     `db:"id" json:"id"`
	Run     string    `db:"run" json:"-"`
	At      time.Time `db:"at" json:"at"`
	Machine string    `db:"machine" json:"machine"`
	Kind    run.Line  `db:"kind" json:"kind"`
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

// QueueRun records a run and queues its work, both or none. A second backup run of a policy is [ErrRunning].
func (r *Records) QueueRun(ctx context.Context, run Run) error {
	err := pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error { return r.queue(ctx, tx, run) })
	if err != nil {
		return err
	}
	return r.db.Notify(ctx, "run "+run.ID)
}

func (r *Records) queue(ctx context.Context, tx pgx.Tx, run Run) error {
	if len(run.Request) == 0 {
		run.Request = json.RawMessage("{}")
	}
	// The inner transaction is a savepoint: a breach of the index must not spoil the caller's work.
	err := pgx.BeginFunc(ctx, tx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "insert into runs (id, kind, policy, cause, request, state, due, note, who, again) values ($1, $2, $3, $4, $5, 'queued', $6, $7, $8, $9)",
			run.ID, run.Kind, run.Policy, run.Cause, run.Request, run.Due, run.Note, run.Who, run.Again)
		return err
	})
	if db.Breaks(err, "runs_one_at_a_time") {
		return ErrRunning
	}
	if err != nil {
		return err
	}
	_, err = r.db.Jobs.InsertTx(ctx, tx, Work{run.ID}, nil)
	return err
}

// BeginRun takes a queued run for a process.
func (r *Records) BeginRun(ctx context.Context, id string, owner int64) (Run, error) {
	run, err := db.One[Run](ctx, r.db.Pool, "update runs set state = 'running', owner = $2, started = now(), waits = '' where id = $1 and state = 'queued' returning "+runColumns, id, owner)
	if err != nil {
		return Run{}, err
	}
	return run, r.db.Notify(ctx, "run "+id)
}

// EndRun records how a run ended, and queues the runs that its end starts, in one transaction. A run that has ended already is left
// as it is.
func (r *Records) EndRun(ctx context.Context, id string, state run.State, text string, starts ...Run) error {
	var made []string
	err := pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		ended, err := db.All[Run](ctx, tx, "update runs set state = $2, ended = now(), error = $3, waits = '' where id = $1 and state in ('queued', 'running') returning "+runColumns, id, state, text)
		if err != nil || len(ended) == 0 {
			return err
		}
		if e, ok := event.Ended(ended[0].Kind, id, ended[0].Policy, state, text); ok {
			if err := r.db.Happen(ctx, tx, e); err != nil {
				return err
			}
		}
		if len(starts) == 0 {
			return nil
		}
		made, err = r.queueMany(ctx, tx, starts)
		return err
	})
	if err != nil {
		return err
	}
	return r.notifyRuns(ctx, append(made, id))
}

// HoldRun notes what a queued run waits for, and until when.
func (r *Records) HoldRun(ctx context.Context, id, waits string, until time.Time) error {
	if err := r.db.Exec(ctx, "update runs set waits = $2, not_before = $3 where id = $1 and state = 'queued'", id, waits, until); err != nil {
		return err
	}
	return r.db.Notify(ctx, "run "+id)
}

// CancelRun asks for a run's end and says why: one that is queued ends at once, one that is going is ended by its process, which hears
// of it. It returns the run as it is then; one that is over is [ErrOver].
func (r *Records) CancelRun(ctx context.Context, id, why string) (Run, error) {
	tag, err := r.db.Pool.Exec(ctx, `update runs set cancel = $2, state = case state when 'queued' then 'cancelled' else state end,
		ended = case state when 'queued' then now() else ended end, error = case state when 'queued' then 'cancelled ' || $2 else error end, waits = ''
		where id = $1 and state in ('queued', 'running')`, id, why)
	if err != nil {
		return Run{}, err
	}
	run, err := r.Run(ctx, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrOver
	}
	if err != nil {
		return run, err
	}
	return run, errors.Join(r.db.Notify(ctx, "cancel "+id), r.db.Notify(ctx, "run "+id))
}

// Limits are how many tasks may be under way at once, in all, on one hypervisor and into one store.
type Limits struct{ Lodge, Hypervisor, Store int }

// taskLock is an arbitrary number; one task at a time is counted and begun.
const taskLock = 0x7461736b

// Claim is a task that waits for its turn, and the limits that hold for it.
type Claim struct {
	Task   Task
	Limits Limits
}

// ClaimTasks begins those tasks that no limit holds back, the first first; full[i] says which limit holds task i, "" that it has begun.
// Tasks of all processes count. What a task waits for is recorded where it changed.
func (r *Records) ClaimTasks(ctx context.Context, claims []Claim) (full []string, err error) {
	full = make([]string, len(claims))
	changed := map[string]bool{}
	err = pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock($1)", taskLock); err != nil {
			return err
		}
		type count struct {
			Hypervisor string `db:"hypervisor"`
			Store      string `db:"store"`
			Tasks      int    `db:"tasks"`
		}
		counts, err := db.All[count](ctx, tx, `select t.hypervisor, t.store, count(*)::int as tasks from tasks t join runs r on r.id = t.run
			where t.state = 'running' and r.state = 'running' and r.kind = any($1) group by 1, 2`, run.Limited)
		if err != nil {
			return err
		}
		lodge, hypervisors, stores := 0, map[string]int{}, map[string]int{}
		for _, c := range counts {
			lodge, hypervisors[c.Hypervisor], stores[c.Store] = lodge+c.Tasks, hypervisors[c.Hypervisor]+c.Tasks, stores[c.Store]+c.Tasks
		}
		var begin, wait []int64
		var whys []string
		for i, c := range claims {
			switch t := c.Task; {
			case t.Hypervisor != "" && hypervisors[t.Hypervisor] >= c.Limits.Hypervisor:
				full[i] = fmt.Sprintf("hypervisor %s has its %d tasks at once", t.Hypervisor, c.Limits.Hypervisor)
			case t.Store != "" && stores[t.Store] >= c.Limits.Store:
				full[i] = fmt.Sprintf("store %s has its %d tasks at once", t.Store, c.Limits.Store)
			case lodge >= c.Limits.Lodge:
				full[i] = fmt.Sprintf("the lodge has its %d tasks at once", c.Limits.Lodge)
			default:
				lodge, hypervisors[t.Hypervisor], stores[t.Store] = lodge+1, hypervisors[t.Hypervisor]+1, stores[t.Store]+1
				begin, changed[t.Run] = append(begin, t.ID), true
			}
			if full[i] != "" && full[i] != c.Task.Why {
				wait, whys, changed[c.Task.Run] = append(wait, c.Task.ID), append(whys, full[i]), true
			}
		}
		if len(begin) > 0 { // one that was cancelled while its turn was asked for stays as it ended
			if _, err := tx.Exec(ctx, "update tasks set state = 'running', why = '', started = now() where id = any($1) and state = 'queued'", begin); err != nil {
				return err
			}
		}
		if len(wait) > 0 {
			_, err = tx.Exec(ctx, "update tasks t set why = u.why from unnest($1::bigint[], $2::text[]) u(id, why) where t.id = u.id and t.state = 'queued'", wait, whys)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return full, r.notifyRuns(ctx, slices.Collect(maps.Keys(changed)))
}

// runColumns are the columns of runRow.
const runColumns = "id, kind, policy, cause, who, request, state, waits, not_before, cancel, owner, due, made, started, ended, error, result, note, again"

// RunFilter narrows a listing of runs; empty fields do not.
type RunFilter struct {
	// ID is how the runs' IDs begin.
	ID, Policy, Kind string
	Within           *listing.Reach
	listing.Page
}

var runList = listing.List[Run]{Own: "-made", ID: "id", IDOf: func(r Run) string { return r.ID }, Columns: map[string]listing.Column[Run]{
	"made": {SQL: "made", Kind: "timestamptz", Value: func(r Run) string { return r.Made.Format(asTime) }},
}}

const (
	// tasksListed is how many of a run's tasks come with it in a list, tasksShown where it is looked at alone.
	tasksListed = 20
	tasksShown  = 1000
)

// Runs lists runs, newest first, each with its first tasks.
func (r *Records) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	runs, _, err := r.RunPage(ctx, f)
	return runs, err
}

// RunPage is Runs with the cursor of the next page, "" for none.
func (r *Records) RunPage(ctx context.Context, f RunFilter) (runs []Run, next string, err error) {
	var c listing.Conditions
	c.Add("starts_with(id, $%d)", f.ID)
	c.Add("policy = $%d", f.Policy)
	c.Add("kind = $%d", f.Kind)
	c.Within(f.Within, "exists (select from tasks t where t.run = runs.id and t.machine_id = any(%s))", "policy = any(%s)")
	if runs, next, err = db.Page(ctx, r.db, runList, "select "+runColumns+" from runs", c, f.Page); err != nil {
		return nil, "", err
	}
	return runs, next, r.addTasks(ctx, runs, tasksListed)
}

// addTasks completes runs with their figures and their first tasks.
func (r *Records) addTasks(ctx context.Context, runs []Run, most int) error {
	ids := make([]string, len(runs))
	at := map[string]int{}
	for i := range runs {
		runs[i].Tasks, ids[i], at[runs[i].ID] = []Task{}, runs[i].ID, i
	}
	type figures struct {
		Run string `db:"run"`
		RunFigures
	}
	sums, err := db.All[figures](ctx, r.db.Pool, `select run, count(*)::int as machines, coalesce(sum(done), 0)::bigint as moved, coalesce(sum(stored), 0)::bigint as stored_sum,
		count(*) filter (where state = 'failed')::int as failed, count(*) filter (where state in ('queued', 'running'))::int as open from tasks where run = any($1) group by run`, ids)
	if err != nil {
		return err
	}
	for _, f := range sums {
		runs[at[f.Run]].Figures = f.RunFigures
	}
	tasks, err := db.All[Task](ctx, r.db.Pool, `select t.* from unnest($1::text[]) u(run), lateral (select * from tasks where tasks.run = u.run order by id limit $2) t order by t.id`, ids, most)
	if err != nil {
		return err
	}
	for _, t := range tasks {
		run := &runs[at[t.Run]]
		run.Tasks = append(run.Tasks, t)
	}
	return nil
}

// RunFigures sum a run's tasks up. Moved and Stored are bytes.
type RunFigures struct {
	Machines int   `db:"machines"`
	Moved    int64 `db:"moved"`
	Stored   int64 `db:"stored_sum"`
	Failed   int   `db:"failed"`
	Open     int   `db:"open"`
}

// RunsOf finds runs by their IDs, with their figures and without their tasks.
func (r *Records) RunsOf(ctx context.Context, ids []string) ([]Run, error) {
	runs, err := db.All[Run](ctx, r.db.Pool, "select "+runColumns+" from runs where id = any($1)", ids)
	if err != nil {
		return nil, err
	}
	return runs, r.addTasks(ctx, runs, 0)
}

// TasksOf finds tasks by their IDs.
func (r *Records) TasksOf(ctx context.Context, ids []int64) ([]Task, error) {
	return db.All[Task](ctx, r.db.Pool, "select * from tasks where id = any($1) order by id", ids)
}

// WentBack lists the last tasks of a kind that were done onto a source, or onto a machine where that is named, and moved so many bytes at least.
func (r *Records) WentBack(ctx context.Context, kind run.Kind, source, machine string, bytes int64, limit int) ([]Task, error) {
	return db.All[Task](ctx, r.db.Pool, `select t.* from runs r join tasks t on t.run = r.id where r.kind = $1 and r.kind in ('restore', 'files') and t.hypervisor = $2 and $3 in ('', t.machine_id)
		and t.state in ('done', 'warned') and t.done >= $4 order by r.made desc limit $5`, kind, source, machine, bytes, limit)
}

// Tasks lists a run's tasks by their IDs, those after one.
func (r *Records) Tasks(ctx context.Context, run string, after int64, limit int) ([]Task, error) {
	return db.All[Task](ctx, r.db.Pool, "select * from tasks where run = $1 and id > $2 order by id limit $3", run, after, limit)
}

// ForgetRuns removes the records of runs that ended before a moment, with their tasks and logs, and tells how many. Images keep what
// they say of themselves.
func (r *Records) ForgetRuns(ctx context.Context, before time.Time) (int64, error) {
	tag, err := r.db.Pool.Exec(ctx, `delete from runs where ended < $1 and not exists (select from tasks t where t.run = runs.id and (t.touched or t.owed <> '{}'))`, before)
	return tag.RowsAffected(), err
}

// Run is one run with its tasks: the first ones, where there are very many.
func (r *Records) Run(ctx context.Context, id string) (Run, error) {
	found, err := db.One[Run](ctx, r.db.Pool, "select "+runColumns+" from runs where id = $1", id)
	if err != nil {
		return Run{}, err
	}
	runs := []Run{found}
	err = r.addTasks(ctx, runs, tasksShown)
	return runs[0], err
}

// AddTask records a queued task and returns it with its number.
func (r *Records) AddTask(ctx context.Context, t Task) (Task, error) {
	return db.One[Task](ctx, r.db.Pool, "insert into tasks (run, machine, machine_id, guest, hypervisor, store, state, image, why) values ($1, $2, $3, $4, $5, $6, coalesce(nullif($7, ''), 'queued'), $8, $9) returning *",
		t.Run, t.Machine, t.MachineID, t.Guest, t.Hypervisor, t.Store, t.State, t.Image, t.Why)
}

// SaveTask writes all of a task that changes.
func (r *Records) SaveTask(ctx context.Context, t Task) error {
	if t.Warnings == nil {
		t.Warnings = []string{}
	}
	if t.Steps == nil {
		t.Steps = []TaskStep{}
	}
	if t.Owed == nil {
		t.Owed = []string{}
	}
	return r.db.Exec(ctx, `with saved as (update tasks set state = $2, step = $3, image = $4, touched = $5, woken = $6, started = $7, ended = $8, done = $9, total = $10,
		fresh = $11, stored = $12, frozen = $13, warnings = $14, error = $15, why = $16, tries = $17, steps = $18, hypervisor = $19, guest = $20, owed = $21 where id = $1 returning id, run)
		select pg_notify('`+db.Channel+`', 'task ' || id || ' ' || run) from saved`,
		t.ID, t.State, t.Step, t.Image, t.NeedsCleanup, t.StartedPaused, t.Started, t.Ended, t.Done, t.Total, t.NewBytes, t.Stored, t.Frozen, t.Warnings, t.Error, t.Why, t.Tries, t.Steps, t.Hypervisor, t.Guest, t.Owed)
}

// AddTasks records queued tasks of a run and returns them with their numbers.
func (r *Records) AddTasks(ctx context.Context, tasks []Task) ([]Task, error) {
	var runs, machines, ids, guests, hypervisors, stores, images []string
	for _, t := range tasks {
		runs, machines, ids, guests = append(runs, t.Run), append(machines, t.Machine), append(ids, t.MachineID), append(guests, t.Guest)
		hypervisors, stores, images = append(hypervisors, t.Hypervisor), append(stores, t.Store), append(images, t.Image)
	}
	return db.All[Task](ctx, r.db.Pool, `insert into tasks (run, machine, machine_id, guest, hypervisor, store, state, image)
		select run, machine, machine_id, guest, hypervisor, store, 'queued', image from unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[])
		with ordinality u(run, machine, machine_id, guest, hypervisor, store, image, nth) order by nth returning *`, runs, machines, ids, guests, hypervisors, stores, images)
}

// Log adds a line to a run's log.
func (r *Records) Log(ctx context.Context, at time.Time, id, machine string, kind run.Line, text string) error {
	return r.db.Exec(ctx, "insert into log (run, at, machine, kind, text) values ($1, $2, $3, $4, $5)", id, at, machine, kind, text)
}

// RunLog reads a run's log, oldest first.
func (r *Records) RunLog(ctx context.Context, id string) ([]LogLine, error) {
	return db.All[LogLine](ctx, r.db.Pool, "select * from log where run = $1 order by id", id)
}

// Orphans lists the runs that a process began which lives no more, with those of their tasks that have not ended.
func (r *Records) Orphans(ctx context.Context) ([]Run, error) {
	type row struct {
		ID string `db:"id"`
	}
	rows, err := db.All[row](ctx, r.db.Pool, "select id from runs where state = 'running' and not "+db.Lives("owner"))
	if err != nil {
		return nil, err
	}
	var runs []Run
	for _, row := range rows {
		run, err := r.Orphan(ctx, row.ID)
		if err != nil {
			return nil, err
		}
		runs = append(runs, run)
	}
	return runs, nil
}

// Orphan is a run with all of its tasks that have not ended, however many there are: each has to be ended.
func (r *Records) Orphan(ctx context.Context, id string) (Run, error) {
	run, err := r.Run(ctx, id)
	if err == nil {
		run.Tasks, err = db.All[Task](ctx, r.db.Pool, "select * from tasks where run = $1 and state in ('queued', 'running') order by id", id)
	}
	return run, err
}

// RunningOf lists the runs that are recorded as going in a process.
func (r *Records) RunningOf(ctx context.Context, owner int64) ([]string, error) {
	return db.Column[string](ctx, r.db.Pool, "select id from runs where state = 'running' and owner = $1", owner)
}

// CaptureAlive tells whether a process that lives has a task under way that makes an image, and whether anything is known of the image.
func (r *Records) CaptureAlive(ctx context.Context, image string) (alive, known bool, err error) {
	err = r.db.Pool.QueryRow(ctx, `select exists (select from tasks t join runs r on r.id = t.run where t.image = $1 and t.image <> '' and t.state = 'running' and r.state = 'running' and `+db.Lives("r.owner")+`),
		exists (select from tasks where image = $1 and image <> '') or exists (select from images where id = $1)`, image).Scan(&alive, &known)
	return alive, known, err
}

// Capturing reports whether a run under way makes an image of a machine just now.
func (r *Records) Capturing(ctx context.Context, machineID string) (busy bool, err error) {
	return busy, r.db.Pool.QueryRow(ctx, `select exists (select from tasks t join runs r on r.id = t.run where t.machine_id = $1 and t.touched and t.state = 'running' and r.state = 'running')`, machineID).Scan(&busy)
}

// ClaimRun takes over a run of a process that lives no more, and reports whether nobody else did.
func (r *Records) ClaimRun(ctx context.Context, id string, from, to int64) (bool, error) {
	tag, err := r.db.Pool.Exec(ctx, "update runs set owner = $3 where id = $1 and owner = $2 and state = 'running'", id, from, to)
	return tag.RowsAffected() == 1, err
}

// ClaimCleaning has a process clear up after a task, and reports whether nobody else does who lives.
func (r *Records) ClaimCleaning(ctx context.Context, task, owner int64) (bool, error) {
	tag, err := r.db.Pool.Exec(ctx, "update tasks set cleaner = $2 where id = $1 and (touched or owed <> '{}') and (cleaner = $2 or not "+db.Lives("cleaner")+")", task, owner)
	return tag.RowsAffected() == 1, err
}

// UncleanTask is a task that left something outside of the lodge, and its run's kind.
type UncleanTask struct {
	Kind run.Kind `db:"kind"`
	Task
}

// Unclean lists the tasks of ended runs that may have left something outside.
func (r *Records) Unclean(ctx context.Context) ([]UncleanTask, error) {
	return db.All[UncleanTask](ctx, r.db.Pool, "select r.kind, t.* from tasks t join runs r on r.id = t.run where (t.touched or t.owed <> '{}') and r.state not in ('queued', 'running') order by t.id")
}

// Requeue gives work back to the queue whose process died between taking it and beginning the run: such a run would
// stay queued for ever, and keep its policy from running.
func (r *Records) Requeue(ctx context.Context) error {
	ids, err := db.Column[string](ctx, r.db.Pool, `select id from runs where state = 'queued' and made < now() - interval '1 minute' and not exists (
		select from river_job j where j.kind = $1 and j.args->>'run' = runs.id and
		(j.state in ('available', 'scheduled', 'retryable', 'pending') or j.attempted_at > now() - interval '1 minute'))`, Work{}.Kind())
	if err != nil {
		return err
	}
	for _, id := range ids {
		if _, err := r.db.Jobs.Insert(ctx, Work{id}, nil); err != nil {
			return err
		}
	}
	return nil
}
