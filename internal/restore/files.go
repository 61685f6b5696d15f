package restore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/browse"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/estimate"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/ignore"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/throttle"
)

// FilesRequest asks for files of an image to go back onto a running machine.
type FilesRequest struct {
	Image string `json:"image"`
	// Paths are places in the image, as [browse.ParsePlace] reads them. None, of an image of system state, is all of it, or the parts that are named.
	Paths []string `json:"paths,omitempty"`
	Parts []string `json:"parts,omitempty"`
	// Machine is where to, by its identity; empty is the machine of which the image is.
	Machine string `json:"machine,omitempty"`
	// At is a folder into which the paths go; empty is where they were.
	At       string        `json:"at,omitempty"`
	Existing back.Existing `json:"existing,omitempty"`
	// Delete removes what lies in a folder of the paths and is not in the image's.
	Delete bool `json:"delete,omitempty"`
	// Forget says that what is replaced or deleted is not to be kept for a day.
	Forget bool `json:"forget,omitempty"`
	// Snapshot has a snapshot in place of the whole machine be taken before, which goes by itself after some days.
	Snapshot bool `json:"snapshot,omitempty"`
	// Personal takes people's own folders of an image of system state, too.
	Personal bool `json:"personal,omitempty"`
	// Look says that the plan is to be looked at only, and not to be carried out: in what the machine differs from the image now.
	Look bool `json:"look,omitempty"`
	// Digest is that of the plan that was shown: where the machine is another by now, nothing is done. Empty takes it as it is.
	Digest string `json:"digest,omitempty"`
}

// FilesPlan is what becomes of files. Steps are the first of them; those with [back.Same] are only counted.
type FilesPlan struct {
	source.PlanSum
	estimate.Estimate
	Machine records.Machine
	Steps   []back.Step
}

// goingBack is what files that go back are about.
type goingBack struct {
	q       FilesRequest
	rec     records.Image
	m       *image.Manifest
	st      store.Store
	machine records.Machine
	places  []browse.Place
	order   back.Order
	h       source.Source // the caller closes it
	to      source.Unpacker
	skip    ignore.Rules
}

// findFiles finds out what a request is about, and what is wrong with it.
func (rs *Restores) findFiles(ctx context.Context, q FilesRequest, id string) (g *goingBack, err error) {
	g = &goingBack{q: q}
	if g.rec, g.st, err = rs.stores.OfImage(ctx, q.Image); err != nil {
		return nil, err
	}
	if err := restorable(g.rec); err != nil {
		return nil, err
	}
	if g.m, err = g.st.ReadImage(ctx, g.rec.ID); err != nil {
		return nil, err
	}
	word := q.Machine
	if word == "" {
		word = g.rec.MachineID
	}
	if g.machine, err = rs.inventory.Resolve(ctx, word); err != nil {
		return nil, err
	}
	s, err := rs.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	if err := g.look(id, s.Policies[g.rec.Policy].Ignore); err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	if g.h, err = rs.inventory.Connect(ctx, s, g.machine.Hypervisor); err != nil {
		return nil, err
	}
	if g.to, err = source.As[source.Unpacker](g.h, "take files back; have its machine run our agent, or download them: keenlodge image download"); err != nil {
		g.h.Close()
		return nil, err
	}
	return g, nil
}

