package agent

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/agent/moment"
	"keenlodge/internal/agent/tree"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/line"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	agentsource "keenlodge/internal/source/agent"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/switchboard"
	"keenlodge/internal/wire"
)

// gate is server gate-07 of a lodge: a disk of this host, and an agent in this process.
type gate struct {
	*house
	*agenttest.Disk
	t      *testing.T
	folder string
	line   *mediumtest.Line // on which the agent calls
	id     *Identity
	stop   func()
}

// newGate has gate-07 enrolled, with stores and policies for it.
func newGate(t *testing.T, d *agenttest.Disk, policies map[string]site.Policy) *gate {
	g := &gate{Disk: d, house: newHouse(t), t: t, folder: t.TempDir()}
	word := g.admit("gate-07")
	s, err := g.l.Site(t.Context())
	require.NoError(t, err)
	require.Equal(t, "agent", s.Hypervisors["servers"].SourceKind())
	for name, add := range map[string]wire.StoreAddition{
		"quay-shelf":  {Spec: site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name()}}},
		"plain-shelf": {Spec: site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: t.TempDir()}}},
	} {
		_, err := g.l.AddStore(t.Context(), name, add)
		require.NoError(t, err)
	}
	g.line = mediumtest.NewLine(t, strings.TrimPrefix(g.url, "https://"))
	g.id, err = Join(t.Context(), g.folder, "https://"+g.line.Address(), g.fingerprint(), "gate-07", word)
	require.NoError(t, err)
	g.start()
	t.Cleanup(func() { g.stop() })
	s, err = g.l.Site(t.Context())
	require.NoError(t, err)
	s.Zone, s.Policies = "Europe/Lisbon", policies
	_, err = g.l.Apply(t.Context(), s, false)
	require.NoError(t, err)
	return g
}

func mounted(t *testing.T) *agenttest.Disk { return agenttest.New(t, 300<<20, "mkfs.ext4 -q $f") }

// start has the agent run.
func (g *gate) start() {
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	a, err := New(Offer{Disks: []string{g.Loop}, Files: tree.Offer{Root: g.Mounted, Settings: filepath.Join(g.Mounted, "etc/keenlodge")}, Writable: []string{"/"}}, g.folder, log)
	require.NoError(g.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- Run(ctx, g.id, a, log) }()
	g.stop = func() {
		cancel()
		if err := <-ended; err != nil {
			require.ErrorIs(g.t, err, errUnknown)
		}
		ended <- nil
	}
	g.await(machine.Running)
}

// await waits until the lodge sees the server so.
func (g *gate) await(state machine.State) {
	g.t.Helper()
	require.Eventually(g.t, func() bool { return g.state() == state }, time.Minute, 50*time.Millisecond)
}

func (g *gate) state() machine.State {
	_, err := g.l.Inventory.Find(g.t.Context())
	require.NoError(g.t, err)
	m, err := g.l.Inventory.Resolve(g.t.Context(), "gate-07")
	if err != nil {
		return ""
	}
	return m.State
}

// run carries a policy out.
func (g *gate) run(policy string) records.Run {
	g.t.Helper()
	return g.ended(g.begin(policy))
}

// begin begins to carry a policy out, ended waits until that is over.
func (g *gate) begin(policy string) records.Run {
	g.t.Helper()
	r, err := g.l.RunPolicy(g.t.Context(), policy, "the test", "")
	require.NoError(g.t, err)
	return r
}

func (g *gate) ended(r records.Run) records.Run {
	g.t.Helper()
	var err error
	require.Eventually(g.t, func() bool {
		r, err = g.rec.Run(g.t.Context(), r.ID)
		require.NoError(g.t, err)
		return r.State.Over()
	}, time.Minute, 20*time.Millisecond)
	return r
}

