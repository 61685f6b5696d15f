package mediumtest

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/probe"
	"keenlodge/internal/store/medium"
)

// Subject is a medium under test, before a real server.
type Subject struct {
	// Open opens an empty place, whose name has odd characters.
	Open func(t *testing.T) medium.Medium
	// Plant makes small objects behind the medium's back, in the place that Open opened last.
	Plant func(t *testing.T, names []string)
	// Full opens a place with room for a few KiB, but not for a MiB; nil where none can be made.
	Full func(t *testing.T) medium.Medium
	// Costly keeps the hundred thousand objects for make media (KEENLODGE_MEDIA=1).
	Costly bool
	// Line is what the medium is reached by; nil where there is none.
	Line *Line
}

// Run holds a medium to its contract.
func Run(t *testing.T, s Subject) {
	t.Run("put get list stat delete", func(t *testing.T) { s.basics(t) })
	t.Run("two writers", func(t *testing.T) { s.writers(t) })
	t.Run("a hundred thousand objects", func(t *testing.T) { s.many(t) })
	if s.Full != nil {
		t.Run("a full place", func(t *testing.T) { s.full(t) })
	}
	t.Run("a probe", func(t *testing.T) { s.probe(t) })
	t.Run("cancelled", func(t *testing.T) { s.cancelled(t) })
	if s.Line != nil {
		t.Run("a line that is cut", func(t *testing.T) { s.cut(t) })
		t.Run("a slow line", func(t *testing.T) { s.slow(t) })
	}
}

func list(t *testing.T, m medium.Medium, prefix string) map[string]int64 {
	t.Helper()
	found := map[string]int64{}
	require.NoError(t, m.List(t.Context(), prefix, func(o medium.Object) error { found[o.Name] = o.Size; return nil }))
	return found
}

func content(n int) []byte {
	rng := rand.New(rand.NewPCG(uint64(n), 5))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

func (s Subject) basics(t *testing.T) {
	m, ctx := s.Open(t), t.Context()
	require.Empty(t, list(t, m, "pack/"), "nothing of the kind yet")
	require.NoError(t, m.Put(ctx, "pack/ab/abcd", []byte("0123456789")))
	require.NoError(t, m.Put(ctx, "pack/ab/abcdef", []byte("x")))
	require.NoError(t, m.Put(ctx, "image/x", []byte("y")))
	require.Equal(t, map[string]int64{"pack/ab/abcd": 10, "pack/ab/abcdef": 1}, list(t, m, "pack/"))
	require.Equal(t, map[string]int64{"image/x": 1}, list(t, m, "image/"))
	require.Len(t, list(t, m, ""), 3)
	for _, c := range []struct {
		off, n int64
		want   string
	}{{0, -1, "0123456789"}, {0, 3, "012"}, {3, 4, "3456"}, {3, -1, "3456789"}, {9, 1, "9"}, {10, 0, ""}} {
		got, err := m.Get(ctx, "pack/ab/abcd", c.off, c.n)
		require.NoError(t, err)
		require.Equal(t, c.want, string(got))
	}
	_, err := m.Get(ctx, "pack/ab/abcd", 8, 4)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = m.Get(ctx, "pack/ab/abcd", 20, 4)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = m.Get(ctx, "pack/none", 0, -1)
	require.ErrorIs(t, err, medium.ErrNotFound)
	_, err = m.Get(ctx, "pack/none", 3, 4)
	require.ErrorIs(t, err, medium.ErrNotFound)
	o, err := m.Stat(ctx, "pack/ab/abcd")
	require.NoError(t, err)
	require.EqualValues(t, 10, o.Size)
	require.WithinDuration(t, time.Now(), o.Modified, time.Minute)
	_, err = m.Stat(ctx, "pack/ab/none")
	require.ErrorIs(t, err, medium.ErrNotFound)
	require.NoError(t, m.Delete(ctx, "pack/ab/abcd"))
	require.NoError(t, m.Delete(ctx, "pack/ab/abcd"), "twice is no error")
	require.Equal(t, map[string]int64{"pack/ab/abcdef": 1}, list(t, m, "pack/"))
	large := content(37 << 20) // more than one piece of a multipart upload
	require.NoError(t, m.Put(ctx, "pack/cd/large", large))
	back, err := m.Get(ctx, "pack/cd/large", 0, -1)
	require.NoError(t, err)
	require.True(t, bytes.Equal(large, back))
	back, err = m.Get(ctx, "pack/cd/large", 20<<20, 5<<20)
	require.NoError(t, err)
	require.True(t, bytes.Equal(large[20<<20:25<<20], back))
	defer func(was int64) { medium.MostWhole = was }(medium.MostWhole)
	medium.MostWhole = 30 << 20
	_, err = m.Get(ctx, "pack/cd/large", 0, -1)
	require.ErrorIs(t, err, medium.ErrTooLarge, "nothing is made ready for what an object claims to be")
	_, err = m.Get(ctx, "pack/cd/large", 1<<20, 5<<20)
	require.NoError(t, err)
	_, err = m.Room(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, m.String())
}

// writers: two lodges had the same thought; whoever reads meanwhile gets the whole object or none.
func (s Subject) writers(t *testing.T) {
	m := s.Open(t)
	body := content(3 << 20)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() { require.NoError(t, m.Put(t.Context(), "pack/00/same", body)) })
		all.Go(func() {
			if got, err := m.Get(t.Context(), "pack/00/same", 0, -1); err == nil {
				require.True(t, bytes.Equal(body, got))
			} else {
				require.ErrorIs(t, err, medium.ErrNotFound)
			}
		})
	}
	all.Wait()
	require.Equal(t, map[string]int64{"pack/00/same": int64(len(body))}, list(t, m, "pack/"))
}

