// Package kinds measures sources of other kinds, by their stand-ins: captures against libvirt's of the same disk, and what snapshots in place cost of calls.
package kinds

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"time"

	"keenlodge/demo"
	"keenlodge/internal/client"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source/rest"
	"keenlodge/internal/standin/islet"
	"keenlodge/internal/standin/skerry"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

const (
	// rounds of each measurement.
	rounds = 3
	// gib is the size of the disk, piece that of a write, in bytes.
	gib, piece = 4, 1 << 20
	// volumes, policies and rate are those of the account: calls a second, and by how much its time is sped up.
	volumes, policies, rate, sped = 5000, 200, 20, 4
	// old is how many snapshots of each volume one policy keeps.
	old = 20
)

// Add adds a row to the page.
type Add func(what, unit string, asked float64, samples ...float64)

type lab struct {
	p    *demo.Place
	c    *client.Client
	site site.Site
}

// Measure measures all of it.
func Measure(ctx context.Context, p *demo.Place, add Add) error {
	for _, step := range []func(context.Context) error{p.StartDatabase, p.Quay.Start} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	if _, err := p.StartService(ctx); err != nil {
		return err
	}
	l := &lab{p: p, site: site.Site{Zone: "Europe/Lisbon", Hypervisors: map[string]site.Hypervisor{"quay-1": p.Quay.Spec()}, Stores: map[string]site.Store{}, Policies: map[string]site.Policy{}}}
	var err error
	if l.c, err = p.Client(); err != nil {
		return err
	}
	if err := l.captures(ctx, add); err != nil {
		return err
	}
	return l.inPlace(ctx, add)
}

// run carries a policy out, and tells how long that took.
func (l *lab) run(ctx context.Context, policy string) (wire.Run, float64, error) {
	begun := time.Now()
	r, err := l.c.RunPolicy(ctx, policy, "")
	if err == nil {
		r, err = l.c.Watch(ctx, r.ID, func(wire.Run) {})
	}
	if err == nil && r.State != run.Done {
		err = fmt.Errorf("run %s of %s ended as %s: %s", r.ID, policy, r.State, r.Error)
	}
	return r, time.Since(begun).Seconds(), err
}

func (l *lab) apply(ctx context.Context) error {
	_, err := l.c.ApplySite(ctx, l.site, false)
	return err
}

// captures measures images of the same disk, through libvirt and from the stand-in.
func (l *lab) captures(ctx context.Context, add Add) error {
	file, tree := l.p.Path("pool/berth-sim-vda.qcow2"), l.p.Path("tree")
	out, err := exec.Command("sh", "-ec", fmt.Sprintf(`mkdir %[2]s; cd /; for d in usr/bin usr/share; do cp -al --parents $d %[2]s; done; truncate -s %[3]dG %[2]s.raw; mkfs.ext4 -q -F -d %[2]s %[2]s.raw
		qemu-img convert -f raw -O qcow2 %[2]s.raw %[1]s; chown nobody %[1]s; rm -r %[2]s %[2]s.raw`, file, tree, gib)).CombinedOutput()
	if err != nil {
		return fmt.Errorf("make a disk: %w: %s", err, out)
	}
	disk := fmt.Sprintf("<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='%s'/><target dev='vda' bus='virtio'/></disk>", file)
	if err := l.p.Quay.Define(ctx, demo.Guest{Name: "berth-sim", Off: true}, disk); err != nil {
		return err
	}
	spec, c, err := l.p.StartStandin(ctx, islet.Kind, "islet-3", "--pace", "0s")
	if err != nil {
		return err
	}
	defer c.Close()
	var v islet.Volume
	if err := demo.SendFile(ctx, c, "/volumes/lighthouse-vda", file, &v); err != nil {
		return err
	}
	g := islet.Guest{Name: demo.Lighthouse, Disks: []islet.Disk{{Target: "vda", Volume: v.ID}}, Build: islet.Build{Memory: 256 << 20, CPUs: 1, Firmware: "bios"}}
	if err := c.Call(ctx, http.MethodPost, "/guests", g, &g); err != nil {
		return err
	}
	if err := c.Task(ctx, time.Minute, http.MethodPost, "/guests/"+g.ID+"/power", "on", nil); err != nil {
		return err
	}
	l.site.Hypervisors["islet-3"] = spec
	took := map[string][]float64{}
	for n := range rounds {
		for _, name := range []string{"berth-sim", demo.Lighthouse} {
			store := fmt.Sprintf("shelf-%s-%d", name, n)
			if err := os.Mkdir(l.p.Path(store), 0o700); err != nil {
				return err
			}
			l.site.Stores[store] = site.Store{Medium: "dir", Settings: &dir.Settings{Folder: l.p.Path(store)}}
			l.site.Policies = map[string]site.Policy{"nightly": {Machines: []string{name}, Store: store, Cycle: "full once", Quiesce: machine.NoFreeze, Rotation: "newest 9"}}
			if err := l.apply(ctx); err != nil {
				return err
			}
			for _, what := range []image.Capture{image.Full, image.Incremental} {
				r, seconds, err := l.run(ctx, "nightly")
				if err != nil {
					return err
				}
				if m, err := l.c.Image(ctx, r.Tasks[0].Image); err != nil || m.Capture != what {
					return errors.Join(err, fmt.Errorf("image %s of %s should be %s: %s", r.Tasks[0].Image, name, what, m.CaptureWhy))
				}
				took[name+string(what)] = append(took[name+string(what)], seconds)
				if what == image.Incremental {
					continue
				}
				if err := l.scribble(ctx, c, g.ID, file); err != nil {
					return err
				}
			}
			l.site.Policies = map[string]site.Policy{}
			delete(l.site.Stores, store)
			if err := errors.Join(l.apply(ctx), os.RemoveAll(l.p.Path(store))); err != nil {
				return err
			}
		}
	}
	for _, what := range []image.Capture{image.Full, image.Incremental} {
		var ratios []float64
		for n, seconds := range took[demo.Lighthouse+string(what)] {
			ratios = append(ratios, seconds/took["berth-sim"+string(what)][n])
		}
		add(fmt.Sprintf("%s image from the stand-in, time against the same disk through libvirt", what), "×", 1.1, ratios...)
		add(fmt.Sprintf("time of the %s image through libvirt", what), "s", 0, took["berth-sim"+string(what)]...)
	}
	l.site.Policies = map[string]site.Policy{}
	delete(l.site.Hypervisors, "islet-3")
	return l.apply(ctx)
}

