package site

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/field"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/when"
)

// brindle is a site with one of each.
func brindle() Site {
	return Site{
		Zone:        "Europe/Lisbon",
		Webhooks:    map[string]Webhook{"harbour-desk": {URL: "https://desk.brindle.example/runs"}},
		Hypervisors: map[string]Hypervisor{"quay-1": {URI: "qemu:///system"}},
		Stores:      map[string]Store{"quay-shelf": {Medium: "dir", Settings: &shelf{Folder: "/srv/quay"}}, "plain-shelf": {Medium: "dir", Layout: Open, Settings: &shelf{Folder: "/srv/plain"}}},
		Policies:    map[string]Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 3"}},
	}
}

func policy(change func(p *Policy)) func(*Site) {
	return func(s *Site) {
		p := s.Policies["nightly-guests"]
		change(&p)
		s.Policies["nightly-guests"] = p
	}
}

func store(change func(v *Store)) func(*Site) {
	return func(s *Site) {
		v := s.Stores["quay-shelf"]
		change(&v)
		s.Stores["quay-shelf"] = v
	}
}

func hypervisor(change func(h *Hypervisor)) func(*Site) {
	return func(s *Site) {
		h := s.Hypervisors["quay-1"]
		change(&h)
		s.Hypervisors["quay-1"] = h
	}
}

func webhook(change func(w *Webhook)) func(*Site) {
	return func(s *Site) {
		w := s.Webhooks["harbour-desk"]
		change(&w)
		s.Webhooks["harbour-desk"] = w
	}
}

func condition(h Health) func(*Site) {
	return policy(func(p *Policy) { p.Checks = []Health{{Free: 1}, h} })
}
func inPlace(change func(*Policy)) func(*Site) {
	return policy(func(p *Policy) {
		*p = Policy{Machines: []string{"*"}, Scope: image.InPlace, Rotation: "newest 3"}
		change(p)
	})
}
func hook(h Hook) func(*Site) { return policy(func(p *Policy) { p.Hooks = []Hook{h} }) }

