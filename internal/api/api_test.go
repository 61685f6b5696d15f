package api_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/api"
	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
)

func TestMain(m *testing.M) {
	chunk.PassphraseWork = 5 // a strong one takes a second each time
	recordstest.Main(m)
}

// line is an HTTP interface with a lodge behind it.
type line struct {
	t                    *testing.T
	url, token, database string
	lodge                *lodge.Lodge
	rec                  *records.Records
}

func open(t *testing.T) *line {
	t.Helper()
	lodgetest.Guests(t)
	database := recordstest.URL(t)
	rec, err := records.Open(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(rec.Close)
	l, _ := lodgetest.Serve(t, rec, io.Discard)
	_, err = l.Apply(t.Context(), lodgetest.Site(t, map[string]site.Policy{
		"nightly-guests": {Machines: []string{"*"}, Store: "quay-shelf", Rotation: "newest 2", Schedules: []site.Schedule{{When: "every day at 23:00"}}},
	}), false)
	require.NoError(t, err)
	console := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "the console") })
	server := httptest.NewServer(api.New(l, slog.New(slog.DiscardHandler), console))
	t.Cleanup(server.Close)
	return &line{t, server.URL, lodgetest.Token(t, l, "first", "administrator"), database, l, rec}
}

// past does something to the database past the lodge.
func (l *line) past(sql string) {
	l.t.Helper()
	conn, err := pgx.Connect(l.t.Context(), l.database)
	require.NoError(l.t, err)
	defer conn.Close(l.t.Context())
	_, err = conn.Exec(l.t.Context(), sql)
	require.NoError(l.t, err)
}

