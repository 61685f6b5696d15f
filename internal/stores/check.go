package stores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/mount"
	"keenlodge/internal/reader"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
)

// CheckRequest asks for a store to be checked.
type CheckRequest struct {
	Store  string `json:"store"`
	Read   bool   `json:"read"`
	Repair bool   `json:"repair"`
	From   string `json:"from"`
}

// mostHit bounds the images in which files are looked for after damage was found.
const mostHit = 5

// Check queues a check, or a repair, of a store, for who.
func (ss *Stores) Check(ctx context.Context, who string, q CheckRequest) (records.Run, error) {
	if q.From != "" && !q.Repair {
		return records.Run{}, fmt.Errorf("%w: another store helps only in a repair", fault.ErrInvalid)
	}
	for _, name := range []string{q.Store, q.From} {
		if name == "" {
			continue
		}
		st, err := ss.Named(ctx, name)
		if err == nil && q.Repair {
			_, err = repairer(name, st)
		}
		if err != nil {
			return records.Run{}, err
		}
	}
	if q.From == q.Store {
		return records.Run{}, fmt.Errorf("%w: a store can't be mended from itself", fault.ErrInvalid)
	}
	return ss.runs.Queue(ctx, runs.Order{Kind: run.Check, Cause: run.Hand, Who: who, Request: q})
}

// repairer is a store as far as it can be mended.
func repairer(name string, st store.Store) (store.Repairer, error) {
	if p, ok := st.(store.Repairer); ok {
		return p, nil
	}
	return nil, fmt.Errorf("%w: store %s has the %s layout; nothing in it can be mended from another store", fault.ErrConflict, name, st.Header().Layout)
}

// checks carries checks out.
type checks struct {
	runs.Base
	ss *Stores
}

// AtOnce implements [runs.Limited].
func (checks) AtOnce() int { return 2 }

// Run carries a check out, and marks the images that can't be restored whole.
func (h checks) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[CheckRequest](r.Run)
	if err != nil {
		return err
	}
	st, err := h.ss.Named(ctx, q.Store)
	if err != nil {
		return err
	}
	var mend store.Repairer
	if q.Repair {
		if mend, err = repairer(q.Store, st); err != nil {
			return err
		}
	}
	var from store.Store
	if q.From != "" {
		if from, err = h.ss.Named(ctx, q.From); err != nil {
			return err
		}
	}
	return r.PerformOne(ctx, records.Task{Machine: q.Store}, func(ctx context.Context, t *runs.Task) error {
		step := "checking"
		if q.Repair {
			step = "checking and mending"
		}
		if err := t.Begin(ctx, step); err != nil {
			return err
		}
		if q.Read || q.Repair {
			if t.Total, _, err = st.Used(ctx); err != nil {
				return err
			}
		}
		var report store.Report
		err := t.Moving(ctx, nil, func() (err error) {
			if mend != nil {
				report, err = mend.Repair(ctx, from, t.Add)
			} else {
				report, err = st.Check(ctx, q.Read, t.Add)
			}
			return err
		})
		if err != nil {
			return err
		}
		if err := h.ss.compare(ctx, q.Store, st, &report); err != nil {
			return err
		}
		if len(report.Problems) > 0 {
			if err := StillThere(ctx, st); err != nil {
				return err // what was missing says nothing of the images
			}
		}
		if err := h.ss.nameFiles(ctx, st, &report, t); err != nil {
			return err
		}
		return h.ss.conclude(ctx, q, report, r)
	})
}

// conclude records what a check found: loudly.
func (ss *Stores) conclude(ctx context.Context, q CheckRequest, report store.Report, r *runs.Run) error {
	for _, m := range report.Mended {
		r.Log(ctx, q.Store, "mended: %s", m)
	}
	for _, id := range report.Broken {
		state, err := ss.rec.Damaged(ctx, id, r.ID)
		if errors.Is(err, fault.ErrNotFound) {
			continue // another lodge's
		}
		if err != nil {
			return err
		}
		r.Log(ctx, q.Store, "%s", Verdict(id, state))
	}
	for _, id := range report.Unknown {
		r.Log(ctx, q.Store, "image %s lies in the store, but is not recorded; to take it over: keenlodge store adopt %s", id, q.Store)
	}
	if q.Read || q.Repair { // only who has read everything can say that a broken image is whole again
		images, err := ss.rec.Images(ctx, records.ImageFilter{Store: q.Store})
		if err != nil {
			return err
		}
		for _, m := range images {
			if m.State != image.Broken && m.State != image.Doubtful || slices.Contains(report.Broken, m.ID) {
				continue
			}
			mended, err := ss.rec.Mended(ctx, m.ID)
			if err != nil {
				return err
			}
			if mended {
				r.Log(ctx, q.Store, "image %s is whole again", m.ID)
			}
		}
	}
	if err := r.SetResult(ctx, report); err != nil {
		return err
	}
	if n := len(report.Problems) + report.More; n > 0 {
		return fmt.Errorf("store %s is damaged in %d places, which hit %d images%s", q.Store, n, len(report.Broken), hint(q))
	}
	return nil
}