// Every setting is tried at its limits: what is at them is a site, what is beyond is refused, at its place in the file.
func TestLimits(t *testing.T) {
	for _, c := range []struct {
		change      func(*Site)
		place, want string // "" for a good site
	}{
		{func(*Site) {}, "", ""},
		{func(s *Site) { s.TasksAtOnce = 1000 }, "", ""},
		{func(s *Site) { s.TasksAtOnce = 1001 }, "$.tasks_at_once", "1001 is not a number from 1 to 1000"},
		{func(s *Site) { s.KeepImages = "for ever" }, "$.keep_images", "no length of time"},
		{func(s *Site) { s.Webhooks["Desk"] = Webhook{} }, "$.webhooks.'Desk'", "a name has up to 63"},
		{func(s *Site) { s.Hypervisors["Quay"] = Hypervisor{} }, "$.hypervisors.'Quay'", "a name has up to 63"},
		{func(s *Site) { s.Stores["Quay"] = Store{} }, "$.stores.'Quay'", "a name has up to 63"},
		{hypervisor(func(h *Hypervisor) { h.URI = "" }), "$.hypervisors.'quay-1'", "uri is missing"},
		{hypervisor(func(h *Hypervisor) { h.Kind = "libvrt" }), "$.hypervisors.'quay-1'.kind", `did you mean "libvirt"?`},
		{hypervisor(func(h *Hypervisor) { h.TasksAtOnce = 1000 }), "", ""},
		{hypervisor(func(h *Hypervisor) { h.TasksAtOnce = 1001 }), "$.hypervisors.'quay-1'.tasks_at_once", "1001 is not a number"},
		{hypervisor(func(h *Hypervisor) { h.TasksAtOnce = -1 }), "$.hypervisors.'quay-1'.tasks_at_once", "-1 is not a number"},
		{hypervisor(func(h *Hypervisor) { h.Windows = []string{"only noon"} }), "$.hypervisors.'quay-1'.windows", "a weekday is expected here"},
		{hypervisor(func(h *Hypervisor) { h.Bandwidth = []string{"fast"} }), "$.hypervisors.'quay-1'.bandwidth", "fast"},
		{store(func(v *Store) { v.TasksAtOnce = 1001 }), "$.stores.'quay-shelf'.tasks_at_once", "1001 is not a number"},
		{store(func(v *Store) { v.Layout = "poold" }), "$.stores.'quay-shelf'.layout", `did you mean "pooled"?`},
		{store(func(v *Store) { v.Layout, v.Sealed = Open, true }), "$.stores.'quay-shelf'.sealed", "it can't be sealed"},
		{store(func(v *Store) { v.Sealed = true }), "", ""},
		{store(func(v *Store) { v.Layout, v.Compress = Open, true }), "", ""},
		{store(func(v *Store) { v.Compression = Smallest }), "", ""},
		{store(func(v *Store) { v.Compression = "smalest" }), "$.stores.'quay-shelf'.compression", `did you mean "smallest"?`},
		{store(func(v *Store) { v.Layout, v.Compression = Open, Quick }), "$.stores.'quay-shelf'.compression", "this is for the pooled layout"},
		{store(func(v *Store) { v.Compress = true }), "$.stores.'quay-shelf'.compress", "this is for the open layout"},
		{store(func(v *Store) { v.Medium, v.Layout, v.Settings = "s3", Open, &bucket{Bucket: "b"} }), "$.stores.'quay-shelf'.layout", "medium s3 takes the pooled one"},
		{store(func(v *Store) { v.Grace = "none" }), "", ""},
		{store(func(v *Store) { v.Grace = "some" }), "$.stores.'quay-shelf'.grace", "no length of time"},
		{store(func(v *Store) { v.FloorInodes = -1 }), "$.stores.'quay-shelf'.floor_inodes", "-1 inodes can't stay free"},
		{store(func(v *Store) { v.FloorInodes = 1 }), "", ""},
		{store(func(v *Store) { v.Floor = "0" }), "", ""},
		{store(func(v *Store) { v.Floor = "4 EiB" }), "", ""},
		{store(func(v *Store) { v.Floor = "5 EiB" }), "$.stores.'quay-shelf'.floor", `"5 EiB" is no length`},
		{store(func(v *Store) { v.Floor = "much" }), "$.stores.'quay-shelf'.floor", `"much" is no length`},
		{store(func(v *Store) { v.SweepBandwidth = "0" }), "$.stores.'quay-shelf'.sweep_bandwidth", `"0" is no length`},
		{store(func(v *Store) { v.SweepBandwidth = "1" }), "", ""},
		{store(func(v *Store) { v.SweepWindow = "night" }), "$.stores.'quay-shelf'.sweep_window", `"night" is no window`},
		{store(func(v *Store) { v.SweepWindow = "22:00-05:00" }), "", ""},
		{store(func(v *Store) { v.Settings = nil }), "$.stores.'quay-shelf'", "medium dir needs folder"},
		{store(func(v *Store) { v.Like = "quay-self" }), "$.stores.'quay-shelf'.like", `no store is called "quay-self"; did you mean "quay-shelf"?`},
		{store(func(v *Store) { v.Like = "quay-shelf" }), "$.stores.'quay-shelf'.like", "quay-shelf is like itself in the end"},
		{store(func(v *Store) { v.Like = "plain-shelf" }), "$.stores.'quay-shelf'.like", "an open store does not cut what it keeps"},
		{func(s *Site) {
			for name, like := range map[string]string{"quay-shelf": "b", "b": "c", "c": "b"} {
				s.Stores[name] = Store{Medium: "dir", Like: like, Settings: &shelf{Folder: "/srv/x"}}
			}
		}, "$.stores.'b'.like", "b is like itself in the end"},
		{func(s *Site) {
			s.Stores["north-pier"] = Store{Medium: "dir", Like: "quay-shelf", Settings: &shelf{Folder: "/srv/north"}}
		}, "", ""},
		{policy(func(p *Policy) { p.Machines = nil }), "$.policies.'nightly-guests'", "it selects no machine"},
		{policy(func(p *Policy) { p.Machines, p.Tags = nil, "tier=gold" }), "", ""},
		{policy(func(p *Policy) { p.Machines = []string{"time["} }), "$.policies.'nightly-guests'.machines", `"time[" is not a machine's name or a pattern`},
		{policy(func(p *Policy) { p.Except = []string{""} }), "$.policies.'nightly-guests'.except", `"" is not a machine's name`},
		{policy(func(p *Policy) { p.Tags = "tier=gold and" }), "$.policies.'nightly-guests'.tags", "a tag is expected here"},
		{policy(func(p *Policy) { p.Active = &Active{Tags: "a=b", Command: []string{"x"}} }), "$.policies.'nightly-guests'.active", "either tags or a command"},
		{policy(func(p *Policy) { p.Active = &Active{Command: []string{"x"}} }), "", ""},
		{policy(func(p *Policy) { p.Retries = 20 }), "", ""},
		{policy(func(p *Policy) { p.Retries = -1 }), "$.policies.'nightly-guests'.retries", "-1 is not a number from 0 to 20"},
		{policy(func(p *Policy) { p.LongestFreeze = "2 minutes" }), "$.policies.'nightly-guests'.longest_freeze", "longest_freeze: "},
		{policy(func(p *Policy) { p.LongestFreeze = "10" }), "$.policies.'nightly-guests'.longest_freeze", "longest_freeze: "},
		{policy(func(p *Policy) { p.RetryWait = "soon" }), "$.policies.'nightly-guests'.retry_wait", "retry_wait: "},
		{policy(func(p *Policy) { p.Spread = "wide" }), "$.policies.'nightly-guests'.spread", "spread: "},
		{policy(func(p *Policy) { p.Quiesce = "maybe" }), "$.policies.'nightly-guests'.quiesce", `quiesce "maybe" is not known`},
		{policy(func(p *Policy) { p.Quiesce = machine.Required }), "", ""},
		{policy(func(p *Policy) { p.Hold = "unusal" }), "$.policies.'nightly-guests'.hold", `did you mean "unusual"?`},
		{policy(func(p *Policy) { p.ByHand = "aprt" }), "$.policies.'nightly-guests'.by_hand", `did you mean "apart"?`},
		{policy(func(p *Policy) { p.Prove = image.ByMount }), "", ""},
		{policy(func(p *Policy) { p.Prove = "dream" }), "$.policies.'nightly-guests'.prove", `prove "dream" is not known`},
		{policy(func(p *Policy) { p.Cycle = "full evry 7th" }), "$.policies.'nightly-guests'.cycle", "full evry 7th"},
		{policy(func(p *Policy) { p.Capture = image.Incremental }), "$.policies.'nightly-guests'.capture", "every image is full by the cycle"},
		{policy(func(p *Policy) { p.Capture, p.Cycle = image.Full, "full once" }), "$.policies.'nightly-guests'.capture", `capture "full" is not known`},
		{policy(func(p *Policy) { p.Capture, p.Cycle = image.Differential, "full once" }), "", ""},
		{policy(func(p *Policy) { p.Fold, p.Cycle = true, "full once" }), "$.policies.'nightly-guests'.fold", "store quay-shelf is pooled"},
		{policy(func(p *Policy) { p.Fold, p.Cycle, p.Store = true, "full once", "plain-shelf" }), "", ""},
		{policy(func(p *Policy) { p.Fold, p.Store = true, "plain-shelf" }), "$.policies.'nightly-guests'.fold", "only incremental images can be folded into"},
		{policy(func(p *Policy) {
			p.Fold, p.Store, p.Schedules = true, "plain-shelf", []Schedule{{When: "every day at 01:00", Capture: image.Incremental}}
		}), "", ""},
		{policy(func(p *Policy) {
			p.Fold, p.Store, p.Cycle, p.Capture = true, "plain-shelf", "full once", image.Differential
		}), "$.policies.'nightly-guests'.fold", "only incremental images"},
		{inPlace(func(*Policy) {}), "", ""},
		{inPlace(func(p *Policy) { p.AlsoIn = []string{"skerry-west"} }), "", ""},
		{inPlace(func(p *Policy) { p.Store = "quay-shelf" }), "$.policies.'nightly-guests'.store", "store means nothing for scope inplace"},
		{inPlace(func(p *Policy) { p.Prove = image.ByRead }), "$.policies.'nightly-guests'.prove", "prove means nothing for scope inplace"},
		{inPlace(func(p *Policy) { p.Promise = "26 hours" }), "$.policies.'nightly-guests'.promise", "promise means nothing for scope inplace"},
		{policy(func(p *Policy) { p.AlsoIn = []string{"skerry-west"} }), "$.policies.'nightly-guests'.also_in", "also_in is for scope inplace"},
		{policy(func(p *Policy) { p.Together = []string{"ticketin"} }), "$.policies.'nightly-guests'.together[0]", `no group is called "ticketin"`},
		{condition(Health{Free: 99, Mounted: "/"}), "", ""},
		{condition(Health{Free: 100, Mounted: "/"}), "$.policies.'nightly-guests'.checks[1]", "free is a number of percent"},
		{condition(Health{Free: -1, Mounted: "/"}), "$.policies.'nightly-guests'.checks[1]", "free is a number of percent"},
		{condition(Health{Mounted: "data"}), "$.policies.'nightly-guests'.checks[1]", "mounted an absolute path"},
		{condition(Health{}), "$.policies.'nightly-guests'.checks[1]", "a check is either a command"},
		{condition(Health{Command: []string{"x"}, Mounted: "/"}), "$.policies.'nightly-guests'.checks[1]", "a check is either a command"},
		{condition(Health{Command: []string{"x"}, Within: "soon"}), "$.policies.'nightly-guests'.checks[1]", "within: "},
		{condition(Health{Command: []string{"x"}, Within: "2 minutes", Else: "warn"}), "", ""},
		{condition(Health{Command: []string{"x"}, Else: "stop"}), "", ""},
		{hook(Hook{At: []Moment{Begun}, Script: "/bin/true", Else: "fail", Within: "2 minutes"}), "", ""},
		{hook(Hook{At: []Moment{Begun}, Script: "/bin/true", Else: "warn"}), "", ""},
		{hook(Hook{At: []Moment{Begun}, Script: "/bin/true", Else: "fial"}), "$.policies.'nightly-guests'.hooks[0]", `did you mean "fail"?`},
		{hook(Hook{At: []Moment{Begun}, Script: "/bin/true", Within: "soon"}), "$.policies.'nightly-guests'.hooks[0]", "within: "},
		{hook(Hook{At: []Moment{Begun}, Script: "/bin/true", Webhook: "harbour-desk"}), "$.policies.'nightly-guests'.hooks[0]", "either a script or a webhook"},
		{hook(Hook{At: []Moment{Begun}, Webhook: "harbour-desk"}), "", ""},
		{hook(Hook{At: []Moment{Begun}, Webhook: "harbour-desk", Within: "1 minute"}), "$.policies.'nightly-guests'.hooks[0]", "within and else are for scripts"},
		{hook(Hook{At: []Moment{Begun}, Webhook: "harbour-desk", Else: "fail"}), "$.policies.'nightly-guests'.hooks[0]", "within and else are for scripts"},
		{hook(Hook{Webhook: "harbour-desk"}), "$.policies.'nightly-guests'.hooks[0]", "at is missing"},
		{webhook(func(w *Webhook) { w.URL = "http://127.0.0.1:9/x" }), "", ""},
		{webhook(func(w *Webhook) { w.URL = "http://[::1]/x" }), "", ""},
		{webhook(func(w *Webhook) { w.URL = "http://localhost/x" }), "", ""},
		{webhook(func(w *Webhook) { w.URL = "http://desk.brindle.example/x" }), "$.webhooks.'harbour-desk'.url", "is not encrypted"},
		{webhook(func(w *Webhook) { w.URL = "ftp://desk.brindle.example/x" }), "$.webhooks.'harbour-desk'.url", "is no address"},
		{webhook(func(w *Webhook) { w.URL = "https:///x" }), "$.webhooks.'harbour-desk'.url", "is no address"},
		{webhook(func(w *Webhook) { w.URL = "https://desk example" }), "$.webhooks.'harbour-desk'.url", "is no address"},
		{webhook(func(w *Webhook) { w.Events = event.Names }), "", ""},
	} {
		t.Run(c.want, func(t *testing.T) {
			s := brindle()
			c.change(&s)
			err := s.Check()
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			var at *field.Error
			require.ErrorAs(t, err, &at)
			require.Equal(t, c.place, at.Path)
			require.ErrorContains(t, err, c.want)
		})
	}
}

