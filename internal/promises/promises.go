// Package promises tells what of what is owed to machines is kept, and plans the proofs that keep it: those that were never carried out before those that
// were, of the newest images first, and no more at once than hosts have places for.
package promises

import (
	"context"
	"errors"
	"hash/fnv"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/selection"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lists"
	"keenlodge/internal/places"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/trust"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/trials"
	"keenlodge/internal/wire"
)

const (
	// fresh is how long what is known of promises is remembered at least; rest is how many times as long as it took to find out.
	fresh, rest = 5 * time.Second, 20
	// atOnce is how many proofs of the lodge's own planning that need no host are under way or queued.
	atOnce = 2
	// pause is how long after a proof that the lodge planned could not be carried out, or failed, it plans another one of the machine.
	pause = 6 * time.Hour
	// again is how long after a proof failed the same image is proven again.
	again = 24 * time.Hour
	// lookBack is how many of a machine's newest images are looked at for one that can be proven.
	lookBack = 20
)

// Promises is what is owed, and what is done for it.
type Promises struct {
	rec    *records.Records
	log    *slog.Logger
	stores *stores.Stores
	lists  *lists.Lists
	proofs *proof.Proofs
	trials *trials.Trials

	mu   sync.Mutex
	good time.Time // until when last is
	last []Machine
	// seen is the newest image of each machine for which it was looked whether it changed since it was last tried, with what did.
	seen map[string]seen
}

type seen struct{ image, changed string }

// New makes a Promises.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores, ls *lists.Lists, pr *proof.Proofs, tr *trials.Trials) *Promises {
	return &Promises{rec: rec, log: log, stores: ss, lists: ls, proofs: pr, trials: tr, seen: map[string]seen{}}
}

// Machine is what is owed to a machine, and how that stands.
type Machine struct {
	records.MachineRow
	Policies []string
	Owed     promise.Promise
	Items    []promise.Item
	known    promise.Known
	failedOf map[image.Level]string // the image of the newest proof that failed
}

// Held is what stores have of it.
func (m Machine) Held() []promise.Held { return m.known.Held }

// Worst is how the worst of it stands.
func (m Machine) Worst() promise.Standing { return promise.Worst(m.Items) }

// Machines are all machines to which something is owed, by label; what is known may be some seconds old.
func (p *Promises) Machines(ctx context.Context) ([]Machine, error) {
	p.mu.Lock()
	defer p.mu.Unlock() // who asks meanwhile waits for the same answer
	began := time.Now()
	if began.Before(p.good) {
		return p.last, nil
	}
	found, err := p.look(ctx, began)
	if err == nil {
		p.good, p.last = time.Now().Add(max(fresh, rest*time.Since(began))), found
	}
	return found, err
}

// Filter narrows a listing; empty fields do not. After is the label after which it begins, Limit how many there are to be, 0 for all.
type Filter struct {
	Within    right.Within
	Standing  promise.Standing
	MachineID string
	After     string
	Limit     int
}

// List lists machines to which something is owed, by label, and the label after which there are more.
func (p *Promises) List(ctx context.Context, f Filter) (found []Machine, next string, err error) {
	all, err := p.Machines(ctx)
	for _, m := range all {
		switch in := f.Within; {
		case !in.All && !in.SeenMachines[m.ID] || f.MachineID != "" && m.ID != f.MachineID || f.Standing != "" && m.Worst() != f.Standing || f.After != "" && m.Label <= f.After:
		case f.Limit > 0 && len(found) == f.Limit:
			return found, found[f.Limit-1].Label, nil
		default:
			found = append(found, m)
		}
	}
	return found, "", err
}

// known is what is known of all machines.
type known struct {
	site     site.Site
	policies []string
	matchers []selection.Matcher
	owes     map[string]promise.Promise // by policy
	proofs   map[string][]records.ProofStanding
	images   map[string][]records.ImageStanding
	keys     map[string]records.KeyProof
	drilled  map[string]trust.Drilled // by machine
	carriers map[string]string        // by store
	// noTrials says that no hypervisor may hold trials.
	noTrials bool
}

