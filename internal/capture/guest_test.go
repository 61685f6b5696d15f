package capture

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// dialled is a fake host with guest tickets-db, and a connection to it.
func dialled(t *testing.T) (*sourcetest.Host, source.Source, source.Capturer) {
	host := sourcetest.Named(t.Name())
	host.Add("tickets-db", "u-tickets", nil, nil)
	h, err := source.Dial(t.Context(), site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name()})
	require.NoError(t, err)
	_, capturer, err := asCapturer(h)
	require.NoError(t, err)
	return host, h, capturer
}

// inTask calls check within the task of a run, and returns how the task ended.
func inTask(t *testing.T, check func(ctx context.Context, task *runs.Task) error) records.Task {
	t.Helper()
	rec := recordstest.Open(t)
	e, err := runs.New(rec, recordstest.Quiet(t))
	require.NoError(t, err)
	ended := make(chan struct{})
	e.Register(run.Check, handler{run: func(ctx context.Context, r *runs.Run) error {
		defer close(ended)
		return r.PerformOne(ctx, records.Task{Machine: "tickets-db"}, check)
	}})
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- e.Serve(ctx, func() {}) }()
	r, err := e.Queue(t.Context(), runs.Order{Kind: run.Check, Cause: run.Hand})
	require.NoError(t, err)
	<-ended
	cancel()
	require.NoError(t, <-done)
	r, err = rec.Run(t.Context(), r.ID)
	require.NoError(t, err)
	return r.Tasks[0]
}

type handler struct {
	runs.Base
	run func(ctx context.Context, r *runs.Run) error
}

func (h handler) Run(ctx context.Context, r *runs.Run) error { return h.run(ctx, r) }

// The active one of a pair is told by its tags or by a command in it; who can't be asked is taken for it.
func TestStandby(t *testing.T) {
	host, h, _ := dialled(t)
	inside, err := source.As[source.Insider](h, "look inside")
	require.NoError(t, err)
	m := records.Machine{Name: "tickets-db", State: machine.Running, Tags: map[string]string{"role": "database"}}
	command := site.Policy{Active: &site.Active{Command: []string{"/bin/is-active", "now"}}}
	inTask(t, func(ctx context.Context, task *runs.Task) error {
		require.Empty(t, standby(ctx, inside, site.Policy{}, m, task))
		require.Empty(t, standby(ctx, inside, site.Policy{Active: &site.Active{Tags: "role=database"}}, m, task))
		require.Contains(t, standby(ctx, inside, site.Policy{Active: &site.Active{Tags: "role=web"}}, m, task), `its tags do not fit "role=web"`)
		require.Equal(t, "it is not the active member of its pair: /bin/is-active ended with 127: not found", standby(ctx, inside, command, m, task))
		host.Change("tickets-db", func(g *sourcetest.Guest) { g.Commands["/bin/is-active now"] = 0 })
		require.Empty(t, standby(ctx, inside, command, m, task))
		host.Change("tickets-db", func(g *sourcetest.Guest) { g.Agent = false })
		require.Empty(t, standby(ctx, inside, command, m, task))
		require.Empty(t, task.Warnings)
		return nil
	})
}

// What fails a check and stops is an error, what only warns a warning, and each says what was found.
func TestHealthy(t *testing.T) {
	host, h, _ := dialled(t)
	inside, err := source.As[source.Insider](h, "look inside")
	require.NoError(t, err)
	m := records.Machine{Name: "tickets-db", State: machine.Running}
	inTask(t, func(ctx context.Context, task *runs.Task) error {
		says := func(c site.Health) string {
			if err := healthy(ctx, inside, site.Policy{Checks: []site.Health{c}}, m, task); err != nil {
				require.ErrorIs(t, err, errUnhealthy)
				return err.Error()
			}
			return ""
		}
		require.Empty(t, says(site.Health{Free: 60}))
		require.Contains(t, says(site.Health{Free: 61}), "file systems: / has 60 % free, less than 61 %")
		require.Empty(t, says(site.Health{Mounted: "/", Free: 10}))
		require.Contains(t, says(site.Health{Mounted: "/srv", Free: 10}), "nothing is mounted at /srv")
		require.Contains(t, says(site.Health{Command: []string{"/bin/ledger", "check"}}), "command /bin/ledger check: it ended with 127: not found")
		require.Empty(t, task.Warnings)
		require.Empty(t, says(site.Health{Mounted: "/srv", Else: "warn"}))
		require.Equal(t, []string{"check of file systems failed: nothing is mounted at /srv"}, task.Warnings)
		host.Change("tickets-db", func(g *sourcetest.Guest) { g.Agent = false })
		require.Contains(t, says(site.Health{Free: 10}), "no agent answers in it")
		require.Contains(t, says(site.Health{Command: []string{"/bin/true"}}), "no agent answers in it")
		m.State = machine.Off
		require.Empty(t, says(site.Health{Free: 99}))
		return nil
	})
	require.Empty(t, quoteOutput(" \n "))
	require.Equal(t, ": a b", quoteOutput("a\n b\n"))
	require.Equal(t, ": "+strings.Repeat("x", 500), quoteOutput(strings.Repeat("x", 500)))
	require.Equal(t, ": "+strings.Repeat("x", 499)+" …", quoteOutput(strings.Repeat("x", 499)+"é"))
}

