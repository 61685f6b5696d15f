package lodge_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/copies"
	"keenlodge/internal/core/copying"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/intake"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/store/pooled"
	"keenlodge/internal/wire"
)

// copyBench is a lodge with a store elsewhere, and copy rules.
func copyBench(t *testing.T, policies map[string]site.Policy, rules map[string]site.Copy) *bench {
	t.Helper()
	return newBenchWith(t, policies, func(s *site.Site) {
		s.Stores["north-pier"] = site.Store{Medium: "memory", Layout: site.Pooled, Like: "quay-shelf", Place: "north-pier", Settings: &memory.Settings{Shelf: t.Name() + "-far"}}
		s.Copies = rules
	})
}

// first waits for the end of a rule's first run.
func (b *bench) first(rule string) (r records.Run) {
	b.t.Helper()
	b.newest(rule)
	runs, err := b.rec.Runs(b.t.Context(), records.RunFilter{Policy: rule})
	require.NoError(b.t, err)
	return b.await(runs[len(runs)-1].ID)
}

func far(t *testing.T) *mediumtest.Memory { return memory.Shelf(t.Name() + "-far") }

// copy runs a rule by hand and waits for its end.
func (b *bench) copy(rule string, q copies.Request) (records.Run, wire.CopyResult) {
	b.t.Helper()
	r, err := b.l.Copies.Run(b.t.Context(), rule, "operator", q)
	require.NoError(b.t, err)
	r = b.await(r.ID)
	var result wire.CopyResult
	if len(r.Result) > 0 {
		require.NoError(b.t, json.Unmarshal(r.Result, &result))
	}
	return r, result
}

// in lists a machine's images in a store, newest first.
func (b *bench) in(store, machineID string) []records.Image {
	return slices.DeleteFunc(b.images(machineID), func(m records.Image) bool { return m.Store != store })
}

// An image is copied as soon as it is complete, what the other side has does not travel, each copy is proven and rotates by itself, and what went stays away.
func TestCopies(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")},
		map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"tickets-db"}, Soon: true, Rotation: "newest 2"}})
	b.run("nightly-guests")
	r := b.first("to-north-pier") // the other machine's image may have started another, which had nothing to do
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.EqualValues(t, run.Copy, r.Kind)
	require.EqualValues(t, run.Chain, r.Cause)
	require.Contains(t, b.lines(r.ID), "3.0 MiB of data; 3.0 MiB were sent")
	copied := b.in("north-pier", "u-tickets")
	require.Len(t, copied, 1)
	src := b.in("quay-shelf", "u-tickets")[0]
	require.Equal(t, []string{src.ID, "to-north-pier", "nightly-guests"}, []string{copied[0].CopyOf, copied[0].CopiedBy, copied[0].Policy})
	require.True(t, src.Taken.Equal(copied[0].Taken), "it is of the moment at which the other was taken")
	require.Empty(t, b.in("north-pier", "u-timetable"), "the rule does not select it")
	for _, target := range []string{"vda", "vdb"} {
		require.True(t, bytes.Equal(b.content(src.ID, target), b.content(copied[0].ID, target)))
	}
	told, err := b.l.Copies.Elsewhere(ctx, []wire.Image{{ID: src.ID}, {ID: copied[0].ID}})
	require.NoError(t, err)
	require.Equal(t, []wire.Twin{{ID: copied[0].ID, Store: "north-pier", Place: "north-pier", State: image.Usable}}, told[0].Also)
	require.Equal(t, []wire.Twin{{ID: src.ID, Store: "quay-shelf", State: image.Usable}}, told[1].Also)

	p, err := b.l.Proofs.Start(ctx, "operator", proof.Request{Image: copied[0].ID, Level: image.ByRead})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, b.await(p.ID).State)
	now, err := b.rec.Image(ctx, src.ID)
	require.NoError(t, err)
	require.Empty(t, now.Proven, "the copy is proven, and not what it is a copy of")

	b.host.Write("tickets-db", "vda", 512<<10, []byte("one more ticket"))
	sent := int64(0)
	for n := 2; n <= 4; n++ {
		b.run("nightly-guests")
		b.until(func() bool { return len(b.images("u-tickets")) == n+2 && b.newest("to-north-pier").Over() }, "the copy")
		r := b.newest("to-north-pier")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
		var result wire.CopyResult
		require.NoError(t, json.Unmarshal(r.Result, &result))
		sent += result.Sent
	}
	require.Less(t, sent, int64(400<<10), "what changed, and no more")
	require.Len(t, b.in("north-pier", "u-tickets"), 2, "they rotate by a rule of their own")
	require.Len(t, b.in("quay-shelf", "u-tickets"), 4)

	r, _ = b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State)
	require.Contains(t, b.lines(r.ID), "nothing to copy: all 4 images of store quay-shelf that it selects are, or were, in store north-pier")

	// What is found broken there is worth another try.
	newest := b.in("north-pier", "u-tickets")[0]
	recordstest.Break(t, b.rec, newest.ID)
	r, result := b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, 1, result.Images)
	require.Equal(t, newest.CopyOf, b.in("north-pier", "u-tickets")[0].CopyOf)

	found, err := b.l.Copies.List(ctx, func(string, site.Copy) bool { return true })
	require.NoError(t, err)
	require.Zero(t, found[0].Waiting)
	require.Equal(t, []string{"as soon as an image is complete"}, found[0].Says)
}

