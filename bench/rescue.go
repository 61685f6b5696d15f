package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// rescued compares getting a machine with 2 GiB of data back onto empty disks, from the moment in which the rescue medium is powered on until the machine is
// up, with writing as much and starting it from there.
func rescued(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	g := demo.Guest{Name: "tickets-db", Disks: 2}
	if err := p.Quay.MakeGuest(ctx, g); err != nil {
		return err
	}
	more := filepath.Join(folder, "pool", "more.raw")
	if err := shell("head -c 2G /dev/urandom > %s && chown nobody %[1]s", more); err != nil {
		return err
	}
	if _, err := p.Quay.Virsh(ctx, "destroy", g.Name); err != nil {
		return err
	}
	if _, err := p.Quay.Virsh(ctx, "attach-disk", g.Name, more, "vdc", "--config", "--subdriver", "raw"); err != nil {
		return err
	}
	if _, err := l.backup(ctx, "shelf", g.Name, site.Store{}); err != nil {
		return err
	}
	c, err := p.Client()
	if err != nil {
		return err
	}
	images, _, err := c.Images(ctx, wire.ImageFilter{Store: "shelf"})
	if err != nil {
		return err
	}
	iso := filepath.Join(folder, "rescue.iso")
	if out, err := l.client("rescue", "make", "--lodge", strings.Replace(p.URL(), "127.0.0.1", "10.0.2.2", 1), iso).CombinedOutput(); err != nil {
		return fmt.Errorf("rescue make: %w: %s", err, out)
	}
	out := filepath.Join(folder, "out")
	var ratios, took []float64
	for range rounds {
		// The reference: the same disks, written raw and synced, and the machine started from them.
		if err := shell("mkdir -p %s", out); err != nil {
			return err
		}
		begun := time.Now()
		if told, err := l.client("image", "export", images[0].ID, "--as", "raw", "--to", out).CombinedOutput(); err != nil {
			return fmt.Errorf("export: %w: %s", err, told)
		}
		var disks []string
		for i, target := range []string{"vda", "vdb", "vdc"} {
			disks = append(disks, bareDisk(i, filepath.Join(out, g.Name+"-"+target+".raw"))...)
		}
		if err := up(ctx, p, disks, nil); err != nil {
			return err
		}
		reference := time.Since(begun)

		code, err := l.client("rescue", "code").Output()
		if err != nil {
			return err
		}
		disks = nil
		for i, size := range []string{"256M", "512M", "2G"} {
			file := filepath.Join(out, fmt.Sprint("empty-", i))
			if err := exec.Command("truncate", "-s", size, file).Run(); err != nil {
				return err
			}
			disks = append(disks, bareDisk(i, file)...)
		}
		begun = time.Now()
		err = up(ctx, p, append(disks, "-drive", "if=none,media=cdrom,format=raw,readonly=on,id=disc,file="+iso, "-device", "ide-cd,drive=disc,bootindex=2", "-nic", "user,model=virtio"),
			[][2]string{{"What is to be done", "1"}, {"Address of the lodge", ""}, {"Code", strings.TrimSpace(string(code))}, {"Which image", "1"}, {"Onto which disk goes vda", "1"}, {"Onto which disk goes vdb", "1"}, {"Write it", "yes"}, {"It is started", ""}})
		if err != nil {
			return err
		}
		took = append(took, time.Since(begun).Seconds())
		ratios = append(ratios, time.Since(begun).Seconds()/reference.Seconds())
		if err := os.RemoveAll(out); err != nil {
			return err
		}
	}
	r.Add("machine with 2 GiB of data, from power-on of the rescue medium until it is up, against writing as much and starting it", "×", 1.5, ratios...)
	r.Add("the same, from power-on of the medium", "s", 0, took...)
	return nil
}

// bareDisk is a disk of a machine that no hypervisor looks after, as QEMU's arguments; the first one is tried before all else to start from.
func bareDisk(i int, file string) []string {
	return []string{"-drive", fmt.Sprintf("if=none,format=raw,id=d%d,file=%s", i, file), "-device", fmt.Sprintf("virtio-blk-pci,drive=d%d,bootindex=%d", i, 1+4*i)}
}

// up starts a machine, gives the answers that it asks for, and waits until tickets-db is up.
func up(ctx context.Context, p *demo.Place, args []string, answers [][2]string) error {
	m, err := p.Quay.PowerOn(args...)
	if err != nil {
		return err
	}
	defer m.Off()
	for _, a := range answers {
		if _, err := m.Answers(ctx, a[0], a[1]); err != nil {
			return err
		}
	}
	_, err = m.Hears(ctx, "tickets-db of Brindle Sound Ferries is up")
	return err
}
