package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"keenlodge/demo"
	"keenlodge/internal/client"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

// sets measures what changes cost: incremental images of a disk of which 1 % was written to, and folding them.
func (b bencher) sets(ctx context.Context, disk string) error {
	file := filepath.Join(folder, "pool", "tickets-db-vda.qcow2")
	if err := shell("qemu-img convert -f raw -O qcow2 %s %s && chown nobody %[2]s", disk, file); err != nil {
		return err
	}
	disks := fmt.Sprintf("<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='%s'/><target dev='vda' bus='virtio'/></disk>", file)
	if err := b.p.Define(ctx, demo.Guest{Name: "tickets-db", Off: true}, disks); err != nil {
		return err
	}
	full, err := b.image(ctx, "shelf-changes", "pooled")
	if err != nil {
		return err
	}
	fmt.Printf("\n| what | time | against | read | against |\n|---|---|---|---|---|\n")
	fmt.Printf("| full backup of the disk as qcow2, pooled | %.1f s | 1 | %d MiB | |\n", full.seconds, full.bytes>>20)
	for _, piece := range []int64{1 << 20, 64 << 10} {
		var took []figure
		for range runs {
			if err := scribble(file, piece); err != nil {
				return err
			}
			f, err := b.image(ctx, "shelf-changes", "pooled")
			if err != nil {
				return err
			}
			took = append(took, f)
		}
		f := median(took)
		fmt.Printf("| incremental, 1 %% written in pieces of %d KiB, pooled | %.2f s | %.3f × the full | %d MiB | %.2f × what was written |\n", piece>>10, f.seconds, f.seconds/full.seconds, f.bytes>>20, float64(f.bytes)/float64(onePercent))
	}
	return b.folds(ctx, file)
}

// folds measures an increment and its folding in an open store, against copying the full file.
func (b bencher) folds(ctx context.Context, file string) error {
	plain, err := b.image(ctx, "plain-changes", "open")
	if err != nil {
		return err
	}
	fmt.Printf("| full backup of the same, open layout | %.1f s | 1 | %d MiB | |\n", plain.seconds, plain.bytes>>20)
	c, err := b.p.Client()
	if err != nil {
		return err
	}
	var increments, folded, copied []figure
	for range runs {
		if err := scribble(file, 64<<10); err != nil {
			return err
		}
		f, err := b.image(ctx, "plain-changes", "open")
		if err != nil {
			return err
		}
		increments = append(increments, f)
		images, _, err := c.Images(ctx, wire.ImageFilter{Store: "plain-changes"})
		if err != nil {
			return err
		}
		full, err := filepath.Glob(filepath.Join(folder, "plain-changes", "tickets-db", "*-"+images[0].Base+"-vda.qcow2"))
		if err != nil || len(full) != 1 {
			return fmt.Errorf("the full file under image %s was not found: %w", images[0].ID, err)
		}
		if err := shell("cat %s > /dev/null", full[0]); err != nil { // both sides find it in the page cache
			return err
		}
		seconds, err := timed(exec.Command("sh", "-c", fmt.Sprintf("cp %s %s/copy && sync %[2]s/copy", full[0], folder)))
		if err != nil {
			return err
		}
		copied = append(copied, figure{seconds: seconds})
		os.Remove(filepath.Join(folder, "copy"))
		if seconds, err = timed(b.client("image", "fold", images[0].ID, "--wait")); err != nil {
			return err
		}
		folded = append(folded, figure{seconds: seconds})
	}
	f, cp := median(folded), median(copied)
	i := median(increments)
	fmt.Printf("| incremental, 1 %% written in pieces of 64 KiB, open layout | %.2f s | %.3f × the full | %d MiB | %.2f × what was written |\n", i.seconds, i.seconds/plain.seconds, i.bytes>>20, float64(i.bytes)/float64(onePercent))
	fmt.Printf("| `cp` of the full file, synced | %.1f s | 1 | | |\n", cp.seconds)
	fmt.Printf("| fold of the increment into it | %.1f s | %.2f × cp | | |\n", f.seconds, f.seconds/cp.seconds)
	return nil
}

// onePercent of the disk's 8 GiB, in bytes.
const onePercent = (8 << 30) / 100 / (1 << 20) * (1 << 20)

// scribble writes 1 % of the disk over with random bytes, in pieces at random places, none twice.
func scribble(file string, piece int64) error {
	random := filepath.Join(folder, "random")
	if err := shell("rm -rf %[1]s && mkdir %[1]s && head -c %[2]d /dev/urandom | split -a 4 -d -b %[3]d - %[1]s/", random, onePercent, piece); err != nil {
		return err
	}
	var script strings.Builder
	for i, at := range rand.Perm(int((8 << 30) / piece))[:onePercent/piece] {
		fmt.Fprintf(&script, "write -q -s %s/%04d %d %d\n", random, i, int64(at)*piece, piece)
	}
	cmd := exec.Command("qemu-io", "-f", "qcow2", file)
	cmd.Stdin = strings.NewReader(script.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("qemu-io: %w: %s", err, out)
	}
	return nil
}

func (b bencher) client(args ...string) *exec.Cmd {
	cmd := exec.Command(b.p.Program, args...)
	cmd.Env = append(os.Environ(), "KEENLODGE_URL="+b.p.URL(), "KEENLODGE_TOKEN_FILE="+b.p.TokenFile())
	return cmd
}

// image backs tickets-db up into a store of that name, by a cycle that is full once, and tells how long it took and how much
// was read.
func (b bencher) image(ctx context.Context, name, layout string) (figure, error) {
	c, err := b.p.Client()
	if err != nil {
		return figure{}, err
	}
	if err := b.changesPolicy(ctx, c, name, layout); err != nil {
		return figure{}, err
	}
	seconds, err := timed(b.client("policy", "run", "hourly-tickets", "--wait"))
	if err != nil {
		return figure{}, err
	}
	images, _, err := c.Images(ctx, wire.ImageFilter{Store: name})
	return figure{seconds, images[0].Read}, err
}

func (b bencher) changesPolicy(ctx context.Context, c *client.Client, name, layout string) error {
	s, err := c.Site(ctx)
	if err != nil {
		return err
	}
	if s.Policies["hourly-tickets"].Store == name {
		return nil
	}
	shelf := filepath.Join(folder, name)
	if err := os.MkdirAll(shelf, 0o700); err != nil {
		return err
	}
	if _, err := c.AddStore(ctx, name, wire.StoreAddition{Spec: site.Store{Medium: "dir", Layout: site.Layout(layout), Settings: &dir.Settings{Folder: shelf}}}); err != nil {
		return err
	}
	if s, err = c.Site(ctx); err != nil {
		return err
	}
	s.Zone, s.Hypervisors = "Europe/Lisbon", map[string]site.Hypervisor{"quay-1": {URI: b.p.URI()}}
	s.Policies = map[string]site.Policy{"hourly-tickets": {Machines: []string{"tickets-db"}, Store: name, Rotation: "newest 99", Cycle: "full once"}}
	_, err = c.ApplySite(ctx, s, false)
	return err
}