// A chain of stores, and one store to several: each image knows the one that was taken, and goes nowhere twice.
func TestFanOutAndRelay(t *testing.T) {
	t.Parallel()
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 9"}}, func(s *site.Site) {
		for _, name := range []string{"north-pier", "islet", "lighthouse"} {
			s.Stores[name] = site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + name}}
		}
		s.Copies = map[string]site.Copy{
			"to-north-pier": {From: "quay-shelf", To: "north-pier", Soon: true, Rotation: "newest 9"},
			"to-islet":      {From: "quay-shelf", To: "islet", Soon: true, Rotation: "newest 9"},
			"on-to-light":   {From: "north-pier", To: "lighthouse", Soon: true, Rotation: "newest 9"},
		}
	})
	b.run("nightly-guests")
	b.until(func() bool {
		return len(b.in("lighthouse", "u-timetable")) == 1 && len(b.in("islet", "u-timetable")) == 1
	}, "the copies")
	src := b.in("quay-shelf", "u-timetable")[0]
	last := b.in("lighthouse", "u-timetable")[0]
	require.Equal(t, src.ID, last.CopyOf, "the one that was taken, not the one between")
	b.await(b.newest("on-to-light").ID)
	m, st, err := b.l.Stores.OfImage(t.Context(), last.ID)
	require.NoError(t, err)
	manifest, err := st.ReadImage(t.Context(), m.ID)
	require.NoError(t, err)
	require.Equal(t, b.in("north-pier", "u-timetable")[0].ID, manifest.Copy.Image)
	require.True(t, bytes.Equal(b.content(src.ID, "vda"), b.content(last.ID, "vda")))

	// Whoever adopts the store knows it, too.
	again := &bench{t: t, rec: recordstest.Open(t), host: b.host, log: &lockedBuffer{}, site: b.site}
	again.site.Copies, again.site.Policies = nil, nil
	again.start()
	again.apply()
	_, err = again.l.Stores.Adopt(t.Context(), "lighthouse", true)
	require.NoError(t, err)
	adopted, err := again.rec.Image(t.Context(), last.ID)
	require.NoError(t, err)
	require.Equal(t, []string{src.ID, "on-to-light"}, []string{adopted.CopyOf, adopted.CopiedBy})
}

// A store on a disk that is carried to another lodge, which takes from it what it lacks and leaves the rest to its owner.
func TestAStoreThatIsCarried(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	shelf := func(name string) site.Store {
		return site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + name}}
	}
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 9"}}, func(s *site.Site) {
		s.Stores["box"] = shelf("box")
		s.Copies = map[string]site.Copy{"to-box": {From: "quay-shelf", To: "box", Rotation: "newest 1"}}
	})
	other := &bench{t: t, rec: recordstest.Open(t), host: b.host, log: &lockedBuffer{}, site: b.site}
	other.site.Policies, other.site.Stores = nil, map[string]site.Store{"box": shelf("box"), "islet": shelf("islet")}
	other.site.Copies = map[string]site.Copy{"from-box": {From: "box", To: "islet", Rotation: "newest 9"}}
	b.run("nightly-guests")
	r, _ := b.copy("to-box", copies.Request{})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	other.start()
	other.apply()
	first := int64(0)
	for n := 1; n <= 2; n++ {
		_, err := other.l.Stores.Adopt(ctx, "box", false)
		require.NoError(t, err)
		r, result := other.copy("from-box", copies.Request{})
		require.EqualValues(t, run.Done, r.State, other.lines(r.ID))
		require.Equal(t, 1, result.Images, other.lines(r.ID))
		if n == 1 {
			first = result.Sent
		} else {
			require.Less(t, result.Sent, first, "what changed, and no more")
		}
		there := other.in("islet", "u-timetable")
		require.Len(t, there, n)
		src := b.in("quay-shelf", "u-timetable")[0]
		require.Equal(t, src.ID, there[0].CopyOf)
		require.True(t, bytes.Equal(b.content(src.ID, "vda"), other.content(there[0].ID, "vda")))

		b.host.Write("timetable", "vda", 512<<10, []byte("one more ferry"))
		b.run("nightly-guests")
		r, _ = b.copy("to-box", copies.Request{})
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
		require.Len(t, b.in("box", "u-timetable"), 1, "the box has room for one")
	}
}

