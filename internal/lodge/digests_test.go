package lodge_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store/medium/dir"
)

// A disk whose hypervisor keeps no list of what changes has incremental images all the same, by its digests, in both layouts; where these are lost
// or damaged the next image is full, and says why.
func TestDisksThatForget(t *testing.T) {
	for _, layout := range []site.Layout{site.Pooled, site.Open} {
		t.Run(string(layout), func(t *testing.T) {
			b := newBenchWith(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "gate-shelf", Cycle: "full every 9th", Rotation: "newest 9"}}, func(s *site.Site) {
				s.Stores["gate-shelf"] = site.Store{Medium: "dir", Layout: layout, Settings: &dir.Settings{Folder: t.TempDir()}}
			})
			b.host.Change("timetable", func(g *sourcetest.Guest) { g.Forgetful = true })
			take := func() records.Image {
				r := b.run("nightly-guests")
				require.Equal(t, run.Done, r.State, b.lines(r.ID))
				m, err := b.rec.Image(t.Context(), r.Tasks[0].Image)
				require.NoError(t, err)
				st, err := b.l.Stores.Open(t.Context(), b.site, "gate-shelf")
				require.NoError(t, err)
				manifest, err := st.ReadImage(t.Context(), m.ID)
				require.NoError(t, err)
				d, err := st.OpenDisk(t.Context(), manifest, manifest.Disks[0])
				require.NoError(t, err)
				defer d.Close()
				got := make([]byte, d.Size())
				_, err = d.ReadAt(got, 0)
				require.NoError(t, err)
				require.True(t, slices.Equal(b.host.Look("timetable").Disks["vda"], got), "%s image %s is the disk", m.Capture, m.ID)
				return m
			}
			first := take()
			require.Equal(t, image.Full, first.Capture)
			b.host.Write("timetable", "vda", 1<<20, []byte("the last ferry leaves at nine"))
			second := take()
			require.Equal(t, []string{string(image.Incremental), first.ID}, []string{string(second.Capture), second.Since}, second.CaptureWhy)
			require.LessOrEqual(t, second.Read, int64(3<<16), "what changed, and not the disk")
			require.Equal(t, image.Incremental, take().Capture)

			// Digests are of one image of the set, and of its full one.
			kept, err := filepath.Glob(filepath.Join(filepath.Dir(t.TempDir()), "*", "digests", "*"))
			require.NoError(t, err)
			require.Len(t, kept, 2)
			require.Contains(t, kept[0]+kept[1], first.ID+"-vda")
			for _, spoil := range []func(string){
				func(name string) { require.NoError(t, os.Truncate(name, 50)) },
				func(name string) { require.NoError(t, os.Remove(name)) },
			} {
				for _, name := range kept {
					spoil(name)
				}
				whole := take()
				require.Equal(t, image.Full, whole.Capture)
				require.Contains(t, whole.CaptureWhy, "a disk of this kind can carry no checkpoint, and its digests as of image ")
				require.Equal(t, image.Incremental, take().Capture)
				kept, err = filepath.Glob(filepath.Join(filepath.Dir(t.TempDir()), "*", "digests", "*"))
				require.NoError(t, err)
			}
		})
	}
}
