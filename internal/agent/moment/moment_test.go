package moment

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/agent/block"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == WatchCommand {
		if err := WatchFreeze(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if err := agenttest.Alone(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// server is a disk of this host that is mounted, as if it were a server's.
type server struct {
	*agenttest.Disk
	t       *testing.T
	folder  string // the agent's
	devices []block.Device
	// settings is where commands lie.
	settings string
}

func newServer(t *testing.T, size int64, mkfs string) *server {
	s := &server{Disk: agenttest.New(t, size, mkfs), t: t, folder: t.TempDir(), settings: t.TempDir()}
	var err error
	s.devices, err = block.Devices([]string{s.Loop})
	require.NoError(t, err)
	return s
}

func (s *server) target() string { return s.devices[0].Target }

// received is a disk as a lodge would have it: what it read, round by round.
type received struct {
	f    *os.File
	size int64
	read atomic.Int64
}

// receive writes what a disk has into a file: all of it that is not unchanged.
func (r *received) receive(ctx context.Context, d disk.Disk) error {
	buffer := make([]byte, 1<<20)
	return disk.Walk(ctx, d, func(e disk.Extent) error {
		for at := e.Offset; e.Kind != disk.Unchanged && at < e.End(); at += int64(len(buffer)) {
			part := buffer[:min(int64(len(buffer)), e.End()-at)]
			if clear(part); e.Kind == disk.Data {
				if n, err := d.ReadAt(part, at); n < len(part) {
					return err
				}
				r.read.Add(int64(len(part)))
			}
			if _, err := r.f.WriteAt(part, at); err != nil {
				return err
			}
		}
		return nil
	})
}

// image takes an image since another, whose file is changed in place, and returns what it came to.
func (s *server) image(into *received, id, since string, settle line.Settle) line.Settled {
	s.t.Helper()
	got, err := s.tryImage(into, id, since, settle)
	require.NoError(s.t, err)
	return got
}

func (s *server) tryImage(into *received, id, since string, settle line.Settle) (got line.Settled, err error) {
	ctx := s.t.Context()
	c, err := Begin(ctx, s.folder, s.settings, s.devices, line.Begin{ID: id, Since: since, Remember: true})
	if err != nil {
		return got, err
	}
	kept := false
	defer func() { err = errors.Join(err, c.End(kept)) }()
	d, changed, err := c.Disk(s.target(), 0)
	if err != nil {
		return got, err
	}
	if changed != nil {
		d = changed
	}
	if err := into.receive(ctx, d); err != nil {
		return got, err
	}
	for settle.ID = id; !got.Done; {
		settle.Round++
		if got, err = c.Settle(ctx, settle); err != nil {
			return got, err
		}
		if got.Changed[s.target()] > 0 {
			_, d, err := c.Disk(s.target(), settle.Round)
			if err == nil {
				err = into.receive(ctx, d)
			}
			if err != nil {
				return got, err
			}
		}
	}
	kept = true
	return got, nil
}

func (s *server) receiver() *received {
	f, err := os.Create(filepath.Join(s.t.TempDir(), "received"))
	require.NoError(s.t, err)
	s.t.Cleanup(func() { f.Close() })
	require.NoError(s.t, f.Truncate(s.devices[0].Size))
	return &received{f: f, size: s.devices[0].Size}
}

var frozen = line.Settle{Freeze: true, Required: true, Longest: 10 * time.Second}

// A disk that is written to all the time comes out as it was in one instant, again and again, and only what changed is read anew.
func TestOneInstant(t *testing.T) {
	const ext4 = "e2fsck -fn $f"
	s := newServer(t, 400<<20, "mkfs.ext4 -q $f")
	end := s.Write(8 << 20)
	into := s.receiver()
	since := ""
	for round := range 3 {
		id := image.NewID()
		before := into.read.Load()
		got := s.image(into, id, since, frozen)
		require.True(t, got.Held)
		require.Positive(t, got.Frozen)
		require.Less(t, got.Frozen, 5*time.Second)
		require.Positive(t, agenttest.Check(t, into.f.Name(), ext4), "round %d", round)
		require.Less(t, into.read.Load()-before, int64(200<<20), "what is free is not read")
		since = id
	}
	require.Less(t, end(), 5*time.Second, "nobody stood still for long")
	agenttest.Sh(t, "sync")
	last := s.receiver()
	id := image.NewID()
	s.image(last, id, "", frozen)
	before := into.read.Load()
	s.image(into, id+"", since, frozen)
	require.Less(t, into.read.Load()-before, into.size/4)
	ids, err := Known(s.folder)
	require.NoError(t, err)
	require.Contains(t, ids, id)
	gone, err := Forget(s.folder, ids)
	require.NoError(t, err)
	require.Equal(t, ids, gone)
	require.Empty(t, LeftTraces())
}

// What was written and is not in use any more is not read again, however much it was.
func TestWhatCameAndWent(t *testing.T) {
	s := newServer(t, 400<<20, "mkfs.ext4 -q $f")
	end := s.Write(2 << 20)
	into := s.receiver()
	ctx := t.Context()
	id := image.NewID()
	c, err := Begin(ctx, s.folder, s.settings, s.devices, line.Begin{ID: id})
	require.NoError(t, err)
	d, _, err := c.Disk(s.target(), 0)
	require.NoError(t, err)
	require.NoError(t, into.receive(ctx, d))
	agenttest.Sh(t, "head -c 150M /dev/urandom > $m/large; sync -f $m; rm $m/large; sync -f $m", "m="+s.Mounted)
	ask := frozen
	ask.Round = 1
	got, err := c.Settle(ctx, ask)
	require.NoError(t, err)
	require.True(t, got.Done)
	require.Less(t, got.Changed[s.target()], int64(64<<20))
	_, d, err = c.Disk(s.target(), 1)
	require.NoError(t, err)
	require.NoError(t, into.receive(ctx, d))
	require.NoError(t, c.End(false))
	end()
	agenttest.Check(t, into.f.Name(), "e2fsck -fn $f")
}

// Other kinds of file systems stand still, too, and are whole.
func TestOtherFileSystems(t *testing.T) {
	for kind, fsck := range map[string]string{
		"xfs":   "m=$(mktemp -d); mount -o loop,nouuid $f $m; umount $m; rmdir $m; xfs_repair -n $f", // a freeze leaves a record for the next mount
		"btrfs": "btrfs check --readonly $f; btrfstune -f -u $f",                                     // the kernel mounts no two of one UUID
	} {
		t.Run(kind, func(t *testing.T) {
			s := newServer(t, 400<<20, "mkfs."+kind+" -q $f")
			end := s.Write(8 << 20)
			defer end()
			for range 2 {
				into := s.receiver()
				id := image.NewID()
				got := s.image(into, id, "", frozen)
				require.True(t, got.Held)
				check := func() {
					file := filepath.Join(t.TempDir(), "copy")
					agenttest.Sh(t, "cp --sparse=always $f $c", "f="+into.f.Name(), "c="+file)
					require.Positive(t, agenttest.Check(t, file, fsck))
				}
				check()
				require.Less(t, into.read.Load(), into.size*3/4, "what is free is not read")
				s.image(into, image.NewID(), id, frozen)
				check()
			}
		})
	}
}

// A disk that is not mounted is as it is. One that can't be read fails, and says where.
func TestNothingMounted(t *testing.T) {
	s := newServer(t, 64<<20, "mkfs.ext4 -q $f")
	require.NoError(t, os.WriteFile(filepath.Join(s.Mounted, "list"), []byte("cabin 4"), 0o600))
	agenttest.Sh(t, "umount $m", "m="+s.Mounted)
	into := s.receiver()
	got := s.image(into, image.NewID(), "", line.Settle{Longest: time.Second})
	require.True(t, got.Held)
	require.Zero(t, got.Frozen)
	agenttest.Sh(t, "e2fsck -fn $f; test \"$(debugfs -R 'cat list' $f 2>/dev/null)\" = 'cabin 4'", "f="+into.f.Name())
	require.NoError(t, os.Truncate(s.File, 1<<20)) // the disk has lost its end
	agenttest.Sh(t, "losetup -c $l || true", "l="+s.Loop)
	_, err := s.tryImage(into, image.NewID(), "", frozen)
	require.Error(t, err)
}

// Writes that the kernel could not tell of end the capture, and so does a disk that goes while it is read: no image is of two moments. Nothing of
// either stays.
func TestWhatCantBeFollowed(t *testing.T) {
	s := newServer(t, 64<<20, "mkfs.ext4 -q $f")
	begin := func() *Capture {
		c, err := Begin(t.Context(), s.folder, s.settings, s.devices, line.Begin{ID: image.NewID(), Holes: true})
		require.NoError(t, err)
		return c
	}
	c := begin()
	require.NoError(t, os.WriteFile(filepath.Join(c.trace.instance, "buffer_size_kb"), []byte("4"), 0))
	c.trace.mu.Lock() // the agent has no time to listen
	agenttest.Sh(t, "dd if=/dev/zero of=$m/busy bs=4k count=3000 oflag=direct status=none", "m="+s.Mounted)
	c.trace.mu.Unlock()
	ask := frozen
	ask.Round = 1
	_, err := c.Settle(t.Context(), ask)
	require.ErrorIs(t, err, errLost)
	require.ErrorContains(t, err, "run it again when it has less to do")
	require.NoError(t, c.End(false))
	require.Empty(t, LeftTraces())
	agenttest.Sh(t, "touch $m/alive; sync -f $m; umount $m", "m="+s.Mounted)

	c = begin()
	d, _, err := c.Disk(s.target(), 0)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(s.File, 0))
	require.Error(t, s.receiver().receive(t.Context(), d), "holes are places, and not all there is")
	require.NoError(t, c.End(false))
	require.Empty(t, LeftTraces())
}

// A server whose disk is full is captured all the same; only what it would remember is not there, and that is said.
func TestAFullServer(t *testing.T) {
	s := newServer(t, 300<<20, "mkfs.ext4 -q $f")
	agenttest.Sh(t, "mount -t tmpfs -o size=16k none $m; dd if=/dev/zero of=$m/full bs=4k 2>/dev/null || true", "m="+s.folder)
	t.Cleanup(func() { agenttest.Sh(t, "umount -l $m", "m="+s.folder) })
	end := s.Write(4 << 20)
	into := s.receiver()
	ctx := t.Context()
	c, err := Begin(ctx, s.folder, s.settings, s.devices, line.Begin{ID: image.NewID(), Remember: true})
	require.NoError(t, err)
	_, warnings := c.Begun()
	require.Len(t, warnings, 1)
	require.Contains(t, warnings[0], "its next image will be full")
	require.NoError(t, c.End(false))
	got := s.image(into, image.NewID(), "", frozen)
	require.True(t, got.Held)
	end()
	agenttest.Check(t, into.f.Name(), "e2fsck -fn $f")
	ids, err := Known(s.folder)
	require.NoError(t, err)
	require.Empty(t, ids)
}

// The watchdog ends what nobody ends: a freeze that lasts too long, and one whose agent died, also where that comes about only later.
func TestTheWatchdogOfAFreeze(t *testing.T) {
	s := newServer(t, 64<<20, "mkfs.ext4 -q $f")
	mounts, err := block.Mounts()
	require.NoError(t, err)
	mounts = block.On(mounts, s.devices)
	require.Len(t, mounts, 1)
	isFrozen := func() bool {
		f, err := os.Open(s.Mounted)
		require.NoError(t, err)
		defer f.Close()
		err = ioctl(f, fiFreeze) // it is busy where it stands still already
		if err == nil {
			_ = ioctl(f, fiThaw) // a watchdog may have been faster
		}
		return errors.Is(err, unix.EBUSY)
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.folder, frozenFile), fmt.Appendf(nil, "[%q, \"/gone\"]", s.Mounted), 0o600))
	require.NoError(t, ioctl(openOf(t, s.Mounted), fiFreeze))
	found, err := ThawLeft(s.folder)
	require.NoError(t, err)
	require.Equal(t, []string{"thawed " + s.Mounted}, found)
	require.False(t, isFrozen())
	found, err = ThawLeft(s.folder)
	require.NoError(t, err)
	require.Empty(t, found)

	st, err := prepare(s.folder, mounts, 200*time.Millisecond)
	require.NoError(t, err)
	require.NoError(t, st.freeze())
	require.True(t, isFrozen())
	require.Eventually(t, func() bool { return !isFrozen() }, 5*time.Second, 20*time.Millisecond)
	_, err = st.thaw()
	require.ErrorIs(t, err, errNotFrozen)
	st.end()

	st, err = prepare(s.folder, mounts, time.Hour)
	require.NoError(t, err)
	st.dog.Close() // the agent is dead, and what it asked for comes about only now
	require.NoError(t, ioctl(st.open[0], fiFreeze))
	require.Eventually(t, func() bool { return !isFrozen() }, 5*time.Second, 20*time.Millisecond)
	st.dog = nil
	st.end()
}