// Into a sealed store, into an open one as a chain, and from that on: the content is the same, and what needs a seal stays behind one.
func TestCopiesBetweenKindsOfStores(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": growing("tickets-db", "newest 9")})
	b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.TPM = []byte("endorsement") })
	sealed := site.Store{Medium: "memory", Layout: site.Pooled, Sealed: true, Settings: &memory.Settings{Shelf: t.Name() + "-strongbox"}}
	_, err := b.l.AddStore(ctx, "strongbox", wire.StoreAddition{Spec: sealed, Keys: []store.NewKey{{Passphrase: "herring gulls at dawn"}}})
	require.NoError(t, err)
	b.site.Stores["strongbox"] = sealed
	b.site.Stores["plain-shelf"] = site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: t.TempDir()}}
	b.site.Stores["attic"] = site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + "-attic"}}
	b.site.Stores["plain-loft"] = site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: t.TempDir()}}
	p := b.site.Policies["nightly-guests"]
	p.Store = "strongbox"
	b.site.Policies["nightly-guests"] = p
	b.site.Copies = map[string]site.Copy{
		"a-opened": {From: "strongbox", To: "plain-shelf", Rotation: "newest 9"},
		"b-pooled": {From: "plain-shelf", To: "attic", Rotation: "newest 9"},
		"c-open":   {From: "plain-shelf", To: "plain-loft", Rotation: "newest 9"},
		"d-sealed": {From: "strongbox", To: "quay-shelf", Rotation: "newest 9"},
	}
	b.apply()
	for n := range 3 {
		b.host.Write("tickets-db", "vda", int64(n)<<20, bytes.Repeat([]byte("one more ticket"), 9000))
		b.run("nightly-guests")
		for _, rule := range slices.Sorted(maps.Keys(b.site.Copies)) {
			r, _ := b.copy(rule, copies.Request{})
			require.EqualValues(t, run.Done, r.State, "%s: %s", rule, b.lines(r.ID))
		}
	}
	src := b.in("strongbox", "u-tickets")
	require.Len(t, src, 3)
	require.Empty(t, src[0].Firmware[0].Left)
	for _, name := range []string{"plain-shelf", "attic", "plain-loft", "quay-shelf"} {
		found := b.in(name, "u-tickets")
		require.Len(t, found, 3)
		for i, m := range found {
			require.Equal(t, src[i].ID, m.CopyOf)
			for _, target := range []string{"vda", "vdb"} {
				require.True(t, bytes.Equal(b.content(src[i].ID, target), b.content(m.ID, target)), "%s of %s", target, name)
			}
			require.Equal(t, image.NotSealed, m.Firmware[0].Left, "a TPM's keys are in sealed stores only")
		}
		if b.site.Stores[name].Layout == site.Open {
			require.Equal(t, []string{found[1].ID, found[2].ID, ""}, []string{found[0].Base, found[1].Base, found[2].Base}, "a chain as where it came from")
			require.Less(t, found[0].Stored, found[2].Stored/2)
			r, report := b.check(storesCheck(name))
			require.EqualValues(t, run.Done, r.State)
			require.Empty(t, report.Problems)
		}
	}
	require.Empty(t, b.in("attic", "u-tickets")[0].Base)
}

