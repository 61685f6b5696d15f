// Package drills brings machines back as if they had all been lost at one moment: each of them, or each group, is started from its newest image in a closed
// network. How long that took, and how old the data is that came back, is kept with pictures, beside what is owed.
package drills

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/inventory"
	"keenlodge/internal/promises"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/trials"
)

// lookEvery is how often it is looked whether a trial is over.
const lookEvery = time.Second

// Drills carries drills out, and knows what earlier ones showed.
type Drills struct {
	rec       *records.Records
	log       *slog.Logger
	inventory *inventory.Inventory
	proofs    *proof.Proofs
	trials    *trials.Trials
	promises  *promises.Promises
	runs      *runs.Engine
	program   string
}

// New makes a Drills and registers drills with the engine. program is under which name results are kept.
func New(rec *records.Records, log *slog.Logger, inv *inventory.Inventory, pr *proof.Proofs, tr *trials.Trials, p *promises.Promises, e *runs.Engine, program string) *Drills {
	d := &Drills{rec: rec, log: log, inventory: inv, proofs: pr, trials: tr, promises: p, runs: e, program: program}
	e.Register(run.Drill, handler{d: d})
	return d
}

// Order asks for a drill of groups and machines, by their names, or of the whole site.
type Order struct {
	Names []string
	Whole bool
	// Together has the machines start in one network, in their order, where they are no group of the site.
	Together bool
	Way      drill.Way
	Note     string
}

// request is what a drill is to do, as it is kept with its run.
type request struct {
	Way   drill.Way        `json:"way"`
	Whole bool             `json:"whole"`
	Wants []drill.Comeback `json:"wants"`
}

// Start queues a drill, for who.
func (d *Drills) Start(ctx context.Context, who string, o Order) (records.Run, error) {
	s, err := d.rec.Site(ctx)
	if err != nil {
		return records.Run{}, err
	}
	if _, err := trials.Hosts(s); err != nil {
		return records.Run{}, err
	}
	q := request{Way: o.Way, Whole: o.Whole}
	switch {
	case o.Whole && len(o.Names) > 0:
		return records.Run{}, fmt.Errorf("%w: a drill is of the whole site, or of what is named", fault.ErrInvalid)
	case o.Whole: // which machines these are takes its time to find out at a large site: the run does
		return d.queue(ctx, who, o, q)
	case len(o.Names) == 0:
		return records.Run{}, fmt.Errorf("%w: a drill is of groups or machines, or of the whole site; name some of them", fault.ErrInvalid)
	default:
		q.Wants, err = d.named(ctx, s, o)
	}
	if err != nil {
		return records.Run{}, err
	}
	if !slices.ContainsFunc(q.Wants, func(m drill.Comeback) bool { return m.Image != "" }) {
		return records.Run{}, fmt.Errorf("%w: none of the machines has an image from which it could start", fault.ErrConflict)
	}
	return d.queue(ctx, who, o, q)
}

func (d *Drills) queue(ctx context.Context, who string, o Order, q request) (records.Run, error) {
	return d.runs.Queue(ctx, runs.Order{Kind: run.Drill, Cause: run.Hand, Who: who, Note: o.Note, Request: q})
}

// named is what is asked for by names: of groups first, of machines where no group is called so.
func (d *Drills) named(ctx context.Context, s site.Site, o Order) (wants []drill.Comeback, err error) {
	party := 0
	for i, name := range o.Names {
		g, isGroup := s.Groups[name]
		if isGroup && o.Together {
			return nil, fmt.Errorf("%w: %s is a group already; name its machines, or leave --together away", fault.ErrInvalid, name)
		}
		if slices.Contains(o.Names[:i], name) {
			return nil, fmt.Errorf("%w: %s is named twice", fault.ErrInvalid, name)
		}
		if !o.Together || i == 0 {
			party++
		}
		if !isGroup {
			known, err := d.inventory.Resolve(ctx, name)
			if errors.Is(err, fault.ErrNotFound) && len(s.Groups) > 0 {
				err = fmt.Errorf("%w; and there are groups %s", err, strings.Join(slices.Sorted(maps.Keys(s.Groups)), ", "))
			}
			if err != nil {
				return nil, err
			}
			m, err := d.trials.Member(ctx, known.ID)
			if err != nil {
				return nil, err
			}
			one, err := d.want(ctx, m, party, "")
			if err != nil {
				return nil, err
			}
			wants = append(wants, one)
			continue
		}
		members, err := d.group(ctx, g, name, party)
		if err != nil {
			return nil, err
		}
		wants = append(wants, members...)
	}
	return wants, nil
}

