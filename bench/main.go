// Command bench measures whole processes against general tools on the same bytes, in one run, as ratios.
// See docs/benchmarks.md; run it with "make bench".
package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/demo"
	"keenlodge/internal/core/site"
)

const (
	// runs of each side; they take turns, and the median counts.
	runs   = 3
	folder = "/var/tmp/brindle-bench"
)

func main() {
	if err := bench(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// figure is what a whole process took.
type figure struct {
	seconds float64
	bytes   int64
}

func bench(ctx context.Context) error {
	p, err := demo.Open(folder, os.Getenv("KEENLODGE_PROGRAM"))
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	defer p.Close()
	disk := filepath.Join(folder, "pool", "berth-sim-vda.raw")
	fmt.Println("making a disk of 8 GiB with a file system that holds a copy of /usr …")
	if err := shell("truncate -s 8G %[1]s && mkfs.ext4 -q -F -d /usr %[1]s && du -h %[1]s", disk); err != nil {
		return err
	}
	for _, step := range []func(context.Context) error{p.StartDatabase, p.StartHypervisor} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	service, err := p.StartService(ctx)
	if err != nil {
		return err
	}
	disks := fmt.Sprintf("<disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='%s'/><target dev='vda' bus='virtio'/></disk>", disk)
	if err := p.Define(ctx, demo.Guest{Name: "berth-sim", Off: true}, disks); err != nil {
		return err
	}
	out, err := exec.Command("chown", "nobody", disk).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	var full, compress []figure
	for i := range runs {
		f, err := zstd(disk)
		if err != nil {
			return err
		}
		compress = append(compress, f)
		if f, err = backup(ctx, p, fmt.Sprint("shelf-", i)); err != nil {
			return err
		}
		full = append(full, f)
		fmt.Printf("round %d: zstd %.1f s, %d MiB · full backup %.1f s, %d MiB\n", i+1, compress[i].seconds, compress[i].bytes>>20, f.seconds, f.bytes>>20)
	}
	again, err := backup(ctx, p, fmt.Sprint("shelf-", runs-1))
	if err != nil {
		return err
	}
	a, b := median(full), median(compress)
	fmt.Printf("\n| what | time | against | bytes | against |\n|---|---|---|---|---|\n")
	fmt.Printf("| zstd -1 -T0 < disk > file | %.1f s | 1 | %d MiB | 1 |\n", b.seconds, b.bytes>>20)
	fmt.Printf("| full backup, empty store | %.1f s | %.2f × zstd | %d MiB | %.2f × zstd |\n", a.seconds, a.seconds/b.seconds, a.bytes>>20, float64(a.bytes)/float64(b.bytes))
	fmt.Printf("| second full backup, unchanged | %.1f s | %.2f × the first | %.1f MiB more | |\n", again.seconds, again.seconds/a.seconds, float64(again.bytes-full[runs-1].bytes)/(1<<20))
	fmt.Printf("\npeak memory of the service: %s\n", peak(service.PID()))
	return nil
}

func median(f []figure) figure {
	return slices.SortedFunc(slices.Values(f), func(a, b figure) int { return int(1000 * (a.seconds - b.seconds)) })[len(f)/2]
}

func shell(format string, args ...any) error {
	cmd := exec.Command("sh", "-c", fmt.Sprintf(format, args...))
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	return cmd.Run()
}

// timed runs a command and measures all of it. What came before is written to disk first, so that it is not paid for here.
func timed(cmd *exec.Cmd) (float64, error) {
	if err := exec.Command("sync").Run(); err != nil {
		return 0, err
	}
	begun := time.Now()
	out, err := cmd.CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("%s: %w: %s", strings.Join(cmd.Args, " "), err, out)
	}
	return time.Since(begun).Seconds(), nil
}

// zstd compresses the disk; the result is synced, as a store's objects are.
func zstd(disk string) (figure, error) {
	out := filepath.Join(folder, "disk.zst")
	defer os.Remove(out)
	seconds, err := timed(exec.Command("sh", "-c", fmt.Sprintf("zstd -q -1 -T0 < %s > %s && sync %s", disk, out, out)))
	if err != nil {
		return figure{}, err
	}
	s, err := os.Stat(out)
	if err != nil {
		return figure{}, err
	}
	return figure{seconds, s.Size()}, nil
}

// backup runs a policy into a store of that name, through the client, the service, libvirt and QEMU.
func backup(ctx context.Context, p *demo.Place, name string) (figure, error) {
	shelf := filepath.Join(folder, name)
	if err := os.MkdirAll(shelf, 0o700); err != nil {
		return figure{}, err
	}
	c, err := p.Client()
	if err != nil {
		return figure{}, err
	}
	_, err = c.ApplySite(ctx, site.Site{Zone: "Europe/Lisbon", Hypervisors: map[string]site.Hypervisor{"quay-1": {URI: p.URI()}},
		Stores:   map[string]site.Store{name: {Medium: "dir", Layout: "pooled", Folder: shelf}},
		Policies: map[string]site.Policy{"monthly-whole": {Machines: []string{"berth-sim"}, Store: name, Rotation: "newest 3"}}}, false)
	if err != nil {
		return figure{}, err
	}
	cmd := exec.Command(p.Program, "policy", "run", "monthly-whole", "--wait")
	cmd.Env = append(os.Environ(), "KEENLODGE_URL="+p.URL(), "KEENLODGE_TOKEN_FILE="+p.TokenFile())
	seconds, err := timed(cmd)
	if err != nil {
		return figure{}, err
	}
	stores, err := c.Stores(ctx)
	if err != nil {
		return figure{}, err
	}
	return figure{seconds, stores[0].Used}, nil
}

// peak is the most memory that a process had, as the kernel tells it.
func peak(pid int) string {
	body, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
	if err != nil {
		return err.Error()
	}
	for line := range strings.Lines(string(body)) {
		if v, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			return strings.TrimSpace(v)
		}
	}
	return "unknown"
}
