// Package inventory knows the site's machines: it asks their sources, keeps what they tell in the records, and shows which policies
// cover which machine.
package inventory

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/wire"
)

const (
	// answerTime is how long a source may take to list its machines.
	answerTime = 30 * time.Second
	// asksAtOnce is how many sources are asked at the same time: many, for those that never answer hold up the others.
	asksAtOnce = 64
	// answerAge is how long an answer is remembered: runs that start together ask once.
	answerAge = 5 * time.Second
	// describeEvery is how often a source that is asked for its machines is asked for what it is, too.
	describeEvery = 10 * time.Minute
)

// Inventory knows the site's machines.
type Inventory struct {
	rec *records.Records
	log *slog.Logger
	own map[string]Own

	mu      sync.Mutex
	asked   map[string]*question // by source
	answers map[string]remembered
	told    map[string]time.Time // when a source last said what it is
}

// question is a source being asked; done is closed when it has answered.
type question struct {
	done   chan struct{}
	answer Answer
}

// remembered is an answer, and what it is the answer of.
type remembered struct {
	Answer
	spec site.Hypervisor
	at   time.Time
}

// Own is the source of a name, of a kind that only this process can reach.
type Own func(name string) source.Source

// New makes an Inventory. own are the kinds of sources that are not dialled by an address.
func New(rec *records.Records, log *slog.Logger, own map[string]Own) *Inventory {
	return &Inventory{rec: rec, log: log, own: own, asked: map[string]*question{}, answers: map[string]remembered{}, told: map[string]time.Time{}}
}

// Connect connects to one of the site's sources. Close it.
func (inv *Inventory) Connect(ctx context.Context, s site.Site, name string) (source.Source, error) {
	spec, err := specOf(s, name)
	if err != nil {
		return nil, err
	}
	h, err := inv.dial(ctx, name, spec)
	if err != nil {
		return nil, fmt.Errorf("hypervisor %s: %w", name, err)
	}
	return h, nil
}

func (inv *Inventory) dial(ctx context.Context, name string, spec site.Hypervisor) (source.Source, error) {
	if own, ok := inv.own[spec.SourceKind()]; ok {
		return own(name), nil
	}
	return source.Dial(ctx, spec)
}

func specOf(s site.Site, name string) (site.Hypervisor, error) {
	spec, ok := s.Hypervisors[name]
	if !ok {
		return spec, fault.Unknown("hypervisor", name, slices.Sorted(maps.Keys(s.Hypervisors)))
	}
	return spec, nil
}

// Answer is what a source said when it was asked for its machines.
type Answer struct {
	Source   string
	Machines []source.Machine
	// Facts are what it says of itself, nil where it was not asked for that.
	Facts *source.Facts
	Err   error
}

// Ask asks sources of a site for their machines, several at once and each within a limit of time; none named means all. An answer that
// is a few seconds old will do, unless fresh. Answers come in the order of the names.
func (inv *Inventory) Ask(ctx context.Context, s site.Site, fresh bool, names ...string) []Answer {
	if names == nil {
		names = Everywhere(s)
	}
	out := make([]Answer, len(names))
	inv.AskEach(ctx, s, fresh, names, func(i int, a Answer) { out[i] = a })
	return out
}

// AskEach is Ask that tells each answer when it comes, and which of the names it is from; told is called by several goroutines.
func (inv *Inventory) AskEach(ctx context.Context, s site.Site, fresh bool, names []string, told func(int, Answer)) {
	var group errgroup.Group
	group.SetLimit(asksAtOnce)
	for i, name := range names {
		group.Go(func() error {
			told(i, inv.ask(ctx, s, name, fresh))
			return nil
		})
	}
	group.Wait()
}

// Everywhere names all sources of a site.
func Everywhere(s site.Site) []string { return slices.Sorted(maps.Keys(s.Hypervisors)) }