// What a policy's selection means, in the words in which it is written.
func TestSelections(t *testing.T) {
	for _, c := range []struct {
		machines, except []string
		names            bool
		exact            []string
		quay, pier, gate bool // quay-1/web, pier-2/web, quay-1/gate-07
	}{
		{[]string{"web"}, nil, true, []string{"web"}, true, true, false},
		{[]string{"quay-1/web"}, nil, true, []string{"quay-1/web"}, true, false, false},
		{[]string{"quay-1/*"}, nil, false, nil, true, false, true},
		{[]string{"*"}, []string{"web"}, false, nil, false, false, true},
		{[]string{"w?b", "gate-07"}, []string{"pier-2/*"}, false, []string{"gate-07"}, true, false, true},
		{[]string{"[a-h]*"}, nil, false, nil, false, false, true},
		{[]string{"web", "gate-07"}, []string{"web"}, true, []string{"gate-07"}, false, false, true},
		{nil, nil, true, nil, false, false, false},
	} {
		p := Policy{Machines: c.machines, Except: c.except}
		require.Equal(t, c.names, p.NamesOnly(), "%v", c.machines)
		require.Equal(t, c.exact, p.Exact(), "%v", c.machines)
		require.Equal(t, []bool{c.quay, c.pier, c.gate}, []bool{p.Selects("quay-1", "web", nil), p.Selects("pier-2", "web", nil), p.Selects("quay-1", "gate-07", nil)}, "%v but %v", c.machines, c.except)
	}
	require.False(t, Policy{Tags: "tier=gold"}.NamesOnly())
	require.False(t, Policy{Tags: "tier=("}.Selects("quay-1", "web", map[string]string{"tier": "("}), "what is no expression selects nothing")
	names, matchers := Site{Policies: map[string]Policy{"b": {Machines: []string{"web"}}, "a": {}}}.Matchers()
	require.Equal(t, []string{"a", "b"}, names)
	require.Equal(t, []bool{false, true}, []bool{matchers[0].Selects("", "web", nil), matchers[1].Selects("", "web", nil)})
}

