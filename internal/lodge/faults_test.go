package lodge_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/restore"
	"keenlodge/internal/runs"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/stores"
)

// campaign is a lodge that is killed again and again, at a call to its store or its hypervisor that is drawn, before it or after it: from then
// on none of that process's calls has an effect, and its database does not hear of it any more.
type campaign struct {
	*bench
	rng  *rand.Rand
	url  string
	line *mediumtest.Line
	// images are those that were usable at some time and were not dropped, with what they hold.
	images map[string]map[string]disk.Memory

	mu    sync.Mutex
	until int // calls until it dies; negative is never
	dead  bool
	died  chan struct{}
	last  time.Time
	at    string // the call at which it died
}

var errCut = errors.New("the process was killed")

// step is asked before each call: it fails once the process is dead.
func (c *campaign) step(call string, act func() error) error {
	c.mu.Lock()
	c.last = time.Now()
	if c.dead {
		c.mu.Unlock()
		return errCut
	}
	c.until--
	dies := c.until == 0
	after := dies && c.rng.IntN(2) == 0
	if dies {
		c.dead, c.at = true, call
		c.line.Down(true)
		close(c.died)
	}
	c.mu.Unlock()
	if !dies {
		return act()
	}
	if after {
		act()
	}
	return errCut
}

func (c *campaign) begin(until int) {
	c.mu.Lock()
	c.until, c.dead, c.at, c.died = until, false, "", make(chan struct{})
	died := c.died
	c.mu.Unlock()
	over := recordstest.Over(c.t, c.url, func(socket string) int {
		c.line = mediumtest.NewLine(c.t, socket)
		return c.line.Port()
	})
	serving, err := records.Open(c.t.Context(), over)
	require.NoError(c.t, err)
	c.t.Cleanup(serving.Close)
	c.l, c.stop = lodgetest.ServeUntilKilled(c.t, serving, c.log, died)
}

// end kills what is left of the process, and waits until all of it is gone.
func (c *campaign) end() {
	c.mu.Lock()
	c.dead = true
	c.mu.Unlock()
	c.line.Down(true)
	c.stop()
	require.Eventually(c.t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return time.Since(c.last) > 150*time.Millisecond
	}, 20*time.Second, 20*time.Millisecond)
}

// job starts something and waits until it has ended, or the process is dead.
func (c *campaign) job() {
	ctx := records.Within(c.t.Context(), 0)
	var r records.Run
	var err error
	any := func() string {
		for id := range c.images {
			return id
		}
		return ""
	}
	switch n := c.rng.IntN(8); {
	case n < 4:
		c.host.Write("timetable", "vda", int64(c.rng.IntN(40))<<16, []byte(fmt.Sprint("tide ", c.rng.Uint64())))
		r, err = c.l.RunPolicy(ctx, "nightly-guests", "operator", "")
	case n == 4:
		r, err = c.l.Retention.Sweep(ctx, "operator", "quay-shelf")
	case n == 5 && any() != "":
		r, err = c.l.Proofs.Start(ctx, "operator", proof.Request{Image: any(), Level: image.ByRead})
	case n == 6 && any() != "":
		r, err = c.l.Restores.Start(ctx, "operator", restore.Request{Image: any(), As: fmt.Sprint("again-", c.rng.Uint32())})
	default:
		r, err = c.l.Stores.Check(ctx, "operator", stores.CheckRequest{Store: "quay-shelf", Read: true})
	}
	if err != nil {
		return // it was dead already, or has nothing to do
	}
	c.wait(func() bool {
		c.mu.Lock()
		dead := c.dead
		c.mu.Unlock()
		now, err := c.rec.Run(ctx, r.ID)
		return dead || err == nil && now.Over()
	}, "the end of "+r.ID)
}

func (c *campaign) wait(so func() bool, what string) {
	c.t.Helper()
	end := time.Now().Add(60 * time.Second)
	for !so() {
		require.True(c.t, time.Now().Before(end), "%s does not come; killed at %s; the service's log:\n%s", what, c.at, c.log)
		time.Sleep(3 * time.Millisecond)
	}
}

