package lodge_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/store/pooled"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
	"sync/atomic"
)

func (b *bench) check(q stores.CheckRequest) (records.Run, store.Report) {
	b.t.Helper()
	r, err := b.l.Stores.Check(b.t.Context(), "operator", q)
	require.NoError(b.t, err)
	r = b.await(r.ID)
	var report store.Report
	require.NoError(b.t, json.Unmarshal(r.Result, &report))
	return r, report
}

func storesCheck(name string) stores.CheckRequest {
	return stores.CheckRequest{Store: name, Read: true}
}

// A check finds what is damaged and says which images that breaks; a repair mends it from a store that has the same.
func TestCheckAndRepair(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	r, report := b.check(stores.CheckRequest{Store: "quay-shelf", Read: true})
	require.EqualValues(t, run.Done, r.State)
	require.Empty(t, report.Problems)
	require.Equal(t, 2, report.Images)
	require.Positive(t, report.Read)
	require.Positive(t, r.Tasks[0].Total)

	pack, whole := "", []byte{}
	for _, name := range b.shelf().Names("pack/") { // the one with pieces, not the one with maps
		if body := b.shelf().Peek(name); len(body) > len(whole) {
			pack, whole = name, body
		}
	}
	body := append([]byte{}, whole...)
	for i := len(body) / 4; i < len(body)/2; i++ {
		body[i] ^= 0xff
	}
	b.shelf().Poke(pack, body)
	r, report = b.check(stores.CheckRequest{Store: "quay-shelf"})
	require.EqualValues(t, run.Done, r.State, "nothing was read, so nothing was found")
	r, report = b.check(stores.CheckRequest{Store: "quay-shelf", Read: true})
	require.EqualValues(t, run.Failed, r.State)
	require.NotEmpty(t, report.Broken)
	require.Contains(t, r.Tasks[0].Error, "store quay-shelf is damaged in")
	require.Contains(t, r.Tasks[0].Error, "try: keenlodge store check quay-shelf --repair")
	log := b.lines(r.ID)
	for _, id := range report.Broken {
		require.Contains(t, log, "image "+id+" is doubtful: damage was found in it")
		m, err := b.rec.Image(t.Context(), id)
		require.NoError(t, err)
		require.Equal(t, image.Doubtful, m.State)
	}
	recordstest.Later(t, b.rec)
	r, report = b.check(stores.CheckRequest{Store: "quay-shelf", Read: true})
	log = b.lines(r.ID)
	for _, id := range report.Broken {
		require.Contains(t, log, "image "+id+" is broken: damage was found in it twice, at different times")
		m, err := b.rec.Image(t.Context(), id)
		require.NoError(t, err)
		require.Equal(t, image.Broken, m.State)
		_, err = b.l.Proofs.Start(t.Context(), "operator", proof.Request{Image: id, Level: image.ByMount})
		require.ErrorContains(t, err, "only a usable image can be proven")
	}
	all, err := b.l.Stores.All(t.Context())
	require.NoError(t, err)
	require.Equal(t, []int{2, len(report.Broken)}, []int{all[0].Images, all[0].Broken})

	b.shelf().Poke(pack, whole) // as when the share's cable is in again
	r, report = b.check(stores.CheckRequest{Store: "quay-shelf"})
	require.EqualValues(t, run.Done, r.State)
	require.NotContains(t, b.lines(r.ID), "is whole again", "only who reads everything can say so")
	r, _ = b.check(stores.CheckRequest{Store: "quay-shelf", Repair: true})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "is whole again")
	require.Equal(t, image.Usable, b.images("u-tickets")[0].State)

	for _, c := range []struct {
		q    stores.CheckRequest
		says string
	}{
		{stores.CheckRequest{Store: "quay-shelf", From: "quay-shelf", Repair: true}, "can't be mended from itself"},
		{stores.CheckRequest{Store: "quay-shelf", From: "annex"}, "another store helps only in a repair"},
		{stores.CheckRequest{Store: "quay-shelves"}, `did you mean "quay-shelf"?`},
		{stores.CheckRequest{Store: "quay-shelf", From: "annex", Repair: true}, `no store is called "annex"`},
	} {
		_, err := b.l.Stores.Check(t.Context(), "operator", c.q)
		require.ErrorContains(t, err, c.says)
	}
}

