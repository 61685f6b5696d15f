package hooks

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/runs"
	"keenlodge/internal/vault"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// bench has hooks whose queue is served, a run to call them for, and a webhook that answers what answer says.
type bench struct {
	*testing.T
	hk     *Hooks
	rec    *records.Records
	site   site.Site
	answer atomic.Int32
	heard  chan string
}

func newBench(t *testing.T, hooks ...site.Hook) *bench {
	b := &bench{T: t, rec: recordstest.Open(t), heard: make(chan string, 16)}
	b.answer.Store(http.StatusNoContent)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		b.heard <- string(body)
		w.WriteHeader(int(b.answer.Load()))
	}))
	t.Cleanup(server.Close)
	b.site = site.Site{Zone: "Europe/Lisbon", Webhooks: map[string]site.Webhook{"duty-desk": {URL: server.URL}}, Policies: map[string]site.Policy{"nightly-guests": {Hooks: hooks}}}
	require.NoError(t, b.rec.SaveSite(t.Context(), b.site, func(site.Policy) time.Time { return time.Time{} }, nil))
	v, err := vault.Open(b.rec, filepath.Join(t.TempDir(), "lodge-key"))
	require.NoError(t, err)
	engine, err := runs.New(b.rec, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	b.hk = New(b.rec, v, engine)
	ctx, cancel := context.WithCancel(context.Background())
	ready, done := make(chan struct{}), make(chan error, 1)
	go func() { done <- engine.Serve(ctx, func() { close(ready) }) }()
	<-ready
	t.Cleanup(func() { cancel(); require.NoError(t, <-done) })
	require.NoError(t, b.rec.QueueRun(t.Context(), records.Run{ID: "first000", Kind: run.Sweep, Cause: run.Hand}))
	return b
}

func (b *bench) script(body string) string {
	file := filepath.Join(b.TempDir(), "hook")
	require.NoError(b, os.WriteFile(file, []byte("#!/bin/sh\n"+body), 0o700))
	return file
}

// lines is the run's log, each line with its kind.
func (b *bench) lines() string { return recordstest.RunLog(b, b.rec, "first000") }

func (b *bench) until(text string) {
	b.Helper()
	require.Eventually(b, func() bool { return strings.Contains(b.lines(), text) }, 20*time.Second, 30*time.Millisecond, "%s", text)
}

// A script sees what it is called for; what it says is in the run's log; whether its failure is one is its hook's to say.
func TestScripts(t *testing.T) {
	b := newBench(t)
	b.site.Policies["nightly-guests"] = site.Policy{Hooks: []site.Hook{
		{At: []site.Moment{site.Begun}, Script: b.script(`echo "$KEENLODGE_RUN $KEENLODGE_CAUSE $KEENLODGE_MACHINE $KEENLODGE_STATE $KEENLODGE_ERROR"; echo; echo two`)},
		{At: []site.Moment{site.Done, site.Begun}, Script: b.script("exit 3")},
	}}
	e := Event{Moment: site.Begun, Policy: "nightly-guests", Run: "first000", Cause: run.Hand, Machine: "timetable", State: run.Failed, Error: "a\x00b"}
	warnings, err := b.hk.Call(t.Context(), b.site, e)
	require.NoError(t, err)
	require.Len(t, warnings, 1)
	require.Contains(t, warnings[0], "hook at begun: ")
	log := b.lines()
	require.Contains(t, log, "note timetable: hook at begun: first000 hand timetable failed a?b\nnote timetable: hook at begun: two\n")
	require.Equal(t, 1, strings.Count(log, "ended well"), log)

	e.Moment = site.Frozen
	warnings, err = b.hk.Call(t.Context(), b.site, e)
	require.NoError(t, err)
	require.Empty(t, warnings, "not its moment")
	b.site.Policies["nightly-guests"].Hooks[1].Else = "fail"
	e.Moment = site.Done
	_, err = b.hk.Call(t.Context(), b.site, e)
	require.ErrorContains(t, err, "hook at done: ")
}

