package lodge_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source/sourcetest"
	_ "keenlodge/internal/store/medium/dir"
)

// A database and a store from before machines had an identity of their own (testdata/before; a full and an incremental image of two guests,
// made by the program of that time) open, and their sets go on incrementally.
func TestWhatWasBeforeGoesOn(t *testing.T) {
	t.Parallel()
	shelf := filepath.Join(t.TempDir(), "shelf")
	require.NoError(t, os.CopyFS(shelf, os.DirFS("testdata/before/shelf")))
	require.NoError(t, os.Chmod(shelf, 0o700))
	dump, err := os.ReadFile("testdata/before/database.sql")
	require.NoError(t, err)
	address := recordstest.Restored(t, strings.NewReplacer("/var/tmp/seedold/oldshelf", shelf).Replace(string(dump)))
	b := &bench{t: t, host: sourcetest.Named(t.Name()), log: &lockedBuffer{}}
	b.rec, err = records.Open(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(b.rec.Close)
	b.l, _ = lodgetest.Serve(t, b.rec, b.log)

	known, err := b.rec.Machines(t.Context())
	require.NoError(t, err)
	require.Len(t, known, 2)
	// The guests stand on another hypervisor now, with all that those captures left on them.
	for _, m := range known {
		require.Regexp(t, `^[0-9a-f]{32}$`, m.ID, "its UUID is its identity")
		images := b.images(m.ID)
		require.Len(t, images, 2)
		require.Equal(t, []image.Capture{image.Incremental, image.Full}, captures(images))
		b.host.Add(m.Name, m.ID, nil, map[string]disk.Memory{"vda": b.content(images[0].ID, "vda")})
		b.host.Remember(m.Name, images[0].ID)
		b.host.Write(m.Name, "vda", 5<<20, bytes.Repeat([]byte("new "), 1000))
	}
	b.site, err = b.rec.Site(t.Context())
	require.NoError(t, err)
	b.site.Hypervisors["quay-1"] = site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name()}
	b.apply()

	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	for _, m := range known {
		images := b.images(m.ID)
		require.Len(t, images, 3)
		require.Equal(t, image.Incremental, images[0].Capture, b.lines(r.ID))
		require.Less(t, images[0].Read, int64(1<<20), "only what is new is read")
		require.True(t, bytes.Equal(b.host.Look(m.Name).Disks["vda"], b.content(images[0].ID, "vda")))
		if m.Name == "timetable" {
			require.Equal(t, image.ByRead, images[1].Proven)
			require.True(t, images[1].Pinned)
		}
	}
}