func openOf(t *testing.T, path string) *os.File {
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func TestParseWrite(t *testing.T) {
	for text, want := range map[string]write{
		"7,0 W 2048 + 8 [mkfs]":      {7 << 20, 2048 * 512, 4096},
		"7,1 WS 0 + 1 [x]":           {7<<20 | 1, 0, 512},
		"8,16 FWFSM 100 + 2 [jbd2]":  {8<<20 | 16, 100 * 512, 1024},
		"8,0 D 8 + 8 [fstrim]":       {8 << 20, 4096, 4096},
		"8,0 N 8 + 16 [dd]":          {8 << 20, 4096, 8192},
		"8,0 R 8 + 8 [cat]":          {8 << 20, 4096, 0},
		"8,0 RA 8 + 8 [a b [c] + 4]": {8 << 20, 4096, 0},
		"8,0 F 0 + 0 [sync]":         {8 << 20, 0, 0},
		"8,0 FF 0 + 0 [sync]":        {8 << 20, 0, 0},
	} {
		got, ok := parseWrite(text)
		require.True(t, ok, text)
		require.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "8 W 1 + 1 [x]", "8,0 W x + 1 [x]", "8,0 W 1 - 1 [x]", "8,0 W -1 + 1 [x]", "8,0  1 + 1 [x]"} {
		_, ok := parseWrite(text)
		require.False(t, ok, text)
	}
}

// What was written is told by pages, or by whole blocks, joined and in order.
func TestWritten(t *testing.T) {
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 2))
		const size = 50*span + 5000
		w, pages := written{}, map[int64]bool{}
		for range rng.IntN(40) {
			at := rng.Int64N(size)
			n := 1 + rng.Int64N(min(size-at, 5*span))
			w.add(at, n)
			for p := at / page; p <= (at+n-1)/page; p++ {
				pages[p] = true
			}
		}
		for _, whole := range []bool{false, true} {
			last, seen := int64(-1), map[int64]bool{}
			for _, e := range w.extents(size, whole) {
				require.Greater(t, e.Offset, last)
				require.LessOrEqual(t, e.End(), int64(size))
				last = e.End()
				for p := e.Offset / page; p*page < e.End(); p++ {
					seen[p] = true
					require.True(t, whole || pages[p], "seed %d: page %d was not written", seed, p)
				}
			}
			for p := range pages {
				require.True(t, seen[p], "seed %d: page %d is missing", seed, p)
			}
		}
	}
}
