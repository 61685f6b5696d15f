package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"keenlodge/internal/wire"
)

// registerEvents has the stream of what changes.
func (s *server) registerEvents(a huma.API) {
	sse.Register(a, huma.Operation{OperationID: "events", Method: http.MethodGet, Path: "/api/v1/events", Summary: "What changes, as server-sent events"},
		map[string]any{"change": wire.Event{}, "hello": wire.Hello{}}, s.events)
}

// heartbeat keeps a silent stream from being taken for dead.
const heartbeat = 20 * time.Second

func (s *server) events(ctx context.Context, _ *none, send sse.Sender) {
	events, stop := s.l.Events.Listen()
	defer stop()
	if send.Data(wire.Hello{Program: wire.Program}) != nil {
		return
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if send.Data(wire.Hello{Program: wire.Program}) != nil {
				return
			}
		case e, ok := <-events:
			if !ok || send.Data(eventOf(e)) != nil {
				return
			}
		}
	}
}
