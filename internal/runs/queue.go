package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/records/unread"
)

// isGone reports whether a record is not there, or not as it was looked for.
func isGone(err error) bool { return errors.Is(err, fault.ErrNotFound) }

// Order is a run that is asked for.
type Order struct {
	Kind   run.Kind
	Policy string
	Cause  run.Cause
	// Who asked for it, where a person did; Note is what it is for.
	Who, Note string
	// Request is what is special about it, written as JSON; nil is nothing.
	Request any
}

// Queue records a run and queues it. A second backup of a policy while one is going is [records.ErrRunning].
func (e *Engine) Queue(ctx context.Context, o Order) (records.Run, error) {
	r := records.Run{ID: NewID(), Kind: o.Kind, Policy: o.Policy, Cause: o.Cause, Who: o.Who, Note: o.Note}
	if o.Request != nil {
		body, err := json.Marshal(o.Request)
		if err != nil {
			return r, err
		}
		r.Request = body
	}
	if err := e.rec.QueueRun(ctx, r); err != nil {
		return r, err
	}
	return e.rec.Run(ctx, r.ID)
}

// Request reads what a run was asked for.
func Request[T any](r records.Run) (request T, err error) {
	if err = json.Unmarshal(r.Request, &request); err != nil {
		err = fmt.Errorf("the request of run %s can't be read: %w", r.ID, err)
	}
	return request, err
}

// Result reads what a run came to.
func Result[T any](r records.Run) (result T, err error) {
	if err = json.Unmarshal(r.Result, &result); err != nil {
		err = fmt.Errorf("what run %s came to can't be read: %w", r.ID, err)
	}
	return result, err
}

// Find is one run with its tasks.
func (e *Engine) Find(ctx context.Context, id string) (records.Run, error) {
	r, err := e.rec.Run(ctx, id)
	if isGone(err) {
		err = fmt.Errorf("%w: no run is called %q; look at: keenlodge run list", fault.ErrNotFound, id)
	}
	return r, err
}

// List lists runs, newest first, each with its first tasks, and the cursor of the next page.
func (e *Engine) List(ctx context.Context, f records.RunFilter) ([]records.Run, string, error) {
	return e.rec.RunPage(ctx, f)
}

// Tasks lists a run's tasks by their numbers, those after one.
func (e *Engine) Tasks(ctx context.Context, id string, after int64, limit int) ([]records.Task, error) {
	if _, err := e.Find(ctx, id); err != nil {
		return nil, err
	}
	return e.rec.Tasks(ctx, id, after, limit)
}

// Unread lists the files that a run could not read as they were, with the run whose tasks these are of.
func (e *Engine) Unread(ctx context.Context, id string) (records.Run, []unread.File, error) {
	r, err := e.Find(ctx, id)
	if err != nil {
		return r, nil, err
	}
	found, err := e.rec.UnreadOf(ctx, id)
	return r, found, err
}

// ReadLog is a run's log, oldest first.
func (e *Engine) ReadLog(ctx context.Context, id string) ([]records.LogLine, error) {
	lines, err := e.rec.RunLog(ctx, id)
	if err == nil && len(lines) == 0 {
		_, err = e.Find(ctx, id) // one that does not exist has no log, either
	}
	return lines, err
}
