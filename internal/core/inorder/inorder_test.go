package inorder

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func upTo(n int) func(func(int) bool) {
	return func(yield func(int) bool) {
		for i := range n {
			if !yield(i) {
				return
			}
		}
	}
}

// What is used comes in its order, no more than allowed is under way, and the first thing that goes wrong ends all, once nothing is under way any more.
func TestDo(t *testing.T) {
	var under, most atomic.Int64
	next := 0
	work := func(_ context.Context, i int) (int, error) {
		if n := under.Add(1); n > most.Load() {
			most.Store(n)
		}
		time.Sleep(time.Duration(rand.IntN(200)) * time.Microsecond)
		under.Add(-1)
		return i * i, nil
	}
	require.NoError(t, Do(t.Context(), upTo(500), 4, work, func(r int) error {
		require.Equal(t, next*next, r)
		next++
		return nil
	}))
	require.Equal(t, 500, next)
	require.LessOrEqual(t, most.Load(), int64(5))
	require.Greater(t, most.Load(), int64(1))

	broken := errors.New("it broke")
	used := 0
	err := Do(t.Context(), upTo(500), 4, func(ctx context.Context, i int) (int, error) {
		if i == 7 {
			return 0, broken
		}
		return work(ctx, i)
	}, func(int) error { used++; return nil })
	require.ErrorIs(t, err, broken)
	require.Equal(t, 7, used)
	require.Zero(t, under.Load(), "nothing goes on")

	require.ErrorIs(t, Do(t.Context(), upTo(500), 4, work, func(r int) error {
		if r == 25 {
			return broken
		}
		return nil
	}), broken)
	ctx, cancel := context.WithCancelCause(t.Context())
	require.ErrorIs(t, Do(ctx, upTo(1<<30), 4, work, func(r int) error {
		if r == 100 {
			cancel(broken)
		}
		return nil
	}), broken)
	require.NoError(t, Do(t.Context(), upTo(0), 4, work, func(int) error { return nil }))
}
