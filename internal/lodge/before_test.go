package lodge_test

import (
	"bytes"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source/sourcetest"
	_ "keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/stores"
)

// A database from before machines had an identity of their own (testdata/before; a full and an incremental image of two guests, made by the
// program of that time) opens, with its machines, images, proofs and pins. Its store, of a format that was never released, is refused by a
// clear word and not touched; in a new one the policy goes on.
func TestWhatWasBeforeGoesOn(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	shelf := filepath.Join(t.TempDir(), "shelf")
	require.NoError(t, os.CopyFS(shelf, os.DirFS("testdata/before/shelf")))
	require.NoError(t, os.Chmod(shelf, 0o700))
	dump, err := os.ReadFile("testdata/before/database.sql")
	require.NoError(t, err)
	address := recordstest.Restored(t, strings.NewReplacer("/var/tmp/seedold/oldshelf", shelf,
		"'2026-11-26 23:00:00+00'", time.Now().Add(24*time.Hour).Format("'2006-01-02 15:04:05Z07:00'")).Replace(string(dump))) // its next moment is to come, whenever this runs
	b := &bench{t: t, host: sourcetest.Named(t.Name()), log: &lockedBuffer{}}
	b.rec, err = records.Open(ctx, address)
	require.NoError(t, err)
	t.Cleanup(b.rec.Close)
	b.l, _ = lodgetest.Serve(t, b.rec, b.log)

	tokens, err := b.rec.Tokens(ctx)
	require.NoError(t, err)
	require.Len(t, tokens, 1)
	require.Equal(t, []right.Grant{{Role: right.Administrator}}, tokens[0].Grants, "it could do everything, and can until it ends")
	require.True(t, tokens[0].Live && tokens[0].Expires.Before(time.Now().Add(91*24*time.Hour)))
	known, err := b.rec.Machines(ctx)
	require.NoError(t, err)
	require.Len(t, known, 2)
	for _, m := range known {
		require.Regexp(t, `^[0-9a-f]{32}$`, m.ID, "its UUID is its identity")
		images := b.images(m.ID)
		require.Len(t, images, 2)
		require.Equal(t, []image.Capture{image.Incremental, image.Full}, captures(images))
		if m.Name == "timetable" {
			require.Equal(t, image.ByRead, images[0].Proven)
			require.True(t, images[0].Pinned)
		}
		lodgetest.AddGuest(b.host, m.Name, m.ID, nil, 8)
	}
	listed, err := b.l.Stores.All(ctx)
	require.NoError(t, err)
	require.Contains(t, listed[0].Error, "format 2 of a pooled store: no released keenlodge wrote it, and this one does not read it; make a new store")
	b.site, err = b.rec.Site(ctx)
	require.NoError(t, err)
	b.site.Hypervisors, b.site.Policies = maps.Clone(b.site.Hypervisors), maps.Clone(b.site.Policies) // it is shared
	b.site.Hypervisors["quay-1"] = site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name()}
	_, err = b.l.Apply(ctx, b.site, false)
	require.ErrorIs(t, err, fault.ErrInvalid)
	_, err = b.l.Stores.Check(ctx, "operator", stores.CheckRequest{Store: "quay-shelf", Repair: true})
	require.Error(t, err, "what is not known is not mended")

	p := b.site.Policies["nightly-guests"]
	p.Store = "new-shelf"
	b.site.Policies["nightly-guests"] = p
	b.site.Stores = map[string]site.Store{"new-shelf": {Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name()}}}
	b.apply()
	for _, capture := range []image.Capture{image.Full, image.Incremental} {
		r := b.run("nightly-guests")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
		for _, m := range known {
			newest := b.images(m.ID)[0]
			require.Equal(t, capture, newest.Capture)
			require.True(t, bytes.Equal(b.host.Look(m.Name).Disks["vda"], b.content(newest.ID, "vda")))
		}
	}
	err = filepath.WalkDir("testdata/before/shelf", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		want, err := os.ReadFile(path)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(shelf, strings.TrimPrefix(path, "testdata/before/shelf")))
		require.NoError(t, err, "the old store stays as it was")
		require.True(t, bytes.Equal(want, got))
		return nil
	})
	require.NoError(t, err)
}
