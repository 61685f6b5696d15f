package inventory

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// quays makes an inventory of two fake hosts, quay-1 with a web and a tickets-db, quay-2 with another web.
func quays(t *testing.T, policies map[string]site.Policy) (*Inventory, site.Site, map[string]*sourcetest.Host) {
	s := site.Site{Zone: "Europe/Lisbon", Hypervisors: map[string]site.Hypervisor{}, Policies: policies}
	hosts := map[string]*sourcetest.Host{}
	for _, name := range []string{"quay-1", "quay-2"} {
		s.Hypervisors[name] = site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name() + name}
		hosts[name] = sourcetest.Named(t.Name() + name)
	}
	hosts["quay-1"].Add("web", "u-web-1", map[string]string{"role": "web"}, map[string]disk.Memory{"vda": make([]byte, 1<<20)})
	hosts["quay-1"].Add("tickets-db", "u-tickets", nil, nil)
	hosts["quay-2"].Add("web", "u-web-2", nil, nil)
	rec := recordstest.Open(t)
	require.NoError(t, rec.SaveSite(t.Context(), s, func(site.Policy) time.Time { return time.Time{} }, nil))
	return New(rec, recordstest.Quiet(t), nil), s, hosts
}

func names(machines []records.Machine) (out []string) {
	for _, m := range machines {
		out = append(out, m.Label)
	}
	return out
}

// Who asks within seconds, or while a host is being asked, gets the same answer; who wants a fresh one asks; what did not answer is asked
// again.
func TestAnswersAreRemembered(t *testing.T) {
	ctx := t.Context()
	inv, s, hosts := quays(t, nil)
	var asked atomic.Int32
	var broken atomic.Bool
	held := make(chan struct{})
	hosts["quay-1"].SetFault(func(call, _ string) error {
		if call != "machines" {
			return nil
		}
		asked.Add(1)
		<-held
		if broken.Load() {
			return errors.New("out of order")
		}
		return nil
	})
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			answers := inv.Ask(ctx, s, false)
			require.Len(t, answers, 2)
			require.Equal(t, "quay-1", answers[0].Source)
			require.Len(t, answers[0].Machines, 2)
			require.Len(t, answers[1].Machines, 1)
		})
	}
	require.Eventually(t, func() bool { return asked.Load() == 1 }, 5*time.Second, time.Millisecond)
	close(held)
	wait.Wait()
	require.EqualValues(t, 1, asked.Load())
	inv.Ask(ctx, s, false, "quay-1")
	require.EqualValues(t, 1, asked.Load())
	inv.Ask(ctx, s, true, "quay-1")
	require.EqualValues(t, 2, asked.Load())
	moved := s
	moved.Hypervisors = map[string]site.Hypervisor{"quay-1": {Kind: sourcetest.Kind, URI: t.Name() + "elsewhere"}}
	require.Empty(t, inv.Ask(ctx, moved, false, "quay-1")[0].Machines, "another address under the old name")

	broken.Store(true)
	answers := inv.Ask(ctx, s, true)
	require.Equal(t, map[string]string{"quay-1": "hypervisor quay-1: out of order"}, Silent(answers))
	n := asked.Load()
	inv.Ask(ctx, s, false, "quay-1")
	require.Equal(t, n+1, asked.Load())

	found, err := inv.Find(ctx)
	require.NoError(t, err)
	require.Equal(t, "hypervisor quay-1: out of order", found[0].Error)
	require.Equal(t, 1, found[1].Machines)
	hosts["quay-2"].SetFault(func(string, string) error { return source.ErrUnreachable })
	_, err = inv.Connect(ctx, s, "quay-2")
	require.ErrorIs(t, err, source.ErrUnreachable)
	require.ErrorContains(t, err, "hypervisor quay-2")
	_, err = inv.Connect(ctx, s, "quay-3")
	require.ErrorContains(t, err, `did you mean "quay-`)
}

