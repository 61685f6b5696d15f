package forecast

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/when"
)

// referenceMoments finds a policy's own moments by looking at every minute.
func referenceMoments(p *Policy, now, until time.Time) (out []moment) {
	busy := now
	for at := now.Truncate(time.Minute).Add(time.Minute); at.Before(until); at = at.Add(time.Minute) {
		due, strongest := false, image.Capture("")
		for _, s := range p.Starts {
			if s.When.Has(at) {
				if !due || cycle.Strength(s.Capture) > cycle.Strength(strongest) {
					strongest = s.Capture
				}
				due = true
			}
		}
		if !due || at.Before(busy) || p.Paused || at.Before(p.PausedUntil) {
			continue
		}
		opens := at
		for slices.ContainsFunc(p.Hours, func(w when.Windows) bool { return !w.Open(opens) }) {
			opens = opens.Add(time.Minute)
		}
		if busy = opens; opens.Before(until) {
			out = append(out, moment{opens, opens.Sub(at), strongest})
		}
	}
	return out
}

// referencePlay plays one policy's days with the planner's long form, and with all that was ever made.
func referencePlay(p *Policy, store Store, runs []moment, r Request) (days []Day) {
	type one struct {
		rotation.Image
		size  Range
		there bool
		freed time.Time
	}
	type set struct {
		*Set
		all  []one
		made []cycle.Image
	}
	var sets []*set
	var took time.Duration
	for i := range p.Sets {
		s := &set{Set: &p.Sets[i], made: slices.Clone(p.Sets[i].Made)}
		for _, m := range s.Images {
			s.all = append(s.all, one{Image: m, size: Exactly(m.Bytes), there: true})
		}
		sets, took = append(sets, s), took+p.Sets[i].Took
	}
	for d := range r.Days {
		begin := time.Date(r.Now.Year(), r.Now.Month(), r.Now.Day()+d, 0, 0, 0, 0, r.Now.Location())
		end := time.Date(r.Now.Year(), r.Now.Month(), r.Now.Day()+d+1, 0, 0, 0, 0, r.Now.Location())
		day := Day{Date: begin.Format(time.DateOnly), Runs: []PlannedRun{}}
		for _, m := range runs {
			if m.at.Before(begin) || !m.at.Before(end) {
				continue
			}
			run := PlannedRun{At: m.at, Waited: m.waited, Ends: m.at.Add(took)}
			for _, s := range sets {
				kind := p.Capture
				if m.capture != "" && m.capture != image.Full {
					kind = m.capture
				}
				coming := one{Image: rotation.Image{ID: fmt.Sprint("coming-", len(s.all)), Taken: m.at, Capture: image.Full, State: image.Usable}, size: s.Full, there: true}
				if m.capture != image.Full && (m.capture != "" || p.Cycle.Due(s.made, m.at) == "") {
					for _, b := range s.all { // the last one that it can be taken since
						if b.there && b.State == image.Usable && (kind == image.Incremental || b.Capture == image.Full) {
							coming.Capture, coming.size, coming.Base = kind, s.Between, b.ID
						}
					}
				}
				if run.Full++; coming.Base != "" {
					run.Full--
					run.Between++
				}
				if !store.Leans {
					coming.Base = ""
				}
				coming.Bytes = coming.size.Likely
				run.Adds = Range{run.Adds.Low + coming.size.Low, run.Adds.Likely + coming.size.Likely, run.Adds.High + coming.size.High}
				s.made = append(s.made, cycle.Image{Taken: m.at, Full: coming.Capture == image.Full})
				s.all = append(s.all, coming)
				var images []rotation.Image
				var where []int
				for i, m := range s.all {
					if m.there {
						images, where = append(images, m.Image), append(where, i)
					}
				}
				plan := rotation.Make(p.Rule, m.at, images)
				for p.Fold {
					base, into, ok := plan.Fold(images)
					if !ok {
						break
					}
					plan.Folded(images, base, into)
					s.all[where[into]].Image = images[into]
				}
				if p.Fold { // what leans, and what the guard counts, is other now
					plan = rotation.Make(p.Rule, m.at, images)
				}
				if plan.Guard != "" {
					day.Held = true
					continue
				}
				for i, d := range plan.Decisions {
					if d.Verdict == rotation.Drop {
						s.all[where[i]].there, s.all[where[i]].freed = false, m.at.Add(store.Grace)
						day.Dropped++
					}
				}
			}
			day.Runs = append(day.Runs, run)
		}
		for _, s := range sets {
			for _, m := range s.all {
				if m.there {
					day.Images++
				}
				if m.there || m.freed.After(end) {
					day.Taken = Range{day.Taken.Low + m.size.Low, day.Taken.Likely + m.size.Likely, day.Taken.High + m.size.High}
				}
			}
		}
		days = append(days, day)
	}
	return days
}

