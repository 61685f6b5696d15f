package api_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/api"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/wire"
)

var update = flag.Bool("update", false, "write docs/roles.md anew")

// described is an operation of the OpenAPI document.
type described struct {
	ID       string `json:"operationId"`
	Summary  string
	Security []map[string][]string
	Method   string
	Path     string
}

// operations lists the interface's operations, by their IDs.
func operations(t *testing.T) map[string]described {
	text, err := api.Document()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]described
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	out := map[string]described{}
	for path, methods := range doc.Paths {
		for method, op := range methods {
			op.Method, op.Path = strings.ToUpper(method), path
			out[op.ID] = op
		}
	}
	return out
}

var inPath = regexp.MustCompile(`\{[^}]+\}`)

// public are the operations that need no sign-in: those that begin one, and agents', which show a word or a certificate.
var public = []string{"sign-in", "sign-out", "redeem-code", "join-agent", "renew-agent"}

// who are the callers of which each operation is tried.
var callers = []string{"viewer", "operator", "restorer", "administrator", "a stranger", "nobody"}

// Every operation, by every role, by a stranger and by nobody: as the table says. Whoever may not does not get to know whether his call
// makes sense.
func TestEveryOperationByEveryRole(t *testing.T) {
	l := open(t)
	tokens := map[string]string{"a stranger": "guessed"}
	for _, r := range right.Roles {
		tokens[string(r)] = lodgetest.Token(t, l.lodge, string(r), string(r))
	}
	ops, cases := operations(t), 0
	for _, id := range slices.Sorted(maps.Keys(ops)) {
		op := ops[id]
		if slices.Contains(public, id) {
			continue
		}
		e, ok := right.Of(right.Operation(id))
		require.True(t, ok, "operation %s is not in the table of rights (internal/core/right/table.go)", id)
		for _, caller := range callers {
			cases++
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			req, err := http.NewRequestWithContext(ctx, op.Method, l.url+inPath.ReplaceAllString(op.Path, "nothing"), strings.NewReader(`{"no such field": 1}`))
			require.NoError(t, err)
			req.Header.Set("Content-Type", "application/json")
			if token := tokens[caller]; token != "" {
				req.Header.Set("Authorization", "Bearer "+token)
			}
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err, id)
			res.Body.Close() // a stream ends
			cancel()
			switch {
			case caller == "nobody":
				assert.Equal(t, 401, res.StatusCode, id)
			case caller == "a stranger":
				assert.Contains(t, []int{401, 429}, res.StatusCode, id)
				l.lodge.Access.Strangers.Take(time.Now()) // the test is not to be slowed down
				l.lodge.Access.Strangers.Take(time.Now())
			case slices.Contains(e.Roles, right.Role(caller)):
				assert.NotContains(t, []int{401, 403}, res.StatusCode, "%s by %s", id, caller)
				assert.Less(t, res.StatusCode, 500, "%s by %s", id, caller)
			default:
				assert.Equal(t, 403, res.StatusCode, "%s by %s", id, caller)
			}
		}
	}
	for _, e := range right.Table {
		if _, ok := ops[string(e.Operation)]; !ok {
			require.NotEmpty(t, e.Of, "the table has %s, which is no operation", e.Operation)
		}
	}
	text := roles(ops, cases)
	if *update {
		require.NoError(t, os.WriteFile("../../docs/roles.md", []byte(text), 0o644))
	}
	have, err := os.ReadFile("../../docs/roles.md")
	require.NoError(t, err)
	require.Equal(t, string(have), text, "docs/roles.md is stale; run: go test ./internal/api -run TestEveryOperation -update")
}