// A check compares what is recorded with what lies in the store, both ways; and a sweep that finds fewer images than are recorded does nothing:
// their pieces would look as if nobody needed them.
func TestManifestsThatVanish(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	m := b.images("u-tickets")[0]
	want := b.content(m.ID, "vda")
	manifest := b.shelf().Peek("image/" + m.ID)
	b.shelf().Poke("image/"+m.ID, nil)
	packs := b.shelf().Names("pack/")
	r, err := b.l.Retention.Sweep(ctx, "operator", "quay-shelf")
	require.NoError(t, err)
	r = b.await(r.ID)
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "1 images that are recorded have no manifest in memory: "+m.ID)
	require.Contains(t, r.Tasks[0].Error, "store check --repair --from another store")
	require.Equal(t, packs, b.shelf().Names("pack/"))
	require.Empty(t, b.shelf().Names("condemned/"))

	r, report := b.check(stores.CheckRequest{Store: "quay-shelf", Read: true})
	require.EqualValues(t, run.Failed, r.State)
	require.Equal(t, []string{m.ID}, report.Broken)
	require.Equal(t, "it is recorded, but its manifest is not in the store", report.Problems[0].What)
	got, err := b.rec.Image(ctx, m.ID)
	require.NoError(t, err)
	require.Equal(t, image.Doubtful, got.State)

	b.shelf().Poke("image/"+m.ID, manifest)
	other := b.images("u-timetable")[0]
	_, err = b.rec.Pool().Exec(ctx, "delete from images where id = $1", other.ID)
	require.NoError(t, err)
	r, report = b.check(stores.CheckRequest{Store: "quay-shelf", Read: true})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, []string{other.ID}, report.Unknown)
	require.Contains(t, b.lines(r.ID), "image "+other.ID+" lies in the store, but is not recorded; to take it over: keenlodge store adopt quay-shelf")
	require.Contains(t, b.lines(r.ID), "image "+m.ID+" is whole again")
	require.Equal(t, want, b.content(m.ID, "vda"))
	r, _ = b.sweep()
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
}

// What is missing while the store itself is away says nothing of its images.
func TestAStoreThatIsAwayIsNoVerdict(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	m := b.images("u-tickets")[0]
	away := atomic.Bool{}
	b.shelf().Around = func(call, name string, act func() error) error {
		if call == "get" && strings.HasPrefix(name, "pack/") {
			away.Store(true) // its disk is unmounted as soon as the reading begins
		}
		switch {
		case away.Load() && call == "list":
			return nil
		case away.Load() && (call == "get" || call == "stat"):
			return fmt.Errorf("%s: %w", name, medium.ErrNotFound)
		}
		return act()
	}
	for name, start := range map[string]func() (records.Run, error){
		"check": func() (records.Run, error) {
			return b.l.Stores.Check(t.Context(), "operator", stores.CheckRequest{Store: "quay-shelf", Read: true})
		},
		"proof": func() (records.Run, error) {
			return b.l.Proofs.Start(t.Context(), "operator", proof.Request{Image: m.ID, Level: image.ByRead})
		},
	} {
		away.Store(false)
		r, err := start()
		require.NoError(t, err)
		r = b.await(r.ID)
		require.EqualValues(t, run.Failed, r.State, name)
		require.Contains(t, r.Tasks[0].Error, "the place does not hold the store any more; is its disk mounted?", name)
		got, proofs, err := b.l.Proofs.Of(t.Context(), m.ID)
		require.NoError(t, err)
		require.Equal(t, image.Usable, got.State, name)
		require.Empty(t, proofs, name)
	}
}

// Who applies a site that was made from an older one is told what differs, and nothing is lost; a store that was being tried meanwhile is added
// to what the site is then.
func TestASiteThatChangedMeanwhile(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	place := func(name string) site.Store {
		return site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + name}}
	}
	adding := make(chan bool)
	memory.Shelf(t.Name() + "slow").Around = func(_, _ string, act func() error) error {
		if adding != nil {
			adding <- true
			<-adding
			adding = nil
		}
		return act()
	}
	added := make(chan error)
	go func() {
		_, err := b.l.AddStore(ctx, "annex", wire.StoreAddition{Spec: place("slow")})
		added <- err
	}()
	<-adding
	b.site.Policies = map[string]site.Policy{"nightly-guests": everything("newest 9")}
	b.apply()
	adding <- true
	require.NoError(t, <-added)
	now, err := b.l.Site(ctx)
	require.NoError(t, err)
	require.Contains(t, now.Stores, "annex")
	require.Equal(t, "newest 9", now.Policies["nightly-guests"].Rotation)

	old := now
	b.apply() // without the annex, which others have not seen
	err = b.rec.ReplaceSite(ctx, &old, now, func(site.Policy) time.Time { return time.Time{} }, nil)
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, "somebody else has changed the site meanwhile (remove store annex)")
}

