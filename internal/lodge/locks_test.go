package lodge_test

import (
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/copies"
	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/mediumtest/gateway"
	"keenlodge/internal/store/medium/s3"
	"keenlodge/internal/wire"
)

// What is locked goes by nothing before its day: by no rotation, no confirmation, no retirement, no word to the store, and by no lodge that adopts it.
func TestLocks(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 1"}},
		map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Soon: true, Rotation: "newest 1", Locked: "14 days"}})
	for range 4 {
		r := b.run("nightly-guests")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
		require.EqualValues(t, run.Done, b.newest("to-north-pier").State, b.lines(b.newest("to-north-pier").ID))
	}
	require.Len(t, b.in("quay-shelf", "u-timetable"), 1, "there nothing is locked")
	found := b.in("north-pier", "u-timetable")
	require.Len(t, found, 4)
	for _, m := range found {
		require.WithinDuration(t, time.Now().Add(14*24*time.Hour), *m.Locked, time.Minute)
	}
	sets, _, err := b.l.Retention.Preview(ctx, "to-north-pier", "", "", 0)
	require.NoError(t, err)
	require.Equal(t, rotation.Held, sets[0].Images[0].Verdict)
	require.Contains(t, sets[0].Images[0].Why, "the rule lets it go, but it is locked until ")
	gone, err := b.l.Retention.Confirm(ctx, "to-north-pier", nil)
	require.NoError(t, err)
	require.Empty(t, gone)
	require.ErrorContains(t, b.rec.DropImages(ctx, []records.Drop{{ID: found[3].ID, Why: "by a thief"}}), "is locked")
	_, st, err := b.l.Stores.OfImage(ctx, found[3].ID)
	require.NoError(t, err)
	require.ErrorIs(t, st.DropImage(ctx, found[3].ID), image.ErrLocked)
	m, err := b.rec.Machine(ctx, "u-timetable")
	require.NoError(t, err)
	_, err = b.l.Retention.Retire(ctx, m, "newest 1", false)
	require.NoError(t, err)
	require.Len(t, b.in("north-pier", "u-timetable"), 4)

	// A shorter lock is one of later images, and who adopts the store heeds the old one.
	rule := b.site.Copies["to-north-pier"]
	rule.Locked = ""
	b.site.Copies = map[string]site.Copy{"to-north-pier": rule}
	b.apply()
	r, _ := b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State)
	require.Len(t, b.in("north-pier", "u-timetable"), 4)
	again := &bench{t: t, rec: recordstest.Open(t), host: b.host, log: &lockedBuffer{}, site: b.site}
	again.site.Copies, again.site.Policies = nil, nil
	again.start()
	again.apply()
	_, err = again.l.Stores.Adopt(ctx, "north-pier", true)
	require.NoError(t, err)
	adopted, err := again.rec.Image(ctx, found[3].ID)
	require.NoError(t, err)
	require.True(t, adopted.Locked.Equal(*found[3].Locked))
	require.ErrorContains(t, again.rec.DropImages(ctx, []records.Drop{{ID: found[3].ID, Why: "by another lodge"}}), "is locked")
}

// In a bucket with object lock what is locked is out of reach for a thief who has the bucket's own key: he deletes and overwrites all that he can, and
// every image is read, proven and adopted as if he had not; it is told, and undone.
func TestALockedBucket(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	g := gateway.Start(t)
	g.Bucket(t, "images")
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 1"}})
	north := site.Store{Medium: "s3", Layout: site.Pooled, Like: "quay-shelf", Sealed: true, Locked: "14 days",
		Settings: &s3.Settings{Endpoint: "http://" + g.Address, Bucket: "images", Folder: "brindle", PathStyle: true, Region: "us-east-1"}}
	access := wire.Credentials{"access_key": g.AccessKey, "secret_key": g.SecretKey}
	passphrase := "herring gulls at dawn"
	_, err := b.l.AddStore(ctx, "north-pier", wire.StoreAddition{Spec: north, Access: access, Keys: []store.NewKey{{Passphrase: passphrase}}})
	require.NoError(t, err)
	b.site, err = b.rec.Site(ctx)
	require.NoError(t, err)
	b.site.Copies = map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Soon: true, Rotation: "newest 1"}}
	b.apply()
	sweep := func() records.Run {
		r, err := b.l.Retention.Sweep(ctx, "operator", "north-pier")
		require.NoError(t, err)
		return b.await(r.ID)
	}
	for range 2 {
		require.EqualValues(t, run.Done, b.run("nightly-guests").State)
		r := b.newest("to-north-pier")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	}
	r := sweep()
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "objects that images share are locked by their place")
	found := b.in("north-pier", "u-timetable")
	require.Len(t, found, 2)

	kept := 0
	for o := range g.Client.ListObjectsIter(ctx, "images", minio.ListObjectsOptions{Recursive: true, WithVersions: true}) {
		require.NoError(t, o.Err)
		if err := g.Client.RemoveObject(ctx, "images", o.Key, minio.RemoveObjectOptions{VersionID: o.VersionID, GovernanceBypass: true}); err != nil {
			kept++
		}
	}
	for o := range g.Client.ListObjectsIter(ctx, "images", minio.ListObjectsOptions{Recursive: true}) {
		_, err := g.Client.PutObject(ctx, "images", o.Key, strings.NewReader("rubbish"), 7, minio.PutObjectOptions{})
		require.NoError(t, err)
		require.NoError(t, g.Client.RemoveObject(ctx, "images", o.Key, minio.RemoveObjectOptions{}))
	}
	require.GreaterOrEqual(t, kept, 2+2+2+1, "the manifests, some packs, the header twice, and the key")
	for o := range g.Client.ListObjectsIter(ctx, "images", minio.ListObjectsOptions{Recursive: true}) {
		require.Fail(t, "he sees an empty bucket", o.Key)
	}

	readBack := func(b *bench) {
		for _, m := range found {
			_, st, err := b.l.Stores.OfImage(ctx, m.ID)
			require.NoError(t, err)
			manifest, err := st.ReadImage(ctx, m.ID)
			require.NoError(t, err)
			_, err = st.ReadBack(ctx, manifest, func(int64) {})
			require.NoError(t, err)
		}
	}
	readBack(b)
	again := &bench{t: t, rec: recordstest.Open(t), host: b.host, log: &lockedBuffer{}, site: b.site}
	again.site.Copies, again.site.Policies, again.site.Stores = nil, nil, map[string]site.Store{"quay-shelf": b.site.Stores["quay-shelf"]}
	again.start()
	again.apply()
	_, err = again.l.AddStore(ctx, "north-pier", wire.StoreAddition{Spec: north, Access: access, Opener: chunk.Opener{Passphrase: passphrase}})
	require.ErrorContains(t, err, "leave that out to take the store as it is")
	north.Like = ""
	_, err = again.l.AddStore(ctx, "north-pier", wire.StoreAddition{Spec: north, Access: access, Opener: chunk.Opener{Passphrase: passphrase}})
	require.NoError(t, err)
	_, err = again.l.Stores.Adopt(ctx, "north-pier", false)
	require.NoError(t, err)
	readBack(again)

	r = sweep()
	require.EqualValues(t, run.Warned, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "somebody deleted or overwrote")
	seen := 0
	for o := range g.Client.ListObjectsIter(ctx, "images", minio.ListObjectsOptions{Recursive: true}) {
		require.NoError(t, o.Err)
		require.NotEqualValues(t, 7, o.Size)
		seen++
	}
	require.GreaterOrEqual(t, seen, kept, "other programs see the store again")
	require.EqualValues(t, run.Done, sweep().State, "it is told once")
}