// roles writes the table for people.
func roles(ops map[string]described, cases int) string {
	var b strings.Builder
	b.WriteString("# Who may do what\n\nMade from the table in `internal/core/right`, which the interface, the client and the console go by (`go test ./internal/api -run TestEveryOperation -update`).\n" +
		"A test tries every operation by every role, by a stranger's token and by nobody: ")
	fmt.Fprintf(&b, "%d cases.\n\n", cases)
	b.WriteString("A role can be narrowed to machines, tags, places and policies (guide: [Who may come in](guide/05-the-door.md)). Then what is *of* one thing needs that thing within, " +
		"wholly for what changes it; a *list* has what is within; and what is about the *lodge* as a whole needs a role that is not narrowed.\n\n")
	b.WriteString("| operation | what it does | of | viewer | operator | restorer | administrator |\n|---|---|---|---|---|---|---|\n")
	for _, e := range right.Table {
		says := e.Says
		if says == "" {
			says = ops[string(e.Operation)].Summary
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |", e.Operation, says, e.On)
		for _, r := range right.Roles {
			mark := " "
			if slices.Contains(e.Roles, r) {
				mark = " yes "
			}
			b.WriteString(mark + "|")
		}
		b.WriteString("\n")
	}
	b.WriteString("\nSigning in and out needs no role. The calendar feed has a token of its own, which opens nothing else.\n")
	return b.String()
}

// A narrowed role sees and does what is within, and learns of nothing else whether it exists.
func TestNarrowedRoles(t *testing.T) {
	l := open(t)
	pier := site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + "-pier"}}
	_, err := l.lodge.AddStore(t.Context(), "pier-shelf", wire.StoreAddition{Spec: pier})
	require.NoError(t, err)
	s, err := l.lodge.Site(t.Context())
	require.NoError(t, err)
	s.Hypervisors, s.Stores, s.Policies = maps.Clone(s.Hypervisors), maps.Clone(s.Stores), maps.Clone(s.Policies) // the lodge's own stay as they are
	h, st := s.Hypervisors["quay-1"], s.Stores["quay-shelf"]
	h.Place, st.Place = "harbour-office", "harbour-office"
	s.Hypervisors["quay-1"], s.Stores["quay-shelf"] = h, st
	s.Policies["hourly-tickets"] = site.Policy{Machines: []string{"tickets-db"}, Store: "pier-shelf", Rotation: "newest 2"}
	nightly := s.Policies["nightly-guests"]
	nightly.Machines, nightly.Except = []string{"tickets-db", "timetable"}, []string{"nobody"}
	s.Policies["nightly-guests"] = nightly
	_, err = l.lodge.Apply(t.Context(), s, false)
	require.NoError(t, err)
	ids := map[string]string{} // of runs and images, by policy and machine
	for _, policy := range []string{"nightly-guests", "hourly-tickets"} {
		var r wire.Run
		res, text := l.call("POST", "/api/v1/policies/"+policy+"/runs", "")
		require.Equal(t, 202, res.StatusCode, text)
		require.NoError(t, json.Unmarshal([]byte(text), &r))
		ids[policy] = r.ID
		require.Eventually(t, func() bool { r, err := l.rec.Run(t.Context(), r.ID); return err == nil && r.Over() }, 20*time.Second, 10*time.Millisecond)
	}
	_, text := l.call("GET", "/api/v1/images", "")
	var images []wire.Image
	require.NoError(t, json.Unmarshal([]byte(text), &images))
	for _, m := range images {
		ids[m.Policy+" "+m.Machine] = m.ID
	}
	require.Len(t, images, 3)

	as := func(name string, roles ...string) func(method, path, body string) (int, string) {
		token := lodgetest.Token(t, l.lodge, name, roles...)
		return func(method, path, body string) (int, string) {
			res, text := l.call(method, path, body, func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+token) })
			return res.StatusCode, text
		}
	}
	sees := func(call func(method, path, body string) (int, string), path string, want, not []string) {
		t.Helper()
		status, text := call("GET", path, "")
		require.Equal(t, 200, status, text)
		for _, w := range want {
			require.Contains(t, text, w, path)
		}
		for _, n := range not {
			require.NotContains(t, text, n, path)
		}
	}
	web := as("web-desk", "operator of machines timetable")
	tickets := []string{"tickets-db", "u-tickets", "hourly-tickets", "pier-shelf"}
	for path, want := range map[string][]string{
		"/api/v1/machines": {"timetable"}, "/api/v1/lanes": {"timetable"}, "/api/v1/summary": {`"machines":1`}, "/api/v1/policies": {"nightly-guests", `"covered":1`, `"partly":true`}, "/api/v1/stores": {"quay-shelf"},
		"/api/v1/hypervisors": {"quay-1"}, "/api/v1/images": {ids["nightly-guests timetable"]}, "/api/v1/runs": {ids["nightly-guests"], `"machines":1`}, "/api/v1/runs/" + ids["nightly-guests"]: {"timetable"},
		"/api/v1/runs/" + ids["nightly-guests"] + "/tasks": {"timetable"}, "/api/v1/runs/" + ids["nightly-guests"] + "/log": {"timetable"}, "/api/v1/policies/nightly-guests/rotation": {"timetable"},
		"/api/v1/forecast": {`"policies":[]`}, "/api/v1/site": {"nightly-guests", "quay-shelf"}, "/api/v1/me": {`"whole":false`, "run-policy"},
	} {
		sees(web, path, want, tickets)
	}
	for _, c := range []struct {
		call   string
		status int
	}{
		{"GET /api/v1/images/" + ids["nightly-guests timetable"], 200},
		{"GET /api/v1/images/" + ids["nightly-guests tickets-db"], 404},
		{"GET /api/v1/images?machine=tickets-db", 404},
		{"GET /api/v1/runs/" + ids["hourly-tickets"], 404},
		{"GET /api/v1/runs/" + ids["hourly-tickets"] + "/log", 404},
		{"GET /api/v1/stores/pier-shelf", 404},
		{"GET /api/v1/stores/quay-shelf", 200},
		{"GET /api/v1/stores/quay-shelf/sweep", 404},
		{"GET /api/v1/hypervisors/quay-1/around", 404},
		{"GET /api/v1/policies/hourly-tickets/rotation", 404},
		{"GET /api/v1/forecast?policy=hourly-tickets", 404},
		{"GET /api/v1/trail", 403},
		{"POST /api/v1/policies/nightly-guests/runs", 404}, // it covers others, too
		{"POST /api/v1/runs/" + ids["nightly-guests"] + "/cancel", 404},
		{"PUT /api/v1/images/" + ids["nightly-guests timetable"] + "/pin", 200},
		{"PUT /api/v1/images/" + ids["nightly-guests tickets-db"] + "/pin", 404},
		{"POST /api/v1/stores/quay-shelf/checks", 404}, // it holds others' images, too
		{"PUT /api/v1/machines/timetable/retirement", 403},
		{"POST /api/v1/images/" + ids["nightly-guests tickets-db"] + "/restores", 404},
	} {
		method, path, _ := strings.Cut(c.call, " ")
		status, text := web(method, path, "{}")
		assert.Equal(t, c.status, status, "%s: %s", c.call, text)
		if status == 404 {
			assert.NotContains(t, text, "did you mean", c.call)
			assert.Equal(t, strings.Contains(text, "what this token is for") || strings.Contains(text, "wholly for"), true, "%s: %s", c.call, text)
		}
	}
	unknown, known := "", ""
	_, unknown = web("GET", "/api/v1/images/aaaaaaaaaa", "")
	_, known = web("GET", "/api/v1/images/"+ids["nightly-guests tickets-db"], "")
	require.Equal(t, unknown, strings.ReplaceAll(known, ids["nightly-guests tickets-db"], "aaaaaaaaaa"), "what is not within is as what is not there")
	status, text := web("POST", "/api/v1/images/"+ids["nightly-guests timetable"]+"/restores", `{"as": "timetable", "replace": true}`)
	require.Equal(t, 403, status, text)
	require.Contains(t, text, "replace-machine needs the role administrator")

	night := as("night-watch", "operator of policies hourly-*")
	sees(night, "/api/v1/runs", []string{ids["hourly-tickets"]}, []string{ids["nightly-guests"]})
	sees(night, "/api/v1/images", []string{ids["hourly-tickets tickets-db"]}, []string{ids["nightly-guests tickets-db"], "timetable"})
	sees(night, "/api/v1/machines", []string{"tickets-db"}, []string{`"timetable"`})
	sees(night, "/api/v1/forecast", []string{"hourly-tickets"}, []string{"nightly-guests", "quay-shelf"})
	status, text = night("POST", "/api/v1/policies/hourly-tickets/runs", "")
	require.Equal(t, 202, status, text)
	place := as("harbour", "administrator of places harbour-office")
	status, text = place("POST", "/api/v1/stores/quay-shelf/sweeps", "")
	require.Equal(t, 202, status, text)
	status, text = place("POST", "/api/v1/stores/pier-shelf/sweeps", "")
	require.Equal(t, 404, status, text)
	status, text = place("PUT", "/api/v1/site", "{}")
	require.Equal(t, 403, status, text)
}
