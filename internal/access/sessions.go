package access

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
)

// SessionTime is how long a browser's session lasts at the most, and never longer than its token.
const SessionTime = 7 * 24 * time.Hour

// SignIn begins a browser's session with a token; what the browser is to show is returned once.
func (a *Access) SignIn(ctx context.Context, token, address, browser string) (c Caller, secret string, err error) {
	if c, err = a.Check(ctx, token, address, All); err != nil {
		return c, "", err
	}
	if c.Session != "" { // a cookie is no token, although it opens the same doors
		return c, "", fault.ErrNotFound
	}
	c.Session, secret = newID(), newSecret()
	return c, secret, a.rec.AddSession(ctx, records.Session{ID: c.Session, Token: c.Token, Address: address, Browser: browser}, secret, SessionTime)
}

// Sessions lists the sessions that stand: the caller's token's, or all.
func (a *Access) Sessions(ctx context.Context, c Caller, all bool) ([]records.Session, error) {
	return a.rec.Sessions(ctx, whose(c, all))
}

// EndSession ends one session: of the caller's token, or of any.
func (a *Access) EndSession(ctx context.Context, c Caller, all bool, id string) error {
	defer a.hasChanged()
	err := a.rec.EndSession(ctx, id, whose(c, all))
	if IsUnknown(err) {
		err = fmt.Errorf("%w: no session is called %q; it may have ended", fault.ErrNotFound, id)
	}
	return err
}

// EndSessions ends all sessions: of the caller's token, or of everybody. It returns how many.
func (a *Access) EndSessions(ctx context.Context, c Caller, all bool) (int64, error) {
	defer a.hasChanged()
	return a.rec.EndSessions(ctx, whose(c, all))
}

func whose(c Caller, all bool) string {
	if all {
		return ""
	}
	return c.Token
}
