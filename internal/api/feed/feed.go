// Package feed is the calendar feed of past and coming runs (RFC 5545).
package feed

import (
	"log/slog"
	"net/http"
	"time"

	ics "github.com/arran4/golang-ical"

	"keenlodge/internal/access"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/lodge"
	"keenlodge/internal/planning"
)

// Feed answers calendar programs, which can't send headers: their token is in the address.
type Feed struct {
	Lodge *lodge.Lodge
	Log   *slog.Logger
}

// ServeHTTP implements [http.Handler].
func (f Feed) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	address := guard.AddressOf(r.RemoteAddr)
	_, err := f.Lodge.Access.Check(r.Context(), r.URL.Query().Get("token"), address, access.Calendar)
	switch {
	case access.IsUnknown(err):
		f.Lodge.Access.Strangers.Wrong(r.Context(), address, time.Now())
		// Another token is refused, so that nobody is led to put it into an address.
		http.Error(w, "this address is not that of the calendar feed; make a new one with: keenlodge calendar address", http.StatusUnauthorized)
		return
	case err != nil:
		f.Log.Error("a token could not be looked up", "error", err)
		http.Error(w, "the lodge can't reach its database", http.StatusServiceUnavailable)
		return
	}
	entries, err := f.Lodge.Planning.Calendar(r.Context())
	if err != nil {
		f.Log.Error("calendar feed", "error", err)
		http.Error(w, "the calendar could not be made: "+err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/calendar; charset=utf-8")
	w.Header().Set("Cache-Control", "private, max-age=300")
	w.Write([]byte(text(entries, time.Now())))
}

func text(entries []planning.Entry, now time.Time) string {
	c := ics.NewCalendarFor("Keen Lodge")
	c.SetMethod(ics.MethodPublish)
	c.SetXWRCalName("Keen Lodge: runs")
	c.SetRefreshInterval("PT15M")
	for _, e := range entries {
		v := c.AddEvent(e.ID + "@keenlodge")
		v.SetDtStampTime(now)
		v.SetStartAt(e.From)
		v.SetEndAt(e.Until)
		v.SetSummary(e.Title)
		v.SetDescription(e.Text)
		v.SetTimeTransparency(ics.TransparencyTransparent)
		if e.Coming {
			v.SetStatus(ics.ObjectStatusTentative)
		} else {
			v.SetStatus(ics.ObjectStatusConfirmed)
		}
	}
	return c.Serialize()
}
