package lodge

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/openlayout"
	"keenlodge/internal/records"
)

// set is the images of one machine under one policy in one store, oldest first; those made by hand may be kept apart.
type set struct {
	machine, store string
	apart          bool
	images         []records.Image
}

func (s set) String() string {
	if s.apart {
		return s.machine + " (by hand)"
	}
	return s.machine
}

// sets lists a policy's sets in a store. Those that it had in another store before are its no more: nothing rotates them.
func (l *Lodge) sets(ctx context.Context, policy, store string) ([]set, error) {
	images, err := l.rec.Images(ctx, records.ImageFilter{Policy: policy, Store: store})
	if err != nil {
		return nil, err
	}
	var out []set
	at := map[key]int{}
	for _, m := range slices.Backward(images) { // they come newest first
		k := key{m.Machine, m.Apart}
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, set{machine: m.Machine, store: m.Store, apart: m.Apart})
		}
		out[i].images = append(out[i].images, m)
	}
	return out, nil
}

// key tells one set of a policy in a store from another.
type key struct {
	machine string
	apart   bool
}

// planned is the set as the planner sees it.
func (s set) planned() []rotation.Image {
	out := make([]rotation.Image, len(s.images))
	for i, m := range s.images {
		out[i] = rotation.Image{ID: m.ID, Taken: m.Taken, Capture: m.Capture, Base: m.Base, State: m.State, Pinned: m.Pinned, Bytes: m.Stored}
		if !m.Failed {
			out[i].Proven = m.Proven
		}
	}
	return out
}

// Preview is what the next rotation of a set would do.
type Preview struct {
	Machine string          `json:"machine"`
	Store   string          `json:"store"`
	Apart   bool            `json:"apart" doc:"images made by hand, a set of their own"`
	Rule    string          `json:"rule"`
	Guard   string          `json:"guard" doc:"why an unattended rotation would drop nothing, or empty"`
	Gives   int64           `json:"gives" doc:"bytes that the images to drop took when they were stored; in a pooled store others may need some of them still"`
	Images  []PreviewedFate `json:"images"`
}

// PreviewedFate is an image's verdict in a preview.
type PreviewedFate struct {
	ID      string           `json:"id"`
	Taken   time.Time        `json:"taken"`
	Capture string           `json:"capture"`
	Base    string           `json:"base"`
	Verdict rotation.Verdict `json:"verdict"`
	Why     string           `json:"why"`
	Stored  int64            `json:"stored"`
}

// PreviewRotation tells what the next rotation of a policy would do to today's images, without what the floor of a store may ask
// for; rule, if not empty, replaces the policy's own.
func (l *Lodge) PreviewRotation(ctx context.Context, policy, rule string) ([]Preview, error) {
	s, spec, err := l.policy(ctx, policy)
	if err != nil {
		return nil, err
	}
	if rule == "" {
		rule = spec.Rotation
	}
	parsed, err := rotation.Parse(rule)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	sets, err := l.sets(ctx, policy, spec.Store)
	if err != nil {
		return nil, err
	}
	out := []Preview{}
	for _, set := range sets {
		images := set.planned()
		plan := rotation.Make(parsed, time.Now().In(s.Location()), images)
		p := Preview{set.machine, set.store, set.apart, rule, plan.Guard, plan.Gives(images), []PreviewedFate{}}
		for i, d := range plan.Decisions {
			m := set.images[i]
			p.Images = append(p.Images, PreviewedFate{d.ID, m.Taken, m.Capture, m.Base, d.Verdict, d.Why, m.Stored})
		}
		out = append(out, p)
	}
	return out, nil
}

// policy finds a policy of the site.
func (l *Lodge) policy(ctx context.Context, name string) (site.Site, site.Policy, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return s, site.Policy{}, err
	}
	spec, ok := s.Policies[name]
	if !ok {
		return s, spec, notFound("policy", name, keys(s.Policies))
	}
	return s, spec, nil
}

