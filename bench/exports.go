package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// exports compares writing an image's disk as VHDX and VMDK with qemu-img, which reads the same image over NBD.
func exports(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	id, err := l.imageOfDisk(ctx, 4, files...)
	if err != nil {
		return err
	}
	out := filepath.Join(folder, "out")
	ended, address, err := l.served(ctx, id)
	if err != nil {
		return err
	}
	defer ended()
	ratios := map[string][]float64{}
	for range rounds {
		for _, as := range []struct{ kind, options string }{{"vhdx", "subformat=dynamic"}, {"vmdk", "subformat=streamOptimized"}} {
			if err := os.MkdirAll(out, 0o700); err != nil {
				return err
			}
			theirs, err := timed(exec.Command("sh", "-c", fmt.Sprintf("qemu-img convert -f raw -O %s -o %s '%s' %s/theirs && sync %[4]s/theirs", as.kind, as.options, address, out)))
			if err != nil {
				return err
			}
			ours, err := timed(l.client("image", "export", id, "--as", as.kind, "--to", out))
			if err != nil {
				return err
			}
			ratios[as.kind] = append(ratios[as.kind], ours/theirs)
			ratios[as.kind+" s"] = append(ratios[as.kind+" s"], ours)
			a, err := os.Stat(filepath.Join(out, "berth-sim-vda."+as.kind))
			if err != nil {
				return err
			}
			b, err := os.Stat(filepath.Join(out, "theirs"))
			if err != nil {
				return err
			}
			ratios[as.kind+" bytes"] = append(ratios[as.kind+" bytes"], float64(a.Size())/float64(b.Size()))
			if err := os.RemoveAll(out); err != nil {
				return err
			}
		}
	}
	r.Add("export of a disk of 4 GiB to VHDX, synced, time against `qemu-img convert` that reads the same image over NBD", "×", 1, ratios["vhdx"]...)
	r.Add("time of the export to VHDX", "s", 0, ratios["vhdx s"]...)
	r.Add("to stream-optimised VMDK, time against `qemu-img convert`", "×", 1, ratios["vmdk"]...)
	r.Add("time of the export to VMDK", "s", 0, ratios["vmdk s"]...)
	r.Add("its bytes against those of `qemu-img`", "×", 0, ratios["vmdk bytes"]...)
	return nil
}

// imageOfDisk makes an image of a disk of so many GiB with copies of folders.
func (l *lab) imageOfDisk(ctx context.Context, gib int, folders ...string) (id string, err error) {
	if _, err := l.rawDisk(ctx, "berth-sim", gib, "", folders...); err != nil {
		return "", err
	}
	if _, err := l.backup(ctx, "shelf", "berth-sim", site.Store{}); err != nil {
		return "", err
	}
	c, err := l.p.Client()
	if err != nil {
		return "", err
	}
	images, _, err := c.Images(ctx, wire.ImageFilter{Store: "shelf"})
	if err != nil {
		return "", err
	}
	return images[0].ID, nil
}

// served offers an image over NBD, and tells where its first disk is.
func (l *lab) served(ctx context.Context, id string) (end func(), address string, err error) {
	cmd := l.client("image", "serve", id)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	if err := cmd.Start(); err != nil {
		return nil, "", err
	}
	end = func() { cmd.Process.Signal(os.Interrupt); cmd.Wait() }
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if at := strings.Index(lines.Text(), "nbd+unix:"); at >= 0 {
			return end, lines.Text()[at:], nil
		}
	}
	end()
	return nil, "", fmt.Errorf("image %s is not served", id)
}
