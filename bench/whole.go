package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// files are what the disks hold: folders that any host has, of programs, libraries, texts and compressed texts.
var files = []string{"/usr/bin", "/usr/sbin", "/usr/include", "/usr/libexec", "/usr/share", "/usr/lib/x86_64-linux-gnu", "/usr/lib/gcc", "/usr/lib/python3*"}

// whole measures full images of disks, and their restores.
func whole(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	disk, err := l.rawDisk(ctx, "berth-sim", 4, "", files...)
	if err != nil {
		return err
	}
	if _, err := l.rawDisk(ctx, "crew-rota", 5, "-i 32768", files...); err != nil {
		return err
	}
	noise, sparse := l.file("radio-log-vda.raw"), l.file("timetable-vda.raw")
	// What does not compress; and random bytes spread over a large disk.
	if err := shell("head -c 1G /dev/urandom > %s && truncate -s 4T %[2]s && for i in $(seq 0 999); do dd if=%[1]s of=%[2]s bs=1M count=1 skip=$i seek=$((i*4194)) conv=notrunc status=none; done", noise, sparse); err != nil {
		return err
	}
	for guest, file := range map[string]string{"radio-log": noise, "timetable": sparse} {
		if err := l.guest(ctx, guest, file, "raw"); err != nil {
			return err
		}
	}
	ratios := map[string][]float64{}
	note := func(what string, v float64) { ratios[what] = append(ratios[what], v) }
	for i := range rounds {
		seconds, bytes, err := zstd(disk, "-1")
		if err != nil {
			return err
		}
		shelf := fmt.Sprint("shelf-", i)
		full, err := l.backup(ctx, shelf, "berth-sim", site.Store{})
		if err != nil {
			return err
		}
		sealed, err := l.backup(ctx, fmt.Sprint("vault-", i), "berth-sim", site.Store{Sealed: true})
		if err != nil {
			return err
		}
		again, err := l.backup(ctx, shelf, "berth-sim", site.Store{})
		if err != nil {
			return err
		}
		other, err := l.backup(ctx, shelf, "crew-rota", site.Store{})
		if err != nil {
			return err
		}
		expand, extract, err := l.restores(ctx, shelf)
		if err != nil {
			return err
		}
		copied, err := timed(exec.Command("sh", "-c", fmt.Sprintf("cp --reflink=never %s %s/copy && sync %[2]s/copy", noise, folder)))
		if err != nil {
			return err
		}
		raw, err := l.backup(ctx, fmt.Sprint("media-", i), "radio-log", site.Store{})
		if err != nil {
			return err
		}
		note("zstd s", seconds)
		note("zstd MiB", float64(bytes)/(1<<20))
		note("full", full.seconds/seconds)
		note("full bytes", float64(full.used)/float64(bytes))
		note("sealed", sealed.processor/full.processor)
		note("again", again.seconds/full.seconds)
		note("other", other.seconds/full.seconds)
		note("other bytes", float64(other.used-again.used)/float64(full.used))
		note("restore", extract/expand)
		note("noise", raw.seconds/copied)
		note("memory", float64(full.memory)/1024)
		if err := l.drop(ctx, shelf, fmt.Sprint("vault-", i), fmt.Sprint("media-", i), "copy"); err != nil {
			return err
		}
	}
	large, err := l.backup(ctx, "shelf-sparse", "timetable", site.Store{})
	if err != nil {
		return err
	}
	r.Add("`zstd -1 -T0` of the disk, synced", "s", 0, ratios["zstd s"]...)
	r.Add("its bytes", "MiB", 0, ratios["zstd MiB"]...)
	r.Add("full image into an empty store, time against zstd -1", "×", 1, ratios["full"]...)
	r.Add("its bytes against zstd -1", "×", 1.05, ratios["full bytes"]...)
	r.Add("into a sealed store, the service's processor time against unsealed", "×", 1.05, ratios["sealed"]...)
	r.Add("second full image, unchanged, time against the first", "×", 0.2, ratios["again"]...)
	r.Add("another machine, the same files on a file system of another size: time against the first", "×", 0.5, ratios["other"]...)
	r.Add("bytes that it adds, against the first", "×", 0.15, ratios["other bytes"]...)
	r.Add("restore to a sparse file, synced, time against `zstd -d`", "×", 0.85, ratios["restore"]...)
	r.Add("1 GiB that does not compress, time against `cp --reflink=never`, synced", "×", 1.2, ratios["noise"]...)
	r.Add("peak memory of the service, full image", "MiB", 250, ratios["memory"]...)
	r.Add("peak memory, 1 GiB spread over a disk of 4 TiB", "MiB", 300, float64(large.memory)/1024)
	r.Add("time of that", "s", 0, large.seconds)
	return nil
}

// restores writes the newest image of berth-sim out of a store, and the disk out of zstd's file; it gives the seconds of both.
func (l *lab) restores(ctx context.Context, shelf string) (expand, extract float64, err error) {
	c, err := l.p.Client()
	if err != nil {
		return 0, 0, err
	}
	images, _, err := c.Images(ctx, wire.ImageFilter{Machine: "berth-sim", Store: shelf, Page: wire.Page{Limit: 1}})
	if err != nil {
		return 0, 0, err
	}
	out := filepath.Join(folder, "out")
	defer os.RemoveAll(out)
	if err := os.Mkdir(out, 0o700); err != nil {
		return 0, 0, err
	}
	if expand, err = timed(exec.Command("sh", "-c", fmt.Sprintf("zstd -q -d --sparse %s/disk.zst -o %s/disk.raw && sync %[2]s/disk.raw", folder, out))); err != nil {
		return 0, 0, err
	}
	os.Remove(filepath.Join(out, "disk.raw"))
	extract, err = timed(exec.Command(l.p.Program, "store", "extract", filepath.Join(folder, shelf), images[0].ID, "--to", out))
	return expand, extract, err
}
