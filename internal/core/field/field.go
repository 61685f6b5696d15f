// Package field has what the fields of a site file have in common: errors that point at one, and the forms of names, times, sizes and hours in them.
package field

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
)

// Error is a mistake at a YAML path, in what has a name.
type Error struct{ Path, Name, Why string }

func (e *Error) Error() string { return e.Name + ": " + e.Why }

// At makes an [*Error].
func At(name, path string, format string, args ...any) error {
	return &Error{path, name, fmt.Sprintf(format, args...)}
}

// Known refuses a word that is not in its list; "" is the default.
func Known[T ~string](name, p, field string, word T, list []T) error {
	if word == "" || slices.Contains(list, word) {
		return nil
	}
	return At(name, p+"."+field, "%s %q is not known%s", field, word, suggest.Hint(word, list))
}

// Quoted makes a map key safe in a YAML path.
func Quoted(name string) string {
	return "'" + strings.ReplaceAll(name, "'", `\'`) + "'"
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,62}$`)

// IsName reports whether something can be called so: up to 63 lower-case letters, digits, dots and dashes, the first a letter or digit.
func IsName(name string) bool { return nameForm.MatchString(name) }

// Name refuses what nothing can be called.
func Name(kind, name, p string) error {
	if IsName(name) {
		return nil
	}
	return At(kind+" "+name, p, "a name has up to 63 lower-case letters, digits, dots and dashes, and begins with a letter or digit")
}

// Place refuses a name of a place that is none; "" is none given.
func Place(name, p, place string) error {
	if place == "" || IsName(place) {
		return nil
	}
	return At(name, p+".place", "%q can't be a place's name: lower-case letters, digits, dots and dashes, such as harbour-office", place)
}

// SpanOr reads a length of time; "" is the standard.
func SpanOr(text string, standard time.Duration) (time.Duration, error) {
	if text == "" {
		return standard, nil
	}
	return when.ParseSpan(text)
}

// SpanOf reads a length of time that was checked before.
func SpanOf(text string, standard time.Duration) time.Duration {
	d, err := SpanOr(text, standard)
	if err != nil {
		return standard
	}
	return d
}

// BytesOr reads a size that was checked before; "" is the standard.
func BytesOr(text string, standard int64) int64 {
	n, err := humanize.ParseBytes(text)
	if text == "" || err != nil {
		return standard
	}
	return int64(n)
}

// WindowsOf reads windows that were checked before.
func WindowsOf(phrases []string) when.Windows {
	w, err := when.ParseWindows(phrases)
	if err != nil {
		return when.Windows{}
	}
	return w
}

// Limits checks what has tasks, windows and a bandwidth.
func Limits(name, p string, tasks int, windows, bandwidth []string) error {
	if tasks < 0 || tasks > 1000 {
		return At(name, p+".tasks_at_once", "tasks_at_once: %d is not a number from 1 to 1000", tasks)
	}
	if _, err := when.ParseWindows(windows); err != nil {
		return At(name, p+".windows", "%v", err)
	}
	if _, err := when.ParsePace(bandwidth); err != nil {
		return At(name, p+".bandwidth", "%v", err)
	}
	return nil
}
