package main

import (
	"context"
	"fmt"
	"os/exec"
	"regexp"
	"strconv"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
)

// ladderSteps measures each step of compression, all the way, against zstd's own.
func ladderSteps(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	disk, err := l.rawDisk(ctx, "berth-sim", 2, "", "/usr/bin", "/usr/share")
	if err != nil {
		return err
	}
	asked := map[site.Compression][2]float64{site.Quick: {0.65, 1.35}, site.Even: {1, 1.05}}
	theirs := []string{"--fast=10", "-1", "-3"}
	time, bytes := map[string][]float64{}, map[string][]float64{}
	for i := range rounds {
		took, held := map[string]float64{}, map[string]int64{}
		for _, step := range theirs {
			if took[step], held[step], err = zstd(disk, step); err != nil {
				return err
			}
		}
		for _, step := range site.Compressions {
			if step == site.Smallest && i%2 == 1 {
				continue // it takes as long as all others together
			}
			name := fmt.Sprint(step, "-", i)
			t, err := l.backup(ctx, name, "berth-sim", site.Store{Compression: step})
			if err != nil {
				return err
			}
			took[string(step)], held[string(step)] = t.seconds, t.used
			if err := l.drop(ctx, name); err != nil {
				return err
			}
		}
		for step := range took {
			time[step] = append(time[step], took[step]/took["-1"])
			bytes[step] = append(bytes[step], float64(held[step])/float64(held["-1"]))
		}
	}
	for _, step := range theirs {
		r.Add("zstd "+step+": time against -1", "×", 0, time[step]...)
		r.Add("zstd "+step+": bytes against -1", "×", 0, bytes[step]...)
	}
	for _, step := range site.Compressions {
		r.Add("compression "+string(step)+": time against zstd -1", "×", asked[step][0], time[string(step)]...)
		r.Add("compression "+string(step)+": bytes against zstd -1", "×", asked[step][1], bytes[string(step)]...)
	}
	// What zstd makes of the same in frames of its own, in memory.
	for _, f := range []struct{ step, frame string }{{"3", "512K"}, {"9", "1M"}} {
		out, err := exec.Command("zstd", "-b"+f.step, "-B"+f.frame, "-T0", "-i1", disk).CombinedOutput()
		if err != nil {
			return fmt.Errorf("zstd -b: %w: %s", err, out)
		}
		m := regexp.MustCompile(`-> *(\d+) \(x?[\d.]+\), *([\d.]+) MB/s`).FindSubmatch(out)
		if m == nil {
			return fmt.Errorf("zstd -b says nothing that is understood: %s", out)
		}
		held, _ := strconv.ParseFloat(string(m[1]), 64)
		r.Add(fmt.Sprintf("`zstd -b%s -B%s -T0`, in memory: bytes", f.step, f.frame), "MiB", 0, held/(1<<20))
	}
	return nil
}