// call makes a call and returns the answer with its body.
func (l *line) call(method, path, body string, change ...func(*http.Request)) (*http.Response, string) {
	l.t.Helper()
	req, err := http.NewRequestWithContext(l.t.Context(), method, l.url+path, strings.NewReader(body))
	require.NoError(l.t, err)
	req.Header.Set("Authorization", "Bearer "+l.token)
	req.Header.Set("Content-Type", "application/json")
	for _, c := range change {
		c(req)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(l.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(l.t, err)
	return res, string(text)
}

// Each thing that can be wrong has its status, and a problem (RFC 9457) that says what to do.
func TestProblems(t *testing.T) {
	l := open(t)
	ran, err := l.lodge.RunPolicy(t.Context(), "nightly-guests", "operator", "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		r, err := l.rec.Run(t.Context(), ran.ID)
		return err == nil && r.Over()
	}, 20e9, 1e7)
	for _, c := range []struct {
		call, body string
		status     int
		says       string
	}{
		{"GET /api/v1/nonsense", "", 404, "no such call"},
		{"GET /api/v1/policies/nightley-guests/rotation", "", 404, `no policy or copy rule is called "nightley-guests"; did you mean "nightly-guests"?`},
		{"POST /api/v1/policies/nope/runs", "{}", 404, `no policy is called "nope"`},
		{"GET /api/v1/runs/aaaaaaaa", "", 404, `no run is called "aaaaaaaa"`},
		{"GET /api/v1/runs/aaaaaaaa/log", "", 404, `no run is called "aaaaaaaa"`},
		{"GET /api/v1/images/aaaaaaaaaa", "", 404, `no image is called "aaaaaaaaaa"`},
		{"GET /api/v1/images?machine=ticket-db", "", 404, `did you mean "tickets-db"?`},
		{"GET /api/v1/stores/quay-shlf", "", 404, `did you mean "quay-shelf"?`},
		{"DELETE /api/v1/machines/nope/retirement", "", 404, `no machine is called "nope"`},
		{"POST /api/v1/runs/" + ran.ID + "/cancel", "{}", 409, "is over already"},
		{"POST /api/v1/machines/tickets-db/continuation", `{"old": "timetable"}`, 409, "is still there"},
		{"PUT /api/v1/stores/quay-shelf", `{"spec": {"medium": "memory", "shelf": "x"}}`, 409, "there is a store called quay-shelf already"},
		{"GET /api/v1/images?sort=colour", "", 422, `can't be sorted by "colour"`},
		{"GET /api/v1/runs?kind=bakup", "", 422, "backup, rehearsal"},
		{"GET /api/v1/machines?state=asleep", "", 422, "running, paused"},
		{"GET /api/v1/runs?limit=0", "", 422, "limit"},
		{"GET /api/v1/runs?limit=1001", "", 422, "limit"},
		{"GET /api/v1/runs?after=forged", "", 422, "cursor"},
		{"GET /api/v1/images?after=" + base64.RawURLEncoding.EncodeToString([]byte(`{"s":"-taken","v":"yesterday","i":"x"}`)), "", 422, "cursor"},
		{"GET /api/v1/forecast?days=4000", "", 422, "days"},
		{"GET /api/v1/policies/nightly-guests/rotation?rule=newest", "", 422, "how many is missing"},
		{"PUT /api/v1/machines/timetable/retirement", `{"keep": "newest"}`, 422, "how many is missing"},
		{"PUT /api/v1/site", `{"zone": "Mars/Olympus"}`, 422, "not in the tz database"},
		{"PUT /api/v1/site", `{"zone": "UTC", "colour": "red"}`, 422, "colour"},
		{"PUT /api/v1/site", `{"zone": `, 400, ""},
		{"PUT /api/v1/stores/barn", `{"spec": {"medium": "floppy"}}`, 422, "floppy"},
	} {
		method, path, _ := strings.Cut(c.call, " ")
		res, text := l.call(method, path, c.body)
		assert.Equal(t, c.status, res.StatusCode, "%s: %s", c.call, text)
		assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"), c.call)
		var problem struct {
			Status int    `json:"status"`
			Title  string `json:"title"`
			Detail string `json:"detail"`
		}
		assert.NoError(t, json.Unmarshal([]byte(text), &problem), text)
		assert.Equal(t, c.status, problem.Status, c.call)
		assert.NotEmpty(t, problem.Detail, c.call)
		assert.Contains(t, strings.ReplaceAll(text, `\"`, `"`), c.says, c.call)
	}
	now, err := l.rec.Site(t.Context())
	require.NoError(t, err)
	require.Equal(t, "Europe/Lisbon", now.Zone, "what is refused changes nothing")

	lose := func(table string) { l.past("alter table " + table + " rename to elsewhere_" + table) }
	lose("policies")
	res, text := l.call("GET", "/api/v1/policies", "")
	require.Equal(t, 500, res.StatusCode, text)
	lose("tokens")
	res, text = l.call("GET", "/api/v1/policies", "", func(r *http.Request) { r.Header.Set("Authorization", "Bearer other") })
	require.Equal(t, 503, res.StatusCode, text)
}

// Who has no token learns nothing but where to sign in; a browser's session is a cookie that no script reads.
func TestTokensAndSessions(t *testing.T) {
	l := open(t)
	as := func(header, value string) func(*http.Request) {
		return func(r *http.Request) { r.Header.Del("Authorization"); r.Header.Set(header, value) }
	}
	for _, path := range []string{"/api/v1/machines", "/api/v1/site", "/api/v1/events", "/api/v1/summary"} {
		for _, change := range []func(*http.Request){as("X", "y"), as("Authorization", "Bearer wrong"), as("Authorization", l.token), as("Cookie", "keenlodge_session=wrong")} {
			res, text := l.call("GET", path, "", change)
			require.Equal(t, 401, res.StatusCode, text)
			require.NotContains(t, text, "tickets-db")
		}
	}
	res, text := l.call("POST", "/api/v1/session", `{"token": "wrong"}`, as("X", "y"))
	require.Equal(t, 401, res.StatusCode, text)
	res, text = l.call("POST", "/api/v1/session", `{"token": "`+l.token+`"}`, as("X", "y"))
	require.Less(t, res.StatusCode, 300, text)
	session := res.Cookies()[0]
	require.True(t, session.HttpOnly && session.SameSite == http.SameSiteStrictMode, "%v", session)
	res, _ = l.call("GET", "/api/v1/machines", "", as("Cookie", session.Name+"="+session.Value))
	require.Equal(t, 200, res.StatusCode)

	res, text = l.call("GET", "/today", "", as("X", "y"))
	require.Equal(t, "the console", text)
	require.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'self'")
	require.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))

	feed, err := l.lodge.Access.NewCalendarToken(t.Context(), "the test")
	require.NoError(t, err)
	res, text = l.call("GET", "/api/v1/calendar.ics?token="+feed, "", as("X", "y"))
	require.Equal(t, 200, res.StatusCode)
	require.Contains(t, text, "BEGIN:VCALENDAR")
	res, _ = l.call("GET", "/api/v1/machines", "", as("Authorization", "Bearer "+feed))
	require.Equal(t, 401, res.StatusCode, "the calendar's token is good for the calendar only")
}

// A list is read page by page, by the Link header (RFC 8288); each of it comes once.
func TestPages(t *testing.T) {
	l := open(t)
	var names []string
	for path := "/api/v1/machines?limit=1&sort=-label"; path != ""; {
		res, text := l.call("GET", path, "")
		require.Equal(t, 200, res.StatusCode, text)
		var page []struct{ Name string }
		require.NoError(t, json.Unmarshal([]byte(text), &page))
		for _, m := range page {
			names = append(names, m.Name)
		}
		address, _, _ := strings.Cut(res.Header.Get("Link"), ">")
		path = strings.TrimPrefix(address, "<")
	}
	require.Equal(t, []string{"timetable", "tickets-db"}, names)
}

// The OpenAPI document is the same each time, knows every word of every kind, and is what the console's types were made from.
func TestTheDocument(t *testing.T) {
	text, err := api.Document()
	require.NoError(t, err)
	again, err := api.Document()
	require.NoError(t, err)
	require.True(t, bytes.Equal(text, again))
	var doc struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct{ Enum []string }
			}
		}
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	kinds := []string{}
	for _, k := range run.Kinds {
		kinds = append(kinds, string(k))
	}
	require.Equal(t, kinds, doc.Components.Schemas["Run"].Properties["kind"].Enum)
	require.Contains(t, doc.Components.Schemas["SiteStore"].Properties["medium"].Enum, "memory", "a medium that is registered is in it")
}
