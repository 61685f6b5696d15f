// Package storestest gives tests of the rooms above stores what they stand on: an engine of runs, and a store in memory.
package storestest

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/runs"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
	"keenlodge/internal/vault"
)

// New makes the stores of a lodge whose runs are not carried out, with a store in memory that a site may call quay-shelf.
func New(t testing.TB, rec *records.Records) (ss *stores.Stores, e *runs.Engine, shelf site.Store) {
	t.Helper()
	quiet := recordstest.Quiet(t)
	v, err := vault.Open(rec, filepath.Join(t.TempDir(), "lodge-key"))
	require.NoError(t, err)
	e, err = runs.New(rec, quiet)
	require.NoError(t, err)
	ss = stores.New(rec, quiet, v, &throttle.Throttle{}, e, t.TempDir(), "test")
	shelf = site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name()}}
	_, err = ss.Ready(t.Context(), site.Site{Stores: map[string]site.Store{"quay-shelf": shelf}}, "quay-shelf", nil, false)
	require.NoError(t, err)
	return ss, e, shelf
}
