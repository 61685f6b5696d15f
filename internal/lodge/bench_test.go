package lodge_test

import (
	"fmt"
	"io"
	"math/rand/v2"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store/medium/dir"
)

// BenchmarkARunOfManyMachines runs a policy once over machines that give 1 MiB each, none like another, and reports the processor time of
// this process (the fake hypervisor's included) and the statements that the database was asked, both for each machine.
func BenchmarkARunOfManyMachines(b *testing.B) {
	for _, n := range []int{200, 2000} {
		b.Run(strconv.Itoa(n), func(b *testing.B) {
			for range b.N {
				manyMachines(b, n)
			}
		})
	}
}

func manyMachines(b *testing.B, n int) {
	address := recordstest.URL(b)
	rec, err := records.Open(b.Context(), address)
	require.NoError(b, err)
	b.Cleanup(rec.Close)
	conn, err := pgx.Connect(b.Context(), address)
	require.NoError(b, err)
	defer conn.Close(b.Context())
	_, err = conn.Exec(b.Context(), "create extension pg_stat_statements")
	require.NoError(b, err)

	content := make(disk.Memory, mib+n) // a byte further each: no unit of one is a unit of another
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range content {
		content[i] = byte(rng.Uint32())
	}
	host := sourcetest.Named(b.Name())
	for i := range n {
		host.Add(fmt.Sprintf("guest-%05d", i), fmt.Sprintf("u-%05d", i), nil, map[string]disk.Memory{"vda": content[i : i+mib]})
	}
	l, stop := lodgetest.Serve(b, rec, io.Discard)
	s := lodgetest.Site(b, map[string]site.Policy{"nightly-guests": {Machines: []string{"*"}, Store: "quay-shelf", Rotation: "newest 3"}})
	s.TasksAtOnce = 64
	s.Hypervisors["quay-1"] = site.Hypervisor{Kind: sourcetest.Kind, URI: b.Name(), TasksAtOnce: 64}
	s.Stores["quay-shelf"] = site.Store{Medium: "dir", Layout: site.Pooled, TasksAtOnce: 64, Settings: &dir.Settings{Folder: b.TempDir()}}
	_, err = l.Apply(b.Context(), s, false)
	require.NoError(b, err)

	statements := func() (calls float64) {
		require.NoError(b, conn.QueryRow(b.Context(), "select sum(calls) from pg_stat_statements where dbid = (select oid from pg_database where datname = current_database())").Scan(&calls))
		return calls
	}
	processor := func() time.Duration {
		var u syscall.Rusage
		require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
		return time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	asked, worked := statements(), processor()
	r, err := l.RunPolicy(b.Context(), "nightly-guests", "operator", "")
	require.NoError(b, err)
	var state run.State
	for state = run.Queued; !state.Over(); { // looked at from outside, so that looking costs the service nothing
		time.Sleep(100 * time.Millisecond)
		require.NoError(b, conn.QueryRow(b.Context(), "select state from runs where id = $1", r.ID).Scan(&state))
	}
	require.Equal(b, run.Done, state)
	b.ReportMetric((statements()-asked)/float64(n), "statements/machine")
	b.ReportMetric((processor()-worked).Seconds()*1000/float64(n), "cpu-ms/machine")
	stop()
}