// newest is a server's newest image under a policy, whose disk is written into a file.
func (g *gate) newest(policy string) (records.Image, string) {
	g.t.Helper()
	images, err := g.rec.Images(g.t.Context(), records.ImageFilter{Policy: policy})
	require.NoError(g.t, err)
	require.NotEmpty(g.t, images)
	m := images[0]
	st, err := g.l.Stores.Named(g.t.Context(), m.Store)
	require.NoError(g.t, err)
	manifest, err := st.ReadImage(g.t.Context(), m.ID)
	require.NoError(g.t, err)
	require.Len(g.t, manifest.Disks, 1)
	require.Contains(g.t, manifest.Definition, `"kind": "server"`)
	opened, err := st.OpenDisk(g.t.Context(), manifest, manifest.Disks[0])
	require.NoError(g.t, err)
	defer opened.Close()
	file := filepath.Join(g.t.TempDir(), "back")
	f, err := os.Create(file)
	require.NoError(g.t, err)
	defer f.Close()
	require.NoError(g.t, f.Truncate(opened.Size()))
	require.NoError(g.t, disk.Walk(g.t.Context(), opened, func(e disk.Extent) error {
		body := make([]byte, e.Length)
		if e.Kind == disk.Zero {
			return nil
		}
		if _, err := opened.ReadAt(body, e.Offset); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		_, err := f.WriteAt(body, e.Offset)
		return err
	}))
	return m, file
}

func whole(store, cycle string) site.Policy {
	return site.Policy{Machines: []string{"gate-07"}, Store: store, Quiesce: machine.Required, Cycle: cycle, Rotation: "newest 5"}
}

// A server that is written to all the time is captured as a guest is: into both layouts, full and incremental, in one instant each, with what
// it takes to lay it out again.
func TestAServer(t *testing.T) {
	g := newGate(t, mounted(t), map[string]site.Policy{"monthly-whole": whole("quay-shelf", "full once"), "plain": whole("plain-shelf", "full once")})
	end := g.Write(4 << 20)
	defer end()
	for range 3 {
		for _, policy := range []string{"monthly-whole", "plain"} {
			r := g.run(policy)
			require.EqualValues(t, run.Done, r.State, "%s: %s", policy, r.Tasks[0].Error)
			require.Empty(t, r.Tasks[0].Warnings)
			m, file := g.newest(policy)
			require.Equal(t, image.FileSystem, m.Consistency)
			require.Positive(t, m.Frozen)
			require.Positive(t, agenttest.Check(t, file, "e2fsck -fn $f"), policy)
		}
	}
	images, err := g.rec.Images(t.Context(), records.ImageFilter{})
	require.NoError(t, err)
	kinds := map[image.Capture]int{}
	for _, m := range images {
		kinds[m.Capture]++
	}
	require.Equal(t, map[image.Capture]int{image.Full: 2, image.Incremental: 4}, kinds)
}

// An agent that is dismissed loses its line at once; enrolled again it is the same machine, which goes on with its images. One that was stopped is silent,
// and what is asked of it says so.
func TestDismissal(t *testing.T) {
	g := newGate(t, mounted(t), map[string]site.Policy{"monthly-whole": whole("quay-shelf", "full once")})
	require.EqualValues(t, run.Done, g.run("monthly-whole").State)
	before, _ := g.newest("monthly-whole")
	g.stop()
	g.await(machine.Silent)
	r := g.run("monthly-whole")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "its agent does not call")
	g.start()
	require.NoError(t, g.l.Agents.Revoke(t.Context(), "gate-07"))
	g.await(machine.Gone)
	g.stop() // it has ended by itself
	require.NoError(t, os.Remove(fileIn(g.folder)))
	var err error
	g.id, err = Join(t.Context(), g.folder, "https://"+g.line.Address(), g.fingerprint(), "gate-07", g.admit("gate-07"))
	require.NoError(t, err)
	g.start()
	r = g.run("monthly-whole")
	require.EqualValues(t, run.Done, r.State, r.Tasks[0].Error)
	after, _ := g.newest("monthly-whole")
	require.Equal(t, before.MachineID, after.MachineID)
	require.Equal(t, image.Incremental, after.Capture)
}