// scribble writes 1 % of both disks over, at the same places.
func (l *lab) scribble(ctx context.Context, c *rest.Client, guest, file string) error {
	body, random := make([]byte, piece), l.p.Path("random")
	var script strings.Builder
	for _, at := range mathrand.Perm(gib << 30 / piece)[:gib<<30/piece/100] {
		rand.Read(body)
		if err := c.Send(ctx, http.MethodPut, fmt.Sprintf("/inside/%s/vda?at=%d", guest, at*piece), piece, bytes.NewReader(body), nil); err != nil {
			return err
		}
		fmt.Fprintf(&script, "write -q -s %s %d %d\n", random, at*piece, piece)
	}
	if err := os.WriteFile(random, body, 0o600); err != nil {
		return err
	}
	cmd := exec.Command("qemu-io", "-f", "qcow2", file)
	cmd.Stdin = strings.NewReader(script.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("qemu-io: %w: %s", err, out)
	}
	return nil
}

// asked is how many calls an account was asked, of those that are the lodge's.
func asked(ctx context.Context, c *rest.Client) (n float64, err error) {
	var calls map[string]int
	err = c.Call(ctx, http.MethodGet, "/calls", nil, &calls)
	for name, k := range calls {
		if name != "volume.make" {
			n += float64(k)
		}
	}
	return n, err
}

// inPlace measures a night's snapshots of an account's volumes, and a rotation of many.
func (l *lab) inPlace(ctx context.Context, add Add) error {
	spec, c, err := l.p.StartStandin(ctx, skerry.Kind, "skerry", "--pace", "0s", "--rate", fmt.Sprint(rate*sped))
	if err != nil {
		return err
	}
	defer c.Close()
	for n := range volumes {
		v := skerry.NewVolume{Name: fmt.Sprintf("berth-%04d", n), Size: 1 << 20, Tags: map[string]string{"team": fmt.Sprintf("t%03d", n%policies)}}
		if err := c.Call(ctx, http.MethodPost, "/regions/skerry-east/volumes", v, nil); err != nil {
			return err
		}
	}
	spec.TasksAtOnce = 32
	l.site.TasksAtOnce, l.site.Hypervisors["skerry"] = 32, spec
	for n := range policies {
		l.site.Policies[fmt.Sprintf("team-%03d", n)] = site.Policy{Tags: fmt.Sprintf("team=t%03d", n), Scope: image.InPlace, Rotation: "newest 7"}
	}
	l.site.Policies["all-berths"] = site.Policy{Machines: []string{"berth-0000"}, Scope: image.InPlace, Rotation: fmt.Sprintf("newest %d", old)}
	if err := l.apply(ctx); err != nil {
		return err
	}
	before, err := asked(ctx, c)
	if err != nil {
		return err
	}
	begun := time.Now()
	var going []string
	for n := range policies {
		r, err := l.c.RunPolicy(ctx, fmt.Sprintf("team-%03d", n), "")
		if err != nil {
			return err
		}
		going = append(going, r.ID)
	}
	for _, id := range going {
		r, err := l.c.Watch(ctx, id, func(wire.Run) {})
		if err == nil && (r.State != run.Done || r.Machines != volumes/policies) {
			err = fmt.Errorf("run %s of %d machines ended as %s: %s", id, r.Machines, r.State, r.Error)
		}
		if err != nil {
			return err
		}
	}
	night := time.Since(begun).Minutes() * sped
	after, err := asked(ctx, c)
	if err != nil {
		return err
	}
	add(fmt.Sprintf("snapshots of %d volumes by %d policies, at %d calls a second: time, sped up", volumes, policies, rate), "min", 15, night)
	add("calls for each volume", "calls", 3, (after-before)/volumes)
	// Those of long ago are recorded only: the account is asked for none that stays.
	err = l.p.SQL(ctx, fmt.Sprintf(`insert into snapshots (id, machine_id, machine, hypervisor, policy, run, ref, taken, consistency, state)
		select 'o' || lpad((row_number() over ())::text, 9, '0'), m.id, m.name, 'skerry', 'all-berths', '', 'gone', now() - n * interval '1 day', 'crash', 'kept' from machines m, generate_series(1, %d) n where m.hypervisor = 'skerry' and m.name like 'berth-%%'`, old))
	if err != nil {
		return err
	}
	var took, calls []float64
	for range rounds {
		before, err := asked(ctx, c)
		if err != nil {
			return err
		}
		_, seconds, err := l.run(ctx, "all-berths")
		if err != nil {
			return err
		}
		after, err := asked(ctx, c)
		if err != nil {
			return err
		}
		took, calls = append(took, seconds), append(calls, after-before)
	}
	add(fmt.Sprintf("a run that rotates %d snapshots in place, of which one goes: time", volumes*old), "s", 5, took...)
	add("and calls, with those for the snapshot that it takes", "calls", 0, calls...)
	return nil
}
