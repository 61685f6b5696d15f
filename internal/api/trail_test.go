package api_test

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/deed"
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