// ConfirmRotation lets a rotation happen that the guard holds back. drops are the images that a person has seen to go: if they are not
// what goes now, nothing does.
func (l *Lodge) ConfirmRotation(ctx context.Context, policy string, drops []string) ([]string, error) {
	s, spec, err := l.policy(ctx, policy)
	if err != nil {
		return nil, err
	}
	sets, err := l.previewed(ctx, s, policy, spec)
	if err != nil {
		return nil, err
	}
	var going []records.Drop
	var ids []string
	for _, p := range sets {
		for _, d := range p.Plan.Decisions {
			if d.Verdict == rotation.Drop {
				going, ids = append(going, records.Drop{ID: d.ID, Why: d.Why + " (confirmed by hand)"}), append(ids, d.ID)
			}
		}
	}
	slices.Sort(ids)
	seen := slices.Sorted(slices.Values(drops))
	if !slices.Equal(ids, slices.Compact(seen)) {
		return nil, fmt.Errorf("%w: what goes has changed since it was looked at: it is %d images now, %d were confirmed; look again: keenlodge rotation preview %s", ErrConflict, len(ids), len(seen), policy)
	}
	if err := l.rec.DropImages(ctx, going); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrConflict, err)
	}
	if err := l.rec.SetNotice(ctx, policy, ""); err != nil {
		return nil, err
	}
	return ids, nil
}

// previewed plans all sets of a policy by its own rule.
func (l *Lodge) previewed(ctx context.Context, s site.Site, policy string, spec site.Policy) ([]rotation.Set, error) {
	rule, err := rotation.Parse(spec.Rotation)
	if err != nil {
		return nil, err
	}
	sets, err := l.sets(ctx, policy, spec.Store)
	if err != nil {
		return nil, err
	}
	var out []rotation.Set
	for _, set := range sets {
		images := set.planned()
		out = append(out, rotation.Set{Images: images, Plan: rotation.Make(rule, time.Now().In(s.Location()), images)})
	}
	return out, nil
}

// rotate drops what the policy's rule, and the store's floor, let go from the sets of these machines. state is "warned" where the
// guard held it back, or the floor can't be reached.
func (l *Lodge) rotate(ctx context.Context, s site.Site, run records.Run, policy site.Policy, st shelf, machines []string) (state string, err error) {
	rule, err := rotation.Parse(policy.Rotation)
	if err != nil {
		return "failed", err
	}
	all, err := l.sets(ctx, run.Policy, policy.Store)
	if err != nil {
		return "failed", err
	}
	now := time.Now().In(s.Location())
	var sets []set
	var plans []rotation.Set
	for _, set := range all {
		if slices.Contains(machines, set.machine) {
			images := set.planned()
			sets, plans = append(sets, set), append(plans, rotation.Set{Images: images, Plan: rotation.Make(rule, now, images)})
		}
	}
	state = "done"
	short, err := l.relieve(ctx, s, run, policy.Store, st, plans, now)
	if err != nil {
		return "failed", err
	}
	if short {
		state = "warned"
	}
	var notices []string
	for i, set := range sets {
		plan := plans[i].Plan
		if plan.Guard != "" {
			state = "warned"
			notices = append(notices, fmt.Sprintf("rotation of %s is held back: %s", set, plan.Guard))
			l.say(ctx, run.ID, set.machine, fmt.Sprintf("warning: %s Nothing was dropped; correct the rule or the clock, or let it happen: keenlodge rotation confirm %s", notices[len(notices)-1], run.Policy))
			continue
		}
		if err := l.drop(ctx, run, set, plan); err != nil {
			return "failed", err
		}
		if policy.Fold {
			if err := l.foldHeld(ctx, run, set, plan, st, s.Stores[policy.Store].Compress); err != nil {
				return "failed", err
			}
		}
	}
	if err := l.rec.SetNotice(ctx, run.Policy, strings.Join(notices, "; ")); err != nil {
		return "failed", err
	}
	if s.Stores[policy.Store].GraceTime() == 0 {
		_, err = l.letGo(ctx, policy.Store, st, 0, func(text string) { l.say(ctx, run.ID, "", text) })
	}
	return state, err
}