// A policy's next moment is the first of its schedules', and its hours are its own, its store's and its hypervisors'.
func TestMoments(t *testing.T) {
	lisbon := brindle().Location()
	at := func(d, h int) time.Time { return time.Date(2026, 3, d, h, 0, 0, 0, lisbon) }
	p := Policy{Schedules: []Schedule{{When: "every day at 23:00"}, {When: "at boot"}, {When: "every day at 04:00"}, {When: "nonsense"}}}
	require.Equal(t, at(3, 4).UTC(), p.Next(at(2, 23), lisbon).UTC())
	require.Equal(t, at(3, 23).UTC(), p.Next(at(3, 4), lisbon).UTC())
	require.True(t, Policy{}.Next(at(1, 1), lisbon).IsZero())
	require.Len(t, p.Parsed(lisbon), 3)

	s := brindle()
	s.Policies["nightly-guests"] = Policy{Store: "quay-shelf", Windows: []string{"only 20:00-06:00"}}
	s.Stores["quay-shelf"] = Store{Windows: []string{"never 22:00-23:00"}}
	s.Hypervisors["quay-1"] = Hypervisor{Windows: []string{"only 21:00-05:00"}}
	open := func(h int, hypervisors ...string) bool {
		for _, w := range s.Hours("nightly-guests", hypervisors...) {
			if !w.Open(at(2, h)) {
				return false
			}
		}
		return true
	}
	require.Equal(t, []bool{true, true, false, true, false}, []bool{open(20), open(21, "quay-1"), open(22), open(5), open(20, "quay-1")})
	require.Equal(t, when.Windows{}, field.WindowsOf([]string{"nonsense"}))
	require.Equal(t, when.Pace{}, PaceOf([]string{"nonsense"}))
}

