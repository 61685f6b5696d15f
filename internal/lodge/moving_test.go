package lodge_test

import (
	"crypto/rand"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/moving"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/wire"
)

// A store moves while it is written to, swept and read: every image is at the new place, what comes meanwhile too, and a move that died goes on.
func TestAStoreThatMoves(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	moving.FreeEvery = 100 * time.Millisecond
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3"), "other": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 1"}})
	old := memory.Shelf(b.site.Stores["quay-shelf"].Settings.(*memory.Settings).Shelf)
	place := memory.Shelf(t.Name() + "-new")
	to := wire.Move{Spec: site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + "-new"}}}
	change := func() {
		noise := make([]byte, 512<<10)
		rand.Read(noise)
		b.host.Write("timetable", "vda", 0, noise)
	}
	for range 4 {
		change()
		require.EqualValues(t, run.Done, b.run("nightly-guests").State)
	}

	for want, wrong := range map[string]func(*wire.Move){
		"lies there already":             func(m *wire.Move) { m.Spec.Settings = b.site.Stores["quay-shelf"].Settings },
		"is no length":                   func(m *wire.Move) { m.Bandwidth = "fast" },
		"is not empty":                   func(m *wire.Move) { place.Poke("letter", []byte("dear")) },
		"medium \"memroy\" is not known": func(m *wire.Move) { m.Spec.Medium = "memroy" },
	} {
		bad := to
		wrong(&bad)
		_, err := b.l.Moving.Start(ctx, "operator", "quay-shelf", bad)
		require.ErrorContains(t, err, want)
		place.Poke("letter", nil)
	}

	// The line to the new place breaks in the middle, for good; the next move goes on, and does not put again what is there.
	var mu sync.Mutex
	puts := map[string]int{}
	failing := true
	place.Around = func(call, name string, act func() error) error {
		mu.Lock()
		if call == "put" {
			puts[name]++
		}
		broken := failing && len(puts) > 6
		mu.Unlock()
		if broken {
			return fmt.Errorf("the line is cut")
		}
		return act()
	}
	r, err := b.l.Moving.Start(ctx, "operator", "quay-shelf", to)
	require.NoError(t, err)
	r = b.await(r.ID)
	require.EqualValues(t, run.Failed, r.State)
	require.Empty(t, place.Names("store.json"), "half of a store is none")
	require.EqualValues(t, run.Done, b.run("nightly-guests").State, "nothing happened to the old place")
	mu.Lock()
	failing = false
	mu.Unlock()

	// While it is moved, images come and go, and the store is swept.
	stop := make(chan struct{})
	var runs sync.WaitGroup
	runs.Go(func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			change()
			r, err := b.l.RunPolicy(ctx, []string{"nightly-guests", "other"}[n%2], "operator", "")
			if err == nil {
				r = b.await(r.ID)
				if r.State != run.Done {
					t.Errorf("run %s %s: %s", r.ID, r.State, b.lines(r.ID))
				}
			}
			if s, err := b.l.Retention.Sweep(ctx, "operator", "quay-shelf"); err == nil {
				b.await(s.ID)
			}
		}
	})
	r, err = b.l.Moving.Start(ctx, "operator", "quay-shelf", to)
	require.NoError(t, err)
	b.until(func() bool { held, err := b.rec.Using(ctx, "quay-shelf"); return err == nil && len(held) > 0 }, "that it is used")
	_, err = b.l.Moving.Start(ctx, "operator", "quay-shelf", to)
	require.ErrorIs(t, err, fault.ErrConflict)
	r = b.await(r.ID)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "the old place (memory, ")
	close(stop)
	runs.Wait()
	mu.Lock()
	for name, n := range puts {
		require.LessOrEqual(t, n, 2, "%s was put again and again", name)
	}
	mu.Unlock()

	now, err := b.rec.Site(ctx)
	require.NoError(t, err)
	require.Equal(t, "memory", now.Stores["quay-shelf"].Medium)
	require.Equal(t, t.Name()+"-new", now.Stores["quay-shelf"].Settings.(*memory.Settings).Shelf)
	before := len(old.Names(""))
	change()
	require.EqualValues(t, run.Done, b.run("nightly-guests").State)
	require.Len(t, old.Names(""), before, "nothing comes to the old place any more")
	for _, name := range old.Names("") {
		require.False(t, strings.HasPrefix(name, "visit/"), name)
	}
	require.Empty(t, place.Names("moving/"))
	for _, id := range []string{"u-timetable", "u-tickets"} {
		for _, m := range b.images(id) {
			_, st, err := b.l.Stores.OfImage(ctx, m.ID)
			require.NoError(t, err)
			manifest, err := st.ReadImage(ctx, m.ID)
			require.NoError(t, err)
			_, err = st.ReadBack(ctx, manifest, func(int64) {})
			require.NoError(t, err)
		}
	}
	report, err := b.l.Stores.Named(ctx, "quay-shelf")
	require.NoError(t, err)
	found, err := report.Check(ctx, true, func(int64) {})
	require.NoError(t, err)
	require.Empty(t, found.Problems)
}