// A webhook hears of its moments beside the run; what it will not take is not sent again, what it can't take now is.
func TestWebhooks(t *testing.T) {
	ctx := t.Context()
	b := newBench(t, site.Hook{At: []site.Moment{site.Done}, Webhook: "duty-desk"})
	require.NoError(t, b.hk.MakeKeys(ctx, b.site))
	e := Event{Moment: site.Done, Policy: "nightly-guests", Run: "first000", Cause: run.Hand, State: run.Warned}
	call := func() {
		t.Helper()
		warnings, err := b.hk.Call(ctx, b.site, e)
		require.NoError(t, err)
		require.Empty(t, warnings)
	}
	call()
	heard := <-b.heard
	for _, want := range []string{`"type":"keenlodge.run.done"`, `"source":"/policies/nightly-guests"`, `"subject":"first000"`, `"id":"first000-done"`, `"state":"warned"`} {
		require.Contains(t, heard, want)
	}
	b.until("note : webhook duty-desk was told of keenlodge.run.done")
	b.answer.Store(http.StatusGone)
	e.Machine = "timetable"
	call()
	heard = <-b.heard
	require.Contains(t, heard, `"subject":"timetable"`)
	require.Contains(t, heard, `"id":"first000-timetable-done"`)
	b.until("it is not tried again")
	b.answer.Store(http.StatusServiceUnavailable)
	call()
	b.until("(try 1 of 9)")
	b.answer.Store(http.StatusNoContent)
	<-b.heard
	require.Contains(t, <-b.heard, "first000-timetable-done", "the second try")
	require.Eventually(t, func() bool { return strings.Count(b.lines(), "was told of") == 2 }, 20*time.Second, 30*time.Millisecond)

	b.site.Policies["nightly-guests"].Hooks[0].Webhook = "night-desk"
	call()
	b.until(`no webhook is called "night-desk"`)
}

// A key is made once by itself and anew when asked; a trial says how it went.
func TestKeysAndTrials(t *testing.T) {
	ctx := t.Context()
	b := newBench(t)
	err := b.hk.Try(ctx, "duty-desk")
	require.ErrorContains(t, err, "make one: keenlodge webhook key duty-desk")
	require.ErrorIs(t, err, fault.ErrNotFound)
	require.NoError(t, b.hk.MakeKeys(ctx, b.site))
	var key, same []byte
	ok, err := b.hk.vault.Get(ctx, webhookKey("duty-desk"), &key)
	require.NoError(t, err)
	require.True(t, ok)
	require.Len(t, key, 32)
	require.NoError(t, b.hk.MakeKeys(ctx, b.site))
	_, err = b.hk.vault.Get(ctx, webhookKey("duty-desk"), &same)
	require.NoError(t, err)
	require.Equal(t, key, same)
	told, err := b.hk.NewKey(ctx, "duty-desk")
	require.NoError(t, err)
	require.Len(t, told, 44)
	_, err = b.hk.vault.Get(ctx, webhookKey("duty-desk"), &same)
	require.NoError(t, err)
	require.NotEqual(t, key, same)
	require.NoError(t, b.hk.Try(ctx, "duty-desk"))
	require.Contains(t, <-b.heard, `"type":"keenlodge.test"`)
	b.answer.Store(http.StatusTeapot)
	require.ErrorIs(t, b.hk.Try(ctx, "duty-desk"), fault.ErrConflict)
	for _, err := range []error{b.hk.Try(ctx, "duty-deks"), func() error { _, err := b.hk.NewKey(ctx, "duty-deks"); return err }()} {
		require.ErrorIs(t, err, fault.ErrNotFound)
		require.ErrorContains(t, err, `did you mean "duty-desk"?`)
	}
}

