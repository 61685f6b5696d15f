package sound_test

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/export"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
	_ "keenlodge/internal/source/sound" // what is tested
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/standin"
	standsound "keenlodge/internal/standin/sound"
	"keenlodge/internal/standin/standintest"
)

func TestMain(m *testing.M) {
	standintest.Main()
	os.Exit(m.Run())
}

// exchange is an appliance, and its entry in a site file with both nodes.
type exchange struct {
	*standintest.Standin
	t    *testing.T
	spec site.Hypervisor
}

func newExchange(t *testing.T) *exchange {
	t.Helper()
	x := &exchange{Standin: standintest.Start(t, standsound.Kind, standin.Options{}), t: t}
	x.spec = x.Site
	x.spec.URI, x.spec.Twin = x.Site.URI+"/"+standsound.Nodes[0], x.Site.URI+"/"+standsound.Nodes[1]
	x.spec.Export = &export.Settings{PassphraseFile: filepath.Join(t.TempDir(), "passphrase")}
	x.phrases("tern and gull\n")
	x.is(map[string]any{"name": "sound-gateway"})
	return x
}

// fill gives it what it keeps: two parts that are mandatory, and one that is not.
func (x *exchange) fill() {
	for name, size := range map[string]int{"routing": 100_000, "extensions": 20, "history": 300_000} {
		body := make([]byte, size)
		rand.Read(body)
		require.NoError(x.t, x.Send(x.t.Context(), http.MethodPut, fmt.Sprintf("/inside/parts/%s?mandatory=%t", name, name != "history"), int64(size), bytes.NewReader(body), nil))
	}
}

// is changes what it is.
func (x *exchange) is(settings map[string]any) {
	x.t.Helper()
	x.Must(http.MethodPut, "/inside/settings", settings, nil)
}

func (x *exchange) phrases(text string) {
	require.NoError(x.t, os.WriteFile(x.spec.Export.PassphraseFile, []byte(text), 0o600))
}

func (x *exchange) dial() interface {
	source.Exporter
	source.Capturer
	source.Source
} {
	h, err := source.Dial(x.t.Context(), x.spec)
	require.NoError(x.t, err)
	x.t.Cleanup(func() { h.Close() })
	return h.(interface {
		source.Exporter
		source.Capturer
		source.Source
	})
}

func (x *exchange) request() source.Request {
	r := sourcetest.Request("sound-gateway", "")
	r.Files = &source.FilesWanted{Export: true}
	return r
}

// lies lists the exports that lie on both nodes.
func (x *exchange) lies() (out []standsound.Export) {
	for _, node := range standsound.Nodes {
		var some []standsound.Export
		x.Must(http.MethodGet, "/"+node+"/exports", nil, &some)
		out = append(out, some...)
	}
	return out
}

// content reads what a capture brings, and tells of it.
func content(k source.Capture) (told export.Told, body []byte, err error) {
	told, _ = export.Parse(k.Definition())
	archive, _, _, _ := k.(source.Archiver).Archive()
	in := files.NewReader(archive)
	for {
		s, err := in.Next()
		if err != nil || s.Last != nil {
			return told, body, err
		}
		if body, err = io.ReadAll(in); err != nil {
			return told, body, err
		}
	}
}

// capture captures it, and looks that nothing stays behind.
func (x *exchange) capture(r source.Request) (export.Told, []byte, source.Capture, error) {
	x.t.Helper()
	k, err := x.dial().Capture(x.t.Context(), r)
	if err != nil {
		require.Empty(x.t, x.lies())
		return export.Told{}, nil, nil, err
	}
	told, body, err := content(k)
	require.NoError(x.t, k.Close(x.t.Context(), err == nil, nil))
	require.Empty(x.t, x.lies())
	return told, body, k, err
}

