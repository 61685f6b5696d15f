package runs

import (
	"context"
	"sync"
	"time"

	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
)

const (
	// quickly is how long what is noted by the way may take to be recorded before the work goes on without.
	quickly = 2 * time.Second
	// mostWaiting bounds the lines that wait for the database.
	mostWaiting = 20_000
)

// journal has lines of runs' logs that wait for the database: what is being captured must not stand still for it.
type journal struct {
	mu      sync.Mutex
	waiting []entry
	lost    int
}

// entry is a line of a run's log.
type entry struct {
	at           time.Time
	run, machine string
	kind         run.Line
	text         string
}

// Log adds a line to a run's log; while the database does not answer it waits for that, and the caller does not. machine may be empty.
func (e *Engine) Log(ctx context.Context, id, machine string, kind run.Line, text string) {
	e.log.Info(text, "run", id, "machine", machine, "kind", kind)
	l := entry{time.Now(), id, machine, kind, text}
	e.journal.mu.Lock()
	defer e.journal.mu.Unlock() // lines stay in their order
	if len(e.journal.waiting) == 0 {
		err := e.write(ctx, l)
		if err == nil {
			return
		}
		if !records.Away(err) && ctx.Err() == nil {
			e.log.Error("a line of a run's log could not be recorded", "run", id, "error", err)
			return
		}
	}
	if len(e.journal.waiting) >= mostWaiting {
		e.journal.lost++
		return
	}
	e.journal.waiting = append(e.journal.waiting, l)
}

func (e *Engine) write(ctx context.Context, l entry) error {
	return byTheWay(ctx, func(ctx context.Context) error { return e.rec.Log(ctx, l.at, l.run, l.machine, l.kind, l.text) })
}

// byTheWay records what the work does not wait for. The error of a database that does not answer in time is one that [records.Away] knows.
func byTheWay(ctx context.Context, write func(ctx context.Context) error) error {
	quick, end := context.WithTimeoutCause(records.Within(context.WithoutCancel(ctx), 0), quickly, records.ErrAway)
	defer end()
	err := write(quick)
	if err != nil && quick.Err() != nil {
		return records.ErrAway
	}
	return err
}

// catchUp records lines that waited.
func (e *Engine) catchUp(ctx context.Context) {
	e.journal.mu.Lock()
	defer e.journal.mu.Unlock()
	for len(e.journal.waiting) > 0 {
		l := e.journal.waiting[0]
		err := e.write(ctx, l)
		if records.Away(err) {
			return
		}
		if err != nil {
			e.log.Error("a line of a run's log could not be recorded", "run", l.run, "error", err)
		}
		e.journal.waiting = e.journal.waiting[1:]
	}
	if e.journal.lost > 0 {
		e.log.Error("lines of runs' logs were lost while the database did not answer; they are in this log", "lines", e.journal.lost)
		e.journal.lost = 0
	}
}
