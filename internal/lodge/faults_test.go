package lodge_test

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/restore"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
)

// fate is what befalls a lodge at a call that is drawn.
type fate string

const (
	// killed: from then on none of the process's calls has an effect, and its database does not hear of it any more.
	killed fate = "killed"
	// full: nothing can be written to its store any more.
	full fate = "full"
	// deserted: its hypervisor does not answer any more.
	deserted fate = "deserted"
	// unheard: its connections to the database break, at a byte that is drawn; the next ones work.
	unheard fate = "unheard"
)

// campaign is a lodge that suffers one fate after another, each at a call to its store or its hypervisor that is drawn, before it or after it.
type campaign struct {
	*bench
	rng   *rand.Rand
	url   string
	state string
	line  *mediumtest.Line
	// images are those that were usable at some time and were not dropped, with what they hold.
	images map[string]map[string]disk.Memory

	mu       sync.Mutex
	fate     fate
	changing bool // only calls that change something count
	until    int  // calls until it comes; negative is never
	came     bool
	died     chan struct{}
	going    int // calls under way
	last     time.Time
	at       string // the call at which it came
}

var errCut = errors.New("the process was killed")

// changes are the calls that change something.
var changes = []string{"put", "delete", "capture", "frozen", "close", "clear", "create disk", "define"}

// step is asked before each call: it fails once the fate has come, where that concerns it.
func (c *campaign) step(call, of string, act func() error) error {
	c.mu.Lock()
	c.last = time.Now()
	c.going++
	defer func() {
		c.mu.Lock()
		c.going--
		c.mu.Unlock()
	}()
	_, toStore := map[string]bool{"put": true, "get": true, "list": true, "stat": true, "delete": true}[call]
	concerned := c.fate == killed || c.fate == full && call == "put" || c.fate == deserted && !toStore
	if !c.came && concerned && (!c.changing || slices.Contains(changes, call)) {
		c.until--
	}
	comes := !c.came && concerned && c.until == 0
	late := comes && c.fate == killed && c.rng.IntN(2) == 0
	if comes {
		c.came, c.at = true, call+" "+of
		if c.fate == killed {
			c.line.Down(true)
			close(c.died)
		}
	}
	fails := c.came && concerned
	c.mu.Unlock()
	if !fails || late {
		err := act()
		if !fails {
			return err
		}
	}
	return map[fate]error{killed: errCut, full: medium.ErrFull, deserted: source.ErrUnreachable}[c.fate]
}

// begin begins a process, which a fate will befall after so many calls.
func (c *campaign) begin(f fate, changing bool, until int) {
	c.mu.Lock()
	c.fate, c.changing, c.until, c.came, c.at, c.died = f, changing, until, false, "", make(chan struct{})
	died := c.died
	c.mu.Unlock()
	over := recordstest.Over(c.t, c.url, func(socket string) int {
		c.line = mediumtest.NewLine(c.t, socket)
		return c.line.Port()
	})
	serving, err := records.Open(c.t.Context(), over)
	require.NoError(c.t, err)
	c.t.Cleanup(serving.Close)
	c.l, c.stop = lodgetest.ServeUntilKilled(c.t, serving, c.log, c.state, died)
	if f == unheard {
		c.line.CutAfter(int64(until) << 10)
	}
}

// end kills what is left of the process, and waits until all of it is gone.
func (c *campaign) end() {
	c.mu.Lock()
	if c.line.Cuts() > 0 {
		c.came, c.at = true, "statement"
	}
	at := c.at
	c.fate, c.came = killed, true
	c.mu.Unlock()
	c.line.Down(true)
	c.stop()
	require.Eventually(c.t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.going == 0 && time.Since(c.last) > 20*time.Millisecond
	}, 20*time.Second, 5*time.Millisecond)
	c.at = at
}

// isDead tells whether the process was killed.
func (c *campaign) isDead() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.fate == killed && c.came
}

