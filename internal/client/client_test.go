package client

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/run"
	"keenlodge/internal/wire"
)

// A stream that breaks in the middle of a run is begun again; every state arrives, and the last is the end.
func TestWatchOutlivesABrokenStream(t *testing.T) {
	var streams atomic.Int32
	at := func(state run.State, done int64) wire.Run {
		return wire.Run{ID: "one", State: state, Machines: 1, Tasks: []wire.Task{{ID: 1, Run: "one", Machine: "tickets-db", Done: done}}}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/api/v1/runs/one", func(w http.ResponseWriter, _ *http.Request) { json.NewEncoder(w).Encode(at("running", 1)) })
	mux.HandleFunc("/api/v1/events", func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		tell := func(event string, v any) {
			body, err := json.Marshal(v)
			require.NoError(t, err)
			fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, body)
		}
		tell("hello", map[string]string{"program": "test"})
		other := at("running", 99)
		other.ID = "another"
		tell("change", wire.Event{Runs: []wire.Run{other}, Tasks: []wire.Task{{Run: "another", Done: 98}}})
		if streams.Add(1) == 1 {
			tell("change", wire.Event{Tasks: []wire.Task{{ID: 1, Run: "one", Machine: "tickets-db", Done: 2}}})
			return // the line is cut
		}
		tell("change", wire.Event{Changed: []wire.Changed{wire.SiteChanged}})
		tell("change", wire.Event{Runs: []wire.Run{{ID: "one", State: "warned"}}, Tasks: []wire.Task{{ID: 1, Run: "one", Done: 3}}})
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	var seen []int64
	last, err := New(server.URL+"/", "secret").Watch(t.Context(), "one", func(r wire.Run) { seen = append(seen, r.Tasks[0].Done) })
	require.NoError(t, err)
	require.EqualValues(t, "warned", last.State)
	require.Equal(t, []int64{1, 2, 1, 3}, seen)
	require.EqualValues(t, 2, streams.Load())
}

// What the lodge told is what the person reads; what is not a problem document still has its status.
func TestErrorsInWords(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/machines" {
			w.WriteHeader(http.StatusBadGateway)
			w.Write([]byte("<html>proxy</html>"))
			return
		}
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusUnprocessableEntity)
		w.Write([]byte(`{"status": 422, "title": "Unprocessable Entity", "detail": "validation failed", "errors": [{"message": "expected one of read, mount", "location": "body.level"}]}`))
	}))
	c := New(server.URL, "")
	_, err := c.Prove(t.Context(), "img", "boot")
	require.EqualError(t, err, "validation failed; body.level: expected one of read, mount")
	_, _, err = c.Machines(t.Context(), wire.MachineFilter{})
	require.EqualError(t, err, "502 Bad Gateway")
	_, err = c.Watch(t.Context(), "one", func(wire.Run) {})
	require.ErrorContains(t, err, "validation failed", "a refusal is not tried again")
	server.Close()
	_, _, err = c.Machines(t.Context(), wire.MachineFilter{})
	require.ErrorContains(t, err, `is "keenlodge serve" running, and is KEENLODGE_URL right?`)
}