// A webhook hears of what it asks for wherever it happens, in the transaction in which it happened, and of nothing else.
func TestEventsAnywhere(t *testing.T) {
	ctx := t.Context()
	b := newBench(t)
	require.NoError(t, b.hk.MakeKeys(ctx, b.site))
	quay := records.Machine{Name: "timetable", UUID: "0b", State: machine.Running, Tags: map[string]string{}, Disks: []records.MachineDisk{}}
	hear := func() (heard struct {
		ID, Type, Subject string
		Data              event.Event
	}) {
		t.Helper()
		select {
		case text := <-b.heard:
			require.NoError(t, json.Unmarshal([]byte(text), &heard))
		case <-time.After(20 * time.Second):
			require.Fail(t, "the webhook hears of nothing", b.lines())
		}
		return heard
	}
	_, _, err := b.rec.SaveMachines(ctx, "quay-1", []records.Machine{quay}) // nobody has asked yet
	require.NoError(t, err)
	waiting := func() (n int) {
		require.NoError(t, b.rec.Pool().QueryRow(ctx, "select count(*) from river_job where kind in ('event', 'delivery') and state <> 'completed'").Scan(&n))
		return n
	}
	require.Eventually(t, func() bool { return waiting() == 0 }, 20*time.Second, 30*time.Millisecond)
	b.site.Hypervisors = map[string]site.Hypervisor{"quay-1": {}}
	b.site.Webhooks["duty-desk"] = site.Webhook{URL: b.site.Webhooks["duty-desk"].URL, Events: []event.Name{event.ImageDoubtful, event.ImageBroken, event.RunFailed, event.MachinesFound}}
	require.NoError(t, b.rec.SaveSite(ctx, b.site, func(site.Policy) time.Time { return time.Time{} }, nil))

	crew := quay
	crew.Name, crew.UUID = "crew-rota", "0c"
	_, _, err = b.rec.SaveMachines(ctx, "quay-1", []records.Machine{quay, crew})
	require.NoError(t, err)
	heard := hear()
	require.Equal(t, "keenlodge.machines-found", heard.Type)
	require.Equal(t, event.Event{Name: event.MachinesFound, Source: "quay-1", Machine: "crew-rota", Text: "new on quay-1: crew-rota"}, heard.Data)

	m := records.Image{ID: "first-image", Machine: "timetable", Policy: "nightly-guests", Store: "quay-shelf", Run: "first000", Taken: time.Now(), State: image.Usable, Scope: image.WholeMachine, Capture: image.Full, Disks: []records.ImageDisk{}}
	require.NoError(t, b.rec.AddImage(ctx, m))
	require.NoError(t, b.rec.FinishImage(ctx, m))
	recordstest.Break(t, b.rec, m.ID)
	_, err = b.rec.Damaged(ctx, m.ID, "again000")
	require.NoError(t, err, "it is broken already")
	told := map[string]string{} // in any order
	for range 2 {
		heard = hear()
		require.Equal(t, "first-image", heard.Subject)
		told[heard.Type] = heard.Data.Text
	}
	require.Contains(t, told["keenlodge.image-doubtful"], "first-image of timetable in store quay-shelf is doubtful")
	require.Contains(t, told["keenlodge.image-broken"], "first-image of timetable in store quay-shelf is broken")
	first := heard.ID

	require.NoError(t, b.rec.EndRun(ctx, "first000", run.Failed, "the barn is on fire"))
	require.NoError(t, b.rec.EndRun(ctx, "first000", run.Failed, "it has ended already"))
	heard = hear()
	require.Equal(t, "sweep first000 ended: failed: the barn is on fire", heard.Data.Text)
	require.NotEqual(t, first, heard.ID)
	b.until("note : webhook duty-desk was told of keenlodge.run-failed")
	require.Eventually(t, func() bool { return waiting() == 0 }, 20*time.Second, 30*time.Millisecond)
	require.Empty(t, b.heard)
}
