package restore

import (
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/estimate"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/run"
	"keenlodge/internal/fitting"
	"keenlodge/internal/source"
)

const (
	// measureTime and measureMost bound what is read of an image to see how fast it comes.
	measureTime, measureMost = time.Second, 64 << 20
	// measurePaths is how many files are read for it.
	measurePaths = 5000
	// toldMost is how many earlier restores are looked at, toldLeast how many bytes one has to have moved to say how fast that goes.
	toldMost, toldLeast = 10, 32 << 20
)

// Preview is what a restore of a machine will come to. Left is what of the definition it leaves out, Disks are those whose division will be another.
type Preview struct {
	estimate.Estimate
	Left  []string
	Disks []fitting.Plan
}

// Preview says how long a restore will take, what limits it, and what it leaves out. It makes nothing; what would make it fail is an error.
func (rs *Restores) Preview(ctx context.Context, q Request) (p Preview, err error) {
	on, left, err := rs.admit(ctx, &q)
	if err != nil {
		return p, err
	}
	defer on.h.Close()
	p.Left = left
	plans, err := rs.plans(ctx, on, q)
	if err != nil {
		return p, err
	}
	for _, plan := range plans {
		if plan.Changes() {
			p.Disks = append(p.Disks, plan)
		}
	}
	end, err := on.st.Reading(ctx, rs.program)
	if err != nil {
		return p, err
	}
	defer end(context.WithoutCancel(ctx))
	var bytes int64
	var speed float64
	for _, d := range on.manifest.Disks {
		size, s, err := rs.measureDisk(ctx, on, d, speed == 0)
		if err != nil {
			return p, err
		}
		if bytes += size; s > 0 {
			speed = s
		}
	}
	target, err := rs.went(ctx, "hypervisor "+q.Hypervisor, run.Restore, q.Hypervisor, "")
	p.Estimate = estimate.Of(bytes*int64(len(q.names())), 0, estimate.Part{Name: "store " + on.store, Speed: speed, Known: "measured just now"}, target)
	return p, err
}

// measureDisk says how many bytes are written of a disk, and, where that is asked for, how fast they come.
func (rs *Restores) measureDisk(ctx context.Context, on restoring, d image.Disk, asked bool) (size int64, speed float64, err error) {
	opened, err := on.st.OpenDisk(ctx, on.manifest, d)
	if err != nil {
		return 0, 0, err
	}
	defer opened.Close()
	f, err := qcow2.New(ctx, opened, "")
	if err != nil {
		return 0, 0, err
	}
	if asked {
		in := stream(ctx, f, func(int64) {})
		defer in.Close()
		speed, err = measure(in)
	}
	return f.Size(), speed, err
}

// measure says how fast something comes, in bytes a second, from the first of them on; 0 of what is too little to tell.
func measure(in io.Reader) (speed float64, err error) {
	room := make([]byte, 1<<20)
	first, err := in.Read(room)
	begun, n := time.Now(), int64(0)
	for err == nil && n < measureMost && time.Since(begun) < measureTime {
		var m int
		m, err = in.Read(room)
		n += int64(m)
	}
	if took := time.Since(begun); n > int64(first) && took > time.Millisecond {
		speed = float64(n) / took.Seconds()
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return speed, err
}

// went is how fast earlier restores onto a source, or onto a machine of it, went at best: it takes that much at least.
func (rs *Restores) went(ctx context.Context, name string, kind run.Kind, onto, machine string) (estimate.Part, error) {
	p := estimate.Part{Name: name, Known: "as earlier restores onto it went"}
	tasks, err := rs.rec.WentBack(ctx, kind, onto, machine, toldLeast, toldMost)
	for _, t := range tasks {
		var took time.Duration
		for _, s := range t.Steps {
			if strings.HasPrefix(s.Name, "writing") {
				took += time.Duration(s.Took)
			}
			if strings.HasPrefix(s.Name, "pulling") { // it counts what is empty, too
				took = 0
				break
			}
		}
		if took > 0 {
			p.Speed = max(p.Speed, float64(t.Done)/took.Seconds())
		}
	}
	return p, err
}

// estimateFiles says how long it takes until files are back, of which wanted are the first.
func (rs *Restores) estimateFiles(ctx context.Context, g *goingBack, sum source.PlanSum, wanted map[string]bool) (e estimate.Estimate, err error) {
	var bytes, paths int64
	for a, c := range sum.Counts {
		if a.Acts() {
			paths += c.Paths
		}
		if a.Writes() {
			bytes += c.Bytes
		}
	}
	if paths == 0 {
		return e, nil
	}
	store := estimate.Part{Name: "store " + g.rec.Store, Known: "measured just now"}
	if bytes > 0 {
		in, err := rs.take(ctx, g, wanted)
		if err != nil {
			return e, err
		}
		defer in.Close()
		if store.Speed, err = measure(in); err != nil {
			return e, err
		}
	}
	target, err := rs.went(ctx, "machine "+g.machine.Label, run.Files, g.machine.Hypervisor, g.machine.ID)
	return estimate.Of(bytes, paths, store, target), err
}

// wants notes the first paths of which something is written.
func wants(wanted map[string]bool, s back.Step) {
	if s.Action.Writes() && len(wanted) < measurePaths {
		wanted[s.From] = true
	}
}