// A lodge that lost its records takes over what its stores hold: images, machines, proofs and pins; and says what is missing.
func TestAdopt(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	b.run("nightly-guests")
	newest := b.images("u-tickets")[0]
	pinned, err := b.l.Stores.Pin(ctx, newest.ID, true, "before the upgrade")
	require.NoError(t, err)
	require.True(t, pinned.Pinned)
	r, err := b.l.Proofs.Start(ctx, "operator", proof.Request{Image: newest.ID, Level: image.ByRead})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, b.await(r.ID).State)
	b.stop()

	was := b.rec
	b.rec = recordstest.Open(t)
	b.start()
	b.apply()
	adopted, err := b.l.Stores.Adopt(ctx, "quay-shelf", false)
	require.NoError(t, err)
	require.NotNil(t, adopted.Owner)
	self, err := was.Lodge(ctx)
	require.NoError(t, err)
	require.Equal(t, self, adopted.Owner.Lodge)
	adopted.Owner = nil
	require.Equal(t, wire.Adopted{Images: 4, Sets: 2, Proofs: 1, Pins: 1, Damaged: []string{}, Missing: []string{}}, adopted)
	m, proofs, err := b.l.Proofs.Of(ctx, newest.ID)
	require.NoError(t, err)
	before, err := was.Image(ctx, newest.ID)
	require.NoError(t, err)
	require.True(t, before.Taken.Equal(m.Taken))
	require.True(t, m.Adopted)
	m.Taken, m.Run, m.Policy, m.Adopted = before.Taken, before.Run, before.Policy, false
	require.Equal(t, before, m)
	require.Len(t, proofs, 1)

	// The other lodge may still be there: nothing of its is rotated here until a person says so.
	b.site.Policies["nightly-guests"] = everything("newest 1")
	b.apply()
	b.run("nightly-guests")
	b.run("nightly-guests")
	require.Len(t, b.images("u-timetable"), 3, "one of this lodge's two went, and none of the others")
	again, err := b.l.Stores.Adopt(ctx, "quay-shelf", true)
	require.NoError(t, err)
	require.Equal(t, []int{0, 4}, []int{again.Images, again.TakenOver})
	b.run("nightly-guests")
	require.Len(t, b.images("u-tickets"), 2, "the pinned one is left, and the newest")
	another, err := b.l.Stores.Adopt(ctx, "quay-shelf", false)
	require.NoError(t, err)
	require.Nil(t, another.Owner, "it is this lodge's")
	for range 2 {
		b.run("nightly-guests")
	}
	b.site.Policies["nightly-guests"] = everything("newest 3")
	b.apply()
	b.run("nightly-guests")

	damaged, missing := b.images("u-timetable")[0], b.images("u-timetable")[1]
	b.shelf().Poke("image/"+damaged.ID, b.shelf().Peek("image/" + damaged.ID)[:9])
	b.shelf().Poke("image/"+missing.ID, nil)
	b.host.Remove("timetable")
	adopted, err = b.l.Stores.Adopt(ctx, "quay-shelf", false)
	require.NoError(t, err)
	require.Zero(t, adopted.Images)
	require.Len(t, adopted.Damaged, 1)
	require.Len(t, adopted.Missing, 1)
	require.Contains(t, adopted.Missing[0], missing.ID+" of timetable, taken ")
	_, err = b.l.Stores.Pin(ctx, "nothing0", true, "")
	require.ErrorIs(t, err, fault.ErrNotFound)
	unpinned, err := b.l.Stores.Pin(ctx, newest.ID, false, "")
	require.NoError(t, err)
	require.False(t, unpinned.Pinned)
	_, err = b.l.Stores.Adopt(ctx, "quay-shelves", false)
	require.ErrorIs(t, err, fault.ErrNotFound)
}

