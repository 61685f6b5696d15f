package lodge

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/site"
	"keenlodge/internal/core/when"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/store/medium"
)

// What may pass by itself is tried again; what will be so the next time is not.
func TestPassing(t *testing.T) {
	_, refused := net.Dial("tcp", "127.0.0.1:1")
	require.Error(t, refused)
	_, missing := os.Open("/nonexistent")
	for err, want := range map[error]bool{
		refused: true, fmt.Errorf("store: %w: no answer", medium.ErrUnreachable): true, fmt.Errorf("guest: %w", source.ErrBusy): true,
		fmt.Errorf("host %w", source.ErrUnreachable): true, context.DeadlineExceeded: true,
		fmt.Errorf("%w: user brindle with this key or password", medium.ErrRefused): false, medium.ErrFull: false, errNoRoom: false, missing: false,
		fmt.Errorf("%w on this hypervisor", source.ErrNoMachine): false, context.Canceled: false, errUnhealthy: false, errors.New("anything else"): false,
		errors.Join(medium.ErrUnreachable, context.Canceled): false, skipped{"standby"}: false,
	} {
		require.Equal(t, want, passing(err), "%v", err)
	}
}

// The starts of one hypervisor's machines are spread over the time, each hypervisor's by itself.
func TestSpread(t *testing.T) {
	begin := time.Date(2026, 2, 10, 23, 0, 0, 0, time.UTC)
	tasks := []records.Task{{Hypervisor: "quay-1"}, {Hypervisor: "pier-2"}, {Hypervisor: "quay-1"}, {Hypervisor: "quay-1"}}
	var after []time.Duration
	for _, at := range spread(tasks, begin, 30*time.Minute) {
		after = append(after, at.Sub(begin))
	}
	require.Equal(t, []time.Duration{0, 0, 10 * time.Minute, 20 * time.Minute}, after)
}

// A pace holds back by its bytes, and changes with the hour.
func TestPaces(t *testing.T) {
	var p paces
	pace, err := when.ParsePace([]string{"8 MiB"})
	require.NoError(t, err)
	begin := time.Now()
	for range 6 {
		require.NoError(t, p.wait(t.Context(), "store quay-shelf", pace, time.UTC, 2<<20))
	}
	require.Greater(t, time.Since(begin), 900*time.Millisecond, "12 MiB, of which 4 may come at once")
	require.NoError(t, p.wait(t.Context(), "store quay-shelf", when.Pace{}, time.UTC, 1<<40))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.Error(t, p.wait(ctx, "store quay-shelf", pace, time.UTC, 1<<30))
}

// What becomes of a due policy: a run that bears what its strongest schedule says, or a record of why not.
func TestDecide(t *testing.T) {
	at := time.Date(2026, 2, 15, 23, 0, 0, 0, time.UTC) // a Sunday
	spec := site.Policy{Schedules: []site.Schedule{{When: "every day at 23:00", Note: "night"}, {When: "every sun at 23:00", Capture: "full", Disks: []string{"vda"}}}}
	f := decide(time.UTC, spec, records.Due{Policy: "nightly-guests", At: at}, at.Add(time.Second))
	require.Equal(t, "queued", f.Run.State)
	require.Equal(t, "night", f.Run.Note, "the note of the one that it stands for, too")
	request, err := request[BackupRequest](f.Run)
	require.NoError(t, err)
	require.Equal(t, BackupRequest{When: "every sun at 23:00", Capture: "full", Disks: []string{"vda"}}, request)
	require.Equal(t, at.Add(24*time.Hour), f.Next)

	// Three days of moments were missed: one run, and the next moment lies ahead.
	now := at.Add(3*24*time.Hour + time.Minute)
	f = decide(time.UTC, spec, records.Due{Policy: "nightly-guests", At: at}, now)
	require.Equal(t, "queued", f.Run.State)
	require.Contains(t, string(f.Run.Request), `"capture":"full"`, "the strongest of those that were missed")
	require.Contains(t, string(f.Run.Request), `"missed":true`)
	require.Equal(t, at.Add(4*24*time.Hour), f.Next)
	spec.Missed = "skip"
	f = decide(time.UTC, spec, records.Due{Policy: "nightly-guests", At: at}, now)
	require.Equal(t, "skipped", f.Run.State)
	require.Contains(t, f.Run.Error, "its moment was missed by 72h1m0s")
	f = decide(time.UTC, spec, records.Due{Policy: "nightly-guests", At: at, Paused: true, Pause: records.Pause{Why: "harbour upgrade"}}, at)
	require.Equal(t, "the policy is paused: harbour upgrade", f.Run.Error)
}
