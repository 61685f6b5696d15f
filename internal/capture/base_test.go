package capture

import (
	"context"
	"errors"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// shelf is a store of which only images are read.
type shelf struct {
	store.Store
	manifests map[string]*image.Manifest
	disks     map[string]disk.Disk // by target
	err       error
	open      int
}

func (s *shelf) ReadImage(_ context.Context, id string) (*image.Manifest, error) {
	if s.err != nil {
		return nil, s.err
	}
	if m, ok := s.manifests[id]; ok {
		return m, nil
	}
	return nil, medium.ErrNotFound
}

func (s *shelf) OpenDisk(_ context.Context, _ *image.Manifest, d image.Disk) (store.OpenedDisk, error) {
	if s.err != nil {
		return nil, s.err
	}
	s.open++
	return opened{s.disks[d.Target], s}, nil
}

type opened struct {
	disk.Disk
	s *shelf
}

func (o opened) Close() error { o.s.open--; return nil }

// An image builds on the newest one that may serve, or says why it is full.
func TestChooseBase(t *testing.T) {
	now := time.Date(2026, 3, 10, 23, 0, 0, 0, time.UTC)
	set := func(images ...records.Image) []records.Image { // newest first
		for i := range images {
			images[i].ID, images[i].Taken = string(rune('a'+i)), now.AddDate(0, 0, -i-1)
		}
		return images
	}
	full, inc, writing := records.Image{Capture: image.Full, State: image.Usable}, records.Image{Capture: image.Incremental, State: image.Usable}, records.Image{Capture: image.Full, State: image.Writing}
	broken, gone := inc, inc
	broken.State, gone.Gone = image.Broken, &now
	brokenFull := full
	brokenFull.State = image.Broken
	weekly := site.Policy{Cycle: "full every 7th"}
	for name, c := range map[string]struct {
		policy  site.Policy
		capture image.Capture
		set     []records.Image
		base    string
		why     string
	}{
		"always full":         {site.Policy{}, "", set(full), "", "full"},
		"asked for":           {weekly, image.Full, set(full), "", "its schedule asks for a full one"},
		"first":               {weekly, "", nil, "", "first"},
		"only one writing":    {weekly, image.Incremental, set(writing), "", "it is the first of its set"},
		"newest":              {weekly, "", set(inc, full), "a", ""},
		"past broken, gone":   {weekly, "", set(broken, gone, inc, full), "c", ""},
		"none left":           {weekly, "", set(broken, brokenFull), "", "no usable image is left on which it could build"},
		"differential":        {weekly, image.Differential, set(inc, inc, full), "c", ""},
		"differential policy": {site.Policy{Cycle: "full every 7th", Capture: image.Differential}, "", set(inc, full), "b", ""},
		"the cycle is over":   {site.Policy{Cycle: "full every 2nd"}, "", set(inc, full), "", "2nd"},
		"schedule over cycle": {site.Policy{Cycle: "full every 2nd"}, image.Incremental, set(inc, full), "a", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := &shelf{manifests: map[string]*image.Manifest{}}
			for _, m := range c.set {
				s.manifests[m.ID] = &image.Manifest{ID: m.ID}
			}
			base, why, err := chooseBase(t.Context(), c.policy, c.capture, s, c.set, now)
			require.NoError(t, err)
			if c.base == "" {
				require.Nil(t, base)
				require.Contains(t, why, c.why)
				return
			}
			require.Empty(t, why)
			require.Equal(t, c.base, base.ID)
		})
	}
	for err, why := range map[error]string{medium.ErrNotFound: "is not in the store any more", chunk.ErrDamaged: "is damaged"} {
		base, said, failed := chooseBase(t.Context(), weekly, "", &shelf{err: err}, set(inc, full), now)
		require.NoError(t, failed)
		require.Nil(t, base)
		require.Contains(t, said, why)
	}
	_, _, err := chooseBase(t.Context(), weekly, "", &shelf{err: medium.ErrUnreachable}, set(inc, full), now)
	require.ErrorIs(t, err, medium.ErrUnreachable, "trouble on the way is no reason for a full image")
}

// since is a disk of which only some extents changed.
type since struct {
	disk.Memory
	changed []disk.Extent
}

