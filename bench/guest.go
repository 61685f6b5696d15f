package main

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
)

// busy is what the guest does: a write of 4 KiB at a random place of a file, made durable, again and again.
const busy = `while :; do busybox dd if=/dev/urandom of=/data/busy bs=4096 count=1 seek=$((RANDOM % 512)) conv=notrunc,fsync 2>/dev/null; done`

// guest measures what a busy guest feels of its capture: how long its writes take, with and without.
func guest(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	disk, err := l.rawDisk(ctx, "berth-sim", 2, "", "/usr/bin", "/usr/share")
	if err != nil {
		return err
	}
	g := demo.Guest{Name: "tickets-db", Disks: 2, Off: true}
	if err := p.Quay.MakeGuest(ctx, g); err != nil {
		return err
	}
	// Defined anew, with a disk more.
	if _, err := p.Quay.Virsh(ctx, "undefine", g.Name); err != nil {
		return err
	}
	g.Off = false
	disks := diskXML(l.file("tickets-db-vda.qcow2"), "qcow2", "vda") + diskXML(l.file("tickets-db-vdb.qcow2"), "qcow2", "vdb") + diskXML(disk, "raw", "vdc")
	if err := p.Quay.Define(ctx, g, disks); err != nil {
		return err
	}
	if err := p.Quay.AwaitGuest(ctx, g.Name); err != nil {
		return err
	}
	start, _ := json.Marshal(map[string]any{"execute": "guest-exec", "arguments": map[string]any{"path": "/bin/sh", "arg": []string{"-c", busy}}})
	if _, err := p.Quay.Virsh(ctx, "qemu-agent-command", g.Name, string(start)); err != nil {
		return err
	}
	alone, plain, gentle := []float64{}, []float64{}, []float64{}
	var plainTook, gentleTook []float64
	for i := range rounds {
		if err := forgetWrites(ctx, p, g.Name); err != nil {
			return err
		}
		select {
		case <-time.After(5 * time.Second):
		case <-ctx.Done():
			return ctx.Err()
		}
		without, err := slowest(ctx, p, g.Name)
		if err != nil {
			return err
		}
		alone = append(alone, without)
		for _, soft := range []bool{false, true} {
			into := fmt.Sprintf("shelf-%d-%t", i, soft)
			if err := l.store(ctx, into, site.Store{}); err != nil {
				return err
			}
			if err := l.policy(ctx, site.Policy{Machines: []string{g.Name}, Store: into, Rotation: "newest 9", Gentle: soft}, 0); err != nil {
				return err
			}
			if err := forgetWrites(ctx, p, g.Name); err != nil {
				return err
			}
			t, err := l.run(ctx, into)
			if err != nil {
				return err
			}
			with, err := slowest(ctx, p, g.Name)
			if err != nil {
				return err
			}
			if soft {
				gentle, gentleTook = append(gentle, with/without), append(gentleTook, t.seconds)
			} else {
				plain, plainTook = append(plain, with/without), append(plainTook, t.seconds)
			}
			if err := l.drop(ctx, into); err != nil {
				return err
			}
		}
	}
	r.Add("a busy guest's write or flush, p99, without a capture", "ms", 0, alone...)
	r.Add("the same during a capture, against without", "×", 0, plain...)
	r.Add("the same during a capture that is gentle, against without", "×", 3, gentle...)
	r.Add("time of the capture", "s", 0, plainTook...)
	r.Add("time of the gentle one", "s", 0, gentleTook...)
	return nil
}

// bounds of the histogram's bins, in nanoseconds: each a fifth above the one before, from 50 µs to 10 s.
func bounds() (list []int64) {
	for ns := 50_000.0; ns < 10e9; ns *= 1.2 {
		list = append(list, int64(ns))
	}
	return list
}

// forgetWrites has QEMU count anew how long the writes of the guest's second disk take, on which it is busy.
func forgetWrites(ctx context.Context, p *demo.Place, guest string) error {
	device, _, err := blockStats(ctx, p, guest)
	if err != nil {
		return err
	}
	return qmp(ctx, p, guest, "block-latency-histogram-set", map[string]any{"id": device, "boundaries-write": bounds(), "boundaries-flush": bounds()}, nil)
}

// slowest is the 99th percentile of the writes and flushes since [forgetWrites], in milliseconds: the upper bound of its bin.
func slowest(ctx context.Context, p *demo.Place, guest string) (float64, error) {
	_, counts, err := blockStats(ctx, p, guest)
	if err != nil {
		return 0, err
	}
	total, sum := int64(0), int64(0)
	for _, n := range counts {
		total += n
	}
	if total == 0 {
		return 0, fmt.Errorf("guest %s did not write", guest)
	}
	for i, bound := range bounds() {
		if sum += counts[i]; sum*100 >= total*99 {
			return float64(bound) / 1e6, nil
		}
	}
	return 10e3, nil
}

// blockStats finds the guest's second disk as QEMU calls it, and how many of its writes and flushes lie in each bin.
func blockStats(ctx context.Context, p *demo.Place, guest string) (device string, counts []int64, err error) {
	type histogram struct {
		Bins []int64 `json:"bins"`
	}
	var found []struct {
		QDev  string `json:"qdev"`
		Stats struct {
			Write *histogram `json:"wr_latency_histogram"`
			Flush *histogram `json:"flush_latency_histogram"`
		} `json:"stats"`
	}
	if err := qmp(ctx, p, guest, "query-blockstats", map[string]any{}, &found); err != nil {
		return "", nil, err
	}
	for _, f := range found {
		if !strings.Contains(f.QDev, "virtio-disk1") {
			continue
		}
		counts = make([]int64, len(bounds())+1)
		for _, h := range []*histogram{f.Stats.Write, f.Stats.Flush} {
			for i := 0; h != nil && i < len(h.Bins); i++ {
				counts[i] += h.Bins[i]
			}
		}
		return f.QDev, counts, nil
	}
	return "", nil, fmt.Errorf("QEMU knows no second disk of guest %s", guest)
}

// qmp gives QEMU a command (its machine protocol) and reads what it returns.
func qmp(ctx context.Context, p *demo.Place, guest, command string, arguments, into any) error {
	body, err := json.Marshal(map[string]any{"execute": command, "arguments": arguments})
	if err != nil {
		return err
	}
	out, err := p.Quay.Virsh(ctx, "qemu-monitor-command", guest, string(body))
	if err != nil {
		return err
	}
	var answer struct {
		Return json.RawMessage `json:"return"`
		Error  *struct {
			Desc string `json:"desc"`
		} `json:"error"`
	}
	if err := json.Unmarshal([]byte(out), &answer); err != nil {
		return fmt.Errorf("QEMU's answer to %s: %w", command, err)
	}
	if answer.Error != nil {
		return fmt.Errorf("QEMU refuses %s: %s", command, answer.Error.Desc)
	}
	if into == nil {
		return nil
	}
	return json.Unmarshal(answer.Return, into)
}
