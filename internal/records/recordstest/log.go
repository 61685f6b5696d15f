package recordstest

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
)

// Quiet is a log in which nothing worse than information may be written, but for messages that contain one of those expected; each of
// these must come once at the least.
func Quiet(t testing.TB, expected ...string) *slog.Logger {
	q := &quiet{TB: t, expected: expected, came: make([]bool, len(expected))}
	t.Cleanup(func() {
		q.mu.Lock()
		defer q.mu.Unlock()
		q.over = true
		for i, text := range expected {
			if !q.came[i] {
				t.Errorf("nothing like %q was logged", text)
			}
		}
	})
	return slog.New(q)
}

type quiet struct {
	testing.TB
	expected []string

	mu   sync.Mutex
	came []bool
	over bool // a test that is over can't be told
}

// Enabled implements [slog.Handler].
func (q *quiet) Enabled(_ context.Context, l slog.Level) bool { return l > slog.LevelInfo }

// Handle implements [slog.Handler].
func (q *quiet) Handle(_ context.Context, r slog.Record) error {
	text := []string{r.Message}
	r.Attrs(func(a slog.Attr) bool { text = append(text, a.String()); return true })
	line := strings.Join(text, " ")
	q.mu.Lock()
	defer q.mu.Unlock()
	i := slices.IndexFunc(q.expected, func(e string) bool { return strings.Contains(line, e) })
	switch {
	case i >= 0:
		q.came[i] = true
	case !q.over:
		q.Errorf("it was logged: %s %s", r.Level, line)
	}
	return nil
}

// WithAttrs implements [slog.Handler].
func (q *quiet) WithAttrs([]slog.Attr) slog.Handler { return q }

// WithGroup implements [slog.Handler].
func (q *quiet) WithGroup(string) slog.Handler { return q }