func (d *Drills) group(ctx context.Context, g site.Group, name string, party int) (wants []drill.Comeback, err error) {
	for _, word := range g.Machines {
		m, err := d.trials.Member(ctx, word)
		if err != nil {
			return nil, err
		}
		one, err := d.want(ctx, m, party, name)
		if err != nil {
			return nil, err
		}
		wants = append(wants, one)
	}
	return wants, nil
}

// whole is the whole site: its groups, and each other machine that is there or has an image.
func (d *Drills) whole(ctx context.Context, s site.Site) (wants []drill.Comeback, err error) {
	party, grouped := 0, map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(s.Groups)) {
		party++
		members, err := d.group(ctx, s.Groups[name], name, party)
		if err != nil {
			return nil, err
		}
		for _, m := range members {
			grouped[m.MachineID] = true
		}
		wants = append(wants, members...)
	}
	machines, err := d.rec.MachineStandings(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range machines {
		if grouped[m.ID] || m.Retired != nil || !m.Live() && m.NewestTaken == nil {
			continue
		}
		party++
		member, err := d.trials.Member(ctx, m.ID)
		if err != nil {
			return nil, err
		}
		one, err := d.want(ctx, member, party, "")
		if err != nil {
			return nil, err
		}
		wants = append(wants, one)
	}
	return wants, nil
}

// want is a machine with its newest image from which it can start, and what is owed to it.
func (d *Drills) want(ctx context.Context, m trials.Member, party int, group string) (drill.Comeback, error) {
	one := drill.Comeback{Machine: m.Name, MachineID: m.ID, Party: party, Group: group, Standing: drill.Pending}
	owed, ok, err := d.promises.Of(ctx, m.ID)
	if err != nil {
		return one, err
	}
	if ok {
		one.Owed = drill.Allowance{Back: owed.Owed.Back, Age: owed.Owed.Age}
	}
	if m.Image == nil {
		one.Standing, one.Why = drill.Impossible, m.Why
		return one, nil
	}
	one.Image, one.Store, one.Taken = m.Image.ID, m.Image.Store, &m.Image.Taken
	return one, nil
}

// handler carries drills out.
type handler struct {
	runs.Base
	d *Drills
}

// AtOnce implements [runs.Limited].
func (handler) AtOnce() int { return 2 }

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[request](r.Run)
	if err != nil {
		return err
	}
	s, err := h.d.rec.Site(ctx)
	if err != nil {
		return err
	}
	if q.Whole {
		if q.Wants, err = h.d.whole(ctx, s); err != nil {
			return err
		}
	}
	u := &underWay{d: h.d, r: r, places: make(chan struct{}, max(1, trials.Places(s))), result: drill.Result{Run: r.ID, Who: r.Who, Note: r.Note, Way: q.Way, Whole: q.Whole, Program: h.d.program, Began: time.Now(), Machines: q.Wants}}
	for i := range u.result.Machines {
		if m := &u.result.Machines[i]; m.Standing == drill.Pending {
			u.all = append(u.all, i)
		} else {
			r.Warn(ctx, m.Machine, "it can't be brought back: %s", m.Why)
		}
	}
	return u.carryOut(ctx)
}

// underWay is a drill that goes.
type underWay struct {
	d *Drills
	r *runs.Run
	// all are the places of those to be brought back in the result.
	all    []int
	places chan struct{}

	mu     sync.Mutex
	result drill.Result
}

func (u *underWay) carryOut(ctx context.Context) error {
	every := make([]int, len(u.result.Machines))
	for i := range every {
		every[i] = i
	}
	if err := u.save(ctx, every...); err != nil {
		return err
	}
	tasks := make([]records.Task, len(u.all))
	for i, place := range u.all {
		m := u.result.Machines[place]
		tasks[i] = records.Task{Machine: m.Machine, MachineID: m.MachineID, Image: m.Image}
	}
	tasks, err := u.r.AddTasks(ctx, tasks)
	if err != nil {
		return err
	}
	var going sync.WaitGroup
	for begin := 0; begin < len(u.all); {
		end := begin
		for end < len(u.all) && u.result.Machines[u.all[end]].Party == u.result.Machines[u.all[begin]].Party {
			end++
		}
		members, own, over := u.all[begin:end], tasks[begin:end], make(chan struct{})
		leave := func() {}
		select { // groups go first, and all in their order
		case u.places <- struct{}{}:
			leave = func() { <-u.places }
		case <-ctx.Done():
		}
		for i, place := range members {
			going.Go(func() {
				u.r.Perform(ctx, own[i], func(ctx context.Context, t *runs.Task) error {
					<-over
					return u.outcome(ctx, t, &u.result.Machines[place])
				})
			})
		}
		going.Go(func() {
			defer leave()
			defer close(over)
			u.bringBack(ctx, members)
		})
		begin = end
	}
	going.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	now := time.Now()
	u.result.Ended = &now
	u.r.Evidence(ctx, "", "%s", u.result.Sum())
	return u.save(ctx, every...)
}