// The servers of a lodge keep the contract of sources.
func TestServersAreASource(t *testing.T) {
	g := newGate(t, agenttest.New(t, 64<<20, "true", "noauto"), nil) // nothing but this writes to it
	disk, err := os.OpenFile(g.Loop, os.O_RDWR|unix.O_SYNC, 0)
	require.NoError(t, err)
	defer disk.Close()
	other, n := g.another("lodge-key"), 0
	sourcetest.Run(t, sourcetest.Subject{Guest: "gate-07", Target: filepath.Base(g.Loop), NewID: image.NewID,
		Dial: func(*testing.T) source.Source {
			n++
			return agentsource.Of("servers", []agentsource.Lines{g.l.Lines, other.Lines}[n%2])
		},
		Write: func(t *testing.T, at int64, fill byte) {
			_, err := disk.WriteAt(bytes.Repeat([]byte{fill}, 1<<20), at)
			require.NoError(t, err)
		}})
}

// The process that has a server's line passes it on to the lodge's others, and to nobody else; both ends of it go when the line does.
func TestALineThatIsPassedOn(t *testing.T) {
	g, ctx := newGate(t, agenttest.New(t, 64<<20, "true", "noauto"), nil), t.Context()
	other := g.another("lodge-key")
	passed, err := other.Lines.Line(ctx, "gate-07")
	require.NoError(t, err)
	var about line.About
	require.NoError(t, passed.Ask(ctx, line.CallAbout, nil, &about))
	require.Equal(t, filepath.Base(g.Loop), about.Disks[0].Target)
	again, err := other.Lines.Line(ctx, "gate-07")
	require.NoError(t, err)
	require.Same(t, passed, again)

	_, err = g.another("somebody-else's").Lines.Line(ctx, "gate-07")
	require.ErrorIs(t, err, source.ErrUnreachable)
	require.ErrorContains(t, err, "the key by which processes of the lodge know each other")
	at := strings.TrimPrefix(g.url, "https://")
	stranger, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	defer stranger.Close()
	require.NoError(t, line.Upgrade(ctx, stranger, at, line.Path+"/gate-07", switchboard.Protocol))
	_, err = stranger.Write(make([]byte, 32))
	require.NoError(t, err)
	_, err = stranger.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF)

	g.stop()
	<-passed.Closed()
	require.Eventually(t, func() bool {
		_, err = other.Lines.Line(ctx, "gate-07")
		return err != nil && strings.Contains(err.Error(), "its agent does not call")
	}, 10*time.Second, 50*time.Millisecond, "%v", err)
	g.start()
	_, err = other.Lines.Line(ctx, "gate-07")
	require.NoError(t, err)
	require.NoError(t, g.l.Agents.Revoke(ctx, "gate-07"))
	require.Eventually(t, func() bool {
		_, err = other.Lines.Line(ctx, "gate-07")
		return errors.Is(err, source.ErrNoMachine)
	}, 10*time.Second, 50*time.Millisecond, "%v", err)
}

