package recordstest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/records"
	"keenlodge/internal/records/inplace"
)

// Later has images in doubt have been so for as long as it takes for a second finding to count.
func Later(t testing.TB, rec *records.Records) {
	t.Helper()
	_, err := rec.Pool().Exec(t.Context(), "update images set doubted = doubted - interval '1 hour', looked = looked - interval '1 day'")
	require.NoError(t, err)
}

// Break has damage found in an image twice, at different times.
func Break(t testing.TB, rec *records.Records, id string) {
	t.Helper()
	state, err := rec.Damaged(t.Context(), id, "onelook0")
	require.NoError(t, err)
	require.Equal(t, image.Doubtful, state)
	Later(t, rec)
	state, err = rec.Damaged(t.Context(), id, "twolook0")
	require.NoError(t, err)
	require.Equal(t, image.Broken, state)
}

// MakingSnapshot records a snapshot that a run which is not known any more was taking.
func MakingSnapshot(t *testing.T, r *records.Records, machineID, hypervisor, machine string) {
	t.Helper()
	require.NoError(t, r.Snapshots.Save(t.Context(), inplace.Snapshot{ID: "abcdefghik", MachineID: machineID, Machine: machine, Hypervisor: hypervisor, Run: "nosuchrun", Taken: time.Now(), State: "making"}))
}
