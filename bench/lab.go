package main

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"filippo.io/age"

	"keenlodge/demo"
	"keenlodge/internal/client"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

// lab is a site with a hypervisor, for measuring what goes the whole way: client, service, libvirt, QEMU's NBD export, store.
type lab struct {
	p       *demo.Place
	service *demo.Process
	spec    site.Hypervisor // how the hypervisor is reached
}

func newLab(ctx context.Context, p *demo.Place) (*lab, error) {
	for _, step := range []func(context.Context) error{p.StartDatabase, p.Quay.Start} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	service, err := p.StartService(ctx)
	return &lab{p, service, p.Quay.Spec()}, err
}

// rawDisk makes a raw disk with a file system of so many GiB that holds copies of folders, and a guest that is off over it. It gives the
// file's path.
func (l *lab) rawDisk(ctx context.Context, guest string, gib int, options string, folders ...string) (string, error) {
	file, tree := l.file(guest+"-vda.raw"), filepath.Join(folder, "tree")
	fmt.Printf("making a disk of %d GiB with a file system that holds copies of %s …\n", gib, strings.Join(folders, ", "))
	// Links in place of copies, so that making it costs no room.
	err := shell("mkdir %[3]s && (cd / && for d in %[4]s; do cp -al --parents ${d#/} %[3]s || exit 1; done) && truncate -s %[1]dG %[2]s && mkfs.ext4 -q -F %[5]s -d %[3]s %[2]s && rm -r %[3]s", gib, file, tree, strings.Join(folders, " "), options)
	if err != nil {
		return "", err
	}
	return file, l.guest(ctx, guest, file, "raw")
}

// file is the place of a disk.
func (l *lab) file(name string) string { return filepath.Join(folder, "pool", name) }

// guest defines a guest that is off over a disk.
func (l *lab) guest(ctx context.Context, name, file, format string) error {
	if err := shell("chown nobody %s", file); err != nil {
		return err
	}
	return l.p.Quay.Define(ctx, demo.Guest{Name: name, Off: true}, diskXML(file, format, "vda"))
}

func diskXML(file, format, target string) string {
	return fmt.Sprintf("<disk type='file' device='disk'><driver name='qemu' type='%s'/><source file='%s'/><target dev='%s' bus='virtio'/></disk>", format, file, target)
}

// site is the lodge's, with the client that reads and applies it.
func (l *lab) site(ctx context.Context) (*client.Client, site.Site, error) {
	c, err := l.p.Client()
	if err != nil {
		return nil, site.Site{}, err
	}
	s, err := c.Site(ctx)
	return c, s, err
}

// store makes a store in a folder of its name unless it is there.
func (l *lab) store(ctx context.Context, name string, spec site.Store) error {
	c, s, err := l.site(ctx)
	if _, there := s.Stores[name]; there || err != nil {
		return err
	}
	shelf := filepath.Join(folder, name)
	if err := os.MkdirAll(shelf, 0o700); err != nil {
		return err
	}
	spec.Medium, spec.Settings = "dir", &dir.Settings{Folder: shelf}
	n := wire.StoreAddition{Spec: spec}
	if spec.Sealed {
		me, err := age.GenerateX25519Identity()
		if err != nil {
			return err
		}
		n.Keys = []store.NewKey{{Label: "bench", Recipients: []string{me.Recipient().String()}}}
	}
	_, err = c.AddStore(ctx, name, n)
	return err
}

// policy makes one policy the only one.
func (l *lab) policy(ctx context.Context, v site.Policy, tasks int) error {
	c, s, err := l.site(ctx)
	if err != nil {
		return err
	}
	host := l.spec
	host.TasksAtOnce = tasks
	s.Zone, s.TasksAtOnce, s.Hypervisors = "Europe/Lisbon", tasks, map[string]site.Hypervisor{"quay-1": host}
	shelf := s.Stores[v.Store]
	shelf.TasksAtOnce = tasks
	s.Stores[v.Store] = shelf
	s.Policies = map[string]site.Policy{"monthly-whole": v}
	_, err = c.ApplySite(ctx, s, false)
	return err
}

// taken is what a run took: Processor is the service's time on the processors, Used what the store takes now, Read what was read.
type taken struct {
	seconds, processor float64
	used, read         int64
	memory             int64 // KiB at the peak
}

// drop takes a store out of the site, and away.
func (l *lab) drop(ctx context.Context, names ...string) error {
	c, s, err := l.site(ctx)
	if err != nil {
		return err
	}
	s.Policies = map[string]site.Policy{}
	for _, name := range names {
		delete(s.Stores, name)
	}
	if _, err := c.ApplySite(ctx, s, false); err != nil {
		return err
	}
	for _, name := range names {
		if err := os.RemoveAll(filepath.Join(folder, name)); err != nil {
			return err
		}
	}
	return nil
}

// run runs the policy through the client, the service, libvirt and QEMU.
func (l *lab) run(ctx context.Context, into string) (t taken, err error) {
	c, err := l.p.Client()
	if err != nil {
		return t, err
	}
	forgetPeak(l.service.PID())
	before := processorTime(l.service.PID())
	if t.seconds, err = timed(l.client("policy", "run", "monthly-whole", "--wait")); err != nil {
		return t, err
	}
	t.processor, t.memory = processorTime(l.service.PID())-before, peak(l.service.PID())
	// Not by the list of stores, which may be some seconds old.
	err = filepath.WalkDir(filepath.Join(folder, into), func(_ string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		st, err := e.Info()
		if err == nil && e.Name() != "reserve" {
			t.used += st.Size()
		}
		return err
	})
	if err != nil {
		return t, err
	}
	images, _, err := c.Images(ctx, wire.ImageFilter{Store: into, Page: wire.Page{Limit: 1}})
	if err == nil && len(images) > 0 {
		t.read = images[0].Read
	}
	return t, err
}

// backup takes an image of a machine into a store that is made if need be.
func (l *lab) backup(ctx context.Context, into, machine string, spec site.Store) (taken, error) {
	if err := l.store(ctx, into, spec); err != nil {
		return taken{}, err
	}
	if err := l.policy(ctx, site.Policy{Machines: []string{machine}, Store: into, Rotation: "newest 9"}, 0); err != nil {
		return taken{}, err
	}
	return l.run(ctx, into)
}

func (l *lab) client(args ...string) *exec.Cmd {
	cmd := exec.Command(l.p.Program, args...)
	cmd.Env = append(os.Environ(), "KEENLODGE_URL="+l.p.URL(), "KEENLODGE_TOKEN_FILE="+l.p.TokenFile())
	return cmd
}

// zstd compresses a disk with all cores; the result is synced, as a store's objects are. It gives the seconds and the bytes.
func zstd(disk, step string) (seconds float64, bytes int64, err error) {
	out := filepath.Join(folder, "disk.zst")
	seconds, err = timed(exec.Command("sh", "-c", fmt.Sprintf("zstd -q %s -T0 -c %s > %s && sync %[3]s", step, disk, out)))
	if err != nil {
		return 0, 0, err
	}
	s, err := os.Stat(out)
	if err != nil {
		return 0, 0, err
	}
	return seconds, s.Size(), nil
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

// processorTime is a process's time on the processors so far, in seconds (proc(5), stat: fields 14 and 15, in hundredths).
func processorTime(pid int) float64 {
	body, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(body[strings.LastIndexByte(string(body), ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return float64(user+system) / 100
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