// What whoever could write to a store put into it keeps nothing else from being adopted.
func TestAdoptWhatIsOdd(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 9")})
	for range 3 {
		b.run("nightly-guests")
	}
	rewrite := func(id string, spoil func(*image.Manifest)) {
		_, st, err := b.l.Stores.OfImage(ctx, id)
		require.NoError(t, err)
		m, err := st.ReadImage(ctx, id)
		require.NoError(t, err)
		spoil(m)
		body, err := m.Encode()
		require.NoError(t, err)
		b.shelf().Poke("image/"+id, chunk.EncodeObject(nil, chunk.ImageObject, "image/"+id, body))
	}
	images := b.images("u-timetable")
	rewrite(images[0].ID, func(m *image.Manifest) {
		m.Why, m.Program, m.Tags = "a\x00b\xff\x1b[2J", strings.Repeat("p", 1<<20), map[string]string{"k\x00": "v\x00"}
	})
	rewrite(images[1].ID, func(m *image.Manifest) { m.Scope, m.Consistency = "galaxy", "wet" })
	rewrite(images[2].ID, func(m *image.Manifest) { m.Disks[0].Target = "../../../dev/vda" })
	id := b.images("u-tickets")[0].ID
	_, st, err := b.l.Stores.OfImage(ctx, id)
	require.NoError(t, err)
	require.NoError(t, st.AddProof(ctx, id, store.Proof{Level: "seance", Passed: true}))
	require.NoError(t, st.AddProof(ctx, id, store.Proof{Level: image.ByRead, Passed: true, Evidence: []string{"all\x00right"}, Error: "\xfe"}))
	b.stop()
	b.rec = recordstest.Open(t)
	b.start()
	b.apply()
	adopted, err := b.l.Stores.Adopt(ctx, "quay-shelf", false)
	require.NoError(t, err)
	require.Equal(t, []int{5, 1}, []int{adopted.Images, adopted.Proofs})
	all := strings.Join(adopted.Damaged, "\n")
	require.Contains(t, all, `a disk is called "../../../dev/vda"`)
	require.Contains(t, all, `a proof of a level that is not known to this program, "seance"`)
	m, err := b.rec.Image(ctx, images[1].ID)
	require.NoError(t, err)
	require.EqualValues(t, "galaxy", m.Scope, "what another version wrote is kept, and shown as it is")
	m, err = b.rec.Image(ctx, images[0].ID)
	require.NoError(t, err)
	require.Equal(t, "a\ufffdb\ufffd\ufffd[2J", m.CaptureWhy)
	_, proofs, err := b.l.Proofs.Of(ctx, id)
	require.NoError(t, err)
	require.Equal(t, "all\ufffdright", proofs[0].Evidence[0])
}

// A machine that nobody has any more comes back with its images.
func TestAdoptAnUnknownMachine(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	b.stop()
	b.host.Remove("timetable")
	b.rec = recordstest.Open(t)
	b.start()
	b.apply()
	adopted, err := b.l.Stores.Adopt(t.Context(), "quay-shelf", false)
	require.NoError(t, err)
	require.Equal(t, []int{2, 1}, []int{adopted.Images, adopted.Machines})
	m, err := b.l.Inventory.Resolve(t.Context(), "timetable")
	require.NoError(t, err)
	require.Equal(t, "u-timetable", m.UUID)
	require.EqualValues(t, 3*mib, m.Disks[0].Size)
}