// look makes the order of a request. What a policy ignores by now is not superfluous, either.
func (g *goingBack) look(id string, ignored []string) error {
	q := &g.q
	system := g.inParts()
	if q.Look {
		q.Existing, q.Delete, q.Forget = back.Replace, true, true
	}
	if q.Existing == "" {
		q.Existing = back.Rules[0]
		if system {
			q.Existing = back.Replace // both of a configuration would be none
		}
	}
	if err := q.Existing.Check(); err != nil {
		return err
	}
	g.order = back.Order{ID: id, Existing: q.Existing, Delete: q.Delete, Keep: !q.Forget, Look: q.Look, Moment: g.rec.Taken}
	to := ""
	if q.At != "" {
		if !path.IsAbs(q.At) || strings.ContainsRune(q.At, 0) {
			return fmt.Errorf("folder %q: it must be an absolute path on the machine", q.At)
		}
		to = relativeTo(q.At)
	}
	if len(q.Paths) == 0 && !system {
		return errors.New("say which files: /etc/hosts, or a folder; / is all of them")
	}
	for _, name := range q.Parts {
		if g.m.Files == nil || !slices.ContainsFunc(g.m.Files.Parts, func(p image.FilesPart) bool { return p.Name == name }) {
			return fmt.Errorf("image %s has no part %q; look at: keenlodge image show %s", g.rec.ID, name, g.rec.ID)
		}
	}
	if g.order.Whole = []string{"."}; g.m.Files != nil {
		g.order.Whole = g.m.Files.Whole
	}
	if q.Delete && !q.Look && len(g.order.Whole) == 0 {
		return fmt.Errorf("image %s does not say of any folder that it holds all of it, so what is not in it may not be superfluous (system state is parts of folders, and older images do not tell); leave out --delete", g.rec.ID)
	}
	if len(q.Paths) == 0 {
		q.Paths = []string{"/"}
	}
	for _, text := range q.Paths {
		p, err := browse.ParsePlace(text)
		if err != nil {
			return err
		}
		if p.FileSystem != "" && to == "" {
			return fmt.Errorf("%s: where in the machine's tree a file system's files were is not known; say where to: --into FOLDER", text)
		}
		if len(g.places) > 0 && g.places[0].FileSystem != p.FileSystem {
			return errors.New("files of several file systems at once can't go back; ask for each by itself")
		}
		p.Below, p.Self, p.Full = true, true, true
		g.places = append(g.places, p)
		root := back.Root{From: relativeTo(p.Path)}
		if root.To = root.From; to != "" {
			root.To = to
			if root.From != "." {
				root.To = path.Join(to, path.Base(root.From))
			}
		}
		g.order.Roots = append(g.order.Roots, root)
	}
	if system && !q.Personal {
		g.skip, _ = ignore.Parse(files.Personal)
	}
	if g.m.Files != nil { // what rules left out is not missing
		for _, l := range g.m.Files.LeftOut {
			if _, err := ignore.Parse([]string{l.Rule}); err == nil {
				g.order.Spare = append(g.order.Spare, l.Rule)
			}
		}
		g.order.Spare = append(g.order.Spare, ignored...)
		g.order.Spare = append(g.order.Spare, files.Personal...)
	}
	return nil
}

// inParts reports whether the image is of system state, whose entries belong to parts.
func (g *goingBack) inParts() bool { return g.m.Scope == image.SystemState && len(g.m.Files.Parts) > 0 }

// relativeTo is an absolute path as entries have it.
func relativeTo(p string) string {
	if p = path.Clean("/" + p); p == "/" {
		return "."
	}
	return p[1:]
}

// takes reports whether an entry is among what is asked for.
func (g *goingBack) takes(e *files.Entry) bool {
	if e.Path == files.OutputFolder || strings.HasPrefix(e.Path, files.OutputFolder+"/") {
		return g.q.At != "" // what commands said is to be read, and belongs nowhere
	}
	if len(g.q.Parts) > 0 && !slices.Contains(g.q.Parts, e.Part) {
		return false
	}
	if g.inParts() && e.Part == "" {
		return false // on the way only
	}
	_, out := g.skip.LeftOut(e.Path, e.Kind == files.Dir)
	return !out
}

// list is the list of what is asked for.
func (rs *Restores) list(ctx context.Context, g *goingBack) io.ReadCloser {
	out, to := io.Pipe()
	go func() {
		_, err := io.WriteString(to, files.ListHead)
		for _, p := range g.places {
			if err == nil {
				err = rs.listPlace(ctx, g, p, to)
			}
		}
		to.CloseWithError(err)
	}()
	return out
}

func (rs *Restores) listPlace(ctx context.Context, g *goingBack, p browse.Place, to io.Writer) error {
	in, err := rs.browse.List(ctx, g.rec.ID, p)
	if err != nil && g.m.Files == nil {
		return fmt.Errorf("image %s: %w", g.rec.ID, err)
	}
	if err != nil {
		return err
	}
	defer in.Close()
	l, err := files.NewListReader(in)
	if err != nil {
		return err
	}
	for {
		e, raw, err := l.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil && g.takes(&e) {
			_, err = to.Write(raw)
		}
		if err != nil {
			return err
		}
	}
}

// plan has a machine plan what becomes of the files.
func (rs *Restores) plan(ctx context.Context, g *goingBack, visit func(back.Step) error) (source.PlanSum, error) {
	list := rs.list(ctx, g)
	defer list.Close()
	return g.to.PlanFiles(ctx, g.machine.Name, g.order, list, visit)
}