// A line that is cut again and again: each try goes on where the one before was, and it ends well.
func TestACopyOverALineThatIsCut(t *testing.T) {
	defer func(was time.Duration) { copies.FirstWait = was }(copies.FirstWait)
	copies.FirstWait = 10 * time.Millisecond
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")}, map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", TasksAtOnce: 1, Rotation: "newest 9"}})
	b.run("nightly-guests")
	var puts, cuts atomic.Int64
	far(t).Around = func(call, name string, act func() error) error {
		if call == "put" && strings.HasPrefix(name, "pack/") && puts.Add(1)%2 == 0 {
			cuts.Add(1)
			return medium.ErrUnreachable
		}
		return act()
	}
	r, result := b.copy("to-north-pier", copies.Request{})
	far(t).Around = nil
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, 2, result.Images)
	require.Positive(t, cuts.Load())
	require.Contains(t, b.lines(r.ID), "what has arrived is not sent again")
	for _, id := range []string{"u-tickets", "u-timetable"} {
		require.True(t, bytes.Equal(b.content(b.in("quay-shelf", id)[0].ID, "vda"), b.content(b.in("north-pier", id)[0].ID, "vda")))
	}
	require.Empty(t, far(t).Names("visit/"))
}

// A service that dies in the middle of a copy leaves nothing that is taken for one; the next run makes it.
func TestACopyWhoseServiceDies(t *testing.T) {
	t.Parallel()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")}, map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"timetable"}, Rotation: "newest 9"}})
	b.run("nightly-guests")
	reached, release := make(chan struct{}, 9), make(chan struct{})
	far(t).Around = func(call, name string, act func() error) error {
		if call == "put" && strings.HasPrefix(name, "image/") {
			reached <- struct{}{}
			<-release
			return medium.ErrUnreachable
		}
		return act()
	}
	r, err := b.l.Copies.Run(t.Context(), "to-north-pier", "operator", copies.Request{})
	require.NoError(t, err)
	<-reached
	go func() { time.Sleep(50 * time.Millisecond); close(release) }()
	b.stop()
	far(t).Around = nil
	b.start()
	r = b.await(r.ID)
	require.NotEqual(t, run.Done, r.State)
	require.Empty(t, b.in("north-pier", "u-timetable"))
	r, result := b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Less(t, result.Sent, int64(100<<10), "what had arrived is not sent again")
	require.Len(t, b.in("north-pier", "u-timetable"), 1)
}

// The newest of each month that is over is copied, and of a machine that has none the newest at once; force takes what is not due, and what is going away
// there is not brought.
func TestWhichAreCopied(t *testing.T) {
	t.Parallel()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")},
		map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Images: copying.OfEachMonth, Rotation: "newest 9", Machines: []string{"timetable"}}})
	b.run("nightly-guests")
	r, result := b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, 1, result.Images, "of a machine without any copy the newest goes at once")
	b.run("nightly-guests")
	r, _ = b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State)
	require.Contains(t, b.lines(r.ID), "and the others are not due")
	said, err := b.l.Copies.Choice(t.Context(), "to-north-pier", false)
	require.NoError(t, err)
	require.Contains(t, said[1].Why, "which is not over")
	r, result = b.copy("to-north-pier", copies.Request{Force: true})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, 1, result.Images)

	r, _ = b.copy("to-north-pier", copies.Request{Rehearse: true, Force: true})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "image none: all 2 images")
	_, err = b.l.Copies.Run(t.Context(), "to-nowhere", "operator", copies.Request{})
	require.ErrorIs(t, err, fault.ErrNotFound)
	_, err = b.l.Planning.Pause(t.Context(), "to-north-pier", "operator", "the line is being mended", time.Time{})
	require.NoError(t, err)
	_, err = b.l.Copies.Run(t.Context(), "to-north-pier", "operator", copies.Request{})
	require.ErrorContains(t, err, "copy rule to-north-pier is paused: the line is being mended")
}