// drop records what goes, and tells it.
func (l *Lodge) drop(ctx context.Context, run records.Run, set set, plan rotation.Plan) error {
	var drops []records.Drop
	for _, d := range plan.Decisions {
		if d.Verdict == rotation.Drop {
			drops = append(drops, records.Drop{ID: d.ID, Why: d.Why})
		}
	}
	if err := l.rec.DropImages(ctx, drops); err != nil {
		return err
	}
	for _, d := range drops {
		l.say(ctx, run.ID, set.machine, fmt.Sprintf("dropped image %s: %s", d.ID, d.Why))
	}
	return nil
}

// relieve plans further drops where the store is below its floor, or would be when the next images of these sets come: otherwise
// those would be refused. What is gone already but still in its grace leaves first.
func (l *Lodge) relieve(ctx context.Context, s site.Site, run records.Run, name string, st shelf, plans []rotation.Set, now time.Time) (short bool, err error) {
	var next int64
	for _, p := range plans {
		next += nextSize(p.Images)
	}
	need, err := l.lacks(ctx, s.Stores[name], st, next)
	if err != nil || need == 0 {
		return false, err
	}
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	why := fmt.Sprintf("store %s must keep %s free and lacks %s for that and for the next images", name, floorWords(s.Stores[name]), show(need))
	l.say(ctx, run.ID, "", why+"; the grace of what is dropped ends early")
	for _, p := range plans {
		need -= p.Plan.Gives(p.Images)
	}
	gone, err := l.rec.Leaving(ctx, name, 0)
	if err != nil {
		return false, err
	}
	for _, m := range gone {
		need -= m.Stored
	}
	missing := rotation.Relieve(plans, need, why, now)
	if err := l.SweepSoon(ctx, SweepRequest{Store: name, Now: true}); err != nil {
		return false, err
	}
	if missing > 0 {
		l.say(ctx, run.ID, "", fmt.Sprintf("warning: the floor of store %s can't be reached by rotation: about %s are still missing, and all that is left must stay (pins, proven and newest images, and what they lean on)", name, show(missing)))
	}
	return missing > 0, nil
}

func floorWords(spec site.Store) string {
	words := spec.Floor
	if spec.FloorInodes > 0 {
		words = strings.TrimPrefix(fmt.Sprintf("%s and %d inodes", words, spec.FloorInodes), " and ")
	}
	return words
}

// nextSize is what a set's next image is likely to take: as much as the larger of its last two, and a quarter more.
func nextSize(images []rotation.Image) (bytes int64) {
	n := 0
	for _, m := range slices.Backward(images) {
		if m.State == "usable" && n < 2 {
			bytes, n = max(bytes, m.Bytes), n+1
		}
	}
	return bytes + bytes/4
}

// lacks is how many bytes must go until a store has its floor and so many bytes more. A lack of inodes is told as the bytes of as
// many packs. A store without a floor lacks nothing.
func (l *Lodge) lacks(ctx context.Context, spec site.Store, st shelf, more int64) (bytes int64, err error) {
	if spec.FloorBytes() == 0 && spec.FloorInodes == 0 {
		return 0, nil
	}
	room, err := st.Medium().Room(ctx)
	if err != nil {
		return 0, err
	}
	if room.FreeBytes >= 0 {
		bytes = max(0, spec.FloorBytes()+more-room.FreeBytes)
	}
	if room.FreeInodes >= 0 && room.TotalInodes > 0 {
		bytes = max(bytes, (spec.FloorInodes-room.FreeInodes)*packBytes)
	}
	return bytes, nil
}

// letGo takes images out of a store that are gone for longer than grace, and tells how many bytes they had taken. The records
// come first: a kill in between leaves an image that nobody lists, and the next sweep goes on with it.
func (l *Lodge) letGo(ctx context.Context, name string, st shelf, grace time.Duration, say func(string)) (gone []records.Image, err error) {
	leaving, err := l.rec.Leaving(ctx, name, grace)
	if err != nil {
		return nil, err
	}
	for _, m := range leaving {
		ok, err := l.rec.Leave(ctx, m.ID)
		if err != nil {
			return gone, err
		}
		if !ok {
			continue // brought back just now, or an image that leans on it is still there
		}
		if err := st.DropImage(ctx, m.ID); err != nil {
			return gone, err
		}
		if err := l.rec.Left(ctx, m.ID); err != nil {
			return gone, err
		}
		gone = append(gone, m)
		say(fmt.Sprintf("image %s of %s left store %s", m.ID, m.Machine, name))
	}
	return gone, nil
}

