package api_test

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/wire"
)

// Every change is in the trail with its result, and so is every refusal; looks, and what strangers try, are not.
func TestTrail(t *testing.T) {
	l := open(t)
	// Calls that are made while a test opens the interface would be seen, too.
	l.call("GET", "/api/v1/policies", "")
	l.call("PUT", "/api/v1/policies/nightly-guests/pause", `{"why": "the pier is closed"}`)
	l.call("PUT", "/api/v1/policies/nightly-gests/pause", `{}`)
	l.call("PUT", "/api/v1/policies/nightly-guests/pause", `{"until": 7}`)
	l.call("POST", "/api/v1/session", `{"token": "`+l.token+`"}`)
	stranger := func(r *http.Request) { r.Header.Set("Authorization", "Bearer guessed") }
	l.call("DELETE", "/api/v1/policies/nightly-guests/pause", "", stranger)
	l.call("POST", "/api/v1/session", `{"token": "guessed"}`, func(r *http.Request) { r.Header.Del("Authorization") })

	list := func(query string) (deeds []wire.Deed, next string) {
		res, body := l.call("GET", "/api/v1/trail"+query, "")
		require.Equal(t, http.StatusOK, res.StatusCode, body)
		require.NoError(t, json.Unmarshal([]byte(body), &deeds))
		return deeds, res.Header.Get("Link")
	}
	type line struct {
		verb, target string
		result       deed.Result
	}
	lines := func(deeds []wire.Deed) (out []line) {
		for _, d := range deeds {
			require.Equal(t, "first", d.Who)
			require.Equal(t, "127.0.0.1", d.Address)
			require.Equal(t, d.Result == deed.Done, d.Why == "", d)
			out = append(out, line{d.Verb, d.Target, d.Result})
		}
		return out
	}
	all, next := list("")
	require.Empty(t, next)
	require.Equal(t, []line{
		{"sign-in", "/api/v1/session", deed.Done},
		{"pause-policy", "/api/v1/policies/nightly-guests/pause", deed.Refused},
		{"pause-policy", "/api/v1/policies/nightly-gests/pause", deed.Refused},
		{"pause-policy", "/api/v1/policies/nightly-guests/pause", deed.Done},
	}, lines(all))
	require.Contains(t, all[2].Why, "nightly-guests", "the nearest name")

	first, next := list("?limit=3")
	require.NotEmpty(t, next)
	require.Equal(t, all[:3], first)
	link := next[len("</api/v1/trail"):]
	rest, next := list(link[:len(link)-len(`>; rel="next"`)])
	require.Equal(t, all[3:], rest)
	require.Empty(t, next)

	for query, want := range map[string][]wire.Deed{
		"?result=done":  {all[0], all[3]},
		"?verb=sign-in": {all[0]},
		"?who=nobody":   {},
		"?target=/api/v1/policies/nightly-guests":                          {all[1], all[3]},
		"?target=/api/v1/policies/nightly-guests&who=first&result=refused": {all[1]},
	} {
		got, _ := list(query)
		require.Equal(t, want, got, query)
	}
	for _, query := range []string{"?verb=pause-polcy", "?result=dnoe"} {
		res, body := l.call("GET", "/api/v1/trail"+query, "")
		require.Equal(t, http.StatusUnprocessableEntity, res.StatusCode, body)
	}
}

// A trail that can't be written lets nothing be done, and looks go on.
func TestNothingIsDoneThatCantBeRecorded(t *testing.T) {
	l := open(t)
	l.past("alter table trail rename to elsewhere")
	for _, call := range []string{"PUT /api/v1/policies/nightly-guests/pause", "POST /api/v1/policies/nightly-guests/runs", "DELETE /api/v1/sessions", "POST /api/v1/calendar", "POST /api/v1/hypervisors/find"} {
		method, path, _ := strings.Cut(call, " ")
		res, body := l.call(method, path, "{}")
		require.Equal(t, http.StatusServiceUnavailable, res.StatusCode, "%s: %s", call, body)
		require.Contains(t, body, "nothing was done", call)
		require.NotContains(t, body, "SQLSTATE", call)
	}
	res, body := l.call("GET", "/api/v1/policies", "")
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.Contains(t, body, `"paused":null`)
	l.past("alter table elsewhere rename to trail")
	res, body = l.call("PUT", "/api/v1/policies/nightly-guests/pause", "{}")
	require.Equal(t, http.StatusOK, res.StatusCode, body)
}

// A token that is revoked ends what it listens to, and its browsers' sessions.
func TestRevokedWhileItListens(t *testing.T) {
	l := open(t)
	token := lodgetest.Token(t, l.lodge, "night-watch", "viewer")
	req, err := http.NewRequestWithContext(t.Context(), "GET", l.url+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	stream, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer stream.Body.Close()
	require.Equal(t, 200, stream.StatusCode)
	res, body := l.call("DELETE", "/api/v1/tokens/night-watch", "")
	require.Equal(t, 200, res.StatusCode, body)
	begun := time.Now()
	_, err = io.Copy(io.Discard, stream.Body)
	require.NoError(t, err)
	require.Less(t, time.Since(begun), 2*time.Second)
}
