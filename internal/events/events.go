// Package events passes on what happened to whoever listens in this process: a browser, a client that watches a run. What happened is
// told through the records, so that it reaches every process of a lodge; what comes within a fraction of a second is joined, so that a
// listener's cost does not grow with the lodge.
package events

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/records"
)

const (
	// joinFor is how long what happens is gathered before it is passed on.
	joinFor = 200 * time.Millisecond
	// mostTold is how many runs, and how many tasks, are told of one by one; of more, listeners are told to ask again.
	mostTold = 200
	// backlog is how many events a listener may be behind before it is cut off; it then begins again with the whole picture.
	backlog = 64
)

// Event is what happened in a fraction of a second.
type Event struct {
	// Runs come with their figures, without their tasks.
	Runs  []records.Run
	Tasks []records.Task
	// ManyRuns says that more changed than is told of.
	ManyRuns, Images, Site bool
}

// Hub passes events on.
type Hub struct {
	rec *records.Records
	log *slog.Logger
	// Cancelled is called with each run whose end somebody asks for.
	Cancelled func(records.Run)

	mu        sync.Mutex
	listeners map[chan Event]bool

	happened chan string
}

// New makes a hub; Serve feeds it.
func New(rec *records.Records, log *slog.Logger) *Hub {
	return &Hub{rec: rec, log: log, Cancelled: func(records.Run) {}, listeners: map[chan Event]bool{}, happened: make(chan string, 1024)}
}

// Listen returns a channel of events and a function that ends it. The channel is closed when the listener is too slow.
func (h *Hub) Listen() (<-chan Event, func()) {
	ch := make(chan Event, backlog)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.listeners[ch] = true
	return ch, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.listeners[ch] {
			delete(h.listeners, ch)
			close(ch)
		}
	}
}

func (h *Hub) send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.listeners {
		select {
		case ch <- e:
		default:
			delete(h.listeners, ch)
			close(ch)
		}
	}
}

func (h *Hub) heard() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.listeners) > 0
}

// Serve passes the database's notifications on until ctx ends. A stream that breaks is begun again.
func (h *Hub) Serve(ctx context.Context) error {
	go h.join(ctx)
	for {
		err := h.rec.Listen(ctx, func(what string) {
			if id, ok := strings.CutPrefix(what, "cancel "); ok {
				h.cancel(ctx, id)
				return
			}
			select {
			case h.happened <- what:
			case <-ctx.Done():
			}
		})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		h.log.Warn("the stream of changes broke; beginning again", "error", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func (h *Hub) cancel(ctx context.Context, id string) {
	if r, err := h.rec.Run(ctx, id); err == nil {
		h.Cancelled(r)
	} else if ctx.Err() == nil {
		h.log.Error("a run that is to be cancelled could not be looked up; the keeper will", "run", id, "error", err)
	}
}

// gathered is what happened since the last event.
type gathered struct {
	runs         map[string]bool
	tasks        map[int64]bool
	images, site bool
	many         bool
}

// add notes a notification: "run ID", "runs", "task ID RUN", "image ID" or "site".
func (g *gathered) add(what string) {
	kind, rest, _ := strings.Cut(what, " ")
	switch kind {
	case "run":
		g.runs[rest] = true
	case "task":
		number, run, _ := strings.Cut(rest, " ")
		if id, err := strconv.ParseInt(number, 10, 64); err == nil {
			g.tasks[id], g.runs[run] = true, true
		}
	case "runs":
		g.many = true
	case "image":
		g.images = true
	case "site":
		g.site = true
	}
}

// join gathers what happens and passes it on, a few times a second at the most.
func (h *Hub) join(ctx context.Context) {
	for {
		g := gathered{runs: map[string]bool{}, tasks: map[int64]bool{}}
		select {
		case <-ctx.Done():
			return
		case what := <-h.happened:
			g.add(what)
		}
		until := time.After(joinFor)
		for waiting := true; waiting; {
			select {
			case <-ctx.Done():
				return
			case what := <-h.happened:
				g.add(what)
			case <-until:
				waiting = false
			}
		}
		if !h.heard() {
			continue
		}
		e, err := h.event(ctx, g)
		if err != nil && ctx.Err() == nil {
			h.log.Error("what changed could not be read; listeners are told to ask", "error", err)
			e = Event{ManyRuns: true, Images: true, Site: true}
		}
		h.send(e)
	}
}

// event reads what changed, in two statements however much it is.
func (h *Hub) event(ctx context.Context, g gathered) (e Event, err error) {
	e = Event{ManyRuns: g.many || len(g.runs) > mostTold || len(g.tasks) > mostTold, Images: g.images, Site: g.site}
	if len(g.runs) > 0 && len(g.runs) <= mostTold {
		if e.Runs, err = h.rec.RunsOf(ctx, slices.Collect(maps.Keys(g.runs))); err != nil {
			return e, err
		}
	}
	if len(g.tasks) > 0 && len(g.tasks) <= mostTold {
		e.Tasks, err = h.rec.TasksOf(ctx, slices.Collect(maps.Keys(g.tasks)))
	}
	return e, err
}
