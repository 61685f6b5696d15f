package trail

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store/medium/dir"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// desk is a trail in a database that a test can get at past the lodge.
type desk struct {
	t        *testing.T
	rec      *records.Records
	database string
}

func open(t *testing.T) *desk {
	database := recordstest.URL(t)
	rec, err := records.Open(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(rec.Close)
	return &desk{t, rec, database}
}

func (d *desk) trail() *Trail { return New(d.rec, slog.New(slog.DiscardHandler)) }

// past does something to the database past the lodge.
func (d *desk) past(sql string) {
	d.t.Helper()
	conn, err := pgx.Connect(d.t.Context(), d.database)
	require.NoError(d.t, err)
	defer conn.Close(d.t.Context())
	_, err = conn.Exec(d.t.Context(), sql)
	require.NoError(d.t, err)
}

func (d *desk) found(kept ...deed.Kept) []string {
	d.t.Helper()
	var v deed.Verifier
	_, err := d.trail().Verify(d.t.Context(), &v)
	require.NoError(d.t, err)
	for _, k := range kept {
		v.Kept(k)
	}
	return v.Found()
}

func (d *desk) list() []records.Deed {
	d.t.Helper()
	deeds, _, err := d.rec.DeedPage(d.t.Context(), records.DeedFilter{})
	require.NoError(d.t, err)
	return deeds
}

func did(what string) Deed {
	return Deed{Who: "operator", Address: "127.0.0.1", Verb: "run-policy", Target: what, Reason: "the pier is closed"}
}

// A deed is in the trail before it is done, and has its end afterwards; whatever callers say of themselves, the digests hold.
func TestDeeds(t *testing.T) {
	d, ctx := open(t), t.Context()
	tr := d.trail()
	begun, err := tr.Begin(ctx, did("/a"))
	require.NoError(t, err)
	require.Equal(t, deed.Begun, d.list()[0].Result)
	ended, cancel := context.WithCancel(ctx)
	cancel()
	begun.End(ended, deed.Failed, "it broke")
	odd := did("/odd \x00\xff\u0007" + strings.Repeat("é", 5000))
	odd.Result = deed.Refused
	tr.Note(ctx, odd)
	left, err := tr.Begin(ctx, did("/left"))
	require.NoError(t, err)
	require.NotNil(t, left)
	list := d.list()
	require.Len(t, list, 3)
	past, _, err := d.rec.DeedPage(ctx, records.DeedFilter{Until: list[0].At})
	require.NoError(t, err)
	require.Len(t, past, 2)
	since, _, err := d.rec.DeedPage(ctx, records.DeedFilter{Since: list[0].At})
	require.NoError(t, err)
	require.Len(t, since, 1)
	require.Equal(t, "/left", list[0].Target)
	require.Equal(t, deed.Begun, list[0].Result, "its process may have died")
	require.Equal(t, deed.Refused, list[1].Result)
	require.Equal(t, records.Deed{ID: list[2].ID, At: list[2].At, Who: "operator", Address: "127.0.0.1", Verb: "run-policy", Target: "/a", Reason: "the pier is closed", Result: deed.Failed, Why: "it broke"}, list[2])
	require.Empty(t, d.found())
	for result, want := range map[string]int{"begun": 1, "refused": 1, "failed": 1, "done": 0} {
		some, _, err := d.rec.DeedPage(ctx, records.DeedFilter{Result: result})
		require.NoError(t, err)
		require.Len(t, some, want, result)
	}
}

// Many at once, in two processes, make two chains without a gap; what is woven of them is found again, in the records and in a store.
func TestChains(t *testing.T) {
	d, ctx := open(t), t.Context()
	processes := []*Trail{d.trail(), d.trail()}
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			begun, err := processes[i%2].Begin(ctx, did(fmt.Sprint("/", i)))
			if err != nil {
				t.Error(err)
				return
			}
			begun.End(ctx, deed.Done, "")
		})
		if i%50 == 0 {
			_, _, err := processes[0].Weave(ctx)
			require.NoError(t, err)
		}
	}
	all.Wait()
	w, digest, err := processes[1].Weave(ctx)
	require.NoError(t, err)
	same, _, err := processes[0].Weave(ctx)
	require.NoError(t, err)
	require.Equal(t, w.N, same.N, "where nothing happened nothing is woven")
	m, err := dir.Open(t.TempDir())
	require.NoError(t, err)
	for range 2 {
		require.NoError(t, Keep(ctx, m, "a-lodge", w, digest))
	}
	kept, found, err := Kept(ctx, m, "a-lodge", "store quay-shelf")
	require.NoError(t, err)
	require.Empty(t, found)
	require.Len(t, kept, 1)
	require.Empty(t, d.found(kept...))
	var v deed.Verifier
	_, err = processes[0].Verify(ctx, &v)
	require.NoError(t, err)
	require.EqualValues(t, 400, v.Lines)
	require.EqualValues(t, 2, v.Chains)

	// The next day's is kept beside it, a later one of the same day in its place.
	processes[0].Note(ctx, Deed{Verb: "x", Result: deed.Done})
	next, nextDigest, err := processes[0].Weave(ctx)
	require.NoError(t, err)
	require.Equal(t, w.N+1, next.N)
	require.NoError(t, Keep(ctx, m, "a-lodge", next, nextDigest))
	kept, _, err = Kept(ctx, m, "a-lodge", "store quay-shelf")
	require.NoError(t, err)
	require.Len(t, kept, 1)
	require.Equal(t, next.N, kept[0].N)
	require.NoError(t, m.Put(ctx, "trail/a-lodge/2026-03-02/00000000000000000009", []byte("{")))
	_, found, err = Kept(ctx, m, "a-lodge", "store quay-shelf")
	require.NoError(t, err)
	require.Len(t, found, 1)

	// Yesterday's database is put back: the store knows better.
	before := "alter table weaves disable trigger all; alter table trail disable trigger all; "
	d.past(before + fmt.Sprintf("delete from weaves where n = %d; delete from trail where verb = 'x'", next.N))
	require.Empty(t, d.found(), "by itself it is whole")
	require.Contains(t, d.found(kept...)[0], "the records end at weave")
	processes[1].Note(ctx, Deed{Verb: "y", Result: deed.Done})
	_, _, err = processes[1].Weave(ctx)
	require.NoError(t, err)
	require.Contains(t, d.found(kept...)[0], "knows another weave")
}

