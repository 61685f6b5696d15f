package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

const (
	changedGiB = 2
	// onePercent of the disk, in bytes.
	onePercent = (changedGiB << 30) / 100 / (1 << 20) * (1 << 20)
)

// changes measures what changes cost: incremental images of a disk of which 1 % was written to, and folding them. Only qcow2 can carry a
// bitmap of what changed.
func changes(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	disk, err := l.rawDisk(ctx, "berth-sim", changedGiB, "", "/usr/bin", "/usr/share")
	if err != nil {
		return err
	}
	file := l.file("tickets-db-vda.qcow2")
	if err := shell("qemu-img convert -f raw -O qcow2 %s %s", disk, file); err != nil {
		return err
	}
	if err := l.guest(ctx, "tickets-db", file, "qcow2"); err != nil {
		return err
	}
	policy := site.Policy{Machines: []string{"tickets-db"}, Store: "shelf-changes", Rotation: "newest 99", Cycle: "full once"}
	full, err := l.first(ctx, policy, site.Store{})
	if err != nil {
		return err
	}
	r.Add("full image of the disk as qcow2", "s", 0, full.seconds)
	before := full.used
	for _, v := range []struct {
		piece       int64
		asked, read float64
	}{{1 << 20, 0.05, 1.2}, {64 << 10, 0.035, 1.02}} {
		var seconds, took, read, stored []float64
		for range rounds {
			if err := scribble(file, v.piece); err != nil {
				return err
			}
			t, err := l.run(ctx, policy.Store)
			if err != nil {
				return err
			}
			seconds, took, read = append(seconds, t.seconds), append(took, t.seconds/full.seconds), append(read, float64(t.read)/onePercent)
			stored = append(stored, float64(t.used-before)/onePercent)
			before = t.used
		}
		what := fmt.Sprintf("incremental, 1 %% written in pieces of %d KiB at random", v.piece>>10)
		r.Add(what, "s", 0, seconds...)
		r.Add(what+": time against the full image", "×", v.asked, took...)
		r.Add(what+": read against written", "×", v.read, read...)
		r.Add(what+": the store grows, against written", "×", 1.05, stored...)
	}
	return l.folds(ctx, r, policy, file)
}

// first makes a store and takes the first image of a policy into it.
func (l *lab) first(ctx context.Context, v site.Policy, spec site.Store) (taken, error) {
	if err := l.store(ctx, v.Store, spec); err != nil {
		return taken{}, err
	}
	if err := l.policy(ctx, v, 0); err != nil {
		return taken{}, err
	}
	return l.run(ctx, v.Store)
}

// folds measures an increment and its folding in an open store, against copying the full file.
func (l *lab) folds(ctx context.Context, r *report.Report, policy site.Policy, file string) error {
	policy.Store = "plain-changes"
	plain, err := l.first(ctx, policy, site.Store{Layout: site.Open})
	if err != nil {
		return err
	}
	c, err := l.p.Client()
	if err != nil {
		return err
	}
	var took, read, folded []float64
	for range rounds {
		if err := scribble(file, 64<<10); err != nil {
			return err
		}
		t, err := l.run(ctx, policy.Store)
		if err != nil {
			return err
		}
		took, read = append(took, t.seconds/plain.seconds), append(read, float64(t.read)/onePercent)
		images, _, err := c.Images(ctx, wire.ImageFilter{Store: policy.Store, Page: wire.Page{Limit: 1}})
		if err != nil {
			return err
		}
		full, err := filepath.Glob(filepath.Join(folder, policy.Store, "tickets-db", "*-"+images[0].Base+"-vda.qcow2"))
		if err != nil || len(full) != 1 {
			return fmt.Errorf("the full file under image %s was not found: %w", images[0].ID, err)
		}
		if err := shell("cat %s > /dev/null", full[0]); err != nil { // both sides find it in the page cache
			return err
		}
		copied, err := timed(exec.Command("sh", "-c", fmt.Sprintf("cp %s %s/copy && sync %[2]s/copy", full[0], folder)))
		if err != nil {
			return err
		}
		os.Remove(filepath.Join(folder, "copy"))
		seconds, err := timed(l.client("image", "fold", images[0].ID, "--wait"))
		if err != nil {
			return err
		}
		folded = append(folded, seconds/copied)
	}
	r.Add("full image, open layout", "s", 0, plain.seconds)
	r.Add("incremental, open layout, pieces of 64 KiB: time against its full image", "×", 0, took...)
	r.Add("incremental, open layout, pieces of 64 KiB: read against written", "×", 0, read...)
	r.Add("fold of the increment into the full file, time against `cp` of that, synced", "×", 1.1, folded...)
	return nil
}

// scribble writes 1 % of the disk over with random bytes, in pieces at random places, none twice.
func scribble(file string, piece int64) error {
	random := filepath.Join(folder, "random")
	if err := shell("rm -rf %[1]s && mkdir %[1]s && head -c %[2]d /dev/urandom | split -a 4 -d -b %[3]d - %[1]s/", random, onePercent, piece); err != nil {
		return err
	}
	var script strings.Builder
	for i, at := range rand.Perm(int((changedGiB << 30) / piece))[:onePercent/piece] {
		fmt.Fprintf(&script, "write -q -s %s/%04d %d %d\n", random, i, int64(at)*piece, piece)
	}
	cmd := exec.Command("qemu-io", "-f", "qcow2", file)
	cmd.Stdin = strings.NewReader(script.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("qemu-io: %w: %s", err, out)
	}
	return nil
}