// A disk of which a part can't be read makes no image, and it is said which part; nothing of the try stays. Where the policy wants what there is,
// the image is broken from the start, and can be restored until a good one is there.
func TestADiskThatCantBeRead(t *testing.T) {
	policy := whole("quay-shelf", "full once")
	policy.Hooks = []site.Hook{{At: []site.Moment{site.Frozen}, Script: "/bin/true"}}
	holed := whole("quay-shelf", "full once")
	holed.Unread, holed.Hooks = site.UnreadWarns, nil
	g := newGate(t, agenttest.New(t, 64<<20, "head -c 64M /dev/urandom > $f", "noauto"), map[string]site.Policy{"monthly-whole": policy, "last-hope": holed})
	require.NoError(t, os.Truncate(g.File, 40<<20))
	r := g.run("monthly-whole")
	require.EqualValues(t, run.Failed, r.State)
	require.Regexp(t, `read \d+ bytes at 4[1-5]\d{6}: .*(input/output error|unexpected EOF)`, r.Tasks[0].Error)
	images, err := g.rec.Images(t.Context(), records.ImageFilter{})
	require.NoError(t, err)
	require.Empty(t, images)
	require.Empty(t, moment.LeftTraces())

	r = g.run("last-hope")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "the disk as a whole is at fault")

	require.NoError(t, os.Truncate(g.File, 60<<20))
	r = g.run("last-hope")
	require.EqualValues(t, run.Warned, r.State, r.Tasks[0].Error)
	require.Equal(t, []string{"disk " + filepath.Base(g.Loop) + " can't be read at 4194304 bytes at 62914560; zeros stand there, and the image is broken: it is kept until a good one is there"}, r.Tasks[0].Warnings)
	m, err := g.rec.Image(t.Context(), r.Tasks[0].Image)
	require.NoError(t, err)
	require.Equal(t, image.Broken, m.State)
	require.EqualValues(t, 4<<20, m.Lost())
	_, st, err := g.l.Stores.OfImage(t.Context(), m.ID)
	require.NoError(t, err)
	manifest, err := st.ReadImage(t.Context(), m.ID)
	require.NoError(t, err)
	require.Equal(t, []image.Range{{Offset: 60 << 20, Length: 4 << 20}}, manifest.Disks[0].Holes)
	mended, err := g.rec.Mended(t.Context(), m.ID)
	require.NoError(t, err)
	require.False(t, mended, "that the store has it as it was made makes it no better")
	require.NoError(t, os.Truncate(g.File, 64<<20))
	r = g.run("last-hope")
	require.EqualValues(t, run.Done, r.State, r.Tasks[0].Error)
	next, err := g.rec.Image(t.Context(), r.Tasks[0].Image)
	require.NoError(t, err)
	require.Equal(t, image.Full, next.Capture, "nothing builds on a broken one")

	r = g.run("monthly-whole")
	require.EqualValues(t, run.Warned, r.State, r.Tasks[0].Error)
	require.Len(t, r.Tasks[0].Warnings, 1)
	require.Contains(t, r.Tasks[0].Warnings[0], "hooks at frozen and thawed were not called")
}

// A line that is cut again and again while a server is captured holds nothing up but itself, in any step; the image is as without.
func TestALineThatIsCut(t *testing.T) {
	g := newGate(t, mounted(t), map[string]site.Policy{"monthly-whole": whole("quay-shelf", "full once")})
	end := g.Write(4 << 20)
	defer end()
	for n := range 5 {
		g.line.CutAfter(int64(1<<(3*n)) << 10) // by the bytes of one capture: in its first calls, and while it reads
		r := g.run("monthly-whole")
		require.EqualValues(t, run.Done, r.State, "cut %d: %s", n, r.Tasks[0].Error)
	}
	_, file := g.newest("monthly-whole")
	require.Positive(t, agenttest.Check(t, file, "e2fsck -fn $f"))
	require.GreaterOrEqual(t, g.line.Cuts(), int64(3))
	g.await(machine.Running)
	require.Empty(t, moment.LeftTraces())
}

