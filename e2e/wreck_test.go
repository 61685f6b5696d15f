package e2e

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/wire"
)

// What is in this file comes last, by its name: afterwards libvirt finds the guests' agents again only after minutes.

// libvirt's daemon dies in the middle of a backup, and in the middle of a restore, and is started anew: nothing is left behind, and the next run
// succeeds.
func TestAHypervisorThatIsKilled(t *testing.T) {
	forFaults(t, "guests start anew")
	_, folder := freshStore(t, "weekly-system")
	r := inTheMiddle(t, "weekly-system", folder)
	require.NoError(t, place.Quay.Kill(t.Context(), time.Second))
	over := func(id string) (r wire.Run) {
		require.Eventually(t, func() bool {
			var err error
			r, err = lodge.Run(t.Context(), id)
			require.NoError(t, err)
			return r.Ended != nil
		}, 2*time.Minute, 100*time.Millisecond)
		return r
	}
	over(r.ID)
	clean := func() bool { return jobless("timetable") }
	require.Eventually(t, clean, time.Minute, 200*time.Millisecond)
	s := keen(t, "policy", "run", "weekly-system", "--wait")
	require.Contains(t, []int{0, 3}, s.code, s.out+s.err)
	require.True(t, clean())

	m := keenJSON[[]wire.Image](t, "image", "list", "--policy", "weekly-system")[0]
	q := keenJSON[wire.Run](t, "image", "restore", m.ID, "--as", "tickets-again")
	require.Eventually(t, func() bool {
		part, err := filepath.Glob(filepath.Join(place.Folder, "pool", "tickets-again-*"))
		return err == nil && len(part) > 0
	}, time.Minute, 5*time.Millisecond)
	require.NoError(t, place.Quay.Kill(t.Context(), time.Second))
	require.EqualValues(t, "failed", over(q.ID).State, keenOK(t, "run", "log", q.ID))
	require.Eventually(t, func() bool {
		left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "tickets-again-*"))
		return err == nil && len(left) == 0
	}, time.Minute, 100*time.Millisecond)
	keenOK(t, "image", "restore", m.ID, "--as", "tickets-again", "--wait")
	undefineAgain(t)
}
