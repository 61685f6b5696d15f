package access

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// A new lodge leaves its first token in a file that nobody else reads, once; a token is good for its scope and nothing else.
func TestTokens(t *testing.T) {
	ctx, state := t.Context(), t.TempDir()
	a := New(recordstest.Open(t), state)
	file, err := a.First(ctx)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(state, "first-token"), file)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	first := strings.TrimSpace(string(body))
	require.Greater(t, len(first), 40)
	again, err := a.First(ctx)
	require.NoError(t, err)
	require.Empty(t, again, "a lodge that has a token makes no first one")

	name, err := a.Token(ctx, first, All)
	require.NoError(t, err)
	require.Equal(t, "first", name)
	old, err := a.NewCalendarToken(ctx)
	require.NoError(t, err)
	feed, err := a.NewCalendarToken(ctx)
	require.NoError(t, err)
	_, err = a.Token(ctx, feed, Calendar)
	require.NoError(t, err)
	for _, c := range []struct {
		token string
		scope Scope
	}{{"", All}, {"nonsense", All}, {first, Calendar}, {feed, All}, {old, Calendar}, {first + "x", All}} {
		_, err = a.Token(ctx, c.token, c.scope)
		require.ErrorIs(t, err, fault.ErrNotFound, "%q for %s", c.token, c.scope)
		require.True(t, IsUnknown(err))
	}

	// A file that can't be written is an error, and tells where.
	fresh := New(recordstest.Open(t), filepath.Join(state, "missing"))
	_, err = fresh.First(ctx)
	require.ErrorContains(t, err, filepath.Join(state, "missing", "first-token"))
	require.False(t, IsUnknown(err))
}
