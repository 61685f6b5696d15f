package lodge_test

import (
	"bytes"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/copies"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/proof"
	"keenlodge/internal/standin"
	"keenlodge/internal/standin/sound"
	"keenlodge/internal/standin/standintest"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/wire"
)

// appliance starts an appliance of a name, and returns its entry in a site file.
func appliance(t *testing.T, name, passphrases string) (*standintest.Standin, site.Hypervisor) {
	t.Helper()
	s := standintest.Start(t, sound.Kind, standin.Options{})
	s.Must(http.MethodPut, "/inside/settings", map[string]any{"name": name}, nil)
	spec := s.Site
	spec.Twin, spec.URI = spec.URI+"/"+sound.Nodes[1], spec.URI+"/"+sound.Nodes[0]
	spec.Export = &export.Settings{PassphraseFile: filepath.Join(t.TempDir(), "passphrase"), By: export.ByHTTPS, Spare: "spare"}
	require.NoError(t, os.WriteFile(spec.Export.PassphraseFile, []byte(passphrases), 0o600))
	return s, spec
}

func keep(t *testing.T, s *standintest.Standin, part, content string) {
	t.Helper()
	require.NoError(t, s.Send(t.Context(), http.MethodPut, "/inside/parts/"+part+"?mandatory=true", int64(len(content)), bytes.NewReader([]byte(content)), nil))
}

// kept are the digests of an appliance's parts, and by what mark it took back what it has.
func kept(t *testing.T, s *standintest.Standin) (parts []sound.Part, imported string) {
	t.Helper()
	var about struct{ Imported string }
	var is struct{ Active string }
	s.Must(http.MethodPut, "/inside/settings", struct{}{}, &is)
	s.Must(http.MethodGet, "/"+is.Active+"/parts", nil, &parts)
	s.Must(http.MethodGet, "/north/about", nil, &about)
	return parts, about.Imported
}

// An appliance's export is an image as any other: it is proven by reading, by opening it and on a fresh appliance, rotated, and taken back by its
// appliance once its name was typed, and by none of another build.
func TestExports(t *testing.T) {
	t.Parallel()
	exchange, spec := appliance(t, "sound-gateway", "tern\n")
	spare, other := appliance(t, "sound-spare", "tern\n")
	keep(t, exchange, "routing", "0>trunk-1")
	b := newBenchWith(t, map[string]site.Policy{"nightly-exchange": {Machines: []string{"sound-gateway"}, Scope: image.Exported, Store: "quay-shelf", Rotation: "newest 2", Prove: image.ByMount, Retries: 1, RetryWait: "1 second"}},
		func(s *site.Site) { s.Hypervisors["exchange"], s.Hypervisors["spare"] = spec, other })
	for n := range 3 {
		if n == 1 { // its nodes change places in the middle, and it is tried again
			exchange.Must(http.MethodPut, "/inside/settings", map[string]any{"turns": true}, nil)
		}
		r := b.run("nightly-exchange")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	}
	machines, err := b.l.Inventory.Resolve(t.Context(), "sound-gateway")
	require.NoError(t, err)
	images := b.images(machines.ID)
	require.Len(t, images, 2, "the newest 2 stay")
	m := images[0]
	require.Equal(t, []any{image.Exported, image.Application, image.ByMount}, []any{m.Scope, m.Consistency, m.Proven})
	require.Equal(t, "routing", m.Files.Parts[0].Name)
	prove := func(level image.Level, want run.State) string {
		t.Helper()
		q, err := b.l.Proofs.Start(t.Context(), "operator", proof.Request{Image: m.ID, Level: level})
		require.NoError(t, err)
		require.EqualValues(t, want, b.await(q.ID).State, b.lines(q.ID))
		return b.lines(q.ID)
	}
	prove(image.ByRead, run.Done)
	require.Contains(t, prove(image.ByRestore, run.Done), "took it back: 1 part, each as it was exported")
	parts, imported := kept(t, spare)
	require.Empty(t, parts)
	require.Empty(t, imported)

	// It is copied as any other, and its copy is opened as it is.
	b.site.Stores["north-pier"] = site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + "-far"}}
	b.site.Copies = map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"sound-gateway"}, Rotation: "newest 2"}}
	b.apply()
	r, _ := b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	copied := b.in("north-pier", machines.ID)
	require.Equal(t, m.ID, copied[0].CopyOf)
	m, original := copied[0], m
	require.Contains(t, prove(image.ByMount, run.Done), "each as its appliance said")
	m = original
	b.site.Stores["plain-shelf"] = site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: t.TempDir()}}
	b.site.Policies["weekly-exchange"] = site.Policy{Machines: []string{"sound-gateway"}, Scope: image.Exported, Store: "plain-shelf", Rotation: "newest 2", Prove: image.ByMount}
	b.apply()
	r = b.run("weekly-exchange")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))

	// A spare that holds what is nobody's of ours is never touched; one of another build takes nothing.
	keep(t, spare, "routing", "somebody's")
	require.Contains(t, prove(image.ByRestore, run.Failed), "is not fresh")
	parts, _ = kept(t, spare)
	require.Len(t, parts, 1)
	_, err = b.l.Exports.Start(t.Context(), "operator", m.ID, "sound-spare", "")
	require.ErrorContains(t, err, "confirm that by its name")
	spare.Must(http.MethodPut, "/inside/settings", map[string]any{"build": 119}, nil)
	_, err = b.l.Exports.Start(t.Context(), "operator", m.ID, "sound-spare", "sound-spare")
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, "build 118, and the appliance is sound 7.4, build 119")

	want, _ := kept(t, exchange)
	keep(t, exchange, "routing", "0>nowhere")
	p, err := b.l.Exports.Preview(t.Context(), m.ID, "")
	require.NoError(t, err)
	require.False(t, p.Fresh)
	require.Equal(t, []wire.ExportPart{{Name: "routing", Mandatory: true, Bytes: 9, SHA256: want[0].SHA256}}, p.Parts)
	q, err := b.l.Exports.Start(t.Context(), "operator", m.ID, "", "sound-gateway")
	require.NoError(t, err)
	require.EqualValues(t, run.Done, b.await(q.ID).State, b.lines(q.ID))
	parts, imported = kept(t, exchange)
	require.Equal(t, want, parts)
	require.Equal(t, "keenlodge-"+q.ID, imported)

	// A passphrase that is known no more fails the proof, and says what to do; the image stays what it is.
	require.NoError(t, os.WriteFile(spec.Export.PassphraseFile, []byte("gull\n"), 0o600))
	require.Contains(t, prove(image.ByMount, run.Failed), "none of the 1 passphrases of")
	require.Equal(t, image.Usable, b.images(machines.ID)[0].State)
}