// PreviewFiles says what would become of files, with so many of the steps. It changes nothing.
func (rs *Restores) PreviewFiles(ctx context.Context, q FilesRequest, most int) (FilesPlan, error) {
	g, err := rs.findFiles(ctx, q, runs.NewID())
	if err != nil {
		return FilesPlan{}, err
	}
	defer g.h.Close()
	end, err := g.st.Reading(ctx, rs.program)
	if err != nil {
		return FilesPlan{}, err
	}
	defer end(context.WithoutCancel(ctx))
	p := FilesPlan{Machine: g.machine, Steps: []back.Step{}}
	wanted := map[string]bool{}
	p.PlanSum, err = rs.plan(ctx, g, func(s back.Step) error {
		if len(p.Steps) < most {
			p.Steps = append(p.Steps, s)
		}
		wants(wanted, s)
		return nil
	})
	if err != nil {
		return p, err
	}
	p.Notices = append(g.notices(ctx), p.Notices...)
	if !q.Look {
		p.Estimate, err = rs.estimateFiles(ctx, g, p.PlanSum, wanted)
	}
	return p, err
}

// notices are what a person should know before files go back.
func (g *goingBack) notices(ctx context.Context) (out []string) {
	if g.inParts() && !g.q.Look {
		if c, err := source.As[source.Comparer](g.h, "compare systems"); err == nil {
			text, err := c.OtherSystem(ctx, g.machine.Name, g.m.Definition)
			if err != nil {
				text = fmt.Sprintf("whether it runs the system that the image is of is not known: %v", err)
			}
			if text != "" {
				out = append(out, text)
			}
		}
	}
	if g.machine.ID != g.rec.MachineID {
		out = append(out, fmt.Sprintf("the image is of %s, and the files go to %s", g.rec.Machine, g.machine.Name))
	}
	if g.q.Delete && slices.ContainsFunc(g.order.Roots, func(r back.Root) bool { return !g.order.Holds(r.From) }) {
		out = append(out, fmt.Sprintf("what is superfluous is deleted in %s only: of other folders the image does not hold all", "/"+strings.Join(g.order.Whole, ", /")))
	}
	if g.rec.State != image.Usable {
		out = append(out, fmt.Sprintf("the image is %s: what of it is damaged is refused when it is read", g.rec.State))
	}
	return out
}

// StartFiles queues that files go back, for who. What would make it fail is looked at first, so that it fails at once.
func (rs *Restores) StartFiles(ctx context.Context, who string, q FilesRequest) (records.Run, error) {
	if q.Look {
		return records.Run{}, fmt.Errorf("%w: what is only looked at is not carried out", fault.ErrInvalid)
	}
	g, err := rs.findFiles(ctx, q, runs.NewID())
	if err != nil {
		return records.Run{}, err
	}
	defer g.h.Close()
	q.Machine = g.machine.ID
	return rs.runs.Queue(ctx, runs.Order{Kind: run.Files, Policy: g.rec.Policy, Cause: run.Hand, Who: who, Request: q})
}

// MachineOf is the machine to which files of a request go.
func (rs *Restores) MachineOf(ctx context.Context, q FilesRequest) (string, error) {
	if q.Machine != "" {
		return q.Machine, nil
	}
	m, err := rs.stores.Image(ctx, q.Image)
	return m.MachineID, err
}

// filesHandler puts files back.
type filesHandler struct {
	runs.Base
	rs *Restores
}

// AtOnce implements [runs.Limited].
func (filesHandler) AtOnce() int { return 8 }

// Run implements [runs.Handler].
func (h filesHandler) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[FilesRequest](r.Run)
	if err != nil {
		return err
	}
	g, err := h.rs.findFiles(ctx, q, r.ID)
	if err != nil {
		return err
	}
	defer g.h.Close()
	defer h.rs.throttle.Urgent("restore "+r.ID, throttle.Store(g.rec.Store), throttle.Machine(g.machine.ID))()
	return r.PerformOne(ctx, records.Task{Machine: g.machine.Name, MachineID: g.machine.ID, Guest: g.machine.Name, Hypervisor: g.machine.Hypervisor, Image: g.rec.ID}, func(ctx context.Context, t *runs.Task) error {
		end, err := g.st.Reading(ctx, h.rs.program) // a sweep must not take away what is being read
		if err != nil {
			return err
		}
		defer end(context.WithoutCancel(ctx))
		for _, n := range g.notices(ctx) {
			t.Caution(ctx, "%s", n)
		}
		if err := h.rs.snapshot(ctx, g, r, t); err != nil {
			return err
		}
		done, err := h.rs.putBack(ctx, g, t)
		tellDone(ctx, r, t, done)
		return failures(done, err)
	})
}

