package lodge_test

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/source/sourcetest"
)

// hostsOf adds fake hosts to a site, each with a name of its own.
func hostsOf(t *testing.T, s *site.Site, names ...string) (out []*sourcetest.Host) {
	for _, name := range names {
		uri := t.Name() + "/" + name
		s.Hypervisors[name] = site.Hypervisor{Kind: sourcetest.Kind, URI: uri}
		out = append(out, sourcetest.Named(uri))
	}
	return out
}

// Of fifty hosts five never answer: the guests of the others are captured meanwhile, and those of the five when they do.
func TestSilentHostsHoldUpNoOthers(t *testing.T) {
	const all, silent = 50, 5
	var hosts []*sourcetest.Host
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"crew-*"}, Store: "quay-shelf", Rotation: "newest 2"}}, func(s *site.Site) {
		s.TasksAtOnce = 8
		for n := range all {
			h := hostsOf(t, s, fmt.Sprintf("pier-%02d", n))[0]
			lodgetest.AddGuest(h, fmt.Sprintf("crew-%02d", n), fmt.Sprintf("u-crew-%02d", n), nil, 1)
			hosts = append(hosts, h)
		}
	})
	released := make(chan struct{})
	for _, h := range hosts[:silent] {
		h.SetFault(func(call, _ string) error {
			if call == "dial" {
				<-released
			}
			return nil
		})
	}
	r, err := b.l.RunPolicy(t.Context(), "nightly-guests", "operator", "")
	require.NoError(t, err)
	var now records.Run
	b.until(func() bool {
		now, err = b.rec.Run(t.Context(), r.ID)
		require.NoError(t, err)
		done := 0
		for _, task := range now.Tasks {
			if task.State == run.Done {
				done++
			}
		}
		return done == all-silent
	}, "the others' images")
	require.Len(t, now.Tasks, all-silent)
	require.False(t, now.Over())
	t.Logf("the first of %d captures began %s after its run", all-silent, now.Tasks[0].Started.Sub(*now.Started))
	close(released)
	r = b.await(r.ID)
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, r.Tasks, all)
}

// A guest that is elsewhere by the time that it is captured is captured there.
func TestAGuestThatMovesMeanwhile(t *testing.T) {
	var pier *sourcetest.Host
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 2"}}, func(s *site.Site) {
		pier = hostsOf(t, s, "pier-2")[0]
	})
	require.Equal(t, run.Done, b.run("nightly-guests").State)
	var once sync.Once
	b.host.SetFault(func(call, guest string) error {
		if call == "capture" && guest == "timetable" {
			once.Do(func() {
				g := b.host.Look("timetable")
				b.host.Remove("timetable")
				pier.Add("timetable-of-the-pier", "u-timetable", nil, g.Disks)
			})
		}
		return nil
	})
	r := b.run("nightly-guests")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, []string{"pier-2", "timetable-of-the-pier", "u-timetable"}, []string{r.Tasks[0].Hypervisor, r.Tasks[0].Guest, r.Tasks[0].MachineID})
	require.Contains(t, b.lines(r.ID), "it was on quay-1 as timetable when it was listed, and is on pier-2 as timetable-of-the-pier now")

	// It goes back between two runs; the policy asks its last host only, until that says that it has gone. The policy knows it by the name
	// that it has again.
	g := pier.Look("timetable-of-the-pier")
	pier.Remove("timetable-of-the-pier")
	b.host.Add("timetable", "u-timetable", nil, g.Disks)
	r = b.run("nightly-guests")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, "quay-1", r.Tasks[0].Hypervisor)
	images, err := b.rec.Images(t.Context(), records.ImageFilter{MachineID: "u-timetable"})
	require.NoError(t, err)
	require.Len(t, images, 2, "one set, rotated as one")
}

// A guest that two hosts have is captured once, where it runs; where it is off it is not started, for it may use the same disks.
func TestAGuestOnTwoHosts(t *testing.T) {
	var pier *sourcetest.Host
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 2"}}, func(s *site.Site) {
		pier = hostsOf(t, s, "pier-2")[0]
	})
	g := b.host.Look("timetable")
	pier.Add("timetable", "u-timetable", nil, g.Disks)
	b.host.Change("timetable", func(g *sourcetest.Guest) { g.State = machine.Off })
	started := 0
	b.host.SetFault(func(call, guest string) error {
		if call == "capture" && guest == "timetable" {
			started++
		}
		return nil
	})
	r := b.run("nightly-guests")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, r.Tasks, 1)
	require.Equal(t, "pier-2", r.Tasks[0].Hypervisor)
	require.Zero(t, started)
	m, err := b.rec.Machine(t.Context(), "u-timetable")
	require.NoError(t, err)
	require.Equal(t, []string{"pier-2", "quay-1", "running"}, []string{m.Hypervisor, m.AlsoOn, string(m.State)})

	// It is off on both, as far as is known; by the time that it is captured it runs on the other.
	pier.Change("timetable", func(g *sourcetest.Guest) { g.State = machine.Off })
	var once sync.Once
	pier.SetFault(func(call, guest string) error {
		if call == "capture" {
			once.Do(func() { b.host.Change("timetable", func(g *sourcetest.Guest) { g.State = machine.Running }) })
		}
		return nil
	})
	r = b.run("nightly-guests")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, "quay-1", r.Tasks[0].Hypervisor, b.lines(r.ID))
	require.Equal(t, machine.Off, pier.Look("timetable").State)

	// Where the other can't be asked, it stays as it is.
	b.host.Change("timetable", func(g *sourcetest.Guest) { g.State = machine.Off })
	b.l.Inventory.Find(t.Context())
	pier.SetFault(func(call, _ string) error {
		if call == "dial" {
			return fmt.Errorf("the line is down")
		}
		return nil
	})
	r = b.run("nightly-guests")
	require.Equal(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "whether it runs there can't be told, so it is not started here for a backup")
}

// A hypervisor that is taken out of the site takes its machines along, but for those that another one has; when it comes back they are the same.
func TestAHypervisorThatIsTakenOut(t *testing.T) {
	var pier *sourcetest.Host
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": everything("newest 3")}, func(s *site.Site) {
		pier = hostsOf(t, s, "pier-2")[0]
		lodgetest.AddGuest(pier, "crew-rota", "u-crew", nil, 1)
		pier.Add("timetable", "u-timetable", nil, nil)
	})
	require.Equal(t, run.Done, b.run("nightly-guests").State)
	spec := b.site.Hypervisors["pier-2"]
	delete(b.site.Hypervisors, "pier-2")
	b.apply()
	r := b.run("nightly-guests")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, r.Tasks, 2)
	m, err := b.rec.Machine(t.Context(), "u-crew")
	require.NoError(t, err)
	require.Equal(t, machine.Gone, m.State)
	b.site.Hypervisors["pier-2"] = spec
	b.apply()
	r = b.run("nightly-guests")
	require.Len(t, r.Tasks, 3)
	require.Len(t, b.images("u-crew"), 2)
}
