package main

import (
	"context"
	"fmt"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// many measures how 2, 8 and 32 guests go at once: each has 64 MiB that no other has.
func many(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	const each = 64
	disk, err := l.rawDisk(ctx, "berth-sim", 4, "", files...)
	if err != nil {
		return err
	}
	for i := range 32 {
		name := fmt.Sprintf("berth-%02d", i)
		file := l.file(name + ".raw")
		if err := shell("dd if=%s of=%s bs=1M skip=%d count=%d status=none", disk, file, 96+i*each, each); err != nil {
			return err
		}
		if err := l.guest(ctx, name, file, "raw"); err != nil {
			return err
		}
	}
	c, err := p.Client()
	if err != nil {
		return err
	}
	for _, n := range []int{2, 8, 32} {
		var rate, spread, memory []float64
		for i := range rounds {
			if n == 32 && i%2 == 1 {
				continue // switching 32 guests on and off takes its time
			}
			into := fmt.Sprintf("shelf-%d-%d", n, i)
			if err := l.store(ctx, into, site.Store{}); err != nil {
				return err
			}
			var names []string
			for i := range n {
				names = append(names, fmt.Sprintf("berth-%02d", i))
			}
			if err := l.policy(ctx, site.Policy{Machines: names, Store: into, Rotation: "newest 9"}, n); err != nil {
				return err
			}
			t, err := l.run(ctx, into)
			if err != nil {
				return err
			}
			runs, _, err := c.Runs(ctx, wire.RunFilter{Page: wire.Page{Limit: 1}})
			if err != nil {
				return err
			}
			run, err := c.Run(ctx, runs[0].ID)
			if err != nil {
				return err
			}
			first, last, moved := 1e9, 0.0, int64(0)
			for _, task := range run.Tasks {
				took := task.Ended.Sub(*task.Started).Seconds()
				first, last, moved = min(first, took), max(last, took), moved+task.Done
			}
			rate = append(rate, float64(moved)/(1<<20)/t.seconds)
			spread, memory = append(spread, last/first), append(memory, float64(t.memory)/1024)
			if err := l.drop(ctx, into); err != nil {
				return err
			}
		}
		r.Add(fmt.Sprintf("%d guests at once: read together", n), "MiB/s", 0, rate...)
		r.Add(fmt.Sprintf("%d guests at once: the slowest guest's time against the fastest's", n), "×", 0, spread...)
		r.Add(fmt.Sprintf("%d guests at once: peak memory of the service", n), "MiB", 0, memory...)
	}
	return nil
}