// The records refuse to change a line; who does it past that leaves a trace.
func TestWhoeverGetsPastTheLodge(t *testing.T) {
	d, ctx := open(t), t.Context()
	tr := d.trail()
	for i := range 5 {
		tr.Note(ctx, Deed{Who: "thief", Verb: "drop", Target: fmt.Sprint("/", i), Result: deed.Done})
	}
	_, _, err := tr.Weave(ctx)
	require.NoError(t, err)
	for _, sql := range []string{"update trail set who = 'nobody'", "delete from trail", "truncate trail", "update weaves set n = 2", "delete from weaves"} {
		_, err := d.rec.Pool().Exec(ctx, sql)
		require.ErrorContains(t, err, "only added to", sql)
	}
	require.Empty(t, d.found())
	d.past("alter table trail disable trigger all; update trail set who = 'nobody' where target = '/3'")
	require.Len(t, d.found(), 1)
	d.past("update trail set who = 'thief' where target = '/3'; delete from trail where target = '/4'")
	require.Contains(t, d.found()[0], "it had 5 lines")
}

// A trail that can't be written, as on a full disk, lets nothing be done; what was recorded after all, too late, is marked as not done.
func TestATrailThatCantBeWritten(t *testing.T) {
	d, ctx := open(t), t.Context()
	tr := d.trail()
	_, err := tr.Begin(ctx, did("/first"))
	require.NoError(t, err)
	d.past("create function disk_is_full() returns trigger language plpgsql as $$ begin raise exception using errcode = 'disk_full', message = 'no space left on device'; end $$; create trigger disk_is_full before insert on trail execute function disk_is_full()")
	_, err = tr.Begin(ctx, did("/full"))
	require.ErrorIs(t, err, fault.ErrUnavailable)
	require.ErrorContains(t, err, "nothing was done")
	d.past("drop trigger disk_is_full on trail")
	_, err = tr.Begin(ctx, did("/second"))
	require.NoError(t, err)
	require.Len(t, d.list(), 2)
	require.Empty(t, d.found())

	// The answer to a commit is lost: the lines are there.
	line := did("/late")
	line.Result, line.Chain, line.Seq, line.Prev = deed.Begun, tr.chain, tr.head.Seq+1, tr.head.Digest
	require.NoError(t, d.rec.Append(ctx, func(now time.Time) []deed.Line { line.At = now; return []deed.Line{line} }))
	tr.lost = []deed.Line{line}
	_, err = tr.Begin(ctx, did("/third"))
	require.NoError(t, err)
	list := d.list()
	require.Equal(t, "/late", list[1].Target)
	require.Equal(t, deed.Refused, list[1].Result)
	require.Empty(t, d.found())

	// It comes to be only after the next line was begun: that one goes into a chain of its own.
	line.Seq, line.Prev = tr.head.Seq+1, tr.head.Digest
	require.NoError(t, d.rec.Append(ctx, func(now time.Time) []deed.Line { line.At = now; return []deed.Line{line} }))
	was := tr.chain
	_, err = tr.Begin(ctx, did("/fourth"))
	require.NoError(t, err)
	require.NotEqual(t, was, tr.chain)
	require.Empty(t, d.found())
}