// ask asks one source. Who asks while it is being asked waits for the same answer.
func (inv *Inventory) ask(ctx context.Context, s site.Site, name string, fresh bool) Answer {
	spec := s.Hypervisors[name]
	inv.mu.Lock()
	if known, ok := inv.answers[name]; ok && !fresh && time.Since(known.at) < answerAge && reflect.DeepEqual(known.spec, spec) {
		inv.mu.Unlock()
		return known.Answer
	}
	if q := inv.asked[name]; q != nil && !fresh {
		inv.mu.Unlock()
		select {
		case <-q.done:
			return q.answer
		case <-ctx.Done():
			return Answer{Source: name, Err: context.Cause(ctx)}
		}
	}
	q := &question{done: make(chan struct{})}
	inv.asked[name] = q
	inv.mu.Unlock()
	describe := fresh || time.Since(inv.lastTold(name)) > describeEvery
	q.answer = inv.list(ctx, s, name, describe)
	inv.mu.Lock()
	if inv.asked[name] == q {
		delete(inv.asked, name)
	}
	delete(inv.answers, name)
	if q.answer.Err == nil { // one that did not answer is asked again at once
		inv.answers[name] = remembered{q.answer, spec, time.Now()}
	}
	if q.answer.Facts != nil {
		inv.told[name] = time.Now()
	}
	inv.mu.Unlock()
	close(q.done)
	return q.answer
}

func (inv *Inventory) lastTold(name string) time.Time {
	inv.mu.Lock()
	defer inv.mu.Unlock()
	return inv.told[name]
}

func (inv *Inventory) list(ctx context.Context, s site.Site, name string, describe bool) Answer {
	ctx, cancel := context.WithTimeoutCause(ctx, answerTime, fmt.Errorf("%w within %s", source.ErrUnreachable, answerTime))
	defer cancel()
	a := Answer{Source: name}
	h, err := inv.Connect(ctx, s, name)
	if err == nil {
		a.Machines, err = h.Machines(ctx)
		if teller, ok := h.(source.Describer); ok && describe && err == nil {
			if facts, told := teller.Describe(ctx); told == nil {
				a.Facts = &facts
			} else {
				inv.log.Warn("a hypervisor does not say what it is", "hypervisor", name, "error", told)
			}
		}
		h.Close()
		if err != nil {
			err = fmt.Errorf("hypervisor %s: %w", name, err)
		}
	}
	a.Err = err
	return a
}

// Silent maps each source that did not answer to the reason.
func Silent(answers []Answer) map[string]string {
	silent := map[string]string{}
	for _, a := range answers {
		if a.Err != nil {
			silent[a.Source] = a.Err.Error()
		}
	}
	return silent
}

// Find asks every source for its machines and records them.
func (inv *Inventory) Find(ctx context.Context) ([]wire.Found, error) {
	s, err := inv.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	return inv.Record(ctx, inv.Ask(ctx, s, true))
}

// Look asks one source for its machines, if the site has it, and records them.
func (inv *Inventory) Look(ctx context.Context, name string) error {
	s, err := inv.rec.Site(ctx)
	if _, has := s.Hypervisors[name]; err != nil || !has {
		return err
	}
	_, err = inv.Record(ctx, inv.Ask(ctx, s, true, name))
	return err
}

// Record records the machines that sources told of.
func (inv *Inventory) Record(ctx context.Context, answers []Answer) ([]wire.Found, error) {
	out, moved, err := inv.record(ctx, answers)
	if err == nil && moved > 0 && len(answers) > 1 {
		// What was told of a machine before it was known that it had moved is news now.
		out, _, err = inv.record(ctx, answers)
	}
	return out, err
}

func (inv *Inventory) record(ctx context.Context, answers []Answer) (out []wire.Found, moved int, err error) {
	out = []wire.Found{}
	for _, a := range answers {
		f := wire.Found{Hypervisor: a.Source, Copies: []string{}}
		if a.Err != nil {
			f.Error = a.Err.Error()
			out = append(out, f)
			if err := inv.rec.Miss(ctx, a.Source, f.Error); err != nil {
				return nil, 0, err
			}
			continue
		}
		machines := make([]records.Machine, 0, len(a.Machines))
		for _, g := range a.Machines {
			m := records.Machine{Name: g.Name, UUID: g.UUID, State: g.State, Tags: g.Tags, Disks: []records.MachineDisk{}}
			for _, d := range g.Disks {
				m.Disks = append(m.Disks, records.MachineDisk(d))
			}
			machines = append(machines, m)
		}
		copies, gone, err := inv.rec.SaveMachines(ctx, a.Source, machines)
		if err != nil {
			return nil, 0, err
		}
		moved += gone
		f.Copies, f.Machines = copies, len(machines)
		var told *records.Told
		if a.Facts != nil {
			t := records.Told(*a.Facts)
			told = &t
		}
		if err := inv.rec.Hear(ctx, a.Source, f.Machines, told); err != nil {
			return nil, 0, err
		}
		out = append(out, f)
	}
	return out, moved, nil
}