// A place is tried before it is used; a store is made in an empty one, taken where it is one, and opened with a key where it is sealed.
func TestAddingStores(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, nil)
	place := func(name string) site.Store {
		return site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + name}}
	}
	try := func(name string) probe.Step {
		t.Helper()
		spec := place(name)
		steps, err := b.l.Stores.Probe(ctx, "annex", wire.ProbeRequest{Spec: &spec})
		require.NoError(t, err)
		return steps[len(steps)-1]
	}
	require.Equal(t, probe.Step{Name: "content", State: "ok", Text: "empty: a store can be made here"}, try("annex"))
	memory.Shelf(t.Name()+"full").Poke("holiday.jpg", []byte("sun"))
	require.Contains(t, try("full").Text, "something else is there")
	_, err := b.l.AddStore(ctx, "full", wire.StoreAddition{Spec: place("full")})
	require.ErrorContains(t, err, "is not empty and holds no store")
	made, err := b.l.AddStore(ctx, "annex", wire.StoreAddition{Spec: place("annex")})
	require.NoError(t, err)
	require.True(t, made)
	require.Contains(t, try("annex").Text, "a store, made on ")
	_, err = b.l.AddStore(ctx, "annex", wire.StoreAddition{Spec: place("annex")})
	require.ErrorContains(t, err, "there is a store called annex already")
	made, err = b.l.AddStore(ctx, "annex-again", wire.StoreAddition{Spec: place("elsewhere")})
	require.NoError(t, err)
	require.True(t, made)
	steps, err := b.l.Stores.Probe(ctx, "annex", wire.ProbeRequest{})
	require.NoError(t, err)
	require.NotEqual(t, "content", steps[len(steps)-1].Name, "it is known what is there")
	_, err = b.l.Stores.Probe(ctx, "annexe", wire.ProbeRequest{})
	require.ErrorContains(t, err, `did you mean "annex"?`)
	odd := site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{}}
	_, err = b.l.Stores.Probe(ctx, "odd", wire.ProbeRequest{Spec: &odd})
	require.ErrorIs(t, err, fault.ErrInvalid)
	_, err = b.l.AddStore(ctx, "odd", wire.StoreAddition{Spec: odd})
	require.ErrorIs(t, err, fault.ErrInvalid)

	// One like another cuts as that does, so that the two can exchange pieces.
	like := func(spec site.Store, other string) site.Store { spec.Like = other; return spec }
	made, err = b.l.AddStore(ctx, "twin", wire.StoreAddition{Spec: like(place("twin"), "annex")})
	require.NoError(t, err)
	require.True(t, made)
	cuts := func(name string) cut.Cuts {
		st, err := b.l.Stores.Named(ctx, name)
		require.NoError(t, err)
		return st.(*pooled.Store).Cuts()
	}
	require.Equal(t, cuts("annex"), cuts("twin"))
	b.site, err = b.l.Site(ctx)
	require.NoError(t, err)
	b.site.Stores = maps.Clone(b.site.Stores)
	b.site.Stores["anchor"] = like(place("anchor"), "zenith") // made in the other order
	b.site.Stores["zenith"] = like(place("zenith"), "twin")
	b.apply()
	require.Equal(t, cuts("annex"), cuts("anchor"))
	require.Equal(t, cuts("annex"), cuts("zenith"))
	require.NotEqual(t, cuts("annex"), cuts("annex-again"))
	_, err = b.l.AddStore(ctx, "third", wire.StoreAddition{Spec: like(place("third"), "anex")})
	require.ErrorContains(t, err, `did you mean "annex"?`)
	memory.Shelf(t.Name()+"taken").Poke("store.json", memory.Shelf(t.Name()+"annex").Peek("store.json"))
	_, err = b.l.AddStore(ctx, "third", wire.StoreAddition{Spec: like(place("taken"), "annex")})
	require.ErrorContains(t, err, "holds a store already, which cuts as it does")
	open := site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: t.TempDir()}}
	_, err = b.l.AddStore(ctx, "third", wire.StoreAddition{Spec: like(open, "annex")})
	require.ErrorContains(t, err, "an open store does not cut what it keeps")

	sealed := place("sealed")
	sealed.Sealed = true
	_, err = b.l.AddStore(ctx, "strongbox", wire.StoreAddition{Spec: sealed})
	require.ErrorContains(t, err, "needs its first key")
	require.Empty(t, memory.Shelf(t.Name()+"sealed").Names(""))
	key := store.NewKey{Passphrase: "herring gulls at dawn"}
	made, err = b.l.AddStore(ctx, "strongbox", wire.StoreAddition{Spec: sealed, Keys: []store.NewKey{key}})
	require.NoError(t, err)
	require.True(t, made)
	require.Contains(t, try("sealed").Text, "a sealed store, made on ")
	keys, err := b.l.Stores.Keys(ctx, "strongbox")
	require.NoError(t, err)
	require.Len(t, keys, 1)
	require.ErrorContains(t, b.l.Stores.Unlock(ctx, "strongbox", chunk.Opener{Passphrase: "wrong"}), "store strongbox")
	require.NoError(t, b.l.Stores.Unlock(ctx, "strongbox", chunk.Opener{Passphrase: key.Passphrase}))
	require.Error(t, b.l.Stores.RemoveKey(ctx, "strongbox", keys[0].ID), "the last one stays")
	added, err := b.l.Stores.AddKey(ctx, "strongbox", store.NewKey{Passphrase: "a second one, for the safe"})
	require.NoError(t, err)
	require.NoError(t, b.l.Stores.RemoveKey(ctx, "strongbox", added.ID))
	_, err = b.l.Stores.AddKey(ctx, "annex", key)
	require.ErrorContains(t, err, "store annex is not sealed, so it takes no keys")
	_, err = b.l.Stores.Keys(ctx, "annex")
	require.ErrorIs(t, err, fault.ErrConflict)

	// Another lodge has no key until it is given one.
	other := &bench{t: t, rec: recordstest.Open(t), host: b.host, log: &lockedBuffer{}, site: b.site}
	other.start()
	other.apply()
	plain := sealed
	plain.Sealed = false
	_, err = other.l.AddStore(ctx, "strongbox", wire.StoreAddition{Spec: plain})
	require.Error(t, err, "what is sealed is not taken for what is not")
	_, err = other.l.AddStore(ctx, "strongbox", wire.StoreAddition{Spec: sealed, Opener: chunk.Opener{Passphrase: "wrong"}})
	require.Error(t, err)
	made, err = other.l.AddStore(ctx, "strongbox", wire.StoreAddition{Spec: sealed, Opener: chunk.Opener{Passphrase: key.Passphrase}})
	require.NoError(t, err)
	require.False(t, made)
	shown, err := other.l.Stores.Show(ctx, "strongbox")
	require.NoError(t, err)
	require.Zero(t, shown.Images)
	require.ErrorContains(t, b.l.Stores.SetCredentials(ctx, "annex", wire.Credentials{}), "neither a key nor a password")
	require.ErrorContains(t, b.l.Stores.SetCredentials(ctx, "annex", wire.Credentials{"pasword": "x"}), `no medium takes a secret called "pasword"`)
}