// referenceCrowds looks at every minute of a place.
func referenceCrowds(r Request, f Forecast, on string, allowed int, machines func(p Policy) int) (out []Contention) {
	work := map[int64]map[string]int{} // by minute, by policy
	for i, p := range r.Policies {
		for _, d := range f.Policies[i].Days {
			for _, run := range d.Runs {
				for at := run.At; at.Before(run.Ends); at = at.Add(time.Minute) {
					if n := machines(p); n > 0 {
						if work[at.Unix()] == nil {
							work[at.Unix()] = map[string]int{}
						}
						work[at.Unix()][p.Name] += n
					}
				}
			}
		}
	}
	for at := r.Now.Truncate(time.Minute); at.Before(r.Now.AddDate(0, 0, r.Days+2)); at = at.Add(time.Minute) {
		sum, names := 0, []string{}
		for name, n := range work[at.Unix()] {
			sum, names = sum+n, append(names, name)
		}
		crowd := sum > allowed && len(names) > 1
		last := len(out) - 1
		switch open := last >= 0 && out[last].Until.IsZero(); {
		case crowd && !open:
			slices.Sort(names)
			out = append(out, Contention{On: on, From: at.In(r.Now.Location()), Machines: sum, Allowed: allowed, Policies: names})
		case crowd:
			c := &out[last]
			c.Machines = max(c.Machines, sum)
			c.Policies = append(c.Policies, names...)
			slices.Sort(c.Policies)
			c.Policies = slices.Compact(c.Policies)
		case open:
			out[last].Until = at.In(r.Now.Location())
		}
	}
	return out
}

