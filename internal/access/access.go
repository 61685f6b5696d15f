// Package access knows the tokens with which people and programs use a lodge.
package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
)

// Scope is what a token is good for.
type Scope string

const (
	// All is everything.
	All Scope = "all"
	// Calendar is the calendar feed and nothing else.
	Calendar Scope = "calendar"
)

// Scopes lists every scope.
var Scopes = []Scope{All, Calendar}

// calendarToken is the name of the token with which the calendar feed is read.
const calendarToken = "calendar feed"

// Access makes and finds tokens.
type Access struct {
	rec   *records.Records
	state string
}

// New makes an Access. state is the folder in which the first token is left for whoever set the lodge up.
func New(rec *records.Records, state string) *Access { return &Access{rec, state} }

// Token returns the name of a token that is good for a scope; any other is [fault.ErrNotFound].
func (a *Access) Token(ctx context.Context, token string, scope Scope) (name string, err error) {
	if token == "" {
		return "", fault.ErrNotFound
	}
	t, err := a.rec.Token(ctx, token)
	if err == nil && t.Scope != string(scope) {
		err = fault.ErrNotFound
	}
	return t.Name, err
}

// First makes the first token of a new lodge and writes it into a file that only this account can read. It returns the file's path if
// it made one.
func (a *Access) First(ctx context.Context) (string, error) {
	file := filepath.Join(a.state, "first-token")
	token := newToken()
	made, err := a.rec.AddFirstToken(ctx, "first", token)
	if err != nil || !made {
		return "", err
	}
	if err := os.WriteFile(file, []byte(token+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write the first token to %s: %w", file, err)
	}
	return file, nil
}

// NewCalendarToken makes the token that opens the calendar feed, in place of an older one.
func (a *Access) NewCalendarToken(ctx context.Context) (string, error) {
	token := newToken()
	return token, a.rec.SetToken(ctx, records.Token{Name: calendarToken, Scope: string(Calendar)}, token)
}

func newToken() string { return strings.ToLower(rand.Text() + rand.Text()) }

// IsUnknown reports whether an error of [Access.Token] says that the token is not good, and not that it could not be looked up.
func IsUnknown(err error) bool { return errors.Is(err, fault.ErrNotFound) }