// snapshot takes a snapshot in place before files go back onto a machine, where that was asked for: without it nothing is written.
func (rs *Restores) snapshot(ctx context.Context, g *goingBack, r *runs.Run, t *runs.Task) error {
	if !g.q.Snapshot {
		return nil
	}
	s, err := rs.rec.Site(ctx)
	if err != nil {
		return err
	}
	id, err := rs.Before(ctx, s, r, t, "before files of image "+g.rec.ID+" go back")
	if err != nil {
		return fmt.Errorf("a snapshot of %s was to be taken before, so nothing was written: %w", g.machine.Label, err)
	}
	r.Evidence(ctx, t.Machine, "as it was before, the whole machine is kept for two days: keenlodge snapshot back %s", id)
	return nil
}

const (
	// linePatience is how long a restore waits for a line that was cut, lineEvery how often it asks for it.
	linePatience, lineEvery = 10 * time.Minute, 2 * time.Second
)

// putBack plans, and carries out what was planned. Where the line is cut it goes on when that is back.
func (rs *Restores) putBack(ctx context.Context, g *goingBack, t *runs.Task) (all back.Done, err error) {
	for first := true; ; first = false {
		if err := t.Begin(ctx, "looking at what is there"); err != nil {
			return all, err
		}
		wanted := map[string]bool{}
		var bytes int64
		sum, err := rs.plan(ctx, g, func(s back.Step) error {
			switch {
			case s.Action.Writes():
				wanted[s.From] = true
				bytes += s.Bytes
			case s.Action == back.Refuse && first:
				all.Fail("/"+files.Readable(s.Path), errors.New(s.Why))
			}
			return nil
		})
		switch {
		case err == nil && first && g.q.Digest != "" && sum.Digest != g.q.Digest:
			return all, fmt.Errorf("%w: %s is not as it was when the restore was shown: nothing was written; look again, and start it anew", fault.ErrConflict, g.machine.Name)
		case err == nil && sum.Short != "":
			return all, fmt.Errorf("%w: %s: nothing was written; make room on %s, or restore less", fault.ErrConflict, sum.Short, g.machine.Name)
		case err == nil:
			if t.Total == 0 {
				t.Total = bytes
			}
			if first {
				for _, n := range sum.Notices {
					t.Caution(ctx, "%s", n)
				}
			}
			var done back.Done
			done, err = rs.put(ctx, g, t, sum.Digest, wanted)
			all.Join(done)
		}
		if err == nil || !errors.Is(err, source.ErrUnreachable) || ctx.Err() != nil {
			return all, err
		}
		t.Caution(ctx, "%v; it is tried again for %s, and goes on where it was", err, linePatience)
		if waited := rs.await(ctx, g, t); waited != nil {
			return all, errors.Join(err, waited)
		}
	}
}