// A forecast is what a look at every minute gives: moments, windows, pauses, chains, images, drops, folds, space and crowds.
func TestTheForecastIsTheReferences(t *testing.T) {
	zone := lisbon(t)
	crowds, held, waited, folded := 0, 0, 0, 0
	for seed := range uint64(36) {
		rng := rand.New(rand.NewPCG(seed, 8))
		pick := func(list ...string) string { return list[rng.IntN(len(list))] }
		now := time.Date(2026, time.Month(1+rng.IntN(12)), 1+rng.IntN(28), rng.IntN(24), rng.IntN(60), 0, 0, zone)
		r := Request{Now: now, Days: 4, HypervisorTasks: map[string]int{"quay-1": 1 + rng.IntN(3), "pier-2": 1}, Stores: []Store{
			{Name: "plain-shelf", Leans: true, Free: 5000, Floor: 4000, Grace: time.Duration(rng.IntN(60)) * time.Hour, Tasks: 1 + rng.IntN(3)}, {Name: "quay-shelf", Free: 3000, Floor: 2500}}}
		for i := range 1 + rng.IntN(5) {
			p := policy(t, fmt.Sprint("p", i), pick("newest 1", "newest 2", "3 daily, first", "2 days"), pick("", "full every 3rd", "full on sun", "full once"),
				[]string{pick("every day at 01:30", "every 4 hours from 00:20", "every mon,thu at 04:00 and 16:00"), pick("every 5 hours from 00:20", "every day at 01:30", "at boot")}[:1+rng.IntN(2)]...)
			for k := range p.Starts {
				p.Starts[k].Capture = image.Capture(pick("", "", "full", "incremental", "differential"))
			}
			if i > 0 && rng.IntN(2) == 0 {
				for range 1 + rng.IntN(2) {
					s, err := when.Parse(fmt.Sprint("after p", rng.IntN(i)), zone)
					require.NoError(t, err)
					p.Starts = append(p.Starts, Start{When: s, Capture: image.Capture(pick("", "full"))})
				}
			}
			if rng.IntN(3) == 0 {
				w, err := when.ParseWindows([]string{pick("only 20:00-02:00", "never 01:00-05:00", "only mon-fri 00:00-12:00")})
				require.NoError(t, err)
				p.Hours = []when.Windows{w}
			}
			p.Capture = image.Capture(pick("incremental", "differential"))
			p.Fold = p.Capture == image.Incremental && rng.IntN(3) == 0
			p.Store = pick("plain-shelf", "quay-shelf")
			p.Paused = rng.IntN(12) == 0
			if rng.IntN(6) == 0 {
				p.PausedUntil = now.Add(time.Duration(rng.IntN(90)) * time.Hour)
			}
			one := p.Sets[0]
			p.Sets = nil
			for n := range 1 + rng.IntN(3) {
				s := one
				s.Machine, s.Hypervisor, s.Took = fmt.Sprint("m", n), pick("quay-1", "pier-2"), time.Duration(1+rng.IntN(90))*time.Minute
				for k := range rng.IntN(7) {
					m := rotation.Image{ID: fmt.Sprint("old", k), Taken: now.AddDate(0, 0, k-8), Capture: image.Full, State: []image.State{image.Usable, image.Usable, image.Broken}[rng.IntN(3)], Bytes: int64(rng.IntN(80)), Pinned: rng.IntN(9) == 0}
					if k > 0 && p.Store == "plain-shelf" && rng.IntN(3) == 0 {
						m.Capture, m.Base = image.Incremental, s.Images[k-1].ID
					}
					s.Images = append(s.Images, m)
					s.Made = append(s.Made, cycle.Image{Taken: m.Taken, Full: m.Capture == image.Full})
				}
				p.Sets = append(p.Sets, s)
			}
			r.Policies = append(r.Policies, p)
		}
		until := now.AddDate(0, 0, r.Days)
		f := Make(r)
		runs := make([][]moment, len(r.Policies)) // a policy only follows ones before it
		for i := range r.Policies {
			p := &r.Policies[i]
			runs[i] = referenceMoments(p, now, until)
			for _, s := range p.Starts {
				for k := range i {
					if after, _ := s.When.After(); after == r.Policies[k].Name {
						for _, m := range runs[k] {
							begin := m.at
							for _, set := range r.Policies[k].Sets {
								begin = begin.Add(set.Took)
							}
							if begin.Before(until) && !p.Paused && !begin.Before(p.PausedUntil) {
								runs[i] = append(runs[i], moment{at: begin, capture: s.Capture})
							}
						}
					}
				}
			}
			slices.SortStableFunc(runs[i], func(a, b moment) int { return a.at.Compare(b.at) })
			store := r.Stores[slices.IndexFunc(r.Stores, func(s Store) bool { return s.Name == p.Store })]
			want := referencePlay(p, store, runs[i], r)
			require.Equal(t, len(want), len(f.Policies[i].Days))
			for d := range want {
				require.Equal(t, want[d], f.Policies[i].Days[d], "seed %d, policy %d, day %d", seed, i, d)
				for _, run := range want[d].Runs {
					waited += min(1, int(run.Waited))
				}
				if want[d].Held {
					held++
				}
			}
			if p.Fold {
				folded++
			}
		}
		for i, s := range r.Stores {
			hit, early := "", ""
			for d := range r.Days {
				free := Range{s.Free, s.Free, s.Free}
				for k, p := range r.Policies {
					if p.Store != s.Name {
						continue
					}
					for _, set := range p.Sets {
						for _, m := range set.Images {
							free = free.plus(Exactly(m.Bytes))
						}
					}
					taken := f.Policies[k].Days[d].Taken
					free = Range{free.Low - taken.High, free.Likely - taken.Likely, free.High - taken.Low}
				}
				require.Equal(t, free, f.Stores[i].Free[d])
				if free.Likely < s.Floor && hit == "" {
					hit = f.Policies[0].Days[d].Date
				}
				if free.Low < s.Floor && early == "" {
					early = f.Policies[0].Days[d].Date
				}
			}
			require.Equal(t, []string{hit, early}, []string{f.Stores[i].Hit, f.Stores[i].HitEarly})
		}
		for name, allowed := range r.HypervisorTasks {
			want := referenceCrowds(r, f, "hypervisor "+name, allowed, func(p Policy) (n int) {
				for _, s := range p.Sets {
					if s.Hypervisor == name {
						n++
					}
				}
				return n
			})
			got := slices.DeleteFunc(slices.Clone(f.Crowds), func(c Contention) bool { return c.On != "hypervisor "+name })
			if len(f.Crowds) < mostCrowds {
				var show [2][]string
				for i, list := range [][]Contention{want, got} {
					for _, c := range list {
						show[i] = append(show[i], fmt.Sprint(c.From, c.Until, c.Machines, c.Policies))
					}
				}
				require.Equal(t, show[0], show[1], "seed %d", seed)
			}
			crowds += len(got)
		}
		require.True(t, slices.IsSortedFunc(f.Crowds, func(a, b Contention) int { return a.From.Compare(b.From) }))
		require.LessOrEqual(t, len(f.Crowds), mostCrowds)
	}
	require.Greater(t, min(crowds, held, waited, folded), 10, "%d crowds, %d held, %d waited, %d folded", crowds, held, waited, folded)
}
