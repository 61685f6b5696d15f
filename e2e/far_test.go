package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	corerun "keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/wire"
)

// pierLine is pier-2 by SSH through a line that can be cut.
func pierLine(t *testing.T) (*mediumtest.Line, site.Hypervisor) {
	t.Helper()
	require.NoError(t, pier())
	spec := place.Pier.OverSSH()
	u, err := url.Parse(spec.URI)
	require.NoError(t, err)
	line := mediumtest.NewLine(t, u.Host)
	u.Host = line.Address()
	spec.URI = u.String()
	return line, spec
}

// pierWrites is how often crew-rota has written to its disks.
func pierWrites(t *testing.T) int {
	t.Helper()
	out, err := place.Pier.Virsh(t.Context(), "domblkstat", "crew-rota", "vda")
	require.NoError(t, err)
	for line := range strings.Lines(out) {
		if f := strings.Fields(line); len(f) == 3 && f[1] == "wr_req" {
			n, err := strconv.Atoi(f[2])
			require.NoError(t, err)
			return n
		}
	}
	t.Fatalf("no count of writes in %s", out)
	return 0
}

// requirePierClean makes sure that nothing of ours is left on crew-rota, and that it writes.
func requirePierClean(t *testing.T) {
	t.Helper()
	frozen, err := place.Pier.Virsh(t.Context(), "qemu-agent-command", "crew-rota", `{"execute":"guest-fsfreeze-status"}`)
	require.NoError(t, err)
	require.Contains(t, frozen, "thawed")
	_, err = place.Pier.Virsh(t.Context(), "backup-dumpxml", "crew-rota")
	require.Error(t, err, "a backup job is left")
	before := pierWrites(t)
	require.Eventually(t, func() bool { return pierWrites(t) > before }, 20*time.Second, 100*time.Millisecond)
	left, err := filepath.Glob(filepath.Join(place.Folder, "pier", "keenlodge-*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// A line that is cut while a guest is frozen leaves it frozen for ten seconds at most, though nobody here can reach it: what it has on its own
// side ends the freeze. When the line is back, all is cleared.
func TestALineThatIsCutWhileAGuestIsFrozen(t *testing.T) {
	forFaults(t, "the line takes its time to be missed")
	t.Parallel() // it waits most of the time, and changes nothing that others have
	line, spec := pierLine(t)
	for _, guard := range []string{"in the guest", "on its host"} {
		t.Run(guard, func(t *testing.T) {
			if guard == "on its host" { // for the guest has lost its fsfreeze
				_, err := place.Pier.Virsh(t.Context(), "qemu-agent-command", "crew-rota", `{"execute":"guest-exec","arguments":{"path":"/bin/sh","arg":["-c","busybox mv /bin/fsfreeze /bin/freezer"]}}`)
				require.NoError(t, err)
				t.Cleanup(func() {
					place.Pier.Virsh(context.Background(), "qemu-agent-command", "crew-rota", `{"execute":"guest-exec","arguments":{"path":"/bin/sh","arg":["-c","busybox mv /bin/freezer /bin/fsfreeze"]}}`)
				})
			}
			h, err := libvirt.Dial(t.Context(), spec)
			require.NoError(t, err)
			defer h.Close()
			var cut time.Time
			id := image.NewID()
			ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second) // nobody waits longer
			defer cancel()
			_, err = h.Capture(ctx, source.Request{Machine: "crew-rota", ID: id, Quiesce: machine.Required, Checkpoint: true, Starting: func() error { return nil },
				Watch: func() (source.Watchdog, error) { return deaf{}, nil },
				Moment: func(_ context.Context, m site.Moment) error {
					if m == site.Frozen {
						cut = time.Now()
						line.Down(true)
					}
					return nil
				}})
			require.Error(t, err)
			require.False(t, cut.IsZero(), "it was not frozen: %v", err)
			before := pierWrites(t)
			require.Eventually(t, func() bool { return pierWrites(t) > before }, time.Minute, 100*time.Millisecond, "it stays frozen")
			t.Logf("frozen for %s", time.Since(cut).Round(100*time.Millisecond))
			line.Down(false)
			found, err := h.Clear(t.Context(), "crew-rota", id, false)
			require.NoError(t, err, "%v", found)
			requirePierClean(t)
		})
	}
}

// deaf is a watchdog that does not hear, and so does nothing.
type deaf struct{}

func (deaf) Frozen() {}
func (deaf) Thawed() {}

// A line that is cut while disks are read, again and again and for some seconds, does not end the run: it goes on where it was, and says so.
func TestALineThatIsCutWhileARunGoes(t *testing.T) {
	forFaults(t, "the line takes its time to be missed, and the service to come back")
	line, spec := pierLine(t)
	spec.Bandwidth = []string{"12 MiB"} // so that there is a middle
	folder := t.TempDir()
	withSite(t, func(s *site.Site) {
		s.Hypervisors["pier-2"] = spec
		s.Stores["pier-shelf"] = site.Store{Medium: "dir", Layout: site.Pooled, Settings: &dir.Settings{Folder: folder}}
		s.Policies["pier-guests"] = site.Policy{Machines: []string{"crew-rota"}, Store: "pier-shelf", Rotation: "newest 3", Prove: image.ByRead}
	})
	r, err := lodge.RunPolicy(t.Context(), "pier-guests", "")
	require.NoError(t, err)
	seen := func() int64 {
		now, err := lodge.Run(t.Context(), r.ID)
		require.NoError(t, err)
		require.False(t, now.State.Over(), "it ended too soon: %s", now.Error)
		if len(now.Tasks) == 0 {
			return 0
		}
		return now.Tasks[0].Done
	}
	require.Eventually(t, func() bool { return seen() > 6<<20 }, time.Minute, 50*time.Millisecond)
	line.Down(true)
	time.Sleep(3 * time.Second) // this is what is tested
	line.Down(false)
	at := seen()
	require.Eventually(t, func() bool { return seen() > at+8<<20 }, time.Minute, 50*time.Millisecond)
	line.CutAfter(200_000)
	ended, err := lodge.Watch(t.Context(), r.ID, func(wire.Run) {})
	require.NoError(t, err)
	log := keenOK(t, "run", "log", r.ID)
	require.Contains(t, []corerun.State{corerun.Done, corerun.Warned}, ended.State, log)
	require.Contains(t, log, "the line to the hypervisor was cut while disk vda was read")
	require.Contains(t, log, "the line to the hypervisor is back after")
	requirePierClean(t)

	killedRuns(t, "pier-guests", func() bool {
		frozen, err := place.Pier.Virsh(t.Context(), "qemu-agent-command", "crew-rota", `{"execute":"guest-fsfreeze-status"}`)
		_, none := place.Pier.Virsh(t.Context(), "backup-dumpxml", "crew-rota")
		left, globbed := filepath.Glob(filepath.Join(place.Folder, "pier", "keenlodge-*"))
		return err == nil && strings.Contains(frozen, "thawed") && none != nil && globbed == nil && len(left) == 0
	})

	// Back through the same line: what is cut in the middle leaves nothing, what is not is the disk.
	taken := keenJSON[[]wire.Image](t, "image", "list", "--machine", "crew-rota", "--policy", "pier-guests")[0].ID
	t.Cleanup(func() {
		place.Pier.Virsh(context.Background(), "undefine", "crew-again")
		for _, v := range pierVolumes(t) {
			place.Pier.Virsh(context.Background(), "vol-delete", v, "--pool", "pier")
		}
	})
	line.CutAfter(8 << 20)
	s := keen(t, "image", "restore", taken, "--as", "crew-again", "--wait")
	require.NotZero(t, s.code, s.out)
	require.Eventually(t, func() bool { return len(pierVolumes(t)) == 0 }, 2*time.Minute, time.Second, "half of a disk stays")
	keenOK(t, "image", "restore", taken, "--as", "crew-again", "--wait")
	require.Len(t, pierVolumes(t), 2)
	out := t.TempDir()
	keenOK(t, "store", "extract", folder, taken, "--to", out)
	for _, v := range pierVolumes(t) {
		target := "vda"
		if strings.Contains(v, "vdb") {
			target = "vdb"
		}
		said, err := exec.Command("qemu-img", "compare", "-U", filepath.Join(out, taken+"-"+target+".raw"), filepath.Join(place.Folder, "pier", v)).CombinedOutput()
		require.NoError(t, err, "%s", said)
	}
}

// A guest on another host is up at once, too: its disks are lent through the line by SSH. While that is cut the guest stands still, and goes on when it is
// back; at the end nothing depends on the store, and nothing is left.
func TestAtOnceElsewhere(t *testing.T) {
	forFaults(t, "it waits for a guest")
	for _, user := range []string{"nobody", "root"} { // who runs the guests and has no shell, and who may give sockets away
		t.Run(user, func(t *testing.T) { atOnceElsewhere(t, user) })
	}
}

func atOnceElsewhere(t *testing.T, user string) {
	line, spec := pierLine(t)
	u, err := url.Parse(spec.URI)
	require.NoError(t, err)
	u.User = url.User(user)
	spec.URI = u.String()
	withSite(t, func(s *site.Site) {
		s.Hypervisors["pier-2"] = spec
		s.Stores["pier-shelf"] = site.Store{Medium: "dir", Layout: site.Pooled, Settings: &dir.Settings{Folder: t.TempDir()}}
		s.Policies["pier-guests"] = site.Policy{Machines: []string{"crew-rota"}, Store: "pier-shelf", Rotation: "newest 3"}
	})
	keenOK(t, "policy", "run", "pier-guests", "--wait")
	taken := keenJSON[[]wire.Image](t, "image", "list", "--machine", "crew-rota", "--policy", "pier-guests")[0].ID
	state := func() string {
		out, _ := place.Pier.Virsh(context.Background(), "domstate", "crew-now")
		return strings.TrimSpace(out)
	}
	t.Cleanup(func() {
		for _, verb := range []string{"destroy", "undefine"} {
			place.Pier.Virsh(context.Background(), verb, "crew-now")
		}
		place.Pier.Virsh(context.Background(), "pool-refresh", "pier")
		found, _ := filepath.Glob(filepath.Join(place.Folder, "pier", "crew-now-*"))
		for _, f := range found {
			place.Pier.Virsh(context.Background(), "vol-delete", filepath.Base(f), "--pool", "pier")
		}
	})
	out := keenOK(t, "restore", "machine", taken, "--as", "crew-now", "--at-once")
	id := regexp.MustCompile(`run (\w+) is queued`).FindStringSubmatch(out)[1]
	log := func() string { return keenOK(t, "run", "log", id) }
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(state(), log())
		}
	})
	require.Eventually(t, func() bool { return state() == "running" }, 20*time.Second, 50*time.Millisecond)
	line.Down(true)
	require.Eventually(t, func() bool { return state() == "paused" }, time.Minute, 50*time.Millisecond, "it wants to read")
	line.Down(false)
	require.Eventually(t, func() bool { return strings.Contains(log(), "nothing of it depends on the store any more") }, 3*time.Minute, 300*time.Millisecond, "%s", state())
	require.Contains(t, log(), "was stopped, for its disks could not be read")
	require.EqualValues(t, "running", state())
	require.Eventually(t, func() bool {
		s := keenJSON[wire.Run](t, "run", "show", id).State
		return s == corerun.Done || s == corerun.Warned // the line may have been cut while it was started
	}, 10*time.Second, 100*time.Millisecond)
	require.Eventually(t, func() bool { return len(lenders(t)) == 0 }, 5*time.Second, 100*time.Millisecond)
	def, err := place.Pier.Virsh(t.Context(), "dumpxml", "crew-now")
	require.NoError(t, err)
	require.NotContains(t, def, "nbd")
	left, err := filepath.Glob(filepath.Join(place.Folder, "pier", "*.nbd"))
	require.NoError(t, err)
	if user == "nobody" { // without a shell nobody can take the files away
		for _, f := range left {
			_, err := net.Dial("unix", f)
			require.Error(t, err, "nothing is offered any more")
			require.NoError(t, os.Remove(f))
		}
		return
	}
	require.Empty(t, left)
}

