package throttle

import (
	"context"
	"errors"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

// guest writes a hundred times a second. Each write takes a millisecond, and the longer the faster it is read from.
type guest struct {
	mu     sync.Mutex
	writes int64
	took   time.Duration
	read   int // bytes in this hundredth of a second
	felt   []time.Duration
	deaf   bool
}

// costPerMiB is what a MiB that is read in a hundredth of a second adds to a write.
const costPerMiB = 4 * time.Millisecond

func (g *guest) live(ctx context.Context) {
	for ctx.Err() == nil {
		time.Sleep(10 * time.Millisecond)
		g.mu.Lock()
		each := time.Millisecond + time.Duration(float64(costPerMiB)*float64(g.read)/(1<<20))
		g.read = 0
		g.writes++
		g.took += each
		g.felt = append(g.felt, each)
		g.mu.Unlock()
	}
}

func (g *guest) feel(context.Context) (int64, time.Duration, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.deaf {
		return 0, 0, errors.New("the guest does not say")
	}
	return g.writes, g.took, nil
}

// mean is how long the last n writes took.
func (g *guest) mean(n int) (d time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, f := range g.felt[len(g.felt)-n:] {
		d += f / time.Duration(n)
	}
	return d
}

// Reading finds the pace at which the guest's writes take as long as is bearable, and no less; when the guest gets quiet it is read faster
// and faster, and one that does not say how it feels is read at the pace that was.
func TestGentle(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		g := &guest{}
		writing, quiet := context.WithCancel(ctx)
		go g.live(writing)
		pace, err := NewGentle(ctx, g.feel)
		require.NoError(t, err)
		failures := make(chan error, 9)
		go pace.Follow(ctx, func(err error) { failures <- err })
		read := func(d time.Duration) (rate float64) {
			bytes, begun := 0, time.Now()
			for time.Since(begun) < d {
				require.NoError(t, pace.Wait(ctx, 64<<10))
				g.mu.Lock()
				g.read += 64 << 10
				g.mu.Unlock()
				bytes += 64 << 10
			}
			return float64(bytes) / time.Since(begun).Seconds() / (1 << 20)
		}
		// 2 ms are bearable; that is a quarter of a MiB in a hundredth of a second.
		rate := read(time.Minute)
		require.InDelta(t, 25, rate, 8)
		require.InDelta(t, 2, g.mean(1000).Seconds()*1000, 1)
		usual, worst, held := pace.Felt()
		require.InDelta(t, 1, usual.Seconds()*1000, 0.1)
		require.Less(t, worst, 6*time.Millisecond)
		require.Greater(t, held, 30*time.Second)

		g.mu.Lock()
		g.deaf = true
		g.mu.Unlock()
		require.InDelta(t, rate, read(20*time.Second), 10)
		require.ErrorContains(t, <-failures, "does not say")
		require.Empty(t, failures, "it is told once")

		g.mu.Lock()
		g.deaf = false
		g.mu.Unlock()
		quiet()
		read(10 * time.Second)
		require.Greater(t, read(time.Second), 1000.0)

		// Who is always slow is read slowly, and yet read.
		slow := &guest{}
		pace, err = NewGentle(ctx, slow.feel)
		require.NoError(t, err)
		for range 20 {
			pace.adapt(time.Second, true)
		}
		require.EqualValues(t, gentleLeast, pace.limit.Limit())
		pace.adapt(0, false)
		require.EqualValues(t, gentleLeast, pace.limit.Limit(), "nobody waited: a higher pace would change nothing")
	})
}

func TestBoth(t *testing.T) {
	var calls []int
	w := func(id int, err error) Wait {
		return func(context.Context, int) error { calls = append(calls, id); return err }
	}
	require.Nil(t, Both(nil, nil))
	require.NoError(t, Both(w(1, nil), nil)(t.Context(), 9))
	require.NoError(t, Both(nil, w(2, nil))(t.Context(), 9))
	require.NoError(t, Both(w(3, nil), w(4, nil))(t.Context(), 9))
	require.Error(t, Both(w(5, errors.New("called off")), w(6, nil))(t.Context(), 9))
	require.Equal(t, []int{1, 2, 3, 4, 5}, calls)
}
