package throttle

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/when"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// What is beyond the burst takes its time, also where it is more than the burst at once; no limit takes none.
func TestBytesTakeTheirTime(t *testing.T) {
	ctx := t.Context()
	require.Nil(t, Steady(0))
	require.Nil(t, Steady(-1))
	began := time.Now()
	wait := Steady(1000)
	require.NoError(t, wait(ctx, 1000), "the first burst")
	require.NoError(t, wait(ctx, 250))
	require.GreaterOrEqual(t, time.Since(began), 240*time.Millisecond)
	began = time.Now()
	require.NoError(t, Steady(1000)(ctx, 1200), "more than fits into a burst")
	require.GreaterOrEqual(t, time.Since(began), 190*time.Millisecond)
	ending, cancel := context.WithTimeout(ctx, 10*time.Millisecond)
	defer cancel()
	require.Error(t, Steady(10)(ending, 1000), "who does not wait any more gets an error")
}

// Who shares a name shares its limit; another name, another hour, has its own.
func TestLimitsByNameAndHour(t *testing.T) {
	ctx := t.Context()
	pace := func(text ...string) when.Pace {
		p, err := when.ParsePace(text)
		require.NoError(t, err)
		return p
	}
	var th Throttle
	slow := pace("1 KiB")
	began := time.Now()
	require.NoError(t, th.Wait(ctx, "store quay-shelf", slow, time.UTC, 1024))
	require.NoError(t, th.Wait(ctx, "store annex", slow, time.UTC, 1024), "another's limit")
	require.NoError(t, th.Wait(ctx, "store quay-shelf", slow, time.UTC, 204))
	require.GreaterOrEqual(t, time.Since(began), 190*time.Millisecond)
	ending, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	require.NoError(t, th.Wait(ending, "store quay-shelf", pace(), time.UTC, 1<<40))
	require.NoError(t, th.Wait(ending, "store quay-shelf", pace("1 GiB"), time.UTC, 1<<21), "the pace of now holds, not that of then")
}

// Reading a disk and writing to a medium wait first, for as many bytes as there are; nothing passes that may not.
func TestPacedDisksAndMedia(t *testing.T) {
	var asked int
	stop := errors.New("stopped")
	wait := func(_ context.Context, n int) error {
		if asked += n; asked > 300 {
			return stop
		}
		return nil
	}
	whole := disk.Memory(make([]byte, 4096))
	require.Equal(t, whole, Disk(t.Context(), whole, nil))
	require.Nil(t, Disk(t.Context(), nil, wait))
	d := Disk(t.Context(), whole, wait)
	n, err := d.ReadAt(make([]byte, 100), 0)
	require.NoError(t, err)
	require.Equal(t, 100, n)
	require.Equal(t, 100, asked)
	m := Medium(&mediumtest.Memory{Shelf: mediumtest.NewShelf()}, wait)
	require.NoError(t, m.Put(t.Context(), "pack/1", make([]byte, 200)))
	require.Equal(t, 300, asked)
	require.ErrorIs(t, m.Put(t.Context(), "pack/2", make([]byte, 1)), stop)
	_, err = d.ReadAt(make([]byte, 100), 0)
	require.ErrorIs(t, err, stop)
	_, err = m.Stat(t.Context(), "pack/2")
	require.ErrorIs(t, err, medium.ErrNotFound)
}

// A capture stands aside while a restore needs its store, its source or its machine, for as long as any does; others go on, and so does who gives up.
func TestWhatGoesBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var th Throttle
		var said []string
		told := func(forWhat string, waited time.Duration) { said = append(said, forWhat+" "+waited.String()) }
		wait := th.Yield(told, Store("quay-shelf"), Source("pier-1"), Machine("u-7"))
		require.NoError(t, wait(t.Context(), 1))
		other := th.Urgent("restore A", Store("annex"))
		require.NoError(t, wait(t.Context(), 1))
		require.Empty(t, said)

		first := th.Urgent("restore B", Store("quay-shelf"))
		second := th.Urgent("restore C", Machine("u-7"), Store("annex"))
		passed := make(chan error, 1)
		go func() { passed <- wait(t.Context(), 1) }()
		for range 2 {
			time.Sleep(time.Minute)
			synctest.Wait()
			require.Empty(t, passed)
			first()
		}
		other()
		second()
		require.NoError(t, <-passed)
		require.Equal(t, []string{"restore B 0s", " 2m0s"}, said)
		require.NoError(t, wait(t.Context(), 1))

		defer th.Urgent("restore D", Source("pier-1"))()
		ending, cancel := context.WithTimeout(t.Context(), time.Hour)
		defer cancel()
		require.ErrorIs(t, wait(ending, 1), context.DeadlineExceeded)
	})
}