// What applying would change is told key by key; names that are not there are not found, with the nearest.
func TestChanges(t *testing.T) {
	one, two := brindle(), brindle()
	two.Zone, two.TasksAtOnce, two.KeepRuns, two.KeepImages = "UTC", 8, "2 days", "3 days"
	delete(two.Webhooks, "harbour-desk")
	two.Webhooks["night-desk"] = Webhook{}
	two.Stores["quay-shelf"] = Store{Medium: "dir", Floor: "1 GiB", Settings: &shelf{Folder: "/srv/other"}}
	changes, err := one.Compare(two)
	require.NoError(t, err)
	require.Equal(t, []Change{
		{"change", "zone", "UTC", `zone: "Europe/Lisbon" becomes "UTC"`},
		{"change", "tasks_at_once", "", "tasks_at_once: 4 becomes 8"},
		{"change", "keep_images", "", `keep_images: "" becomes "3 days"`},
		{"change", "keep_runs", "", `keep_runs: "" becomes "2 days"`},
		{"remove", "webhook", "harbour-desk", ""},
		{"add", "webhook", "night-desk", ""},
		{"change", "store", "quay-shelf", `floor: nothing becomes "1 GiB"; folder: "/srv/quay" becomes "/srv/other"`},
	}, changes)

	whole := Site{Stores: map[string]Store{"a": {}, "b": {Layout: Open}}}.Complete("UTC")
	require.Equal(t, Site{Zone: "UTC", Stores: map[string]Store{"a": {Layout: Pooled}, "b": {Layout: Open}}}, whole)
	require.Equal(t, "Europe/Lisbon", one.Complete("UTC").Zone)
	_, err = one.Policy("nightly-gusts")
	require.True(t, errors.Is(err, fault.ErrNotFound))
	require.ErrorContains(t, err, `did you mean "nightly-guests"?`)
	_, err = one.Store("quay-self")
	require.True(t, errors.Is(err, fault.ErrNotFound))
	_, err = one.Store("quay-shelf")
	require.NoError(t, err)
	p, err := one.Policy("nightly-guests")
	require.NoError(t, err)
	require.Equal(t, "newest 3", p.RotationRule().String())
	require.Equal(t, []string{"/srv/quay", ""}, []string{one.Stores["quay-shelf"].Location(), Store{}.Location()})
}
