// Package lines holds the connections that agents make, and passes them on between the processes of a lodge.
package lines

import (
	"log/slog"
	"net/http"

	"github.com/go-chi/chi/v5"

	"keenlodge/internal/access"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/lodge"
	"keenlodge/internal/switchboard"
)

// Lines takes lines for a lodge.
type Lines struct {
	Lodge *lodge.Lodge
	Log   *slog.Logger
}

// Hold takes a line that an agent makes: the connection is upgraded, and held until it ends.
func (s Lines) Hold(w http.ResponseWriter, r *http.Request) {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		guard.Refuse(w, http.StatusUnauthorized, "an agent shows its certificate")
		return
	}
	a, err := s.Lodge.Agents.Check(r.Context(), r.TLS.PeerCertificates[0])
	switch {
	case access.IsUnknown(err):
		guard.Refuse(w, http.StatusUnauthorized, "no agent is known by this; have its server enrolled again: keenlodge machine enroll NAME")
		return
	case err != nil:
		s.Log.Error("an agent could not be looked up", "error", err)
		guard.Refuse(w, http.StatusServiceUnavailable, "the lodge can't reach its database")
		return
	}
	conn := line.Upgraded(w, r, line.Protocol, guard.Refuse)
	if conn == nil {
		return
	}
	if err := s.Lodge.Lines.Take(r.Context(), a, conn); err != nil && r.Context().Err() == nil {
		s.Log.Warn("an agent's line could not be held", "agent", a.Name, "error", err)
	}
}

// Pass passes an agent's line on to another process of the lodge, which proves on the connection that it is one.
func (s Lines) Pass(w http.ResponseWriter, r *http.Request) {
	if r.TLS == nil {
		guard.Refuse(w, http.StatusUpgradeRequired, "lines are passed on over TLS")
		return
	}
	conn := line.Upgraded(w, r, switchboard.Protocol, guard.Refuse)
	if conn == nil {
		return
	}
	if err := s.Lodge.Lines.Pass(r.Context(), chi.URLParam(r, "agent"), conn); err != nil && r.Context().Err() == nil {
		s.Log.Warn("an agent's line was not passed on", "agent", plain.Text(chi.URLParam(r, "agent"), 100), "to", r.RemoteAddr, "error", err)
	}
}