// A store that is not there any more, or that is another, is not made anew in its place.
func TestALostStore(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	held := b.shelf().Copy()
	for _, name := range b.shelf().Names("") {
		b.shelf().Poke(name, nil)
	}
	_, err := b.l.Stores.Named(ctx, "quay-shelf")
	require.ErrorContains(t, err, "it did before: is its disk mounted?")
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Empty(t, b.shelf().Names(""), "nothing is written into an empty place")
	all, err := b.l.Stores.All(ctx)
	require.NoError(t, err)
	require.Contains(t, all[0].Error, "is its disk mounted?")
	other := newBenchNamed(t, "other")
	for _, name := range other.Names("") {
		b.shelf().Poke(name, other.Peek(name))
	}
	_, err = b.l.Stores.Named(ctx, "quay-shelf")
	require.ErrorContains(t, err, "another")
	for _, name := range b.shelf().Names("") {
		b.shelf().Poke(name, nil)
	}
	for _, name := range held.Names("") {
		b.shelf().Poke(name, held.Peek(name))
	}
	require.EqualValues(t, run.Done, b.run("nightly-guests").State, "and goes on when it is back")
}

// newBenchNamed is the shelf of another lodge's store.
func newBenchNamed(t *testing.T, name string) *mediumtest.Memory {
	var out *mediumtest.Memory
	t.Run(name, func(t *testing.T) { out = newBench(t, nil).shelf() })
	return out
}

// An image is likely to add what the largest of the last few did, and a quarter more; room is promised once.
func TestEstimates(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 30")})
	m := records.Image{MachineID: "u-tickets", Policy: "nightly-guests", Store: "quay-shelf", Capture: image.Full, Scope: image.WholeMachine}
	n, from, err := b.l.Stores.Estimate(ctx, m, 7*mib)
	require.NoError(t, err)
	require.EqualValues(t, 7*mib, n)
	require.Equal(t, "7.0 MiB are to be read", from)
	b.run("nightly-guests")
	n, _, err = b.l.Stores.Estimate(ctx, m, 7*mib)
	require.NoError(t, err)
	require.EqualValues(t, 7*mib, n, "the very first is not repeated")
	b.run("nightly-guests")
	first := b.images("u-tickets")[1].Stored
	n, from, err = b.l.Stores.Estimate(ctx, m, 7*mib)
	require.NoError(t, err)
	require.Equal(t, first+first/4, n)
	require.True(t, strings.HasPrefix(from, "the largest of its last 2 images added "), from)
	for range 4 {
		b.run("nightly-guests")
	}
	n, _, err = b.l.Stores.Estimate(ctx, m, 7*mib)
	require.NoError(t, err)
	require.Zero(t, n, "the last five added nothing")
	m.Capture = image.Incremental
	n, _, err = b.l.Stores.Estimate(ctx, m, 3)
	require.NoError(t, err)
	require.EqualValues(t, 3, n)
}