// Verdict says what an image is in which damage was found.
func Verdict(id string, state image.State) string {
	if state == image.Doubtful {
		return fmt.Sprintf("image %s is doubtful: damage was found in it; a second reading, an hour later at the earliest, will tell whether it is broken, and until then it stays", id)
	}
	return fmt.Sprintf("image %s is %s: damage was found in it twice, at different times; it can't be restored whole", id, state)
}

// StillThere is nil if a store's place holds that store now. What was not found there while it was away is no verdict on any image.
func StillThere(ctx context.Context, st store.Store) error {
	present, err := st.Present(ctx)
	if err == nil && !present {
		err = errors.New("the place does not hold the store any more; is its disk mounted?")
	}
	if err != nil {
		return fmt.Errorf("%s: %w; what was read says nothing of its images, so nothing is concluded", st.Medium(), err)
	}
	return nil
}

// compare compares the images that lie in a store with those that are recorded: of one the manifest may be gone, another was never recorded.
func (ss *Stores) compare(ctx context.Context, name string, st store.Store, report *store.Report) error {
	expected, err := ss.rec.Expected(ctx, name)
	if err != nil {
		return err
	}
	ids, err := st.ImageIDs(ctx)
	if err != nil {
		return err
	}
	still, err := ss.rec.Expected(ctx, name) // what was dropped meanwhile is not missing
	if err != nil {
		return err
	}
	for _, id := range still {
		if slices.Contains(expected, id) && !slices.Contains(ids, id) && !slices.Contains(report.Broken, id) {
			report.Add(store.Problem{Object: "image/" + id, Image: id, What: "it is recorded, but its manifest is not in the store"})
		}
	}
	report.Unknown, err = ss.rec.Unrecorded(ctx, ids)
	return err
}

func hint(q CheckRequest) string {
	if q.Repair {
		return "; the next runs store again what they still can, and mend older images by it"
	}
	return "; try: keenlodge store check " + q.Store + " --repair"
}

// nameFiles finds which files lie where data can't be had, in the first few images that are hit. What can't be opened is said.
func (ss *Stores) nameFiles(ctx context.Context, st store.Store, report *store.Report, t *runs.Task) error {
	images := report.Broken[:min(mostHit, len(report.Broken))]
	if len(images) == 0 || ss.CanOpen() != nil {
		return nil
	}
	if err := t.Begin(ctx, "looking for the files that are hit"); err != nil {
		return err
	}
	for _, id := range images {
		m, err := st.ReadImage(ctx, id)
		if err != nil {
			continue // its manifest is what is damaged
		}
		if err := ss.nameFilesOf(ctx, st, m, report); err != nil {
			t.Log(ctx, "which files of image %s of %s are hit could not be found out: %v", id, m.Machine, err)
		}
	}
	return ctx.Err()
}

func (ss *Stores) nameFilesOf(ctx context.Context, st store.Store, m *image.Manifest, report *store.Report) error {
	opened, err := ss.LookInto(ctx, st, m, func(int64) {})
	if err != nil {
		return err
	}
	defer opened.Close()
	for _, f := range opened.FileSystems() {
		if f.Why != "" || f.Disk == "" {
			continue
		}
		var ranges []mount.Range
		var of []*store.Problem
		for i := range report.Problems {
			p := &report.Problems[i]
			if p.Image == m.ID && p.Disk == f.Disk {
				ranges, of = append(ranges, mount.Range{Offset: p.Offset - f.Offset, Length: p.Length}), append(of, p)
			}
		}
		if len(ranges) == 0 {
			continue
		}
		found, err := opened.Locate(ctx, reader.Locate{FileSystem: f.Name, Ranges: ranges})
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		for i, files := range found {
			for _, path := range files {
				of[i].Files = append(of[i].Files, strings.Join([]string{f.Name, path}, ":/"))
			}
		}
	}
	return nil
}