// verify begins a process that nobody kills, and looks that nothing is lost and nothing is left behind.
func (c *campaign) verify(seed uint64) {
	ctx := c.t.Context()
	at := c.at
	c.begin(-1)
	c.wait(func() bool {
		orphans, err := c.rec.Orphans(ctx)
		require.NoError(c.t, err)
		for _, name := range []string{"tickets-db", "timetable"} {
			if g := c.host.Look(name); g.Frozen || g.Job != "" {
				return false
			}
		}
		return len(orphans) == 0
	}, "all to be cleared")
	listed, err := c.rec.Images(ctx, records.ImageFilter{})
	require.NoError(c.t, err)
	var there []string
	for _, m := range listed {
		there = append(there, m.ID)
		require.NotEqual(c.t, image.Broken, m.State, "seed %d: killed at %s", seed, at)
		require.NotEqual(c.t, image.Doubtful, m.State, "seed %d: killed at %s: image %s\n%s", seed, at, m.ID, c.log)
	}
	for id, disks := range c.images {
		if !slices.Contains(there, id) {
			delete(c.images, id) // rotation has dropped it
			continue
		}
		for target, want := range disks {
			require.True(c.t, slices.Equal(want, c.content(id, target)), "seed %d: killed at %s: image %s, disk %s", seed, at, id, target)
		}
	}
	r := c.run("nightly-guests")
	require.Contains(c.t, []run.State{run.Done, run.Warned}, r.State, "seed %d: killed at %s: the next run\n%s\n%s", seed, at, c.lines(r.ID), c.log)
	for _, task := range r.Tasks {
		disks := map[string]disk.Memory{}
		for target := range c.host.Look(task.Machine).Disks {
			disks[target] = c.content(task.Image, target)
			require.True(c.t, slices.Equal(c.host.Look(task.Machine).Disks[target], disks[target]), "seed %d: killed at %s: what was just saved", seed, at)
		}
		c.images[task.Image] = disks
	}
	report, err := c.l.Stores.Check(ctx, "operator", stores.CheckRequest{Store: "quay-shelf", Read: true})
	require.NoError(c.t, err)
	require.EqualValues(c.t, run.Done, c.await(report.ID).State, "seed %d: killed at %s: %s", seed, at, c.lines(report.ID))
	for _, name := range []string{"tickets-db", "timetable"} {
		c.clean(name, 2)
		require.Equal(c.t, machine.Running, c.host.Look(name).State)
	}
	c.end()
}

// A lodge that is killed at any call to its store or its hypervisor loses no image, leaves no guest frozen and no capture open, and its next run
// succeeds. KEENLODGE_CUTS=N tries so many, from KEENLODGE_SEED on.
func TestKilledAnywhere(t *testing.T) {
	cuts, seed := 12, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("KEENLODGE_CUTS")); err == nil {
		cuts = n
	}
	if n, err := strconv.ParseUint(os.Getenv("KEENLODGE_SEED"), 10, 64); err == nil {
		seed = n
	}
	defer func(was time.Duration) { runs.StopTime = was }(runs.StopTime)
	runs.StopTime = 50 * time.Millisecond
	died := map[string]int{}
	c := &campaign{bench: &bench{t: t, host: lodgetest.Guests(t), log: &lockedBuffer{}}, rng: rand.New(rand.NewPCG(seed, 13)), images: map[string]map[string]disk.Memory{}}
	c.site = lodgetest.Site(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"tickets-db", "timetable"}, Store: "quay-shelf", Rotation: "newest 2", Cycle: "full every 4th"}})
	c.url = recordstest.URL(t)
	var err error
	c.rec, err = records.Open(t.Context(), c.url)
	require.NoError(t, err)
	t.Cleanup(c.rec.Close)
	c.shelf().Around = func(call, name string, act func() error) error { return c.step(call+" "+name, act) }
	c.host.SetFault(func(call, guest string) error { return c.step(call+" of "+guest, func() error { return nil }) })
	c.begin(-1)
	c.apply()
	c.run("nightly-guests")
	c.end()
	for n := range cuts {
		c.log.Reset()
		c.begin(1 + c.rng.IntN(120))
		for range 3 {
			c.job()
		}
		c.end()
		if c.at != "" {
			died[c.at[:4]]++
		}
		c.verify(seed + uint64(n))
	}
	t.Logf("%d cuts from seed %d: killed at %v; %d images read back", cuts, seed, died, len(c.images))
	require.NotEmpty(t, died)
}
