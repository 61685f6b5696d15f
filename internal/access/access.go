// Package access knows who may come in, and with which roles: tokens for people and programs, sessions for browsers. What opens a door is
// compared with all that does now, which each process reads anew twice a second; so a token that was revoked is refused everywhere within
// that time, whether notifications arrive or not, and whoever guesses costs the database nothing.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records"
)

// Scope is what a token is good for.
type Scope string

const (
	// All is whatever its grants allow.
	All Scope = "all"
	// Calendar is the calendar feed and nothing else.
	Calendar Scope = "calendar"
	// Once is to be redeemed for a token, and nothing else.
	Once Scope = "once"
)

// Scopes lists every scope.
var Scopes = []Scope{All, Calendar, Once}

const (
	// keysAge is how old what is known of keys may be, keysRest how long one look lasts at the least when a key is not found: it may be new.
	keysAge, keysRest = 500 * time.Millisecond, 50 * time.Millisecond
	// lookTime is how long a look may take.
	lookTime = 5 * time.Second
	// noteEvery is how often the use of a key is noted.
	noteEvery = time.Minute
)

// Caller is who came in.
type Caller struct {
	// Token and Session are IDs; Session is "" for who calls with the token itself.
	Token, Session string
	// Name is the token's.
	Name   string
	Grants []right.Grant
	// Left is how long the key is good for if nothing more is done.
	Left time.Duration
}

// Access lets callers in.
type Access struct {
	rec       *records.Records
	log       *slog.Logger
	Strangers *Strangers

	mu      sync.Mutex
	known   look
	changed time.Time // when this process last changed what opens doors
	failed  failure
	looking chan struct{} // closed when the look that is under way is over; nil while there is none
	noted   map[string]time.Time

	worlds worlds
}

// failure is how a look failed that began at a moment; its error is nil for one that did not.
type failure struct {
	at  time.Time
	err error
}

// look is what opens doors, as of a moment.
type look struct {
	at   time.Time // when it began
	keys map[[sha256.Size]byte]records.Key
}

// New makes an Access.
func New(rec *records.Records, log *slog.Logger) *Access {
	return &Access{rec: rec, log: log, Strangers: newStrangers(), noted: map[string]time.Time{}}
}

// Check finds who calls, by a token, or by a browser's session. What opens nothing is [fault.ErrNotFound]; other errors mean that it could
// not be looked up.
func (a *Access) Check(ctx context.Context, secret, address string, scope Scope) (Caller, error) {
	if secret == "" {
		return Caller{}, fault.ErrNotFound
	}
	key, err := a.find(ctx, sha256.Sum256([]byte(secret)))
	if err == nil && key.Scope != string(scope) {
		err = fault.ErrNotFound
	}
	if err != nil {
		return Caller{}, err
	}
	a.note(ctx, key, address)
	return Caller{Token: key.Token, Session: key.Session, Name: key.Name, Grants: key.Grants, Left: key.Left}, nil
}

func (a *Access) find(ctx context.Context, digest [sha256.Size]byte) (records.Key, error) {
	now := time.Now()
	l, err := a.since(ctx, now.Add(-keysAge))
	if err != nil {
		return records.Key{}, err
	}
	if key, ok := l.keys[digest]; ok {
		return key, nil
	}
	if l.at.Before(now) { // it may have been made since
		select {
		case <-time.After(time.Until(l.at.Add(keysRest))):
		case <-ctx.Done():
			return records.Key{}, context.Cause(ctx)
		}
		if l, err = a.since(ctx, now); err != nil {
			return records.Key{}, err
		}
	}
	if key, ok := l.keys[digest]; ok {
		return key, nil
	}
	return records.Key{}, fault.ErrNotFound
}

// since is a look that began at a moment or after it. Those who need one wait for the same.
func (a *Access) since(ctx context.Context, at time.Time) (look, error) {
	for {
		a.mu.Lock()
		if !a.known.at.Before(at) && !a.known.at.Before(a.changed) {
			defer a.mu.Unlock()
			return a.known, nil
		}
		if a.failed.err != nil && !a.failed.at.Before(at) { // who waited for it need not try again, one after the other
			defer a.mu.Unlock()
			return look{}, a.failed.err
		}
		if under := a.looking; under != nil {
			a.mu.Unlock()
			select {
			case <-under:
				continue
			case <-ctx.Done():
				return look{}, context.Cause(ctx)
			}
		}
		under := make(chan struct{})
		a.looking = under
		a.mu.Unlock()
		began := time.Now()
		keys, err := a.look(ctx)
		a.mu.Lock()
		a.failed = failure{began, err}
		if err == nil {
			a.known = look{began, keys}
		}
		a.looking = nil
		a.mu.Unlock()
		close(under)
		if err != nil {
			return look{}, err
		}
	}
}

func (a *Access) look(ctx context.Context) (map[[sha256.Size]byte]records.Key, error) {
	ctx, done := context.WithTimeout(context.WithoutCancel(ctx), lookTime) // others wait for it, too
	defer done()
	found, err := a.rec.Keys(ctx)
	keys := make(map[[sha256.Size]byte]records.Key, len(found))
	for _, k := range found {
		keys[[sha256.Size]byte(k.Digest)] = k
	}
	return keys, err
}

// hasChanged has the next call look anew: what this process has changed holds here at once, and elsewhere when the next look is due.
func (a *Access) hasChanged() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.changed = time.Now()
}

// note notes the use of a key, once a minute. A caller is let in although it can't be noted.
func (a *Access) note(ctx context.Context, key records.Key, address string) {
	which := key.Token + "/" + key.Session
	a.mu.Lock()
	due := time.Since(a.noted[which]) >= noteEvery
	if due {
		a.noted[which] = time.Now()
	}
	a.mu.Unlock()
	if !due {
		return
	}
	if err := a.rec.Use(context.WithoutCancel(ctx), key.Token, key.Session, address); err != nil {
		a.log.Warn("the use of a token could not be noted", "token", key.Name, "error", err)
	}
}

// Upkeep forgets what ended long ago.
func (a *Access) Upkeep(ctx context.Context) error {
	a.mu.Lock()
	for which, at := range a.noted {
		if time.Since(at) > noteEvery {
			delete(a.noted, which)
		}
	}
	a.mu.Unlock()
	return errors.Join(a.rec.ForgetSessions(ctx), a.rec.ForgetTokens(ctx, keepTokens))
}

// newSecret makes what opens a door: 256 bits, in letters and digits.
func newSecret() string { return strings.ToLower(rand.Text() + rand.Text()) }

func newID() string { return strings.ToLower(rand.Text()[:10]) }

// IsUnknown reports whether an error of [Access.Check] says that what was shown opens nothing, and not that it could not be looked up.
func IsUnknown(err error) bool { return errors.Is(err, fault.ErrNotFound) }

// Within is what a caller's grants for an operation reach. Where they are narrowed, reach is asked what they come to.
func (c Caller) Within(id right.Operation, reach func([]right.Grant) (right.Within, error)) (right.Within, error) {
	if why := right.Refusal(c.Grants, id); why != "" {
		return right.Within{}, fmt.Errorf("%w: %s", fault.ErrForbidden, why)
	}
	held := right.Holding(c.Grants, id)
	if e, _ := right.Of(id); e.On == right.Caller {
		return right.Everything, nil
	}
	for _, g := range held {
		if !g.Narrowed() {
			return right.Everything, nil
		}
	}
	return reach(held)
}