// A checkpoint stays while something may build on it: for the newest image of each kind of each set, and for one that is being made.
func TestObsoleteCheckpoints(t *testing.T) {
	ctx, rec := t.Context(), recordstest.Open(t)
	c := &Captures{rec: rec}
	add := func(id, policy string, capture image.Capture, state image.State, change ...string) {
		m := records.Image{ID: id, Machine: "tickets-db", MachineID: "u-tickets", Policy: policy, Store: "quay-shelf", Taken: time.Now(), Scope: image.WholeMachine, Capture: capture}
		for _, word := range change {
			switch word {
			case "apart":
				m.SeparateSet = true
			case "some":
				m.Scope = image.SomeDisks
			case "elsewhere":
				m.Store = "annex"
			}
		}
		require.NoError(t, rec.AddImage(ctx, m))
		if state != image.Writing {
			m.Disks = []records.ImageDisk{}
			require.NoError(t, rec.FinishImage(ctx, m))
		}
		if state == image.Broken {
			recordstest.Break(t, rec, id)
		}
	}
	s := site.Site{Policies: map[string]site.Policy{
		"hourly": {Store: "quay-shelf", Cycle: "full every 7th"},
		"weekly": {Store: "quay-shelf", Cycle: "full every 7th", Capture: image.Differential},
		"plain":  {Store: "quay-shelf"},
	}}
	add("h1", "hourly", image.Full, image.Usable)
	add("h2", "hourly", image.Incremental, image.Usable)
	add("h3", "hourly", image.Incremental, image.Usable)
	add("h4", "hourly", image.Incremental, image.Broken)
	add("h5", "hourly", image.Incremental, image.Writing)
	add("ha", "hourly", image.Full, image.Usable, "apart")
	add("hs", "hourly", image.Full, image.Usable, "some")
	add("he", "hourly", image.Full, image.Usable, "elsewhere")
	add("w1", "weekly", image.Full, image.Usable)
	add("w2", "weekly", image.Differential, image.Usable)
	add("p1", "plain", image.Full, image.Usable)
	add("x1", "nomore", image.Full, image.Usable)
	all := []string{"h1", "h2", "h3", "h4", "h5", "ha", "hs", "he", "w1", "w2", "p1", "x1", "others"}
	obsolete, err := c.obsoleteCheckpoints(ctx, s, "u-tickets", all)
	require.NoError(t, err)
	require.ElementsMatch(t, []string{"h1", "h2", "h4", "he", "w2", "p1", "x1"}, obsolete)
	require.NoError(t, rec.DropImages(ctx, []records.Drop{{ID: "h3", Why: "for the test"}}))
	obsolete, err = c.obsoleteCheckpoints(ctx, s, "u-tickets", []string{"h2", "h3"})
	require.NoError(t, err)
	require.Equal(t, []string{"h3"}, obsolete, "what is gone serves no more, so the one before does")
	obsolete, err = c.obsoleteCheckpoints(ctx, s, "u-tickets", nil)
	require.NoError(t, err)
	require.Empty(t, obsolete)

	require.NoError(t, rec.QueueRun(ctx, records.Run{ID: "cutrun00", Kind: run.Backup, Policy: "hourly", Cause: run.Hand}))
	task, err := rec.AddTask(ctx, records.Task{Run: "cutrun00", Machine: "tickets-db", MachineID: "u-tickets", State: run.Failed})
	require.NoError(t, err)
	task.Image = "never"
	require.NoError(t, rec.SaveTask(ctx, task))
	obsolete, err = c.obsoleteCheckpoints(ctx, s, "u-tickets", []string{"ha", "never", "others"})
	require.NoError(t, err)
	require.Equal(t, []string{"never"}, obsolete, "of an image of ours that never came to be")

	host, _, capturer := dialled(t)
	for _, id := range all {
		host.Remember("tickets-db", id)
	}
	require.NoError(t, c.dropObsolete(ctx, s, capturer, "tickets-db", "u-tickets"))
	require.ElementsMatch(t, []string{"h2", "h5", "ha", "hs", "w1", "others"}, host.Look("tickets-db").Checkpoints)
	require.NoError(t, c.dropObsolete(ctx, s, capturer, "nobody", "u-tickets"), "a guest that is not there has none")
	host.SetFault(func(string, string) error { return errors.New("out of order") })
	_, err = source.Dial(ctx, site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name()})
	require.ErrorContains(t, err, "out of order")
}
