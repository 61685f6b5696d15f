package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"keenlodge/internal/access"
	"keenlodge/internal/api/called"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/api/sight"
	"keenlodge/internal/wire"
)

// registerEvents has the stream of what changes.
func (s *server) registerEvents(a huma.API) {
	sse.Register(a, huma.Operation{OperationID: "events", Method: http.MethodGet, Path: "/api/v1/events", Summary: "What changes, as server-sent events"},
		map[string]any{"change": wire.Event{}, "hello": wire.Hello{}}, s.events)
}

const (
	// heartbeat keeps a silent stream from being taken for dead.
	heartbeat = 20 * time.Second
	// checkEvery is how often it is looked whether who listens may still do so.
	checkEvery = 400 * time.Millisecond
)

func (s *server) events(ctx context.Context, _ *none, send sse.Sender) {
	events, stop := s.l.Events.Listen()
	defer stop()
	if send.Data(wire.Hello{Program: wire.Program}) != nil {
		return
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	check := time.NewTicker(checkEvery)
	defer check.Stop()
	call := called.Of(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if send.Data(wire.Hello{Program: wire.Program}) != nil {
				return
			}
		case <-check.C:
			if _, err := s.l.Access.Check(ctx, call.Key, call.Deed.Address, access.All); access.IsUnknown(err) {
				return
			}
		case e, ok := <-events:
			if !ok {
				return
			}
			in, err := s.allow(ctx, "events", nil) // what is within may have changed
			if err != nil || send.Data(shape.Event(sight.Event(in, e))) != nil {
				return
			}
		}
	}
}
