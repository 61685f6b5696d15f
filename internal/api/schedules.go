package api

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"keenlodge/internal/access"
	"keenlodge/internal/planning"

	ics "github.com/arran4/golang-ical"
	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/lodge"
	"keenlodge/internal/records"
)

// PauseBody says why and until when a policy is paused.
type PauseBody struct {
	Why   string     `json:"why,omitempty" maxLength:"500"`
	Until *time.Time `json:"until,omitempty" doc:"until somebody resumes it, if not given"`
}

// SigningKey is a secret that is told once.
type SigningKey struct {
	Key string `json:"key" doc:"Base64; nobody can ask for it again"`
}

// Feed is where a calendar feed can be subscribed to.
type Feed struct {
	Path string `json:"path" doc:"address below the lodge's own, with a token that is good for nothing else"`
}

// registerSchedules has what is about when policies run, and what will come of it.
func (s *server) registerSchedules(a huma.API) {
	op := func(id, method, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: method, Path: "/api/v1/" + path, Summary: summary}
	}
	type named struct {
		Name string `path:"name"`
	}
	type pause struct {
		Name string `path:"name"`
		Body PauseBody
	}
	do(s, a, op("pause-policy", http.MethodPut, "policies/{name}/pause", "Keep a policy from running"),
		func(ctx context.Context, in *pause) (records.Pause, error) {
			until := time.Time{}
			if in.Body.Until != nil {
				until = *in.Body.Until
			}
			return s.l.Planning.Pause(ctx, in.Name, who(ctx), in.Body.Why, until)
		})
	do(s, a, op("resume-policy", http.MethodDelete, "policies/{name}/pause", "Let a paused policy run again"),
		func(ctx context.Context, in *named) (none, error) { return none{}, s.l.Planning.Resume(ctx, in.Name) })
	type rehearse struct {
		Name string `path:"name"`
		Body lodge.RehearseRequest
	}
	rehearsal := op("rehearse-policy", http.MethodPost, "policies/{name}/rehearsals", "Start a run that does everything but write; what it found is in its result")
	rehearsal.DefaultStatus = http.StatusAccepted
	do(s, a, rehearsal, func(ctx context.Context, in *rehearse) (records.Run, error) {
		return s.l.RehearsePolicy(ctx, in.Name, who(ctx), in.Body)
	})
	type look struct {
		Policies []string `query:"policy" doc:"names, joined by commas; all if none is given"`
		Days     int      `query:"days" default:"30" minimum:"1" maximum:"400"`
	}
	get(s, a, "get-forecast", "/api/v1/forecast", "Coming runs, the images that will exist, and the space that they take",
		func(ctx context.Context, in *look) (planning.View, error) {
			return s.l.Planning.Forecast(ctx, in.Policies, in.Days)
		})
	type cancel struct {
		ID   string `path:"id"`
		Body struct {
			Why string `json:"why,omitempty" maxLength:"500"`
		}
	}
	do(s, a, op("cancel-run", http.MethodPost, "runs/{id}/cancel", "End a run: guests are thawed and all is cleared at once"),
		func(ctx context.Context, in *cancel) (records.Run, error) {
			return s.l.Runs.Cancel(ctx, in.ID, who(ctx), in.Body.Why)
		})
	do(s, a, op("new-webhook-key", http.MethodPost, "webhooks/{name}/key", "Make the key with which a webhook's events are signed"),
		func(ctx context.Context, in *named) (SigningKey, error) {
			key, err := s.l.Hooks.NewKey(ctx, in.Name)
			return SigningKey{key}, err
		})
	do(s, a, op("try-webhook", http.MethodPost, "webhooks/{name}/tries", "Send a test event"),
		func(ctx context.Context, in *named) (none, error) { return none{}, s.l.Hooks.Try(ctx, in.Name) })
	do(s, a, op("new-calendar", http.MethodPost, "calendar", "Make the address of the calendar feed, in place of an older one"),
		func(ctx context.Context, _ *none) (Feed, error) {
			token, err := s.l.Access.NewCalendarToken(ctx)
			return Feed{"/api/v1/calendar.ics?" + url.Values{"token": {token}}.Encode()}, err
		})
}

// calendar is the feed of past and coming runs (RFC 5545). Calendar programs can't send headers, so its token is in the address.
func (s *server) calendar(w http.ResponseWriter, r *http.Request) {
	_, err := s.l.Access.Token(r.Context(), r.URL.Query().Get("token"), access.Calendar)
	switch {
	case access.IsUnknown(err):
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