func (s since) Extents(_ context.Context, offset, length int64) (out []disk.Extent, err error) {
	at := offset
	for _, e := range s.changed {
		if e.Offset >= offset+length || e.End() <= offset {
			continue
		}
		if e.Offset > at {
			out = append(out, disk.Extent{Offset: at, Length: e.Offset - at, Kind: disk.Unchanged})
		}
		out = append(out, disk.Extent{Offset: max(at, e.Offset), Length: min(e.End(), offset+length) - max(at, e.Offset), Kind: disk.Data})
		at = e.End()
	}
	if at < offset+length {
		out = append(out, disk.Extent{Offset: at, Length: offset + length - at, Kind: disk.Unchanged})
	}
	return out, nil
}

// Only what changed is read of a disk whose older image is as the hypervisor says; of any other all is, and nothing stays open.
func TestPlanDisk(t *testing.T) {
	const mib = 1 << 20
	old := make(disk.Memory, 4*mib)
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range old[:2*mib] {
		old[i] = byte(rng.Uint32())
	}
	now := append(disk.Memory{}, old...)
	copy(now[mib:], "a booking")
	word := since{now, []disk.Extent{{Offset: mib, Length: 64 << 10}}}
	base := &image.Manifest{ID: "older", Disks: []image.Disk{{Target: "vda", Size: 4 * mib}}}
	captured := func() source.CapturedDisk {
		return source.CapturedDisk{Target: "vda", Disk: word, Whole: now, Why: "why of its source"}
	}
	plan := func(s *shelf, c source.CapturedDisk, base *image.Manifest) (disk.Disk, *store.OlderDisk, string, error) {
		return planDisk(t.Context(), s, c, base)
	}
	s := &shelf{disks: map[string]disk.Disk{"vda": old}}
	d, older, why, err := plan(s, captured(), base)
	require.NoError(t, err)
	require.Empty(t, why)
	require.Equal(t, word, d)
	require.Equal(t, base.Disks[0], older.Desc)
	require.NoError(t, older.Close())

	d, older, why, err = plan(s, captured(), nil)
	require.NoError(t, err)
	require.Nil(t, older)
	require.Equal(t, word, d)
	require.Equal(t, "why of its source", why)
	c := captured()
	c.Whole = nil
	_, older, why, err = plan(s, c, base)
	require.NoError(t, err)
	require.Nil(t, older)
	require.Equal(t, "why of its source", why)
	c = captured()
	c.Target = "vdb"
	d, older, why, err = plan(s, c, base)
	require.NoError(t, err)
	require.Nil(t, older)
	require.Equal(t, now, d)
	require.Equal(t, "image older has no such disk", why)
	small := &image.Manifest{ID: "older", Disks: []image.Disk{{Target: "vda", Size: 3 * mib}}}
	_, older, why, err = plan(s, captured(), small)
	require.NoError(t, err)
	require.Nil(t, older)
	require.Equal(t, "its size changed from 3.0 MiB to 4.0 MiB", why)

	other := append(disk.Memory{}, old...)
	for i := range other[:2*mib] {
		other[i] ^= 0x5a
	}
	d, older, why, err = plan(&shelf{disks: map[string]disk.Disk{"vda": other}}, captured(), base)
	require.ErrorIs(t, err, errChanged)
	require.Nil(t, older)
	require.Equal(t, now, d)
	require.Contains(t, why, "its list of changes can't be trusted")

	for _, damage := range []error{chunk.ErrDamaged, medium.ErrNotFound} {
		d, older, why, err = plan(&shelf{err: damage}, captured(), base)
		require.NoError(t, err)
		require.Nil(t, older)
		require.Equal(t, now, d)
		require.Contains(t, why, "image older can't be read there")
	}
	_, _, _, err = plan(&shelf{err: medium.ErrUnreachable}, captured(), base)
	require.ErrorIs(t, err, medium.ErrUnreachable)
	short := &shelf{disks: map[string]disk.Disk{"vda": old[:mib]}}
	_, _, _, err = plan(short, captured(), base)
	require.Error(t, err, "an older disk that ends early is trouble")
	require.Zero(t, s.open+short.open)
	require.NoError(t, verify(t.Context(), source.CapturedDisk{Disk: since{disk.Memory{}, nil}, Whole: disk.Memory{}}, disk.Memory{}), "an empty disk")
	require.NoError(t, verify(t.Context(), source.CapturedDisk{Disk: now, Whole: now}, other), "what nobody calls unchanged is not compared")
}