// Covered lists the machines that a policy covers, by name.
func (inv *Inventory) Covered(ctx context.Context, policy site.Policy) ([]records.Machine, error) {
	machines, err := inv.rec.Machines(ctx)
	return slices.DeleteFunc(machines, func(m records.Machine) bool {
		return !m.Live() || !policy.Selects(m.Hypervisor, m.Name, m.Tags)
	}), err
}

// SourcesOf lists the sources that a run of a policy has to ask: all of them where it selects by pattern or tag, for a machine that it
// covers may be new, and where one of its machines is off, for it may run elsewhere by now; otherwise those that have the machines.
func (inv *Inventory) SourcesOf(ctx context.Context, s site.Site, policy site.Policy) ([]string, error) {
	everywhere := Everywhere(s)
	if !policy.NamesOnly() {
		return everywhere, nil
	}
	machines, err := inv.rec.Machines(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]bool{}
	missing := map[string]bool{} // by the names that the policy has
	for _, name := range policy.Exact() {
		missing[name] = true
	}
	for _, m := range machines {
		if !m.Live() || !slices.Contains(everywhere, m.Hypervisor) {
			continue
		}
		for _, name := range []string{m.Name, m.Hypervisor + "/" + m.Name} {
			if _, named := missing[name]; named {
				if m.State == machine.Off {
					return everywhere, nil
				}
				found[m.Hypervisor], missing[name] = true, false // another source may have one of that name, too
			}
		}
	}
	if slices.Contains(slices.Collect(maps.Values(missing)), true) {
		return everywhere, nil // it may be anywhere
	}
	return slices.Sorted(maps.Keys(found)), nil
}

// View is a machine as people see it.
type View struct {
	records.MachineRow
	// CoveredBy lists the policies that make images of it: what is kept in place is no copy.
	CoveredBy []string
}

// Views lists machines by their labels, with the cursor of the next page.
func (inv *Inventory) Views(ctx context.Context, f records.MachineFilter) ([]View, string, error) {
	s, err := inv.rec.Site(ctx)
	if err != nil {
		return nil, "", err
	}
	rows, next, err := inv.rec.MachinePage(ctx, f)
	if err != nil {
		return nil, "", err
	}
	names, matchers := s.Matchers()
	out := make([]View, len(rows))
	for i, m := range rows {
		out[i] = View{m, []string{}}
		for k, name := range names {
			if m.Retired == nil && m.Hypervisor != "" && s.Policies[name].Covers() != image.InPlace && matchers[k].Selects(m.Hypervisor, m.Name, m.Tags) {
				out[i].CoveredBy = append(out[i].CoveredBy, name)
			}
		}
	}
	return out, next, nil
}

// Resolve finds the machine that a word means: its label, its name where only one bears it, with its source before it, or its identity.
func (inv *Inventory) Resolve(ctx context.Context, word string) (records.Machine, error) {
	found, err := inv.rec.MachinesCalled(ctx, word)
	if err != nil {
		return records.Machine{}, err
	}
	for _, m := range found {
		if m.Label == word || m.ID == word {
			return m, nil
		}
	}
	if len(found) == 1 {
		return found[0], nil
	}
	if len(found) == 0 {
		labels, err := inv.rec.Labels(ctx)
		if err != nil {
			return records.Machine{}, err
		}
		return records.Machine{}, fault.Unknown("machine", word, labels)
	}
	labels := make([]string, len(found))
	for i, m := range found {
		labels[i] = m.Label
	}
	return records.Machine{}, fmt.Errorf("%w: %q may be %s; write more of it", fault.ErrConflict, word, strings.Join(labels, ", "))
}

// Continue says that a machine is the one that another was: the images of both are of one machine then.
func (inv *Inventory) Continue(ctx context.Context, word, old string) (records.Machine, error) {
	m, err := inv.Resolve(ctx, word)
	if err != nil {
		return m, err
	}
	was, err := inv.Resolve(ctx, old)
	if err != nil {
		return was, err
	}
	switch {
	case m.ID == was.ID:
		return m, fmt.Errorf("%w: %s is the same machine as %s already", fault.ErrConflict, word, old)
	case was.State != machine.Gone:
		return m, fmt.Errorf("%w: machine %s is still there (on %s), so %s can't be what became of it; only one that is gone can be continued", fault.ErrConflict, was.Label, was.Hypervisor, m.Label)
	}
	if err := inv.rec.ContinueMachine(ctx, m.ID, was.ID); err != nil {
		return m, err
	}
	return inv.rec.Machine(ctx, was.ID)
}