// await waits until a machine answers again.
func (rs *Restores) await(ctx context.Context, g *goingBack, t *runs.Task) error {
	inside, err := source.As[source.Insider](g.h, "ask a machine from inside")
	if err != nil {
		return err
	}
	for until := time.Now().Add(linePatience); ; {
		if err := inside.Ping(ctx, g.machine.Name); err == nil {
			return nil
		} else if time.Now().After(until) {
			return fmt.Errorf("it did not answer for %s: what was written stays; start the same restore again, and it goes on", linePatience)
		}
		select {
		case <-time.After(lineEvery):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// put has the machine carry out what it planned.
func (rs *Restores) put(ctx context.Context, g *goingBack, t *runs.Task, digest string, wanted map[string]bool) (done back.Done, err error) {
	if err := t.Begin(ctx, "writing"); err != nil {
		return done, err
	}
	archive, err := rs.take(ctx, g, wanted)
	if err != nil {
		return done, err
	}
	defer archive.Close()
	moved := int64(0)
	err = t.Moving(ctx, nil, func() (err error) {
		done, err = g.to.PutFiles(ctx, g.machine.Name, g.order.ID, digest, archive, func(p back.Progress) {
			t.Add(p.Bytes - moved)
			moved = p.Bytes
		})
		written := int64(0)
		for a, c := range done.Counts {
			if a.Writes() {
				written += c.Bytes
			}
		}
		t.Add(max(0, written-moved))
		return err
	})
	return done, err
}

// take reads what is wanted of the image.
func (rs *Restores) take(ctx context.Context, g *goingBack, wanted map[string]bool) (io.ReadCloser, error) {
	at := g.places[0]
	at.Below, at.Self, at.Full = false, false, false
	for _, p := range g.places[1:] {
		at.Also = append(at.Also, p.Path)
	}
	return rs.browse.Take(ctx, g.rec.ID, at, wanted)
}

// said are the actions in the words of a log, in its order.
var said = []struct {
	action back.Action
	text   string
}{{back.Make, "written anew"}, {back.Beside, "put beside others"}, {back.Replacing, "replaced"}, {back.Amend, "of owner, mode or times set"}, {back.Delete, "deleted"}}

// tellDone says in a task's log what was carried out.
func tellDone(ctx context.Context, r *runs.Run, t *runs.Task, done back.Done) {
	var parts []string
	for _, s := range said {
		if c := done.Counts[s.action]; c.Paths > 0 {
			parts = append(parts, fmt.Sprintf("%d %s (%s)", c.Paths, s.text, humanize.IBytes(uint64(max(0, c.Bytes)))))
		}
	}
	if len(parts) == 0 {
		parts = []string{"nothing was to be written"}
	}
	r.Evidence(ctx, t.Machine, "%s", strings.Join(parts, ", "))
	for _, f := range done.Failed {
		t.Caution(ctx, "%s: %s", f.Path, f.Why)
	}
	if !done.Kept.IsZero() && len(done.Counts) > 0 {
		r.Evidence(ctx, t.Machine, "it can be undone until %s: keenlodge restore undo %s", done.Kept.UTC().Format("2006-01-02 15:04 MST"), t.Run)
	}
}

// failures is an error where not all was done.
func failures(done back.Done, err error) error {
	if err != nil || done.Failures == 0 {
		return err
	}
	return fmt.Errorf("%d of %d paths were not done, first %s: %s; the run's log has more", done.Failures, done.Failures+done.Paths(), done.Failed[0].Path, done.Failed[0].Why)
}

// UndoRequest asks that a restore be taken back.
type UndoRequest struct {
	Run string `json:"run"`
}

// Undo queues that a restore of files is taken back, for who.
func (rs *Restores) Undo(ctx context.Context, who, id string) (records.Run, error) {
	r, err := rs.runs.Find(ctx, id)
	if err != nil {
		return r, err
	}
	if err := checkUndo(r); err != nil {
		return r, err
	}
	return rs.runs.Queue(ctx, runs.Order{Kind: run.Undo, Policy: r.Policy, Cause: run.Hand, Who: who, Request: UndoRequest{id}})
}

// undoHandler takes restores back.
type undoHandler struct {
	runs.Base
	rs *Restores
}

// Run implements [runs.Handler].
func (h undoHandler) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[UndoRequest](r.Run)
	if err != nil {
		return err
	}
	of, err := h.rs.runs.Find(ctx, q.Run)
	if err != nil {
		return err
	}
	if of.Kind == run.Restore {
		return h.rs.revert(ctx, of, r)
	}
	files, err := runs.Request[FilesRequest](of)
	if err != nil {
		return err
	}
	m, err := h.rs.inventory.Resolve(ctx, files.Machine)
	if err != nil {
		return err
	}
	s, err := h.rs.rec.Site(ctx)
	if err != nil {
		return err
	}
	on, err := h.rs.inventory.Connect(ctx, s, m.Hypervisor)
	if err != nil {
		return err
	}
	defer on.Close()
	to, err := source.As[source.Unpacker](on, "take files back")
	if err != nil {
		return err
	}
	return r.PerformOne(ctx, records.Task{Machine: m.Name, MachineID: m.ID, Hypervisor: m.Hypervisor}, func(ctx context.Context, t *runs.Task) error {
		if err := t.Begin(ctx, "taking back what restore "+q.Run+" did"); err != nil {
			return err
		}
		done, err := to.UndoFiles(ctx, m.Name, q.Run, func(back.Progress) {})
		r.Evidence(ctx, t.Machine, "as it was before: %d of the paths", done.Paths())
		for _, f := range done.Failed {
			t.Caution(ctx, "%s: %s", f.Path, f.Why)
		}
		return failures(done, err)
	})
}