// What is imported is copied as soon as it is complete too.
func TestWhatIsImportedIsCopied(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")},
		map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"ferry-*"}, Soon: true, Rotation: "newest 2"}})
	b.run("nightly-guests")
	src := b.images("u-timetable")[0]
	st, err := b.l.Stores.Named(ctx, "quay-shelf")
	require.NoError(t, err)
	m, err := st.ReadImage(ctx, src.ID)
	require.NoError(t, err)
	brought := wire.Brought{Disks: []wire.BroughtDisk{{Target: "vda", Size: m.Disks[0].Size}}}
	_, err = b.l.Intake.Take(ctx, intake.Order{Store: "quay-shelf", Machine: "ferry-archive"}, brought, func(ctx context.Context, _ string) (store.OpenedDisk, error) {
		return st.OpenDisk(ctx, m, m.Disks[0])
	})
	require.NoError(t, err)
	r := b.newest("to-north-pier")
	r = b.await(r.ID)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.EqualValues(t, run.Chain, r.Cause)
	there, err := b.rec.Images(ctx, records.ImageFilter{Store: "north-pier"})
	require.NoError(t, err)
	require.Len(t, there, 1)
	require.Equal(t, "ferry-archive", there[0].Machine)
	require.True(t, there[0].SeparateSet, "it stays until somebody drops it, as what it is a copy of")
}

// After the database was lost, what lies in both stores is not sent again because only one of them was adopted so far.
func TestCopiesThatTheRecordsForgot(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")},
		map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"tickets-db"}, Rotation: "newest 9"}})
	b.run("nightly-guests")
	r, _ := b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	b.run("nightly-guests")

	other := &bench{t: t, rec: recordstest.Open(t), host: b.host, log: &lockedBuffer{}, site: b.site}
	other.start()
	other.apply()
	_, err := other.l.Stores.Adopt(ctx, "quay-shelf", true)
	require.NoError(t, err)
	r, _ = other.copy("to-north-pier", copies.Request{Rehearse: true})
	require.Contains(t, other.lines(r.ID), "1 of the images that are due lies in store north-pier already")
	for range 2 {
		r, result := other.copy("to-north-pier", copies.Request{})
		require.EqualValues(t, run.Warned, r.State, other.lines(r.ID))
		require.Contains(t, other.lines(r.ID), "1 of the images that are due lies in store north-pier already, and this lodge does not know it")
		require.LessOrEqual(t, result.Images, 1, "the newer one")
	}
	require.Len(t, far(t).Names("image/"), 2)
	_, err = other.l.Stores.Adopt(ctx, "north-pier", true)
	require.NoError(t, err)
	r, _ = other.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State, other.lines(r.ID))
	require.Len(t, other.in("north-pier", "u-tickets"), 2)
}

// A far store that is full keeps what it has: the copy fails and says why, nothing of it stays, and what is dropped here in the middle is no trouble there.
func TestAFarStoreThatIsFull(t *testing.T) {
	t.Parallel()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")}, map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"timetable"}, Rotation: "newest 9"}})
	b.run("nightly-guests")
	far(t).Around = func(call, name string, act func() error) error {
		if call == "put" && strings.HasPrefix(name, "index/") {
			return medium.ErrFull
		}
		return act()
	}
	r, _ := b.copy("to-north-pier", copies.Request{})
	far(t).Around = nil
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, b.lines(r.ID), "failure timetable: ")
	require.Empty(t, b.in("north-pier", "u-timetable"))
	require.Empty(t, far(t).Names("image/"))

	// An image that is dropped here while it is copied is there to the end.
	src := b.in("quay-shelf", "u-timetable")[0]
	far(t).Around = func(call, name string, act func() error) error {
		if call == "put" && strings.HasPrefix(name, "pack/") {
			require.NoError(t, b.rec.DropImages(t.Context(), []records.Drop{{ID: src.ID, Why: "for the test"}}))
		}
		return act()
	}
	r, _ = b.copy("to-north-pier", copies.Request{})
	far(t).Around = nil
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, b.in("north-pier", "u-timetable"), 1)
}

// A password that expires in the middle, or a right that is taken away, ends the copy at once, without tries in vain, and says so; with the right back
// the next run goes on, and what had arrived is not sent again.
func TestARightThatEndsInTheMiddle(t *testing.T) {
	t.Parallel()
	for want, kind := range map[string]error{"was refused": medium.ErrRefused, "not allowed": medium.ErrNoRight} {
		t.Run(want, func(t *testing.T) {
			b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")}, map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"tickets-db"}, Rotation: "newest 9"}})
			b.run("nightly-guests")
			var ended atomic.Bool
			var calls atomic.Int64
			far(t).Around = func(call, name string, act func() error) error {
				if call == "put" && strings.HasPrefix(name, "index/") {
					ended.Store(true)
				}
				if ended.Load() {
					calls.Add(1)
					return fmt.Errorf("%s %s in memory: %w", call, name, kind)
				}
				return act()
			}
			r, _ := b.copy("to-north-pier", copies.Request{})
			require.EqualValues(t, run.Failed, r.State)
			require.Contains(t, b.lines(r.ID), want)
			require.LessOrEqual(t, calls.Load(), int64(12), "it is not tried again and again")
			require.Empty(t, b.in("north-pier", "u-tickets"))
			far(t).Around = nil
			r, result := b.copy("to-north-pier", copies.Request{})
			require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
			require.Less(t, result.Sent, int64(100<<10), "what had arrived is not sent again")
			require.Len(t, b.in("north-pier", "u-tickets"), 1)
		})
	}
}