// A line that stays cut for longer than anybody waits ends the run, and the server lets go of the capture by itself; the next run is right.
func TestALineThatStaysCut(t *testing.T) {
	lodge, server, every, longest := agentsource.Patience, capturePatience, watchEvery, longestWait
	t.Cleanup(func() { agentsource.Patience, capturePatience, watchEvery, longestWait = lodge, server, every, longest })
	agentsource.Patience, capturePatience, watchEvery, longestWait = 2*time.Second, 3*time.Second, 100*time.Millisecond, time.Second
	g := newGate(t, mounted(t), map[string]site.Policy{"monthly-whole": whole("quay-shelf", "full once")})
	end := g.Write(4 << 20)
	defer end()
	g.line.CutAfter(4 << 20)
	r := g.begin("monthly-whole")
	require.Eventually(t, func() bool { return g.line.Cuts() > 0 }, 20*time.Second, time.Millisecond)
	g.line.Down(true)
	traces := func() []string {
		left, err := filepath.Glob("/sys/kernel/tracing/instances/keenlodge-*")
		require.NoError(t, err)
		return left
	}
	require.NotEmpty(t, traces())
	r = g.ended(r)
	require.EqualValues(t, run.Failed, r.State)
	require.Regexp(t, "tried for|its agent does not call|the line was cut", r.Tasks[0].Error)
	require.Eventually(t, func() bool { return len(traces()) == 0 }, 20*time.Second, 50*time.Millisecond, "the server gave the capture up, with nobody to tell it")
	g.line.Down(false)
	g.await(machine.Running)
	r = g.run("monthly-whole")
	require.EqualValues(t, run.Done, r.State, r.Tasks[0].Error)
	_, file := g.newest("monthly-whole")
	require.Positive(t, agenttest.Check(t, file, "e2fsck -fn $f"))
}

// underTest is the argument with which the test's program is an agent, in a process of its own that can be killed.
const underTest = "agent-under-test"

func agentUnderTest(folder, disk string) error {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	id, err := Open(folder)
	if err != nil {
		return err
	}
	a, err := New(Offer{Disks: []string{disk}}, folder, log)
	if err != nil {
		return err
	}
	return Run(context.Background(), id, a, log)
}

// An agent that is killed at any moment of a capture leaves its server going, and nothing in it; the next run is right. KEENLODGE_KILLS=N kills so
// often, from KEENLODGE_SEED on.
func TestAnAgentThatIsKilled(t *testing.T) {
	kills, seed := mediumtest.Campaign("KEENLODGE_KILLS", 3)
	g := newGate(t, mounted(t), map[string]site.Policy{"monthly-whole": whole("quay-shelf", "full once")})
	g.stop()
	end := g.Write(4 << 20)
	var cmd *exec.Cmd
	start := func() {
		cmd = exec.Command(os.Args[0], underTest, g.folder, g.Loop)
		require.NoError(t, cmd.Start())
	}
	start()
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	g.await(machine.Running)
	require.EqualValues(t, run.Done, g.run("monthly-whole").State)
	that := 0
	for n := range kills {
		rng := rand.New(rand.NewPCG(uint64(seed), uint64(n)))
		under := g.begin("monthly-whole")
		time.Sleep(time.Duration(rng.Int64N(int64(900 * time.Millisecond)))) // at any moment of it
		cmd.Process.Kill()
		cmd.Wait()
		// Whatever stood still goes on by itself, before the agent is there again.
		begun := time.Now()
		require.NoError(t, os.WriteFile(filepath.Join(g.Mounted, "alive"), []byte("yes"), 0o600), "kill %d of seed %d", n, seed)
		require.Less(t, time.Since(begun), 3*time.Second)
		start()
		if g.ended(under).State != run.Done {
			that++
		}
		g.await(machine.Running)
		r := g.run("monthly-whole")
		require.EqualValues(t, run.Done, r.State, "kill %d of seed %d: %s", n, seed, r.Tasks[0].Error)
		_, file := g.newest("monthly-whole")
		require.Positive(t, agenttest.Check(t, file, "e2fsck -fn $f"), "kill %d of seed %d", n, seed)
	}
	require.Less(t, end(), 5*time.Second, "nobody stood still for long")
	t.Logf("%d of %d kills came while it was captured", that, kills)
	cmd.Process.Kill()
	cmd.Wait()
	moment.LeftTraces() // of the one that was killed last, as the next would
	require.Empty(t, moment.LeftTraces())
}
