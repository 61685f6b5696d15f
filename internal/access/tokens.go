package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/field"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/when"
	"keenlodge/internal/records"
)

const (
	// TokenTime is how long a token is good for unless told otherwise, LongestToken how long one may be, ShortestToken at the least.
	TokenTime, LongestToken, ShortestToken = 90 * 24 * time.Hour, 400 * 24 * time.Hour, time.Minute
	// keepTokens is how long the record of a token is kept after it ended: the trail names it.
	keepTokens = 400 * 24 * time.Hour
	// tellBefore is how long before its end people are told of a token that is in use.
	tellBefore = 14 * 24 * time.Hour
)

// calendarToken is the name of the token with which the calendar feed is read.
const calendarToken = "calendar feed"

// NewToken makes a token for roles, which is good for so long; by names who makes it. What opens doors is returned once and kept nowhere.
func (a *Access) NewToken(ctx context.Context, by, name string, grants []right.Grant, good time.Duration) (records.Token, string, error) {
	return a.make(ctx, records.Token{ID: newID(), Name: name, Scope: string(All), Grants: grants, MadeBy: by}, newSecret(), good)
}

// make records a token, which secret opens doors with.
func (a *Access) make(ctx context.Context, t records.Token, secret string, good time.Duration) (records.Token, string, error) {
	none, name, grants := records.Token{}, t.Name, t.Grants
	if !field.IsName(name) {
		return none, "", fmt.Errorf("%w: %q can't be a token's name: up to 63 lower-case letters, digits, dots and dashes, such as night-watch", fault.ErrInvalid, name)
	}
	if len(grants) == 0 {
		return none, "", fmt.Errorf("%w: a token needs a role", fault.ErrInvalid)
	}
	for _, g := range grants {
		if err := g.Check(); err != nil {
			return none, "", fmt.Errorf("%w: role %s: %w", fault.ErrInvalid, g.Role, err)
		}
	}
	if err := checkTime(good); err != nil {
		return none, "", err
	}
	err := a.rec.AddToken(ctx, t, secret, good)
	if errors.Is(err, records.ErrTaken) {
		return none, "", fmt.Errorf("%w: there is, or was, a token called %s, and the trail names it; renew it (keenlodge token renew %s), or take another name", fault.ErrConflict, name, name)
	}
	if err != nil {
		return none, "", err
	}
	t, err = a.Token(ctx, t.ID)
	return t, secret, err
}

// ParseTime reads how long a token is to be good for; "" is [TokenTime].
func ParseTime(text string) (time.Duration, error) {
	if text == "" {
		return TokenTime, nil
	}
	good, err := when.ParseSpan(text)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	return good, nil
}

func checkTime(good time.Duration) error {
	if good < ShortestToken || good > LongestToken {
		return fmt.Errorf("%w: a token is good for %s to %s; %s is not between them", fault.ErrInvalid, when.FormatSpan(ShortestToken), when.FormatSpan(LongestToken), when.FormatSpan(good))
	}
	return nil
}

// redeemedTime is how long a token is good for that was redeemed.
const redeemedTime = 24 * time.Hour

// NewCode makes a token of which what opens doors is a code that a person can type, once: whoever shows it gets the token itself ([Access.Redeem]), which is
// good for a day from then on. good is how long the code may wait.
func (a *Access) NewCode(ctx context.Context, by, name string, grants []right.Grant, good time.Duration) (records.Token, string, error) {
	return a.make(ctx, records.Token{ID: newID(), Name: name, Scope: string(Once), Grants: grants, MadeBy: by}, newCode(), good)
}

// CheckCode finds whose a code is; one that is none, or is used or over, is [fault.ErrNotFound].
func (a *Access) CheckCode(ctx context.Context, code, address string) (Caller, error) {
	return a.Check(ctx, plainCode(code), address, Once)
}

// Redeem makes a code the token that it stands for, and returns what opens doors from then on. One that was used meanwhile is [fault.ErrNotFound].
func (a *Access) Redeem(ctx context.Context, c Caller, code string) (string, error) {
	secret := newSecret()
	defer a.hasChanged()
	return secret, a.rec.RedeemToken(ctx, c.Token, plainCode(code), secret, redeemedTime)
}

// codeLetters are those that nobody takes for others; codeLength of them are 59 bits.
const codeLetters, codeLength = "23456789abcdefghjkmnpqrstuvwxyz", 12

