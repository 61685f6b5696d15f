// Package lodgetest gives tests of every face a whole lodge that needs no root: real records, a fake hypervisor, a store in memory.
package lodgetest

import (
	"context"
	"io"
	"log/slog"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/access"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge"
	"keenlodge/internal/reader"
	"keenlodge/internal/records"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store/medium/memory"
)

const mib = 1 << 20

// Site is the site of a test: hypervisor quay-1, which is the fake host of the test's name, store quay-shelf in memory, and policies.
func Site(t testing.TB, policies map[string]site.Policy) site.Site {
	return site.Site{Zone: "Europe/Lisbon", Hypervisors: map[string]site.Hypervisor{"quay-1": {Kind: sourcetest.Kind, URI: t.Name()}},
		Stores:   map[string]site.Store{"quay-shelf": {Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name()}}},
		Policies: policies}
}

// Guests fills the test's host: tickets-db with two disks, timetable with one.
func Guests(t testing.TB) *sourcetest.Host {
	host := sourcetest.Named(t.Name())
	AddGuest(host, "tickets-db", "u-tickets", map[string]string{"role": "database"}, 4, 2)
	AddGuest(host, "timetable", "u-timetable", map[string]string{"role": "web"}, 3)
	return host
}

// AddGuest adds a guest with disks of so many MiB, half of them data that is the same in each run of a test.
func AddGuest(host *sourcetest.Host, name, uuid string, tags map[string]string, sizes ...int) {
	disks := map[string]disk.Memory{}
	rng := rand.New(rand.NewPCG(uint64(len(name)), uint64(len(uuid))))
	for i, n := range sizes {
		m := make(disk.Memory, n*mib)
		for at := range len(m) / 2 {
			m[at] = byte(rng.Uint32())
		}
		disks["vd"+string(rune('a'+i))] = m
	}
	host.Add(name, uuid, tags, disks)
}

// Serve makes a lodge over records and has it serve until stop is called or the test ends.
func Serve(t testing.TB, rec *records.Records, log io.Writer) (l *lodge.Lodge, stop func()) {
	t.Helper()
	return start(t, rec, log, t.TempDir(), nil)
}

// ServeUntilKilled is Serve, with what it keeps beside its records in a folder, for a process that dies once killed is closed, perhaps before
// it serves: how it ended is nobody's business.
func ServeUntilKilled(t testing.TB, rec *records.Records, log io.Writer, state string, killed <-chan struct{}) (l *lodge.Lodge, stop func()) {
	t.Helper()
	return start(t, rec, log, state, killed)
}

func start(t testing.TB, rec *records.Records, log io.Writer, state string, killed <-chan struct{}) (l *lodge.Lodge, stop func()) {
	t.Helper()
	l, err := lodge.New(lodge.Config{Records: rec, State: state, Names: []string{"127.0.0.1"}, Log: slog.New(slog.NewTextHandler(log, nil))})
	require.NoError(t, err)
	l.Stores.Reader = func(context.Context, []reader.Disk, bool) (*reader.Guest, error) {
		return nil, reader.ErrUnfit
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, done := make(chan struct{}), make(chan error, 1)
	go func() { done <- l.Serve(ctx, func() { close(ready) }) }()
	select {
	case <-ready:
	case err := <-done:
		cancel()
		if killed == nil {
			t.Fatalf("the lodge did not start: %v", err)
		}
		done <- err
	case <-killed:
	}
	var once sync.Once
	stop = func() {
		once.Do(func() {
			cancel()
			if err := <-done; killed == nil {
				require.NoError(t, err)
			}
		})
	}
	t.Cleanup(stop)
	return l, stop
}

// Token makes a token for roles, phrases as people write them, and returns what it opens doors with.
func Token(t testing.TB, l *lodge.Lodge, name string, roles ...string) string {
	t.Helper()
	grants, err := right.ParseGrants(roles)
	require.NoError(t, err)
	_, secret, err := l.Access.NewToken(t.Context(), "the test", name, grants, access.TokenTime)
	require.NoError(t, err)
	return secret
}