// While images are copied into a store another lodge sweeps it, again and again. Every copy is whole.
func TestAFarStoreThatIsSwept(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")}, map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Rotation: "newest 2"}})
	other, err := pooled.Open(ctx, far(t), nil)
	require.NoError(t, err)
	var busy atomic.Bool
	far(t).Around = func(call, name string, act func() error) error {
		err := act()
		if call == "put" && !strings.HasPrefix(name, "condemned/") && busy.CompareAndSwap(false, true) {
			defer busy.Store(false)
			if _, err := other.Sweep(ctx, store.SweepRequest{}); err != nil {
				return err
			}
		}
		return err
	}
	for range 4 {
		noise := make([]byte, 512<<10)
		rand.Read(noise)
		b.host.Write("timetable", "vda", 0, noise)
		require.EqualValues(t, run.Done, b.run("nightly-guests").State)
		r, _ := b.copy("to-north-pier", copies.Request{})
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	}
	far(t).Around = nil
	for _, id := range []string{"u-tickets", "u-timetable"} {
		there := b.in("north-pier", id)
		require.Len(t, there, 2)
		for i, m := range there {
			require.True(t, bytes.Equal(b.content(b.in("quay-shelf", id)[i].ID, "vda"), b.content(m.ID, "vda")))
		}
	}
}

// A far store in whose place another owner's lies, or that is damaged, gets nothing that it could not give back, and loses nothing: the copy says what
// is wrong, and the next one goes on once that is mended.
func TestAFarStoreThatIsNotWhatItWas(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		wrong, says string
		plant       func(t *testing.T, shelf *mediumtest.Memory)
	}{
		{"another owner's", "holds another store", func(t *testing.T, shelf *mediumtest.Memory) {
			other := newBenchNamed(t, "other")
			for _, name := range shelf.Names("") {
				shelf.Poke(name, nil)
			}
			for _, name := range other.Names("") {
				shelf.Poke(name, other.Peek(name))
			}
		}},
		{"emptied", "it did before", func(t *testing.T, shelf *mediumtest.Memory) {
			for _, name := range shelf.Names("") {
				shelf.Poke(name, nil)
			}
		}},
		{"its header and the header's copy damaged", "store.json", func(t *testing.T, shelf *mediumtest.Memory) {
			for _, name := range []string{store.HeaderName, store.HeaderCopy} {
				shelf.Poke(name, shelf.Peek(name)[:20])
			}
		}},
	} {
		t.Run(c.wrong, func(t *testing.T) {
			b := copyBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")}, map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"tickets-db"}, Rotation: "newest 1"}})
			b.run("nightly-guests")
			r, _ := b.copy("to-north-pier", copies.Request{})
			require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
			b.run("nightly-guests")
			shelf, held := far(t), far(t).Copy()
			c.plant(t, shelf)
			planted := shelf.Copy()
			r, _ = b.copy("to-north-pier", copies.Request{})
			require.EqualValues(t, run.Failed, r.State, b.lines(r.ID))
			require.Contains(t, b.lines(r.ID), c.says)
			require.Equal(t, planted.Names(""), shelf.Names(""), "nothing is written to it, and nothing taken away")
			require.Len(t, b.in("north-pier", "u-tickets"), 1, "and no rotation drops what can't be replaced")
			for _, name := range shelf.Names("") {
				shelf.Poke(name, nil)
			}
			for _, name := range held.Names("") {
				shelf.Poke(name, held.Peek(name))
			}
			r, _ = b.copy("to-north-pier", copies.Request{})
			require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
			require.True(t, bytes.Equal(b.content(b.in("quay-shelf", "u-tickets")[0].ID, "vda"), b.content(b.in("north-pier", "u-tickets")[0].ID, "vda")))
		})
	}
}