// job starts something and waits until it has ended, or the process is dead.
func (c *campaign) job() {
	ctx := records.Within(c.t.Context(), time.Second)
	one := ""
	if ids := slices.Sorted(maps.Keys(c.images)); len(ids) > 0 {
		one = ids[c.rng.IntN(len(ids))]
	}
	var r records.Run
	var err error
	switch n := c.rng.IntN(12); {
	case n < 5:
		c.host.Write("timetable", "vda", int64(c.rng.IntN(40))<<16, []byte(fmt.Sprint("tide ", c.rng.Uint64())))
		r, err = c.l.RunPolicy(ctx, "nightly-guests", "operator", "")
	case n == 5:
		r, err = c.l.Retention.Sweep(ctx, "operator", "strongbox")
	case n == 6 && one != "":
		r, err = c.l.Proofs.Start(ctx, "operator", proof.Request{Image: one, Level: image.ByRead})
	case n == 7 && one != "":
		r, err = c.l.Restores.Start(ctx, "operator", restore.Request{Image: one, As: "timetable-again", Replace: true})
	case n == 8 && one != "":
		for _, pinned := range []bool{true, false} {
			c.l.Stores.Pin(ctx, one, pinned, "before the fair")
		}
		return
	case n == 9:
		identity, err := age.GenerateX25519Identity()
		require.NoError(c.t, err)
		if k, err := c.l.Stores.AddKey(ctx, "strongbox", store.NewKey{Recipients: []string{identity.Recipient().String()}}); err == nil {
			c.l.Stores.RemoveKey(ctx, "strongbox", k.ID)
		}
		return
	case n == 10:
		c.l.Stores.Adopt(ctx, "strongbox", true)
		return
	default:
		r, err = c.l.Stores.Check(ctx, "operator", stores.CheckRequest{Store: "strongbox", Read: true, Repair: n == 11})
	}
	if err != nil {
		return // it was dead already, or has nothing to do
	}
	c.wait(func() bool {
		now, err := c.rec.Run(c.t.Context(), r.ID)
		return c.isDead() || err == nil && now.Over()
	}, "the end of "+r.ID)
}

func (c *campaign) wait(so func() bool, what string) {
	c.t.Helper()
	end := time.Now().Add(90 * time.Second)
	for !so() {
		require.True(c.t, time.Now().Before(end), "%s does not come; %s at %s; the service's log:\n%s", what, c.fate, c.at, c.log)
		time.Sleep(3 * time.Millisecond)
	}
}

// verify begins a process that nothing befalls, and looks that nothing is lost and nothing is left behind.
func (c *campaign) verify(what string) {
	ctx := c.t.Context()
	c.begin(killed, false, -1)
	var left string
	defer func() {
		if c.t.Failed() {
			c.t.Logf("%s: left: %s", what, left)
		}
	}()
	c.wait(func() bool {
		orphans, err := c.rec.Orphans(ctx)
		require.NoError(c.t, err)
		for _, name := range []string{"tickets-db", "timetable"} {
			if g := c.host.Look(name); g.Frozen || g.Job != "" {
				return false
			}
		}
		newest, err := c.rec.Runs(ctx, records.RunFilter{Page: listing.Page{Limit: 9}})
		require.NoError(c.t, err)
		left = fmt.Sprintf("orphans %v, files %v, runs %+v", orphans, c.host.Unused(), newest)
		return len(orphans) == 0 && len(c.host.Unused()) == 0 && !slices.ContainsFunc(newest, func(r records.Run) bool { return !r.Over() }) // one may be queued whose asker never heard of it
	}, "all to be cleared")
	listed, err := c.rec.Images(ctx, records.ImageFilter{})
	require.NoError(c.t, err)
	var there []string
	for _, m := range listed {
		there = append(there, m.ID)
		require.NotContains(c.t, []image.State{image.Broken, image.Doubtful}, m.State, "%s: image %s\n%s", what, m.ID, c.log)
	}
	for id, disks := range c.images {
		if !slices.Contains(there, id) {
			delete(c.images, id) // rotation has dropped it
			continue
		}
		for target, want := range disks {
			require.True(c.t, slices.Equal(want, c.content(id, target)), "%s: image %s, disk %s", what, id, target)
		}
	}
	r := c.run("nightly-guests")
	require.Contains(c.t, []run.State{run.Done, run.Warned}, r.State, "%s: the next run\n%s\n%s", what, c.lines(r.ID), c.log)
	for _, task := range r.Tasks {
		disks := map[string]disk.Memory{}
		for target := range c.host.Look(task.Machine).Disks {
			disks[target] = c.content(task.Image, target)
			require.True(c.t, slices.Equal(c.host.Look(task.Machine).Disks[target], disks[target]), "%s: what was just saved", what)
		}
		c.images[task.Image] = disks
	}
	report, err := c.l.Stores.Check(ctx, "operator", stores.CheckRequest{Store: "strongbox", Read: true})
	require.NoError(c.t, err)
	require.EqualValues(c.t, run.Done, c.await(report.ID).State, "%s: %s", what, c.lines(report.ID))
	for _, name := range []string{"tickets-db", "timetable"} {
		g := c.host.Look(name)
		require.False(c.t, g.Frozen || g.Job != "" || g.State != machine.Running, "%s: guest %s: %+v", what, name, g)
		var known []string
		for _, m := range listed {
			known = append(known, m.ID+" "+m.Machine+" "+string(m.State))
		}
		require.LessOrEqual(c.t, len(g.Checkpoints), 2, "%s: guest %s has checkpoints %v; images before the last run %v\n%s", what, name, g.Checkpoints, known, c.log)
	}
	c.host.Clear()
	c.end()
}

