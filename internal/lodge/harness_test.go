package lodge_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/standin/standintest"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/watchdog"
)

// The program runs itself as a freeze's watchdog, and so does this one, which is a stand-in, too, where that is wanted.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == watchdog.Command {
		if err := watchdog.Thaw(context.Background(), os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	standintest.Main()
	chunk.PassphraseWork = 5 // a strong one takes a second each time
	recordstest.Main(m)
}

// bench is a lodge with a fake hypervisor and a store in memory, all of its own.
type bench struct {
	t    *testing.T
	rec  *records.Records
	l    *lodge.Lodge
	host *sourcetest.Host
	site site.Site
	stop func()
	log  *lockedBuffer
}

type lockedBuffer struct {
	mu sync.Mutex
	bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.Buffer.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.Buffer.String()
}

// newBench makes a lodge whose site has hypervisor quay-1 with guests tickets-db (two disks) and timetable, store quay-shelf, and the
// policies that are given. It serves until the test ends.
func newBench(t *testing.T, policies map[string]site.Policy) *bench {
	t.Helper()
	return newBenchWith(t, policies, func(*site.Site) {})
}

// newBenchWith is newBench with a site that was changed before it is applied.
func newBenchWith(t *testing.T, policies map[string]site.Policy, change func(*site.Site)) *bench {
	t.Helper()
	b := &bench{t: t, rec: recordstest.Open(t), host: lodgetest.Guests(t), log: &lockedBuffer{}, site: lodgetest.Site(t, policies)}
	change(&b.site)
	b.start()
	b.apply()
	return b
}

func (b *bench) guest(name, uuid string, tags map[string]string, sizes ...int) {
	lodgetest.AddGuest(b.host, name, uuid, tags, sizes...)
}

// start makes the lodge's process and serves.
func (b *bench) start() {
	b.t.Helper()
	b.l, b.stop = lodgetest.Serve(b.t, b.rec, b.log)
}

func (b *bench) apply() {
	b.t.Helper()
	_, err := b.l.Apply(b.t.Context(), b.site, false)
	require.NoError(b.t, err)
}

// run runs a policy by hand and waits for its end.
func (b *bench) run(policy string) records.Run {
	b.t.Helper()
	r, err := b.l.RunPolicy(b.t.Context(), policy, "operator", "")
	require.NoError(b.t, err)
	return b.await(r.ID)
}

// await waits for a run's end.
func (b *bench) await(id string) (r records.Run) {
	b.t.Helper()
	b.until(func() bool {
		var err error
		r, err = b.rec.Run(b.t.Context(), id)
		require.NoError(b.t, err)
		return r.Over()
	}, "the end of run "+id)
	return r
}

// until waits until something is so.
func (b *bench) until(so func() bool, what string) {
	b.t.Helper()
	end := time.Now().Add(30 * time.Second)
	for !so() {
		require.True(b.t, time.Now().Before(end), "%s does not come; the service's log:\n%s", what, b.log)
		time.Sleep(10 * time.Millisecond)
	}
}

// newest waits for a policy's newest run that is over.
func (b *bench) newest(policy string) (r records.Run) {
	b.t.Helper()
	b.until(func() bool {
		runs, err := b.rec.Runs(b.t.Context(), records.RunFilter{Policy: policy, Page: listing.Page{Limit: 1}})
		require.NoError(b.t, err)
		if len(runs) == 0 || !runs[0].Over() {
			return false
		}
		r = runs[0]
		return true
	}, "a run of "+policy)
	return r
}

// images lists a machine's images that are there, newest first.
func (b *bench) images(machineID string) []records.Image {
	b.t.Helper()
	images, err := b.rec.Images(b.t.Context(), records.ImageFilter{MachineID: machineID})
	require.NoError(b.t, err)
	return images
}

// content reads a disk of an image back.
func (b *bench) content(id, target string) disk.Memory {
	b.t.Helper()
	_, st, err := b.l.Stores.OfImage(b.t.Context(), id)
	require.NoError(b.t, err)
	m, err := st.ReadImage(b.t.Context(), id)
	require.NoError(b.t, err)
	for _, d := range m.Disks {
		if d.Target == target {
			opened, err := st.OpenDisk(b.t.Context(), m, d)
			require.NoError(b.t, err)
			defer opened.Close()
			out := make(disk.Memory, d.Size)
			n, err := opened.ReadAt(out, 0)
			require.True(b.t, n == len(out) && (err == nil || err == io.EOF), "%d %v", n, err)
			return out
		}
	}
	b.t.Fatalf("image %s has no disk %s", id, target)
	return nil
}

// lines is a run's log as one text, each line with its kind.
func (b *bench) lines(id string) string { return recordstest.RunLog(b.t, b.rec, id) }

// clean makes sure that nothing is left on a guest but at most so many checkpoints.
func (b *bench) clean(guest string, checkpoints int) {
	b.t.Helper()
	g := b.host.Look(guest)
	require.False(b.t, g.Frozen, "%s is frozen", guest)
	require.Empty(b.t, g.Job, "a capture is open on %s", guest)
	require.LessOrEqual(b.t, len(g.Checkpoints), checkpoints)
}

// shelf is what the store keeps.
func (b *bench) shelf() *mediumtest.Memory { return memory.Shelf(b.t.Name()) }

const mib = 1 << 20

// everything covers all machines by full images.
func everything(rotation string) site.Policy {
	return site.Policy{Machines: []string{"*"}, Store: "quay-shelf", Rotation: rotation}
}

// growing covers one machine by incremental ones between full ones.
func growing(machine, rotation string) site.Policy {
	return site.Policy{Machines: []string{machine}, Store: "quay-shelf", Rotation: rotation, Cycle: "full every 7th"}
}

func script(t *testing.T, body string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "hook")
	require.NoError(t, os.WriteFile(file, []byte("#!/bin/sh\n"+body), 0o700))
	return file
}

func captures(images []records.Image) (out []image.Capture) {
	for _, m := range images {
		out = append(out, m.Capture)
	}
	return out
}