// look finds what is known of all machines, and judges each to which something is owed.
func (p *Promises) look(ctx context.Context, now time.Time) (out []Machine, err error) {
	k := known{owes: map[string]promise.Promise{}, proofs: map[string][]records.ProofStanding{}, images: map[string][]records.ImageStanding{}}
	if k.site, err = p.rec.Site(ctx); err != nil {
		return nil, err
	}
	k.carriers = places.Carriers(k.site)
	k.policies, k.matchers = k.site.Matchers()
	for _, name := range k.policies {
		if o := k.site.Policies[name].Owes(); !o.Empty() {
			k.owes[name] = o
		}
	}
	if len(k.owes) == 0 {
		return nil, nil
	}
	machines, err := p.rec.MachineStandings(ctx)
	if err != nil {
		return nil, err
	}
	proofs, err := p.rec.ProofStandings(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range proofs {
		k.proofs[one.MachineID] = append(k.proofs[one.MachineID], one)
	}
	images, err := p.rec.ImageStandings(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range images {
		k.images[one.MachineID] = append(k.images[one.MachineID], one)
	}
	if k.keys, err = p.rec.KeyProofs(ctx); err != nil {
		return nil, err
	}
	drilled, err := p.rec.DrillStandings(ctx)
	if err != nil {
		return nil, err
	}
	k.drilled = map[string]trust.Drilled{}
	for _, one := range drilled {
		k.drilled[one.MachineID] = one
	}
	_, none := trials.Hosts(k.site)
	k.noTrials = none != nil
	for _, row := range machines {
		if row.Retired != nil || !row.Live() && row.NewestTaken == nil {
			continue
		}
		if m, owed := k.of(row, now); owed {
			m.Items = m.Owed.Judge(m.known, now)
			out = append(out, m)
		}
	}
	return out, nil
}

// of is what is known of a machine; owed is false where nothing is owed to it.
func (k known) of(row records.MachineRow, now time.Time) (m Machine, owed bool) {
	m = Machine{MachineRow: row, failedOf: map[image.Level]string{}}
	m.known = promise.Known{Since: now, Proven: map[image.Level]time.Time{}, Failed: map[image.Level]promise.Failure{}, Impossible: map[image.Level]string{}}
	disks := false
	for i, name := range k.policies {
		o, ok := k.owes[name]
		if !ok || row.Hypervisor == "" || !k.matchers[i].Selects(row.Hypervisor, row.Name, row.Tags) {
			continue
		}
		m.Policies, m.Owed = append(m.Policies, name), m.Owed.Stricter(o)
		policy := k.site.Policies[name]
		disks = disks || policy.Covers() == image.WholeMachine
		m.known.Sealed = m.known.Sealed || k.site.Stores[policy.Store].Sealed
		if at := k.keys[policy.Store].At; at.After(m.known.KeyProven) {
			m.known.KeyProven = at
		}
	}
	if row.NewestTaken != nil {
		m.known.Newest = *row.NewestTaken
	}
	if !disks {
		for _, l := range []image.Level{image.ByMount, image.ByBoot} {
			m.known.Impossible[l] = "its policies keep no image of all its disks"
		}
	} else if k.noTrials {
		m.known.Impossible[image.ByBoot] = "no hypervisor of the site may hold trials"
	}
	if d, ok := k.drilled[row.ID]; ok {
		m.known.Drilled = &promise.Drilled{At: d.Began, Back: d.Report.Held, Why: d.Report.Why}
	}
	k.count(&m, now)
	m.trust(k.proofs[row.ID])
	return m, len(m.Policies) > 0
}

// count finds what stores have of a machine, and which of that counts.
func (k known) count(m *Machine, now time.Time) {
	var held []promise.Held
	for _, one := range k.images[m.ID] {
		if one.First.Before(m.known.Since) {
			m.known.Since = one.First
		}
		spec := k.site.Stores[one.Store]
		held = append(held, promise.Held{Store: one.Store, Medium: spec.Medium, Place: spec.Place, Carrier: k.carriers[one.Store], Newest: one.Newest, Proven: one.Proven, Failed: one.Failed})
	}
	m.known.Held = promise.Count(held, k.site.Hypervisors[m.Hypervisor].Place, m.Owed.Age, now)
}

// trust notes which proofs passed, and which failed that no later one has outdone.
func (m *Machine) trust(proofs []records.ProofStanding) {
	for _, one := range proofs {
		if one.Failed {
			m.known.Failed[one.Level] = promise.Failure{At: one.Ended, Why: one.Error}
			m.failedOf[one.Level] = one.Image
		}
		for _, l := range image.Levels {
			if one.Passed != nil && (one.Level == l || one.Level.AtLeast(l) && !one.OfFiles) && one.Passed.After(m.known.Proven[l]) {
				m.known.Proven[l] = *one.Passed
			}
		}
	}
	for l, f := range m.known.Failed { // a later one of a higher level has shown that it is well
		if m.known.Proven[l].After(f.At) {
			delete(m.known.Failed, l)
		}
	}
}

// wanted is a proof that is due.
type wanted struct {
	m     Machine
	level image.Level
	never bool
}

// Plan queues proofs that are due, as far as there is room for them.
func (p *Promises) Plan(ctx context.Context) error {
	machines, err := p.Machines(ctx)
	if err != nil || len(machines) == 0 {
		return err
	}
	s, err := p.rec.Site(ctx)
	if err != nil {
		return err
	}
	busy, own, err := p.rec.BeingProven(ctx, pause)
	if err != nil {
		return err
	}
	room := atOnce + trials.Places(s) - own
	if room <= 0 {
		return nil
	}
	now := time.Now()
	var due []wanted
	for _, m := range machines {
		if slices.Contains(busy, m.ID) || m.NewestImage == nil {
			continue
		}
		for _, l := range slices.Backward(image.Levels) { // one of a higher level is one of the lower ones, too
			if m.Owed.Proofs[l] == 0 || m.known.Impossible[l] != "" {
				continue
			}
			last := m.known.Proven[l]
			if now.Before(m.Owed.Due(l, last, nth(m.ID))) && (l != image.ByBoot || p.changed(ctx, m) == "") {
				continue
			}
			if f, failed := m.known.Failed[l]; failed && m.failedOf[l] == *m.NewestImage && now.Sub(f.At) < again {
				continue
			}
			due = append(due, wanted{m: m, level: l, never: last.IsZero()})
			break
		}
	}
	slices.SortStableFunc(due, func(a, b wanted) int {
		if a.never != b.never {
			if a.never {
				return -1
			}
			return 1
		}
		return b.m.known.Newest.Compare(a.m.known.Newest)
	})
	var errs []error
	for _, w := range due {
		if room == 0 {
			break
		}
		queued, err := p.queue(ctx, w)
		if queued {
			room--
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// nth tells machines apart, so that their proofs are spread.
func nth(id string) uint32 {
	h := fnv.New32a()
	h.Write([]byte(id))
	return h.Sum32()
}

// queue queues a proof of the newest image that can be proven so.
func (p *Promises) queue(ctx context.Context, w wanted) (queued bool, err error) {
	if w.level == image.ByBoot {
		m, err := p.trials.Newest(ctx, w.m.ID)
		if err != nil || m == nil {
			return false, err
		}
		_, err = p.trials.Start(ctx, run.Upkeep, "", trials.Request{Images: []string{m.ID}})
		return err == nil, err
	}
	images, _, err := p.rec.ImagePage(ctx, records.ImageFilter{MachineID: w.m.ID, Page: listing.Page{Limit: lookBack}})
	if err == nil {
		images, err = p.stores.Near(ctx, images)
	}
	if err != nil {
		return false, err
	}
	i := slices.IndexFunc(images, func(m records.Image) bool {
		return m.State == image.Usable && w.level.Fits(m.Scope)
	})
	if i < 0 {
		return false, nil
	}
	_, err = p.proofs.Queue(ctx, run.Upkeep, "", proof.Request{Image: images[i].ID, Level: w.level})
	return err == nil, err
}

// changed says what of a machine is another than when it was last tried, "" for nothing: its disks, its definition, what it boots. Then it is tried before
// it is due.
func (p *Promises) changed(ctx context.Context, m Machine) string {
	p.mu.Lock()
	last := p.seen[m.ID]
	p.mu.Unlock()
	if last.image == *m.NewestImage {
		return last.changed
	}
	what, err := p.compare(ctx, m)
	if errors.Is(err, store.ErrAway) {
		return ""
	}
	if err != nil {
		p.log.Info("whether a machine changed since it was tried could not be seen", "machine", m.Label, "error", err)
		return ""
	}
	p.mu.Lock()
	p.seen[m.ID] = seen{*m.NewestImage, what}
	p.mu.Unlock()
	return what
}

func (p *Promises) compare(ctx context.Context, m Machine) (string, error) {
	before, err := p.rec.LastTrial(ctx, m.ID)
	if err != nil || before == nil || before.Image == *m.NewestImage {
		return "", err
	}
	old, err := p.rec.Image(ctx, before.Image)
	if err != nil {
		return "", err
	}
	now, st, err := p.stores.OfImage(ctx, *m.NewestImage)
	if err != nil {
		return "", err
	}
	if !slices.EqualFunc(old.Disks, now.Disks, func(a, b records.ImageDisk) bool { return a.Target == b.Target && a.Size == b.Size }) {
		return "its disks", nil
	}
	if old.Store != now.Store || old.Gone != nil {
		return "", nil // there is nothing to compare with
	}
	one, err := st.ReadImage(ctx, old.ID)
	if err != nil {
		return "", err
	}
	two, err := st.ReadImage(ctx, now.ID)
	if err != nil {
		return "", err
	}
	if what := trials.Changed(one, two); what != "" {
		return what, nil
	}
	if what, err := p.boots(ctx, st, one, two); what != "" || err != nil {
		return what, err
	}
	shift, known, err := p.lists.Between(ctx, m.ID, one.ID, two.ID)
	if err == nil && known && len(shift.Boot) > 0 {
		return "in its /boot: " + strings.Join(shift.Boot[:min(len(shift.Boot), 3)], ", "), nil
	}
	return "", err
}

// boots compares what a machine's firmware and boot loader read of its first disk, in two of its images.
func (p *Promises) boots(ctx context.Context, st store.Store, was, is *image.Manifest) (string, error) {
	if len(was.Disks) == 0 || len(is.Disks) == 0 {
		return "", nil
	}
	one, err := st.OpenDisk(ctx, was, was.Disks[0])
	if err != nil {
		return "", err
	}
	defer one.Close()
	two, err := st.OpenDisk(ctx, is, is.Disks[0])
	if err != nil {
		return "", err
	}
	defer two.Close()
	return trials.BootChanged(ctx, one, two)
}

// Sum sums up how it stands, within a reach, and names so many machines of each sort.
func (p *Promises) Sum(ctx context.Context, in right.Within, most int) (out wire.Owed, err error) {
	machines, err := p.Machines(ctx)
	out.Overdue, out.Failed, out.Impossible = wire.Some{Names: []string{}}, wire.Some{Names: []string{}}, wire.Some{Names: []string{}}
	for _, m := range machines {
		if !in.All && !in.SeenMachines[m.ID] {
			continue
		}
		out.Machines++
		switch m.Worst() {
		case promise.Kept:
			out.Kept++
		case promise.Overdue:
			out.Overdue.Add(m.Label, most)
		case promise.Failed:
			out.Failed.Add(m.Label, most)
		case promise.Impossible:
			out.Impossible.Add(m.Label, most)
		}
	}
	return out, err
}

// Of is what is owed to a machine, and how that stands; ok is false where nothing is.
func (p *Promises) Of(ctx context.Context, machineID string) (m Machine, ok bool, err error) {
	machines, err := p.Machines(ctx)
	i := slices.IndexFunc(machines, func(m Machine) bool { return m.ID == machineID })
	if err != nil || i < 0 {
		return m, false, err
	}
	return machines[i], true, nil
}

// Status is one line on how far a machine's newest image can be trusted; where that has no proof, on the newest that has one.
func (p *Promises) Status(ctx context.Context, m Machine) (string, error) {
	proofs, err := p.rec.NewestProofs(ctx, m.ID)
	if err != nil {
		return "", err
	}
	status, _, _, err := p.proofs.Status(ctx, records.Image{MachineID: m.ID}, proofs)
	return status, err
}