// An appliance exports itself, by each of the ways; what comes can be opened, and taken back by one of the same build, fresh or not.
func TestExport(t *testing.T) {
	t.Parallel()
	x, spare := newExchange(t), newExchange(t)
	x.fill()
	parts, err := x.dial().Parts(t.Context(), "sound-gateway", true)
	require.NoError(t, err)
	require.Len(t, parts, 3)
	require.Equal(t, source.PartOf{Name: "history", Bytes: 300_000}, parts[1])
	for _, by := range append([]export.Way{""}, export.Ways...) {
		x.spec.Export.By = by
		r := x.request()
		r.ByHand = by == export.Read
		if by == export.BySFTP {
			r.Files.LeaveOut = []string{"history"}
		}
		told, body, k, err := x.capture(r)
		require.NoError(t, err, by)
		require.Empty(t, k.Warnings(), by)
		consistency, _ := k.Consistency()
		require.Equal(t, image.Application, consistency)
		require.Equal(t, map[bool]string{true: "hand", false: "schedule"}[r.ByHand], told.By)
		require.Len(t, told.Parts, 3-len(r.Files.LeaveOut))
		require.Equal(t, r.Files.LeaveOut, told.LeftOut)
		require.Equal(t, "7.4/118/north", told.Release+"/"+told.Build+"/"+told.Node)
		require.Len(t, body, int(told.Bytes))
		evidence, err := x.dial().OpenExport(t.Context(), told, bytes.NewReader(body))
		require.NoError(t, err, by)
		require.Contains(t, evidence[0], "each as its appliance said")

		to := spare.dial()
		require.NoError(t, to.CanTakeBack(t.Context(), "sound-gateway", told))
		fresh, mark, err := to.Holding(t.Context(), "sound-gateway")
		require.NoError(t, err)
		require.True(t, fresh)
		require.Empty(t, mark)
		require.NoError(t, to.TakeBack(t.Context(), "sound-gateway", "run-1", told, bytes.NewReader(body)))
		fresh, mark, err = to.Holding(t.Context(), "sound-gateway")
		require.NoError(t, err)
		require.False(t, fresh)
		require.Equal(t, "run-1", mark)
		found, err := to.ClearTakeBack(t.Context(), "sound-gateway", "another", true)
		require.NoError(t, err)
		require.Empty(t, found, "what another brought is not reset")
		found, err = to.ClearTakeBack(t.Context(), "sound-gateway", "run-1", true)
		require.NoError(t, err)
		require.Len(t, found, 1)
	}
}

// What an appliance refuses, lacks or says wrongly is told, and nothing stays on it.
func TestAnApplianceThatDoesNotDoIt(t *testing.T) {
	t.Parallel()
	x := newExchange(t)
	x.fill()
	for _, c := range []struct {
		name     string
		settings map[string]any
		faults   []standin.Fault
		change   func(r *source.Request)
		by       export.Way
		why      string
	}{
		{"a disk that is too small, known beforehand", map[string]any{"room": 1000}, nil, nil, "", "has room for exports of 1000 B"},
		{"a disk that fills up", map[string]any{"room": 400_100}, nil, nil, "", "the disk of this node is full"},
		{"an export that is cut on the way", map[string]any{"cut_sent": 1}, nil, nil, "", "bytes came that its export has"},
		{"one that is cut as it is pushed", map[string]any{"cut_sent": 7}, nil, nil, export.ByFTP, "bytes came that its export has"},
		{"a database that is damaged", map[string]any{"damage": "2 rows of subscribers do not match"}, nil, func(r *source.Request) { r.Quiesce = machine.Required }, "", "2 rows of subscribers"},
		{"a part that is mandatory", nil, nil, func(r *source.Request) { r.Files.LeaveOut = []string{"routing"} }, "", `"routing" is mandatory`},
		{"a part that is not there", nil, nil, func(r *source.Request) { r.Files.Parts = []string{"voices"} }, "", `no part "voices"`},
		{"another appliance of that name", nil, nil, func(r *source.Request) { r.UUID = "0123" }, "", "with ID 0123"},
		{"an answer that does nothing", nil, []standin.Fault{{Call: "export.make", Do: standin.Nothing}}, nil, "", "there is no export of mark"},
		{"a push that does nothing", nil, []standin.Fault{{Call: "export.send", Do: standin.Nothing}}, nil, export.BySFTP, "nothing came"},
		{"a task that fails", nil, []standin.Fault{{Call: "export.make work", Do: standin.Stuck}}, nil, "", "does not let it happen"},
		{"disks in place of an export", nil, nil, func(r *source.Request) { r.Files = nil }, "", "policy of scope export"},
	} {
		t.Run(c.name, func(t *testing.T) {
			usual := map[string]any{"room": 1 << 30, "cut_sent": 0, "damage": ""}
			x.is(usual)
			x.is(c.settings)
			for _, f := range c.faults {
				x.Fault(f)
			}
			x.spec.Export.By = c.by
			r := x.request()
			if c.change != nil {
				c.change(&r)
			}
			_, _, _, err := x.capture(r)
			require.ErrorContains(t, err, c.why)
			x.is(usual)
		})
	}
	x.spec.Export.By = ""
	x.is(map[string]any{"damage": "2 rows of subscribers do not match"})
	_, _, k, err := x.capture(x.request())
	require.NoError(t, err)
	consistency, _ := k.Consistency()
	require.Equal(t, image.Crash, consistency)
	require.Contains(t, k.Warnings()[0], "it was exported as it is")
}

