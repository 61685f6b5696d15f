package api_test

import (
	"encoding/json"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/api"
)

// What a browser sends for a page of another origin changes nothing, whatever cookie it has; programs and the console go on.
func TestOtherOrigins(t *testing.T) {
	l := open(t)
	for _, c := range []struct {
		header, value string
		status        int
	}{
		{"Origin", "http://harbour.example", 403}, {"Origin", "http://127.0.0.1:1", 403}, {"Origin", "null", 403}, {"Origin", l.url, 409},
		{"Sec-Fetch-Site", "cross-site", 403}, {"Sec-Fetch-Site", "same-site", 403}, {"Sec-Fetch-Site", "same-origin", 409}, {"X-None", "", 409},
	} {
		res, text := l.call("PUT", "/api/v1/stores/quay-shelf", `{"spec": {"medium": "memory", "shelf": "x"}}`, func(r *http.Request) { r.Header.Set(c.header, c.value) })
		require.Equal(t, c.status, res.StatusCode, "%s: %s: %s", c.header, c.value, text)
	}
	res, _ := l.call("GET", "/api/v1/policies", "", func(r *http.Request) { r.Header.Set("Origin", "http://harbour.example") })
	require.Equal(t, 200, res.StatusCode)
	require.Empty(t, res.Header.Get("Access-Control-Allow-Origin"), "that page can't read it")
}

var nasty = []string{"", " ", "\x00", "a\x00b", "\xff\xfe", "\u202e", "%00", "%", "../../etc/passwd", "'; drop table images; --", "$1", "\\u0000", strings.Repeat("x", 70_000), "1e309", "-1", "0x10", "99999999999999999999",
	"NaN", "null", "true", "*", "quay-shelf", "timetable", "nightly-guests", "\r\nX: y", "{}", "[]", "🚢", "2026-13-45", "RRULE:FREQ=SECONDLY;INTERVAL=0", "newest 0", "every 0 days at 25:00", "💥\ud7ff"}

// schema is what the test reads of one in the document.
type schema struct {
	Ref        string             `json:"$ref"`
	Type       any                `json:"type"`
	Properties map[string]*schema `json:"properties"`
	Items      *schema            `json:"items"`
	More       any                `json:"additionalProperties"`
	Enum       []any              `json:"enum"`
}

type operation struct {
	Parameters []struct {
		Name, In string
	} `json:"parameters"`
	RequestBody *struct {
		Content map[string]struct {
			Schema *schema `json:"schema"`
		} `json:"content"`
	} `json:"requestBody"`
}

// odd draws a value of a schema, or of none.
func odd(rng *rand.Rand, s *schema, all map[string]*schema, depth int) any {
	if s != nil && s.Ref != "" {
		s = all[s.Ref[strings.LastIndex(s.Ref, "/")+1:]]
	}
	if s == nil || depth > 5 || rng.IntN(12) == 0 {
		return []any{nil, true, -1, 1e300, nasty[rng.IntN(len(nasty))], []any{}, map[string]any{}, []any{[]any{map[string]any{"\x00": "\x00"}}}}[rng.IntN(8)]
	}
	kind := s.Type
	if several, ok := kind.([]any); ok {
		kind = several[0]
	}
	switch kind {
	case "object":
		out := map[string]any{}
		for name, p := range s.Properties {
			if rng.IntN(3) > 0 {
				out[name] = odd(rng, p, all, depth+1)
			}
		}
		if rng.IntN(4) == 0 {
			out[nasty[rng.IntN(len(nasty))]] = odd(rng, nil, all, depth+1)
		}
		if s.More != nil && s.More != false {
			out[nasty[rng.IntN(len(nasty))]] = odd(rng, nil, all, depth+1)
		}
		return out
	case "array":
		out := []any{}
		for range rng.IntN(3) {
			out = append(out, odd(rng, s.Items, all, depth+1))
		}
		return out
	case "integer":
		return []any{0, -1, 1 << 62, 1.5, "1"}[rng.IntN(5)]
	case "number":
		return []any{0, -1.5, 1e308, "1"}[rng.IntN(4)]
	case "boolean":
		return []any{true, false, "yes"}[rng.IntN(3)]
	}
	if len(s.Enum) > 0 && rng.IntN(2) == 0 {
		return s.Enum[rng.IntN(len(s.Enum))]
	}
	return nasty[rng.IntN(len(nasty))]
}

// Whatever a call is given, its answer is never that something broke, and never in the database's words.
func TestNastyValues(t *testing.T) {
	l := open(t)
	document, err := api.Document()
	require.NoError(t, err)
	var doc struct {
		Paths      map[string]map[string]*operation `json:"paths"`
		Components struct {
			Schemas map[string]*schema `json:"schemas"`
		} `json:"components"`
	}
	require.NoError(t, json.Unmarshal(document, &doc))
	all := doc.Components.Schemas
	rng := rand.New(rand.NewPCG(21, 1))
	inPath := regexp.MustCompile(`\{[^}]+\}`)
	calls := 0
	for _, path := range slices.Sorted(maps.Keys(doc.Paths)) {
		for _, method := range slices.Sorted(maps.Keys(doc.Paths[path])) {
			op := doc.Paths[path][method]
			if path == "/api/v1/events" {
				continue // a stream without an end
			}
			for range 20 {
				target := inPath.ReplaceAllStringFunc(path, func(string) string { return url.PathEscape(nasty[rng.IntN(len(nasty))]) })
				query := url.Values{}
				for _, p := range op.Parameters {
					if p.In == "query" && rng.IntN(2) == 0 {
						query.Set(p.Name, nasty[rng.IntN(len(nasty))])
					}
				}
				if len(query) > 0 {
					target += "?" + query.Encode()
				}
				body := ""
				if op.RequestBody != nil {
					for _, m := range op.RequestBody.Content {
						v, err := json.Marshal(odd(rng, m.Schema, all, 0))
						require.NoError(t, err)
						body = string(v)
					}
				}
				res, text := l.call(strings.ToUpper(method), target, body)
				calls++
				require.Less(t, res.StatusCode, 500, "%s %.300s %.600s: %s", method, target, body, text)
				require.NotContains(t, text, "SQLSTATE")
			}
		}
	}
	require.Greater(t, calls, 500)
}
