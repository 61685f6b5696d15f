// Command bench measures whole processes against general tools on the same bytes, in one run, as ratios.
// See docs/benchmarks.md; run it with "make bench".
package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"filippo.io/age"

	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

const (
	// runs of each side; they take turns, and the median counts.
	runs   = 3
	folder = "/var/tmp/brindle-bench"
)

func main() {
	// Who stops it midway does not find its disks there afterwards.
	ctx, end := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer end()
	if err := bench(ctx); err != nil {
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
	other := filepath.Join(folder, "pool", "crew-rota-vda.raw")
	sparse := filepath.Join(folder, "pool", "timetable-vda.raw")
	switch os.Getenv("KEENLODGE_BENCH_ONLY") {
	case "schedules":
		return scheduled(ctx, p)
	case "scale":
		return scale(ctx, p)
	}
	if err := makeDisks(disk, other, sparse); err != nil {
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
	for name, file := range map[string]string{"berth-sim": disk, "crew-rota": other, "timetable": sparse} {
		disks := fmt.Sprintf("<disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='%s'/><target dev='vda' bus='virtio'/></disk>", file)
		if err := p.Define(ctx, demo.Guest{Name: name, Off: true}, disks); err != nil {
			return err
		}
		if out, err := exec.Command("chown", "nobody", file).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
	}
	b := bencher{p: p}
	if os.Getenv("KEENLODGE_BENCH_ONLY") == "sets" {
		return b.sets(ctx, disk)
	}
	var compress, full, sealed []figure
	var memory int64
	for i := range runs {
		f, err := zstd(disk)
		if err != nil {
			return err
		}
		compress = append(compress, f)
		forgetPeak(service.PID())
		if f, err = b.backup(ctx, fmt.Sprint("shelf-", i), "berth-sim", false); err != nil {
			return err
		}
		memory = max(memory, peak(service.PID()))
		full = append(full, f)
		if f, err = b.backup(ctx, fmt.Sprint("vault-", i), "berth-sim", true); err != nil {
			return err
		}
		sealed = append(sealed, f)
		fmt.Printf("round %d: zstd %.1f s, %d MiB · full backup %.1f s, %d MiB · sealed %.1f s\n", i+1, compress[i].seconds, compress[i].bytes>>20, full[i].seconds, full[i].bytes>>20, sealed[i].seconds)
	}
	last := fmt.Sprint("shelf-", runs-1)
	again, err := b.backup(ctx, last, "berth-sim", false)
	if err != nil {
		return err
	}
	second, err := b.backup(ctx, last, "crew-rota", false)
	if err != nil {
		return err
	}
	forgetPeak(service.PID())
	big, err := b.backup(ctx, "shelf-sparse", "timetable", false)
	if err != nil {
		return err
	}
	bigMemory := peak(service.PID())
	extract, expand, err := restores(disk, filepath.Join(folder, last))
	if err != nil {
		return err
	}
	a, z, s := median(full), median(compress), median(sealed)
	fmt.Printf("\n| what | time | against | bytes | against |\n|---|---|---|---|---|\n")
	fmt.Printf("| `zstd -1 -T0 < disk > file` | %.1f s | 1 | %d MiB | 1 |\n", z.seconds, z.bytes>>20)
	fmt.Printf("| full backup, empty store | %.1f s | %.2f × zstd | %d MiB | %.2f × zstd |\n", a.seconds, a.seconds/z.seconds, a.bytes>>20, float64(a.bytes)/float64(z.bytes))
	fmt.Printf("| the same, sealed | %.1f s | %.2f × unsealed | %d MiB | |\n", s.seconds, s.seconds/a.seconds, s.bytes>>20)
	fmt.Printf("| second full backup, unchanged | %.1f s | %.2f × the first | %.1f MiB more | |\n", again.seconds, again.seconds/a.seconds, float64(again.bytes-full[runs-1].bytes)/(1<<20))
	fmt.Printf("| another machine, another file system of the same files | %.1f s | | %d MiB more | %.2f × the first |\n", second.seconds, (second.bytes-again.bytes)>>20, float64(second.bytes-again.bytes)/float64(a.bytes))
	fmt.Printf("| sparse disk of 4 TiB with 2000 MiB in it | %.1f s | | %d MiB | |\n", big.seconds, big.bytes>>20)
	fmt.Printf("| `zstd -d` to a sparse file | %.1f s | 1 | | |\n", expand.seconds)
	fmt.Printf("| store extract to a sparse raw file | %.1f s | %.2f × zstd -d | | |\n", extract.seconds, extract.seconds/expand.seconds)
	fmt.Printf("\npeak memory of the service: %d MiB in a full backup, %d MiB in that of the disk of 4 TiB\n\n", memory>>10, bigMemory>>10)
	if err := b.sets(ctx, disk); err != nil {
		return err
	}
	return inside(disk, filepath.Join(folder, last))
}

// makeDisks makes the disks, or takes those that an earlier run left in the folder that KEENLODGE_BENCH_DISKS names.
func makeDisks(disk, other, sparse string) error {
	keep := os.Getenv("KEENLODGE_BENCH_DISKS")
	if keep != "" && shell("cd %s && ln *.raw %s", keep, filepath.Dir(disk)) == nil {
		return shell("cat %s > /dev/null", disk)
	}
	fmt.Println("making a disk of 8 GiB and one of 9 GiB with file systems that hold copies of /usr, and a sparse one of 4 TiB …")
	if err := shell("truncate -s 8G %[1]s && mkfs.ext4 -q -F -d /usr %[1]s && du -h %[1]s", disk); err != nil {
		return err
	}
	if err := shell("truncate -s 9G %[1]s && mkfs.ext4 -q -F -i 32768 -d /usr %[1]s && du -h %[1]s", other); err != nil {
		return err
	}
	// 2000 MiB of random bytes, spread over all of it.
	if err := shell("truncate -s 4T %[1]s && for i in $(seq 0 1999); do dd if=/dev/urandom of=%[1]s bs=1M count=1 seek=$((i*2097)) conv=notrunc status=none; done", sparse); err != nil {
		return err
	}
	if keep == "" {
		return nil
	}
	return shell("mkdir -p %s && ln %s/*.raw %[1]s", keep, filepath.Dir(disk))
}

// restores writes the disk out of the store, and out of zstd's file, in turns.
func restores(disk, shelf string) (ours, theirs figure, err error) {
	packed := filepath.Join(folder, "disk.zst")
	if err := shell("zstd -q -1 -T0 -f %s -o %s", disk, packed); err != nil {
		return ours, theirs, err
	}
	image, err := exec.Command("sh", "-c", fmt.Sprintf("grep -l . %s/image/* | head -1", shelf)).Output()
	if err != nil {
		return ours, theirs, err
	}
	var a, b []figure
	for range runs {
		out := filepath.Join(folder, "out")
		if err := os.RemoveAll(out); err != nil {
			return ours, theirs, err
		}
		if err := os.Mkdir(out, 0o700); err != nil {
			return ours, theirs, err
		}
		seconds, err := timed(exec.Command("sh", "-c", fmt.Sprintf("zstd -q -d --sparse %s -o %s/disk.raw && sync %[2]s/disk.raw", packed, out)))
		if err != nil {
			return ours, theirs, err
		}
		b = append(b, figure{seconds: seconds})
		os.Remove(filepath.Join(out, "disk.raw"))
		if seconds, err = timed(exec.Command(os.Getenv("KEENLODGE_PROGRAM"), "store", "extract", shelf, filepath.Base(strings.TrimSpace(string(image))), "--to", out)); err != nil {
			return ours, theirs, err
		}
		a = append(a, figure{seconds: seconds})
	}
	return median(a), median(b), nil
}

// inside runs the benchmarks of what no command shows by itself.
func inside(disk, shelf string) error {
	cmd := exec.Command("go", "test", "-run", "^$", "-bench", "Incremental|RandomReads|Index|SweepPlan", "-benchtime", "1x", "./internal/store/pooled", "./internal/mount")
	cmd.Env = append(os.Environ(), "KEENLODGE_DISK="+disk, "KEENLODGE_SHELF="+shelf, "KEENLODGE_BENCH=1")
	out, err := cmd.CombinedOutput()
	for line := range strings.Lines(string(out)) {
		if err != nil || strings.HasPrefix(line, "Benchmark") {
			fmt.Print(line)
		}
	}
	return err
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

// bencher knows the stores so far.
type bencher struct{ p *demo.Place }

// backup runs a policy for one machine into a store of that name, through the client, the service, libvirt and QEMU.
func (b bencher) backup(ctx context.Context, name, machine string, sealed bool) (figure, error) {
	shelf := filepath.Join(folder, name)
	c, err := b.p.Client()
	if err != nil {
		return figure{}, err
	}
	s, err := c.Site(ctx)
	if err != nil {
		return figure{}, err
	}
	if _, there := s.Stores[name]; !there {
		if err := os.MkdirAll(shelf, 0o700); err != nil {
			return figure{}, err
		}
		n := wire.StoreAddition{Spec: site.Store{Medium: "dir", Layout: "pooled", Settings: &dir.Settings{Folder: shelf}, Sealed: sealed}}
		if sealed {
			me, err := age.GenerateX25519Identity()
			if err != nil {
				return figure{}, err
			}
			n.Keys = []store.NewKey{{Label: "bench", Recipients: []string{me.Recipient().String()}}}
		}
		if _, err := c.AddStore(ctx, name, n); err != nil {
			return figure{}, err
		}
		if s, err = c.Site(ctx); err != nil {
			return figure{}, err
		}
	}
	s.Zone, s.Hypervisors = "Europe/Lisbon", map[string]site.Hypervisor{"quay-1": {URI: b.p.URI()}}
	s.Policies = map[string]site.Policy{"monthly-whole": {Machines: []string{machine}, Store: name, Rotation: "newest 3"}}
	if _, err = c.ApplySite(ctx, s, false); err != nil {
		return figure{}, err
	}
	seconds, err := timed(b.client("policy", "run", "monthly-whole", "--wait"))
	if err != nil {
		return figure{}, err
	}
	found, err := c.Stores(ctx)
	if err != nil {
		return figure{}, err
	}
	i := slices.IndexFunc(found, func(v wire.Store) bool { return v.Name == name })
	return figure{seconds, found[i].Used}, nil
}

// forgetPeak has the kernel measure a process's peak memory anew from here on (proc(5), clear_refs).
func forgetPeak(pid int) {
	os.WriteFile("/proc/"+strconv.Itoa(pid)+"/clear_refs", []byte("5"), 0)
}

// peak is the most memory that a process had, in KiB, as the kernel tells it.
func peak(pid int) int64 {
	body, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
	if err != nil {
		return -1
	}
	for line := range strings.Lines(string(body)) {
		if v, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			n, _ := strconv.ParseInt(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(v), "kB")), 10, 64)
			return n
		}
	}
	return -1
}
