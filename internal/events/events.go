// Package events passes on what happened to whoever listens in this process: a browser, a client that watches a run. What happened is
// told through the records, so that it reaches every process of a lodge.
package events

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/records"
)

// Kind is what something happened to.
type Kind string

const (
	// Run is one run, with how it stands now; Runs are many at once.
	Run  Kind = "run"
	Runs Kind = "runs"
	// Image is an image, Site the configuration.
	Image Kind = "image"
	Site  Kind = "site"
)

// Kinds lists every kind.
var Kinds = []Kind{Run, Runs, Image, Site}

// Event is something that changed.
type Event struct {
	Kind Kind         `json:"kind"`
	Run  *records.Run `json:"run,omitempty"`
}

// backlog is how many events a listener may be behind before it is cut off; it then begins again with the whole picture.
const backlog = 256

// Hub passes events on.
type Hub struct {
	rec *records.Records
	log *slog.Logger
	// Cancelled is called with each run whose end somebody asks for.
	Cancelled func(records.Run)

	mu        sync.Mutex
	listeners map[chan Event]bool
}

// New makes a hub; Serve feeds it.
func New(rec *records.Records, log *slog.Logger) *Hub {
	return &Hub{rec: rec, log: log, Cancelled: func(records.Run) {}, listeners: map[chan Event]bool{}}
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

// Serve passes the database's notifications on until ctx ends. A stream that breaks is begun again.
func (h *Hub) Serve(ctx context.Context) error {
	for {
		err := h.rec.Listen(ctx, func(what string) { h.relay(ctx, what) })
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

func (h *Hub) relay(ctx context.Context, what string) {
	kind, id, _ := strings.Cut(what, " ")
	if kind != "run" && kind != "cancel" {
		h.send(Event{Kind: Kind(kind)})
		return
	}
	r, err := h.rec.Run(ctx, id)
	switch {
	case err != nil: // its record was removed, or the stream breaks next
	case kind == "cancel":
		h.Cancelled(r)
	default:
		h.send(Event{Kind: Run, Run: &r})
	}
}