func newCode() string {
	out := make([]byte, 0, codeLength)
	for room := make([]byte, 1); len(out) < codeLength; {
		rand.Read(room)
		if n := int(room[0]) & 31; n < len(codeLetters) { // each is as likely as any other
			out = append(out, codeLetters[n])
		}
	}
	return string(out)
}

// plainCode is a code as it is kept, whatever people write between its letters.
func plainCode(code string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToLower(code))
}

// Tokens lists all tokens, by name.
func (a *Access) Tokens(ctx context.Context) ([]records.Token, error) { return a.rec.Tokens(ctx) }

// Token finds a token by its name or ID.
func (a *Access) Token(ctx context.Context, word string) (records.Token, error) {
	all, err := a.rec.Tokens(ctx)
	if err != nil {
		return records.Token{}, err
	}
	names := []string{}
	for _, t := range all {
		if t.Name == word || t.ID == word {
			return t, nil
		}
		names = append(names, t.Name)
	}
	return records.Token{}, fault.Unknown("token", word, names)
}

// RenewToken gives a token another secret, and so long from now on. What opened doors before opens none any more.
func (a *Access) RenewToken(ctx context.Context, word string, good time.Duration) (records.Token, string, error) {
	if err := checkTime(good); err != nil {
		return records.Token{}, "", err
	}
	t, err := a.Token(ctx, word)
	if err != nil {
		return t, "", err
	}
	secret := newSecret()
	defer a.hasChanged()
	if err := a.rec.RenewToken(ctx, t.ID, secret, good); err != nil {
		return t, "", err
	}
	t, err = a.Token(ctx, t.ID)
	return t, secret, err
}

// RevokeToken ends a token and its sessions, in every process. The last one that can do everything stays.
func (a *Access) RevokeToken(ctx context.Context, word string) (records.Token, error) {
	t, err := a.Token(ctx, word)
	if err != nil {
		return t, err
	}
	if t.Revoked != nil {
		return t, fmt.Errorf("%w: token %s was revoked already, %s", fault.ErrConflict, t.Name, t.Revoked.UTC().Format(time.DateTime+" MST"))
	}
	defer a.hasChanged()
	err = a.rec.RevokeToken(ctx, t.ID, func(left []records.Token) error {
		if t.Live && rules(t) && !slices.ContainsFunc(left, rules) {
			return fmt.Errorf("%w: %s is the last token that can do everything, and nobody could make another; make one first: keenlodge token new", fault.ErrConflict, t.Name)
		}
		return nil
	})
	if err != nil {
		return t, err
	}
	return a.Token(ctx, t.ID)
}

// rules reports whether a token can do everything.
func rules(t records.Token) bool {
	return t.Scope == string(All) && slices.ContainsFunc(t.Grants, func(g right.Grant) bool { return g.Role == right.Administrator && !g.Narrowed() })
}

// NewCalendarToken makes the token that opens the calendar feed, in place of an older one.
func (a *Access) NewCalendarToken(ctx context.Context, by string) (string, error) {
	secret := newSecret()
	err := a.rec.AddToken(ctx, records.Token{ID: newID(), Name: calendarToken, Scope: string(Calendar), Grants: []right.Grant{}, MadeBy: by}, secret, LongestToken)
	if errors.Is(err, records.ErrTaken) {
		_, secret, err = a.RenewToken(ctx, calendarToken, LongestToken)
	}
	return secret, err
}

// Ending lists the tokens that people should renew, the first to end first.
func (a *Access) Ending(ctx context.Context, now time.Time) ([]records.Token, error) {
	all, err := a.rec.Tokens(ctx)
	ending := slices.DeleteFunc(all, func(t records.Token) bool { return !endsSoon(t, now) })
	slices.SortStableFunc(ending, func(a, b records.Token) int { return a.Expires.Compare(b.Expires) })
	return ending, err
}

// endsSoon reports whether a token that is in use ends within two weeks, and was made to last longer than that.
func endsSoon(t records.Token, now time.Time) bool {
	inUse := t.Live && t.Used != nil && now.Sub(*t.Used) < tellBefore
	return inUse && t.Expires.Sub(now) < tellBefore && t.Expires.Sub(t.Made) > 2*tellBefore
}