// pierVolumes lists the volumes of pier-2 that a restore of crew-again made.
func pierVolumes(t *testing.T) (names []string) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(place.Folder, "pier", "crew-again-*"))
	require.NoError(t, err)
	for _, f := range found {
		names = append(names, filepath.Base(f))
	}
	return names
}

// What is wrong with a hypervisor is told at the step that fails, with what to do; nothing of a key is shown.
func TestTryingAHypervisor(t *testing.T) {
	require.NoError(t, pier())
	good := place.Pier.OverSSH()
	folder := t.TempDir()
	stranger := filepath.Join(folder, "stranger")
	out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", stranger).CombinedOutput()
	require.NoError(t, err, "%s", out)
	other, err := os.ReadFile(stranger + ".pub")
	require.NoError(t, err)
	shown := filepath.Join(folder, "shown")
	require.NoError(t, os.WriteFile(shown, []byte("not even a key"), 0o644))
	tls := place.Pier.OverTLS()
	old := tooOld(t, place.Pier.Socket())
	for name, c := range map[string]struct {
		spec site.Hypervisor
		says []string
	}{
		"another host key":     {with(good, func(s *site.Hypervisor) { s.HostKey = string(other) }), []string{"✓ reach", "✗ host key", "another key than the one that is known"}},
		"a key without rights": {with(good, func(s *site.Hypervisor) { s.KeyFile = stranger }), []string{"✓ host key", "✗ sign in", "user nobody with this key"}},
		"no such key":          {with(good, func(s *site.Hypervisor) { s.KeyFile = folder + "/none" }), []string{"✗ sign in", "the key file can't be read"}},
		"a key for all to see": {with(good, func(s *site.Hypervisor) { s.KeyFile = shown }), []string{"✗ sign in", "can be read by others (mode 644)", "chmod 600"}},
		"nobody there":         {with(good, func(s *site.Hypervisor) { s.URI = "qemu+ssh://nobody@127.0.0.1:1/system" }), []string{"✗ reach", "connection refused"}},
		"an account that may not open the socket": {with(good, func(s *site.Hypervisor) { s.URI = strings.Replace(s.URI, "nobody@", "daemon@", 1) }),
			[]string{"✓ sign in", "✗ libvirt", "the account may not open it"}},
		"a libvirt without backup":    {site.Hypervisor{URI: "qemu+unix:///session?socket=" + old}, []string{"✗ libvirt", "libvirt 6.0.0, QEMU", "that begins with libvirt 7.6.0"}},
		"no such pool":                {with(good, func(s *site.Hypervisor) { s.Pool = "lagoon" }), []string{"✓ rights", "! storage", "lagoon"}},
		"over TLS":                    {tls, []string{"✓ reach", "✓ certificate", "✓ sign in", "✓ libvirt"}},
		"another authority":           {with(tls, func(s *site.Hypervisor) { s.CAFile = s.CertFile }), []string{"✓ reach", "✗ certificate", "unknown authority"}},
		"a certificate without a key": {with(tls, func(s *site.Hypervisor) { s.KeyFile = stranger }), []string{"✗ sign in", "the service's own certificate"}},
	} {
		t.Run(name, func(t *testing.T) {
			steps, err := lodge.ProbeHypervisor(t.Context(), "new", &c.spec)
			require.NoError(t, err)
			var text strings.Builder
			for _, s := range steps {
				fmt.Fprintf(&text, "%s %s: %s\n", map[string]string{"ok": "✓", "warning": "!", "failed": "✗"}[string(s.State)], s.Name, s.Text)
			}
			for _, want := range c.says {
				require.Contains(t, text.String(), want)
			}
			require.NotContains(t, text.String(), "PRIVATE KEY")
		})
	}
}