// A lodge that is killed at any call to its store or its hypervisor, or whose store is full, whose hypervisor is gone or whose database breaks off
// from any call on, loses no image, leaves no guest frozen and no capture open, and its next run succeeds. KEENLODGE_CUTS=N tries so many, from
// KEENLODGE_SEED on, KEENLODGE_FATE one kind only.
func TestAnyFate(t *testing.T) {
	cuts, seed := mediumtest.Campaign("KEENLODGE_CUTS", 16)
	defer func(was time.Duration) { runs.StopTime = was }(runs.StopTime)
	runs.StopTime = 50 * time.Millisecond
	rng := rand.New(rand.NewPCG(seed, 13))
	c := &campaign{bench: &bench{t: t, host: lodgetest.Guests(t), log: &lockedBuffer{}}, rng: rng, state: t.TempDir(), images: map[string]map[string]disk.Memory{}}
	sealed := site.Store{Medium: "memory", Layout: site.Pooled, Sealed: true, Settings: &memory.Settings{Shelf: t.Name()}}
	c.site = lodgetest.Site(t, nil)
	c.site.Stores = map[string]site.Store{}
	c.url = recordstest.URL(t)
	var err error
	c.rec, err = records.Open(t.Context(), c.url)
	require.NoError(t, err)
	t.Cleanup(c.rec.Close)
	c.shelf().Around = func(call, name string, act func() error) error { return c.step(call, name, act) }
	c.host.SetFault(func(call, guest string) error {
		return c.step(call, guest, func() error { return nil })
	})
	c.begin(killed, false, -1)
	c.apply()
	_, err = c.l.AddStore(t.Context(), "strongbox", wire.StoreAddition{Spec: sealed, Keys: []store.NewKey{{Passphrase: "herring gulls at dawn"}}})
	require.NoError(t, err)
	c.site.Stores["strongbox"] = sealed
	c.site.Policies = map[string]site.Policy{"nightly-guests": {Machines: []string{"tickets-db", "timetable"}, Store: "strongbox", Rotation: "newest 2", Cycle: "full every 4th"}}
	c.apply()
	c.run("nightly-guests")
	c.end()
	met := map[string]int{}
	for n := range cuts {
		c.log.Reset()
		f := cmp.Or(fate(os.Getenv("KEENLODGE_FATE")), []fate{killed, killed, killed, killed, full, deserted, unheard}[rng.IntN(7)])
		if f == full || rng.IntN(3) > 0 {
			c.begin(f, true, 1+rng.IntN(20))
		} else {
			c.begin(f, false, 1+rng.IntN(150))
		}
		for j := 0; j < 3 && !c.isDead(); j++ {
			c.job()
		}
		c.end()
		if c.at != "" {
			met[string(f)]++
		}
		c.verify(fmt.Sprintf("seed %d, number %d: %s at %s", seed, n, f, cmp.Or(c.at, "no call")))
		if n%100 == 99 {
			t.Logf("%d fates so far: %v", n+1, met)
		}
	}
	t.Logf("%d fates from seed %d: %v; %d images read back", cuts, seed, met, len(c.images))
	require.NotEmpty(t, met)
}
