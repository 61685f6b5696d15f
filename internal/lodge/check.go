package lodge

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"keenlodge/internal/core/run"

	"keenlodge/internal/store/pooled"

	"keenlodge/internal/core/image"
	"keenlodge/internal/mount"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
)

// CheckRequest asks for a store to be checked.
type CheckRequest struct {
	Store  string `json:"store"`
	Read   bool   `json:"read"`
	Repair bool   `json:"repair"`
	From   string `json:"from"`
}

// CheckStore queues a check, or a repair, of a store.
func (l *Lodge) CheckStore(ctx context.Context, r CheckRequest) (records.Run, error) {
	if r.From != "" && !r.Repair {
		return records.Run{}, fmt.Errorf("%w: another store helps only in a repair", ErrInvalid)
	}
	find := func(name string) error {
		_, err := l.storeNamed(ctx, name)
		if err == nil && r.Repair {
			_, err = l.pooled(ctx, name)
		}
		return err
	}
	for _, name := range []string{r.Store, r.From} {
		if name == "" {
			continue
		}
		if err := find(name); err != nil {
			return records.Run{}, err
		}
	}
	if r.From == r.Store {
		return records.Run{}, fmt.Errorf("%w: a store can't be mended from itself", ErrInvalid)
	}
	return l.queue(ctx, "check", "", r)
}

// check carries a check out, and marks the images that can't be restored whole.
func (l *Lodge) check(ctx context.Context, run records.Run) (state run.State, err error) {
	var r CheckRequest
	if err := json.Unmarshal(run.Request, &r); err != nil {
		return "failed", err
	}
	st, err := l.storeNamed(ctx, r.Store)
	if err != nil {
		return "failed", err
	}
	var mend, from *pooled.Store
	if r.Repair {
		if mend, err = l.pooled(ctx, r.Store); err != nil {
			return "failed", err
		}
	}
	if r.From != "" {
		if from, err = l.pooled(ctx, r.From); err != nil {
			return "failed", err
		}
	}
	rec, err := l.rec.AddTask(ctx, records.Task{Run: run.ID, Machine: r.Store})
	if err != nil {
		return "failed", err
	}
	done := l.perform(ctx, rec, func(ctx context.Context, t *task) error {
		step := "checking"
		if r.Repair {
			step = "checking and mending"
		}
		if err := t.step(ctx, step); err != nil {
			return err
		}
		if r.Read || r.Repair {
			if t.rec.Total, _, err = st.Used(ctx); err != nil {
				return err
			}
		}
		var report store.Report
		err := t.moving(ctx, nil, func() (err error) {
			count := func(n int64) { t.done.Add(n) }
			if mend != nil {
				report, err = mend.Repair(ctx, from, count)
			} else {
				report, err = st.Check(ctx, r.Read, count)
			}
			return err
		})
		if err != nil {
			return err
		}
		if err := l.nameFiles(ctx, st, &report, t); err != nil {
			return err
		}
		return l.conclude(ctx, r, report, t)
	})
	return done.State, nil
}

// conclude records what a check found: loudly.
func (l *Lodge) conclude(ctx context.Context, r CheckRequest, report store.Report, t *task) error {
	for _, m := range report.Mended {
		l.say(ctx, t.rec.Run, r.Store, "mended: "+m)
	}
	for _, id := range report.Broken {
		if err := l.rec.BreakImage(ctx, id); err != nil {
			return err
		}
		l.say(ctx, t.rec.Run, r.Store, "image "+id+" is broken: it can't be restored whole")
	}
	if r.Read || r.Repair { // only who has read everything can say that a broken image is whole again
		images, err := l.rec.Images(ctx, records.ImageFilter{Store: r.Store})
		if err != nil {
			return err
		}
		for _, m := range images {
			if m.State != "broken" || slices.Contains(report.Broken, m.ID) {
				continue
			}
			mended, err := l.rec.MendImage(ctx, m.ID)
			if err != nil {
				return err
			}
			if mended {
				l.say(ctx, t.rec.Run, r.Store, "image "+m.ID+" is whole again")
			}
		}
	}
	if err := l.rec.SetResult(ctx, t.rec.Run, report); err != nil {
		return err
	}
	if n := len(report.Problems) + report.More; n > 0 {
		return fmt.Errorf("store %s is damaged in %d places, %d images are broken%s", r.Store, n, len(report.Broken), hint(r))
	}
	return nil
}

func hint(r CheckRequest) string {
	if r.Repair {
		return "; the next runs store again what they still can, and mend older images by it"
	}
	return "; try: keenlodge store check " + r.Store + " --repair"
}

// nameFiles finds which files lie where data can't be had, in the first few images that are hit. What can't be opened is said.
func (l *Lodge) nameFiles(ctx context.Context, st store.Store, report *store.Report, t *task) error {
	images := report.Broken[:min(mostHit, len(report.Broken))]
	if len(images) == 0 || mount.CheckRights() != nil {
		return nil
	}
	if err := t.step(ctx, "looking for the files that are hit"); err != nil {
		return err
	}
	for _, id := range images {
		m, err := st.ReadImage(ctx, id)
		if err != nil {
			continue // its manifest is what is damaged
		}
		if err := l.nameFilesOf(ctx, st, m, report); err != nil {
			l.say(ctx, t.rec.Run, m.Machine, fmt.Sprintf("which files of image %s are hit could not be found out: %v", id, err))
		}
	}
	return ctx.Err()
}

func (l *Lodge) nameFilesOf(ctx context.Context, st store.Store, m *image.Manifest, report *store.Report) error {
	mounted, err := l.mountImage(ctx, st, m)
	if err != nil {
		return err
	}
	defer mounted.Close()
	for _, f := range mounted.FileSystems {
		if f.Folder == "" {
			continue
		}
		var ranges []mount.Range
		var of []*store.Problem
		for i := range report.Problems {
			p := &report.Problems[i]
			if p.Image == m.ID && p.Disk == f.Disk {
				ranges, of = append(ranges, mount.Range{Offset: p.Offset - f.Part.Offset, Length: p.Length}), append(of, p)
			}
		}
		if len(ranges) == 0 {
			continue
		}
		found, err := mount.FilesIn(ctx, f.Folder, ranges)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
		for i, files := range found {
			for _, path := range files {
				of[i].Files = append(of[i].Files, strings.Join([]string{f.Name(), path}, ":/"))
			}
		}
	}
	return nil
}
