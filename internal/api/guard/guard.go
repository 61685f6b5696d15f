// Package guard keeps out what no client of ours sends, and sets what browsers are to do with what they get.
package guard

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"keenlodge/internal/records"
)

// databaseTime is how long a call waits for a database that does not answer, before it says so.
const databaseTime = 5 * time.Second

// Over refuses what no client of ours sends, and sets headers that keep a browser from doing what the console never does.
func Over(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=(), payment=(), usb=()")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		if r.TLS != nil {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if foreign(r) {
			Refuse(w, http.StatusForbidden, "this call comes from a page of another origin ("+clip(r.Header.Get("Origin"))+"); only the lodge's own console may change something with a browser's session")
			return
		}
		if place := strange(r); place != "" {
			Refuse(w, http.StatusBadRequest, "the "+place+" holds a character that no name has")
			return
		}
		next.ServeHTTP(w, r.WithContext(records.Within(r.Context(), databaseTime)))
	})
}

// foreign reports whether a browser sends a request for a page of another origin: of another host, or another port of this one, which a
// cookie does not tell apart. Programs send neither header.
func foreign(r *http.Request) bool {
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return false // nothing is changed, and the browser keeps the answer from the page
	}
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		return true
	}
	origin := r.Header.Get("Origin")
	if origin == "" {
		return false
	}
	from, err := url.Parse(origin)
	return err != nil || !strings.EqualFold(from.Host, r.Host)
}

// strange names what of a request's address holds a control character, or bytes that are no text; it is "" for most.
func strange(r *http.Request) string {
	odd := func(s string) bool { return !utf8.ValidString(s) || strings.ContainsFunc(s, unicode.IsControl) }
	if odd(r.URL.Path) {
		return "path"
	}
	query, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return "query"
	}
	for key, values := range query {
		for _, v := range values {
			if odd(key) || odd(v) {
				return "query"
			}
		}
	}
	return ""
}

func clip(s string) string { return fmt.Sprintf("%.80q", s) }

// Refuse answers with a problem (RFC 9457).
func Refuse(w http.ResponseWriter, status int, detail string) {
	body, _ := json.Marshal(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail})
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	w.Write(body)
}

// AddressOf is a caller's address without its port.
func AddressOf(remote string) string {
	if host, _, err := net.SplitHostPort(remote); err == nil {
		return host
	}
	return remote
}
