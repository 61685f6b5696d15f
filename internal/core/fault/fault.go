// Package fault has the sentinels on which callers decide what an error means for whoever asked: the API maps them to HTTP statuses.
// Wrap them with the user's message; their own words are taken off before somebody reads it.
package fault

import (
	"errors"
	"fmt"
	"strings"

	"keenlodge/internal/core/suggest"
)

var (
	// ErrNotFound marks something that was named and does not exist.
	ErrNotFound = errors.New("not found")
	// ErrConflict marks what can't be done as things stand, such as a second run of a policy.
	ErrConflict = errors.New("conflict")
	// ErrInvalid marks a request that nobody could carry out.
	ErrInvalid = errors.New("invalid")
	// ErrForbidden marks what the caller's roles do not allow.
	ErrForbidden = errors.New("forbidden")
	// ErrUnavailable marks what can't be done for now, through no fault of the caller.
	ErrUnavailable = errors.New("unavailable")
)

// Unknown is the error for a name that is not known, with the nearest that is. kind is a noun such as "policy".
func Unknown(kind, name string, known []string) error {
	return fmt.Errorf("%w: no %s is called %q%s", ErrNotFound, kind, name, suggest.Hint(name, known))
}

// Text is an error's words without the sentinels in front of them, of which there may be several where rooms call each other.
func Text(err error) string {
	for _, sentinel := range []error{ErrNotFound, ErrConflict, ErrInvalid, ErrForbidden, ErrUnavailable} {
		if rest, ok := strings.CutPrefix(err.Error(), sentinel.Error()+": "); ok {
			return Text(errors.New(rest))
		}
	}
	return err.Error()
}