// UndropImage brings a dropped image back, and all that it leans on.
func (l *Lodge) UndropImage(ctx context.Context, id string) (back []string, err error) {
	m, err := l.rec.Image(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return nil, fmt.Errorf("%w: no image is called %q; look at: keenlodge image history", ErrNotFound, id)
	}
	if err != nil {
		return nil, err
	}
	if m.Gone == nil {
		return nil, fmt.Errorf("%w: image %s is not gone", ErrConflict, id)
	}
	if back, err = l.rec.UndropImage(ctx, id); err != nil {
		return nil, err
	}
	if len(back) == 0 {
		return nil, fmt.Errorf("%w: image %s, or one that it leans on, has left store %s already; it can't be brought back", ErrConflict, id, m.Store)
	}
	return back, nil
}

// foldHeld folds full images that only stay because the next one leans on them into that one.
func (l *Lodge) foldHeld(ctx context.Context, run records.Run, set set, plan rotation.Plan, st shelf, small bool) error {
	images := set.planned()
	for {
		base, into, ok := plan.Fold(images)
		if !ok {
			return nil
		}
		l.say(ctx, run.ID, set.machine, fmt.Sprintf("folding image %s into %s", images[base].ID, images[into].ID))
		if err := l.foldImage(ctx, st, images[into].ID, small, func(int64) {}); err != nil {
			return err
		}
		plan.Folded(images, base, into)
		went := plan.Decisions[base]
		if err := l.rec.DropImages(ctx, []records.Drop{{ID: went.ID, Why: went.Why}}); err != nil {
			return err
		}
		l.say(ctx, run.ID, set.machine, fmt.Sprintf("dropped image %s: %s", went.ID, went.Why))
	}
}

// foldImage makes an image stand alone that leans on a full one.
func (l *Lodge) foldImage(ctx context.Context, st shelf, id string, small bool, progress func(int64)) error {
	open, ok := st.(*openlayout.Store)
	if !ok {
		return fmt.Errorf("%w: in a pooled store every image stands alone; there is nothing to fold", ErrConflict)
	}
	m, err := open.ReadImage(ctx, id)
	if err == nil && m.Base != "" { // otherwise a process folded it that died before it could record that
		m, err = open.Fold(ctx, id, small, progress)
	}
	if err != nil {
		return err
	}
	var stored int64
	for _, d := range m.Disks {
		stored += d.Length
	}
	return l.rec.FoldImage(ctx, m.ID, m.Capture, m.Why, stored)
}

// FoldImage queues the folding of an image.
func (l *Lodge) FoldImage(ctx context.Context, id string) (records.Run, error) {
	m, st, err := l.imageStore(ctx, id)
	if err != nil {
		return records.Run{}, err
	}
	switch {
	case st.Header().Layout != "open":
		return records.Run{}, fmt.Errorf("%w: image %s lies in a pooled store, where every image stands alone; there is nothing to fold", ErrConflict, id)
	case m.Base == "":
		return records.Run{}, fmt.Errorf("%w: image %s leans on nothing; there is nothing to fold into it", ErrConflict, id)
	}
	return l.queue(ctx, "fold", m.Policy, ProofRequest{Image: id})
}

// fold carries the folding of an image out. A fold that a dead process finished in the store is recorded here, too.
func (l *Lodge) fold(ctx context.Context, run records.Run) (state string, err error) {
	r, err := request[ProofRequest](run)
	if err != nil {
		return "failed", err
	}
	m, st, err := l.imageStore(ctx, r.Image)
	if err != nil {
		return "failed", err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return "failed", err
	}
	rec, err := l.rec.AddTask(ctx, records.Task{Run: run.ID, Machine: m.Machine, Image: m.ID})
	if err != nil {
		return "failed", err
	}
	done := l.perform(ctx, rec, func(ctx context.Context, t *task) error {
		if err := t.step(ctx, "folding"); err != nil {
			return err
		}
		return t.moving(ctx, nil, func() error {
			return l.foldImage(ctx, st, m.ID, s.Stores[m.Store].Compress, func(n int64) { t.done.Add(n) })
		})
	})
	return done.State, nil
}