func with(s site.Hypervisor, change func(*site.Hypervisor)) site.Hypervisor { change(&s); return s }

// tooOld is a socket at which libvirt says of itself that it is of version 6.0.0 (procedure 157 of its protocol's program 0x20008086).
func tooOld(t *testing.T, socket string) string {
	t.Helper()
	said := []byte{0x20, 0, 0x80, 0x86, 0, 0, 0, 1, 0, 0, 0, 157, 0, 0, 0, 1} // program, version, procedure, a reply; serial, status and the answer follow
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	pass := func(from, to net.Conn) {
		defer to.Close()
		p := make([]byte, 64<<10)
		for {
			n, err := from.Read(p)
			if i := bytes.Index(p[:n], said); i >= 0 && n >= i+32 {
				copy(p[i+24:], []byte{0, 0, 0, 0, 0, 0x5b, 0x8d, 0x80})
			}
			if _, failed := to.Write(p[:n]); err != nil || failed != nil {
				return
			}
		}
	}
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			if to, err := net.Dial("unix", socket); err == nil {
				go pass(from, to)
				go pass(to, from)
			}
		}
	}()
	return path
}

// Disks that are no files of their own (a block device, a volume that a pool has) are captured as others are. They are raw: what changed on them is
// found by digests.
func TestDisksThatAreNoFiles(t *testing.T) {
	ctx := t.Context()
	guest := demo.Guest{Name: "gate-08", Disks: 1, Off: true}
	require.NoError(t, place.Quay.MakeGuest(ctx, guest))
	backing := filepath.Join(place.Folder, "gate-08-vdb.raw")
	run := func(format string, args ...any) string {
		out, err := exec.Command("sh", "-c", fmt.Sprintf(format, args...)).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	device := run("head -c 40M /dev/urandom > %[1]s && losetup --show -f %[1]s", backing)
	t.Cleanup(func() {
		place.Quay.Virsh(context.Background(), "undefine", "--checkpoints-metadata", guest.Name)
		place.Quay.Virsh(context.Background(), "vol-delete", "gate-08-vdc", "--pool", "quay")
		exec.Command("losetup", "-d", device).Run()
		run("chown root:disk %s", device)
		keenOK(t, "hypervisor", "find")
	})
	run("chown nobody %s", device)
	virsh(t, "vol-create-as", "quay", "gate-08-vdc", "16M", "--format", "raw")
	vda := place.Quay.Disk(guest.Name, "vda")
	virsh(t, "undefine", guest.Name)
	require.NoError(t, place.Quay.Define(ctx, guest, fmt.Sprintf(`<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='%s'/><target dev='vda' bus='virtio'/></disk>
<disk type='block' device='disk'><driver name='qemu' type='raw'/><source dev='%s'/><target dev='vdb' bus='virtio'/></disk>
<disk type='volume' device='disk'><driver name='qemu' type='raw'/><source pool='quay' volume='gate-08-vdc'/><target dev='vdc' bus='virtio'/></disk>`, vda, device)))
	keenOK(t, "hypervisor", "find")
	folder := t.TempDir()
	withSite(t, func(s *site.Site) {
		s.Stores["gate-shelf"] = site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: folder}}
		s.Policies["north-gate"] = site.Policy{Machines: []string{guest.Name}, Store: "gate-shelf", Cycle: "full every 9th", Rotation: "newest 5"}
	})
	newest := func() wire.Image {
		backUp(t, "north-gate")
		return keenJSON[[]wire.Image](t, "image", "list", "--machine", guest.Name, "--policy", "north-gate")[0]
	}
	full := newest()
	require.Equal(t, image.Full, full.Capture)
	require.Len(t, full.Disks, 3)
	run("dd if=/dev/urandom of=%s bs=1M count=2 seek=21 conv=fsync 2>&1", device)
	changes := newest()
	require.Equal(t, image.Incremental, changes.Capture, changes.CaptureWhy)
	require.Less(t, changes.Read, full.Read/4)
	out := t.TempDir()
	keenOK(t, "store", "extract", folder, changes.ID, "--to", out, "--disk", "vdb")
	run("cmp %s/*vdb* %s", out, device)
}