// outcome is what became of a machine, as its task's end.
func (u *underWay) outcome(ctx context.Context, t *runs.Task, m *drill.Comeback) error {
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case m.Standing == drill.Missing:
		return errors.New(m.Why)
	case m.Standing != drill.Back:
		t.Warn("%s", m.Why)
	}
	return nil
}

// bringBack has those of one party tried, and notes what became of each.
func (u *underWay) bringBack(ctx context.Context, members []int) {
	if ctx.Err() != nil {
		return
	}
	q := trials.Request{Group: u.result.Machines[members[0]].Group, WriteOut: u.result.Way == drill.Restored}
	for _, place := range members {
		q.Images = append(q.Images, u.result.Machines[place].Image)
	}
	over, err := u.try(ctx, q)
	if ctx.Err() != nil {
		return
	}
	for _, place := range members {
		m := &u.result.Machines[place]
		seen, trouble := drill.Seen{}, err
		if trouble == nil {
			seen, trouble = u.seen(ctx, over, m.Image, m.MachineID)
		}
		if trouble != nil {
			seen = drill.Seen{Why: trouble.Error()}
		}
		u.mu.Lock()
		m.Trial = over.ID
		m.Judge(u.result.Began, seen)
		u.mu.Unlock()
		u.tell(ctx, m)
		u.keepPictures(ctx, m)
	}
	if err := u.save(ctx, members...); err != nil {
		u.d.log.Warn("what a drill showed so far could not be recorded, and will be at its end", "run", u.r.ID, "error", err)
	}
}

// try has images tried, and returns the run of it once that is over.
func (u *underWay) try(ctx context.Context, q trials.Request) (going records.Run, err error) {
	going, err = u.d.trials.Start(ctx, run.Hand, u.r.Who, q)
	if err != nil {
		return going, err
	}
	id := going.ID
	defer func() { // wherever it stood when the drill was ended, also in the middle of a look
		if ctx.Err() == nil || err == nil {
			return
		}
		if _, left := u.d.runs.Cancel(context.WithoutCancel(ctx), id, u.r.Who, "its drill was ended"); left != nil && !errors.Is(left, fault.ErrConflict) {
			u.d.log.Warn("a trial could not be ended with its drill", "run", id, "error", left)
		}
	}()
	for !going.State.Over() {
		select {
		case <-ctx.Done():
			return going, context.Cause(ctx)
		case <-time.After(lookEvery):
		}
		err = records.Surely(ctx, func(ctx context.Context) (err error) { going, err = u.d.rec.Run(ctx, id); return err })
		if err != nil {
			return records.Run{ID: id}, err
		}
	}
	return going, nil
}

// seen is what a trial showed of an image: a verdict, or the trouble that it came to.
func (u *underWay) seen(ctx context.Context, over records.Run, imageID, machineID string) (drill.Seen, error) {
	proofs, err := u.d.rec.Proofs(ctx, imageID)
	if err != nil {
		return drill.Seen{}, err
	}
	for _, p := range proofs {
		if p.Run == over.ID {
			return drill.Seen{Passed: p.Passed, Why: p.Error, Report: p.Report}, nil
		}
	}
	for _, t := range over.Tasks {
		if t.MachineID == machineID && t.Error != "" {
			return drill.Seen{Why: t.Error}, nil
		}
	}
	why := over.Error
	if why == "" {
		why = fmt.Sprintf("its trial (run %s) is %s", over.ID, over.State)
	}
	return drill.Seen{Why: why}, nil
}

func (u *underWay) tell(ctx context.Context, m *drill.Comeback) {
	if m.Standing == drill.Missing {
		return // its task says why
	}
	u.r.Evidence(ctx, m.Machine, "back after %s, with data that was %s old", m.Held.Round(100*time.Millisecond), m.Age.Round(time.Second))
}

// keepPictures keeps the pictures of a machine's trial with the drill, for its image goes when its time has come.
func (u *underWay) keepPictures(ctx context.Context, m *drill.Comeback) {
	for _, p := range m.Pictures {
		body, _, err := u.d.proofs.Exhibit(ctx, m.Image, p.Name)
		if err == nil {
			err = u.d.rec.KeepDrillPicture(ctx, u.r.ID, p.Name, body)
		}
		if err != nil {
			u.r.Caution(ctx, m.Machine, "a picture of it could not be kept: %v", err)
		}
	}
}

// save records the drill, with its machines at these places.
func (u *underWay) save(ctx context.Context, places ...int) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	return records.Surely(ctx, func(ctx context.Context) error { return u.d.rec.SaveDrill(ctx, u.result, places...) })
}