// A policy covers what is there and not retired; a run asks no more hosts than may have one of its machines.
func TestCoverage(t *testing.T) {
	ctx := t.Context()
	all, one := site.Policy{Machines: []string{"*"}}, site.Policy{Machines: []string{"tickets-db"}}
	inv, s, hosts := quays(t, map[string]site.Policy{"nightly-guests": all, "hourly-tickets": one})
	_, err := inv.Find(ctx)
	require.NoError(t, err)
	covered := func(p site.Policy) []string {
		machines, err := inv.Covered(ctx, p)
		require.NoError(t, err)
		return names(machines)
	}
	require.Equal(t, []string{"quay-1/web", "quay-2/web", "tickets-db"}, covered(all))
	require.Equal(t, []string{"quay-2/web"}, covered(site.Policy{Machines: []string{"quay-2/web"}}))
	for _, c := range []struct{ machines, sources []string }{
		{[]string{"tickets-db"}, []string{"quay-1"}},
		{[]string{"web"}, []string{"quay-1", "quay-2"}},
		{[]string{"quay-2/web"}, []string{"quay-2"}},
		{[]string{"tickets-db", "crew-rota"}, []string{"quay-1", "quay-2"}},
		{[]string{"tick*"}, []string{"quay-1", "quay-2"}},
	} {
		sources, err := inv.SourcesOf(ctx, s, site.Policy{Machines: c.machines})
		require.NoError(t, err)
		require.Equal(t, c.sources, sources, c.machines)
	}
	views, next, err := inv.Views(ctx, records.MachineFilter{})
	require.NoError(t, err)
	require.Empty(t, next)
	require.Len(t, views, 3)
	require.Equal(t, []string{"nightly-guests"}, views[0].CoveredBy)
	require.Equal(t, []string{"hourly-tickets", "nightly-guests"}, views[2].CoveredBy)

	require.NoError(t, inv.rec.RetireMachine(ctx, "u-tickets", "newest 1"))
	hosts["quay-2"].Remove("web")
	_, err = inv.Find(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"web"}, covered(all), "the only one of its name")
	sources, err := inv.SourcesOf(ctx, s, site.Policy{Machines: []string{"tickets-db"}})
	require.NoError(t, err)
	require.Equal(t, []string{"quay-1", "quay-2"}, sources, "one of that name that lives may be anywhere")
	views, _, err = inv.Views(ctx, records.MachineFilter{Text: "tickets"})
	require.NoError(t, err)
	require.Empty(t, views[0].CoveredBy)
}

// A word means a machine by its label, its name, its host and name, or its identity; one that may be several is refused with them.
func TestResolveAndContinue(t *testing.T) {
	ctx := t.Context()
	inv, _, hosts := quays(t, nil)
	_, err := inv.Find(ctx)
	require.NoError(t, err)
	for word, id := range map[string]string{"tickets-db": "u-tickets", "quay-1/tickets-db": "u-tickets", "quay-2/web": "u-web-2", "u-web-1": "u-web-1"} {
		m, err := inv.Resolve(ctx, word)
		require.NoError(t, err, word)
		require.Equal(t, id, m.ID, word)
	}
	_, err = inv.Resolve(ctx, "web")
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, `"web" may be quay-1/web, quay-2/web; write more of it`)
	_, err = inv.Resolve(ctx, "tickets-bd")
	require.ErrorIs(t, err, fault.ErrNotFound)
	require.ErrorContains(t, err, `did you mean "tickets-db"?`)

	for words, says := range map[[2]string]string{
		{"tickets-db", "quay-1/tickets-db"}: "is the same machine as",
		{"quay-1/web", "tickets-db"}:        "machine tickets-db is still there (on quay-1)",
		{"quay-1/web", "nobody"}:            "no machine is called",
		{"nobody", "tickets-db"}:            "no machine is called",
	} {
		_, err = inv.Continue(ctx, words[0], words[1])
		require.ErrorContains(t, err, says)
	}
	require.NoError(t, inv.rec.AddImage(ctx, records.Image{ID: "image000", Machine: "tickets-db", MachineID: "u-tickets", Policy: "nightly-guests", Store: "quay-shelf", Taken: time.Now(), Scope: image.WholeMachine, Capture: image.Full}))
	hosts["quay-1"].Remove("tickets-db")
	hosts["quay-1"].Add("tickets-db", "u-tickets-new", nil, nil)
	_, err = inv.Find(ctx)
	require.NoError(t, err)
	old, err := inv.Resolve(ctx, "u-tickets")
	require.NoError(t, err)
	require.Equal(t, machine.Gone, old.State)
	m, err := inv.Continue(ctx, "u-tickets-new", "u-tickets")
	require.NoError(t, err)
	require.Equal(t, "u-tickets", m.ID)
	require.Equal(t, machine.Running, m.State)
	found, err := inv.Find(ctx)
	require.NoError(t, err)
	require.Equal(t, 2, found[0].Machines)
	m, err = inv.Resolve(ctx, "tickets-db")
	require.NoError(t, err)
	require.Equal(t, "u-tickets", m.ID, "it stays so")
}
