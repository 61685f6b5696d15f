package stores_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/s3"
	"keenlodge/internal/stores"
	"keenlodge/internal/stores/storestest"
	"keenlodge/internal/wire"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// roomy is a store, and its medium, of which only the room is asked.
type roomy struct {
	store.Store
	room medium.Room
}

func (r roomy) Medium() medium.Medium { return place{room: r.room} }

type place struct {
	medium.Medium
	room medium.Room
}

func (p place) Room(context.Context) (medium.Room, error) { return p.room, nil }

// What a store lacks is told in bytes: to its floor and for what comes, and where inodes are missing, as the packs that have them.
func TestLacks(t *testing.T) {
	const gib = 1 << 30
	for name, c := range map[string]struct {
		spec site.Store
		room medium.Room
		more int64
		want int64
	}{
		"no floor":              {site.Store{}, medium.Room{FreeBytes: 0, FreeInodes: 0, TotalInodes: 9}, gib, 0},
		"enough":                {site.Store{Floor: "2 GiB"}, medium.Room{FreeBytes: 3 * gib, FreeInodes: -1}, gib, 0},
		"bytes":                 {site.Store{Floor: "2 GiB"}, medium.Room{FreeBytes: 3 * gib, FreeInodes: -1}, 4 * gib, 3 * gib},
		"inodes only":           {site.Store{FloorInodes: 100}, medium.Room{FreeBytes: 3 * gib, FreeInodes: 90, TotalInodes: 1000}, 0, 10 * stores.PackBytes},
		"the worse of both":     {site.Store{Floor: "2 GiB", FloorInodes: 100}, medium.Room{FreeBytes: gib, FreeInodes: 99, TotalInodes: 1000}, 0, gib},
		"no inodes on that":     {site.Store{FloorInodes: 100}, medium.Room{FreeBytes: gib, FreeInodes: 0, TotalInodes: 0}, 0, 0},
		"inodes that none told": {site.Store{FloorInodes: 100}, medium.Room{FreeBytes: gib, FreeInodes: -1, TotalInodes: 100}, 0, 0},
		"bytes that none told":  {site.Store{Floor: "2 GiB"}, medium.Room{FreeBytes: -1, FreeInodes: -1}, gib, 0},
	} {
		got, err := stores.Lacks(t.Context(), c.spec, roomy{room: c.room}, c.more)
		require.NoError(t, err)
		require.Equal(t, c.want, got, name)
	}
}

// New secrets are tried at once: the store is opened anew with them. A list of stores says what is wrong with one, and what its place has.
func TestASecretOpensAnew(t *testing.T) {
	ctx := t.Context()
	rec := recordstest.Open(t)
	ss, _, shelf := storestest.New(t, rec)
	require.NoError(t, rec.SaveSite(ctx, site.Site{Zone: "Europe/Lisbon", Stores: map[string]site.Store{"quay-shelf": shelf}}, nil, nil))
	first, err := ss.Named(ctx, "quay-shelf")
	require.NoError(t, err)
	same, err := ss.Named(ctx, "quay-shelf")
	require.NoError(t, err)
	require.Same(t, first, same)
	require.ErrorIs(t, ss.SetCredentials(ctx, "quay-shelf", wire.Credentials{"pasword": "x"}), fault.ErrInvalid)
	require.ErrorIs(t, ss.SetCredentials(ctx, "quay-shelf", nil), fault.ErrInvalid)
	require.NoError(t, ss.SetCredentials(ctx, "quay-shelf", wire.Credentials{"access_key": "crane", "secret_key": "x"}))
	anew, err := ss.Named(ctx, "quay-shelf")
	require.NoError(t, err)
	require.NotSame(t, first, anew)
	all, err := ss.All(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Empty(t, all[0].Error)
}

// What signs in to a store goes to that store's own place and to no other, whatever address is to be tried under its name.
func TestSecretsGoToTheirOwnPlace(t *testing.T) {
	ctx := t.Context()
	var mu sync.Mutex
	heard := map[string]string{}
	service := func(name string) string {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			heard[name] += r.Header.Get("Authorization")
			w.WriteHeader(http.StatusForbidden)
		}))
		t.Cleanup(server.Close)
		return server.URL
	}
	bucket := func(at string) site.Store {
		return site.Store{Medium: "s3", Layout: site.Pooled, Settings: &s3.Settings{Endpoint: at, Bucket: "images", Region: "harbour", PathStyle: true}}
	}
	own, other := service("own"), service("other")
	rec := recordstest.Open(t)
	ss, _, _ := storestest.New(t, rec)
	require.NoError(t, ss.SetCredentials(ctx, "annex", wire.Credentials{"access_key": "crane", "secret_key": "x"}))
	require.NoError(t, rec.SaveSite(ctx, site.Site{Zone: "Europe/Lisbon", Stores: map[string]site.Store{"annex": bucket(own)}}, nil, nil))
	for _, at := range []string{own, other} {
		spec := bucket(at)
		steps, err := ss.Probe(ctx, "annex", wire.ProbeRequest{Spec: &spec})
		require.NoError(t, err)
		require.NotEmpty(t, steps)
	}
	mu.Lock()
	defer mu.Unlock()
	require.Contains(t, heard["own"], "crane")
	require.NotContains(t, heard["other"], "crane")
	mu.Unlock()

	// Nor may whoever changes the entry: what is kept is bound to the account that it was given for.
	require.NoError(t, ss.SetCredentials(ctx, "annex", wire.Credentials{"access_key": "crane", "secret_key": "x"}))
	require.NoError(t, rec.SaveSite(ctx, site.Site{Zone: "Europe/Lisbon", Stores: map[string]site.Store{"annex": bucket(other)}}, nil, nil))
	_, err := ss.Named(ctx, "annex")
	require.ErrorContains(t, err, "what is kept for store annex signs in to s3 "+own)
	require.ErrorContains(t, err, "keenlodge store secret annex")
	mu.Lock()
	require.NotContains(t, heard["other"], "crane")
	require.NoError(t, ss.ForgetCredentials(ctx, "annex"))
}