func TestPlace(t *testing.T) {
	extents := []disk.Extent{{Offset: 1 << 20, Length: 8192}, {Offset: 4 << 20, Length: 1 << 20}}
	for n, want := range map[int64][2]int64{0: {1 << 20, 8192}, 4096: {1<<20 + 4096, 4096}, 8191: {1<<20 + 4096, 4096}, 8192: {4 << 20, probeSize}, 8192 + 5000: {4<<20 + 4096, probeSize},
		8192 + 1<<20 - 1: {5<<20 - 4096, 4096}, 8192 + 1<<20: {0, 0}} {
		at, length := place(extents, n)
		require.Equal(t, want, [2]int64{at, length}, n)
	}
	bad := errors.New("bad sector")
	require.ErrorIs(t, readBoth(failing{bad}, disk.Memory(make([]byte, 9)), make([]byte, 4), make([]byte, 4), 0), bad)
	require.ErrorContains(t, readBoth(disk.Memory(make([]byte, 9)), failing{bad}, make([]byte, 4), make([]byte, 4), 0), "the older image at byte 0: bad sector")
}

type failing struct{ err error }

func (f failing) Size() int64                       { return 9 }
func (f failing) ReadAt([]byte, int64) (int, error) { return 0, f.err }
func (f failing) Extents(context.Context, int64, int64) ([]disk.Extent, error) {
	return nil, f.err
}

// What an order covers, and of which kind its images are between full ones.
func TestOrders(t *testing.T) {
	require.Nil(t, Order{}.disks())
	require.Equal(t, image.WholeMachine, Order{}.scope())
	some := Order{Policy: site.Policy{Disks: []string{"vda"}}}
	require.Equal(t, []string{"vda"}, some.disks())
	require.Equal(t, image.SomeDisks, some.scope())
	some.Disks = []string{"vdb"}
	require.Equal(t, []string{"vdb"}, some.disks())
	some.Disks = []string{"*"}
	require.Equal(t, image.WholeMachine, some.scope())
	require.Equal(t, image.Incremental, Order{}.incrementalKind())
	require.Equal(t, image.Differential, Order{Capture: image.Differential}.incrementalKind())
	require.Equal(t, image.Incremental, Order{Capture: image.Incremental, Policy: site.Policy{Capture: image.Differential}}.incrementalKind())
	require.Equal(t, image.Differential, Order{Capture: image.Full, Policy: site.Policy{Capture: image.Differential}}.incrementalKind())
}

// An image is compared with those of its kind that are whole.
func TestCompare(t *testing.T) {
	var set []records.Image
	for range 5 {
		set = append(set, records.Image{Capture: image.Full, State: image.Usable, Read: 100 << 20, Stored: 100 << 20, Took: int64(time.Minute)})
	}
	big := records.Image{Capture: image.Full, Read: 900 << 20, Stored: 900 << 20, Took: int64(time.Minute)}
	require.NotEmpty(t, compare(big, set))
	for i := range set {
		set[i].Capture = image.Incremental
	}
	require.Empty(t, compare(big, set))
	for i := range set {
		set[i].Capture, set[i].State = image.Full, image.Broken
	}
	require.Empty(t, compare(big, set))
	for i := range set {
		set[i].State, set[i].Took = image.Usable, 0
	}
	require.Empty(t, compare(big, set))
}

// A set is the images of one machine under one policy in one store, of one scope, scheduled or apart; gone ones belong to it.
func TestSetOf(t *testing.T) {
	ctx, rec := t.Context(), recordstest.Open(t)
	add := func(id string, change func(*records.Image)) records.Image {
		m := records.Image{ID: id, Machine: "timetable", MachineID: "u-timetable", Policy: "nightly-guests", Store: "quay-shelf", Taken: time.Now(), Scope: image.WholeMachine, Capture: image.Full, Disks: []records.ImageDisk{}}
		if change != nil {
			change(&m)
		}
		require.NoError(t, rec.AddImage(ctx, m))
		require.NoError(t, rec.FinishImage(ctx, m))
		return m
	}
	mine := add("the-image1", nil)
	add("the-image2", nil)
	add("of-another", func(m *records.Image) { m.MachineID = "u-tickets" })
	add("some-disks", func(m *records.Image) { m.Scope = image.SomeDisks })
	add("by-hand-it", func(m *records.Image) { m.SeparateSet = true })
	add("policy-two", func(m *records.Image) { m.Policy = "hourly-tickets" })
	add("in-another", func(m *records.Image) { m.Store = "annex" })
	gone := add("it-is-gone", nil)
	require.NoError(t, rec.DropImages(ctx, []records.Drop{{ID: gone.ID, Why: "test"}}))
	set, err := (&Captures{rec: rec}).setOf(ctx, mine)
	require.NoError(t, err)
	var ids []string
	for _, m := range set {
		ids = append(ids, m.ID)
	}
	require.ElementsMatch(t, []string{"the-image2", "it-is-gone"}, ids)
}
