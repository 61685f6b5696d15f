package api

import (
	"net/http"
	"time"

	ics "github.com/arran4/golang-ical"

	"keenlodge/internal/access"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/planning"
)

// calendar is the feed of past and coming runs (RFC 5545). Calendar programs can't send headers, so its token is in the address.
func (s *server) calendar(w http.ResponseWriter, r *http.Request) {
	address := guard.AddressOf(r.RemoteAddr)
	_, err := s.l.Access.Check(r.Context(), r.URL.Query().Get("token"), address, access.Calendar)
	switch {
	case access.IsUnknown(err):
		s.l.Access.Strangers.Wrong(r.Context(), address, time.Now())
		// Another token is refused, so that nobody is led to put it into an address.
		http.Error(w, "this address is not that of the calendar feed; make a new one with: keenlodge calendar address", http.StatusUnauthorized)
		return
	case err != nil:
		s.log.Error("a token could not be looked up", "error", err)
		http.Error(w, "the lodge can't reach its database", http.StatusServiceUnavailable)
		return
	}
	entries, err := s.l.Planning.Calendar(r.Context())
	if err != nil {
		s.log.Error("calendar feed", "error", err)
		http.Error(w, "the calendar could not be made: "+err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/calendar; charset=utf-8")
	w.Header().Set("Cache-Control", "private, max-age=300")
	w.Write([]byte(feed(entries, time.Now())))
}

func feed(entries []planning.Entry, now time.Time) string {
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