// Only the active node is asked; where the nodes change places in the middle the capture fails, nothing stays on either, and the next one is of the other.
func TestNodesThatChangePlaces(t *testing.T) {
	t.Parallel()
	x := newExchange(t)
	x.fill()
	x.is(map[string]any{"turns": true})
	_, _, _, err := x.capture(x.request())
	require.ErrorContains(t, err, "node north is passive")
	require.ErrorIs(t, err, source.ErrBusy, "which is tried again")
	told, _, _, err := x.capture(x.request())
	require.NoError(t, err)
	require.Equal(t, "south", told.Node)

	x.is(map[string]any{"down": map[string]bool{"north": true}})
	k, err := x.dial().Capture(t.Context(), x.request())
	require.NoError(t, err)
	_, _, err = content(k)
	require.NoError(t, err)
	require.NoError(t, k.Close(t.Context(), true, nil))
	x.is(map[string]any{"down": map[string]bool{"north": true, "south": true}})
	_, err = x.dial().Capture(t.Context(), x.request())
	require.ErrorIs(t, err, source.ErrUnreachable)
}

// An export that its appliance wrote cut, a passphrase that is none, and another build: each is told before anything changes.
func TestAnExportThatCantBeTakenBack(t *testing.T) {
	t.Parallel()
	x, to := newExchange(t), newExchange(t)
	x.fill()
	good, body, _, err := x.capture(x.request())
	require.NoError(t, err)
	x.is(map[string]any{"cut": 20})
	cut, short, _, err := x.capture(x.request())
	require.NoError(t, err, "it says itself that this is all of it")
	h := to.dial()
	for _, n := range []int{20, 1000, len(short) / 2} {
		_, err = h.OpenExport(t.Context(), cut, bytes.NewReader(short[:len(short)-n]))
		require.ErrorIs(t, err, source.ErrExport)
	}
	_, err = h.OpenExport(t.Context(), good, io.MultiReader(bytes.NewReader(body[:len(body)/2]), broken{}))
	require.ErrorContains(t, err, "the store does not answer")
	cut.Bytes = int64(len(short))
	require.ErrorContains(t, h.TakeBack(t.Context(), "sound-gateway", "run-2", cut, bytes.NewReader(short)), "part")
	to.phrases("puffin\n")
	require.ErrorContains(t, h.TakeBack(t.Context(), "sound-gateway", "run-2", good, bytes.NewReader(body)), "none of the 1 passphrases of")
	_, err = h.OpenExport(t.Context(), good, bytes.NewReader(body))
	require.ErrorIs(t, err, source.ErrExport)
	to.phrases("puffin\ntern and gull\n")
	_, err = h.OpenExport(t.Context(), good, bytes.NewReader(body))
	require.NoError(t, err)
	to.is(map[string]any{"build": 119})
	require.ErrorContains(t, h.TakeBack(t.Context(), "sound-gateway", "run-2", good, bytes.NewReader(body)), "build 118, and the appliance is sound 7.4, build 119")
	fresh, _, err := h.Holding(t.Context(), "sound-gateway")
	require.NoError(t, err)
	require.True(t, fresh)
	imports, err := os.ReadDir(filepath.Join(to.Options.Folder, "imports"))
	require.NoError(t, err)
	require.Empty(t, imports)
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errors.New("the store does not answer") }

// Killed at each of its calls, before and after it is carried out, an appliance keeps nothing of a capture once that was cleared, and of its own exports all.
func TestKilledAtEachCall(t *testing.T) {
	t.Parallel()
	x := newExchange(t)
	x.fill()
	var own standsound.Export
	n, err := rest.New(x.spec)
	require.NoError(t, err)
	require.NoError(t, n.Task(t.Context(), time.Minute, http.MethodPost, "/exports/by-hand", map[string]any{"by": "hand", "passphrase": "its own"}, &own))
	for _, do := range []standin.Doing{standin.DieBefore, standin.DieAfter} {
		for died := 0; ; died++ {
			x.Fault(standin.Fault{Do: do, After: died})
			r := x.request()
			if err := x.captureWhileItLives(r); err == nil {
				require.Greater(t, died, 8)
				x.Must(http.MethodDelete, "/faults", nil, nil)
				break
			}
			require.Eventually(t, func() bool { return !x.Lives() }, 10*time.Second, time.Millisecond)
			x.Again()
			_, err = x.dial().Clear(t.Context(), "sound-gateway", r.ID, false)
			require.NoError(t, err, "%s %d", do, died)
			require.Equal(t, []standsound.Export{own}, x.lies(), "%s %d", do, died)
		}
	}
}

// captureWhileItLives makes a capture, and gives up where the appliance has ended.
func (x *exchange) captureWhileItLives(r source.Request) error {
	ctx, cancel := x.Living()
	defer cancel()
	k, err := x.dial().Capture(ctx, r)
	if err != nil {
		return err
	}
	_, _, err = content(k)
	return errors.Join(err, k.Close(ctx, err == nil, nil))
}