func (s Subject) many(t *testing.T) {
	if testing.Short() || s.Costly && os.Getenv("KEENLODGE_MEDIA") == "" {
		t.Skip("so many objects take a while")
	}
	m := s.Open(t)
	const n = 100_000
	names := make([]string, n)
	for i := range names {
		names[i] = fmt.Sprintf("pack/%02x/%08x", i%256, i)
	}
	s.Plant(t, names)
	found := list(t, m, "pack/")
	require.Len(t, found, n)
	for _, name := range names {
		if _, ok := found[name]; !ok {
			require.Fail(t, "missing", name)
		}
	}
}

func (s Subject) full(t *testing.T) {
	m := s.Full(t)
	require.NoError(t, m.Put(t.Context(), "pack/00/one", content(4096)))
	err := m.Put(t.Context(), "pack/00/two", content(1<<20))
	require.ErrorIs(t, err, medium.ErrFull)
	require.Equal(t, map[string]int64{"pack/00/one": 4096}, list(t, m, "pack/"))
	require.NoError(t, m.Delete(t.Context(), "pack/00/one"), "what is full can still be emptied")
	require.NoError(t, m.Put(t.Context(), "pack/00/three", content(4096)), "the part left no trace")
}

func (s Subject) probe(t *testing.T) {
	m := s.Open(t)
	steps := medium.Probe(t.Context(), true, func(context.Context) (medium.Medium, error) {
		if h, ok := m.(medium.Locker); ok {
			return openLocker{h}, nil
		}
		return open{m}, nil
	})
	for _, step := range steps {
		require.NotEqual(t, probe.Failed, step.State, "%s: %s", step.Name, step.Text)
	}
	require.GreaterOrEqual(t, len(steps), 7)
	require.Empty(t, list(t, m, ""), "nothing stays")
}

// open is not closed by a probe, for the test goes on with it.
type open struct{ medium.Medium }

func (open) Close() error { return nil }

type openLocker struct{ medium.Locker }

func (openLocker) Close() error { return nil }

func (o open) Exposed(ctx context.Context, name string) (string, error) {
	if e, ok := o.Medium.(medium.Exposer); ok {
		return e.Exposed(ctx, name)
	}
	return "", nil
}

func (s Subject) cancelled(t *testing.T) {
	m := s.Open(t)
	for i := range 20 {
		require.NoError(t, m.Put(t.Context(), fmt.Sprintf("image/%02d", i), []byte("x")))
	}
	stop := fmt.Errorf("enough")
	n := 0
	err := m.List(t.Context(), "image/", func(medium.Object) error { n++; return stop })
	require.ErrorIs(t, err, stop)
	require.Equal(t, 1, n)
}

// cut: the line breaks in the middle of a put, of a get and of a list. The call is done again, and nothing half is ever seen.
func (s Subject) cut(t *testing.T) {
	m, ctx := s.Open(t), t.Context()
	body := content(8 << 20)
	for i := range 4 {
		name := fmt.Sprintf("pack/00/%d", i)
		s.Line.CutAfter(int64(1+i) << 20)
		require.NoError(t, m.Put(ctx, name, body))
		s.Line.CutAfter(int64(1+i) << 20)
		back, err := m.Get(ctx, name, 0, -1)
		require.NoError(t, err)
		require.True(t, bytes.Equal(body, back))
	}
	require.Positive(t, s.Line.Cuts(), "the line was cut")
	s.Line.CutAfter(100)
	require.Len(t, list(t, m, "pack/"), 4)
	s.Line.CutAfter(-1)
	s.Line.Down(true)
	short, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	err := m.Put(short, "pack/00/none", body)
	require.ErrorIs(t, err, medium.ErrUnreachable)
	s.Line.Down(false)
	_, err = m.Stat(ctx, "pack/00/none")
	require.ErrorIs(t, err, medium.ErrNotFound)
}

func (s Subject) slow(t *testing.T) {
	m := s.Open(t)
	s.Line.Slow(30 * time.Millisecond)
	defer s.Line.Slow(0)
	body := content(1 << 20)
	require.NoError(t, m.Put(t.Context(), "pack/00/slow", body))
	back, err := m.Get(t.Context(), "pack/00/slow", 0, -1)
	require.NoError(t, err)
	require.True(t, bytes.Equal(body, back))
	require.Len(t, list(t, m, "pack/"), 1)
}
