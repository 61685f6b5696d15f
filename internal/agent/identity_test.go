package agent

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/api"
	"keenlodge/internal/client"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/lodge"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/pinned"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/wire"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == WatchCommand { // the agent runs its own program as a freeze's watchdog
		if err := WatchFreeze(os.Stdin, os.Stdout); err != nil {
			os.Exit(1)
		}
		return
	}
	if len(os.Args) == 4 && os.Args[1] == underTest {
		fmt.Fprintln(os.Stderr, agentUnderTest(os.Args[2], os.Args[3]))
		os.Exit(1)
	}
	if err := agenttest.Alone(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	recordstest.Main(m)
}

// house is a lodge that speaks TLS by its own authority.
type house struct {
	t   *testing.T
	l   *lodge.Lodge
	rec *records.Records
	url string
	// another makes another process of the lodge, whose vault is opened by a file of a name.
	another func(keyFile string) *lodge.Lodge
}

func newHouse(t *testing.T) *house {
	processes := recordstest.OpenAll(t, 2)
	rec, state, never := processes[0], t.TempDir(), make(chan struct{})
	l, _ := lodgetest.ServeUntilKilled(t, rec, io.Discard, state, never)
	l.Lines.Patience = 2 * time.Second
	pool, err := l.Authority.Pool(t.Context())
	require.NoError(t, err)
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{MinVersion: tls.VersionTLS13, ClientAuth: tls.RequestClientCert, ClientCAs: pool,
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) { return l.Authority.Server(hello.Context()) }})
	require.NoError(t, err)
	server := &http.Server{Handler: api.New(l, slog.New(slog.DiscardHandler), http.NotFoundHandler()), ErrorLog: slog.NewLogLogger(slog.DiscardHandler, 0)}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	another := func(keyFile string) *lodge.Lodge {
		other, err := lodge.New(lodge.Config{Records: processes[1], State: t.TempDir(), KeyFile: filepath.Join(state, keyFile), Log: recordstest.Quiet(t)})
		require.NoError(t, err)
		other.Lines.Patience = 0
		return other
	}
	return &house{t, l, rec, "https://" + listener.Addr().String(), another}
}

func (h *house) fingerprint() string {
	s, err := h.l.Authority.State(h.t.Context())
	require.NoError(h.t, err)
	return s.Fingerprint
}

func (h *house) admit(name string) string {
	word, until, err := h.l.Enroll(h.t.Context(), "first", name, "servers")
	require.NoError(h.t, err)
	require.True(h.t, until.After(time.Now()))
	return word
}

func refused(t *testing.T, err error) {
	t.Helper()
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, 401, p.Status)
}

// A server joins with its word, once, and only the lodge that it was told of; what was cut off is made again.
func TestJoin(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	word, folder := h.admit("gate-07"), t.TempDir()
	_, err := Join(ctx, folder, h.url, "no fingerprint", "gate-07", word)
	require.ErrorContains(t, err, "is no fingerprint")
	other := newHouse(t).fingerprint()
	_, err = Join(ctx, folder, h.url, other, "gate-07", word)
	require.ErrorAs(t, err, new(*pinned.Unknown), "somebody else's lodge is told no word")
	_, err = Join(ctx, folder, h.url, h.fingerprint(), "gate-07", "guessed")
	refused(t, err)
	_, err = Join(ctx, folder, h.url, h.fingerprint(), "gate-08", word)
	refused(t, err)
	id, err := Join(ctx, folder, h.url, h.fingerprint(), "gate-07", word)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(24*time.Hour), id.Ends(), time.Minute)
	info, err := os.Stat(fileIn(folder))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	_, err = Join(ctx, t.TempDir(), h.url, h.fingerprint(), "gate-07", word)
	refused(t, err)
	_, err = Join(ctx, folder, h.url, h.fingerprint(), "gate-07", word)
	require.ErrorContains(t, err, "is agent gate-07 of")

	// The answer did not arrive: the word is used up, and the key is known.
	cut := id.kept
	cut.Certificate = ""
	require.NoError(t, id.save(cut))
	id, err = Join(ctx, folder, h.url, h.fingerprint(), "gate-07", word)
	require.NoError(t, err)
	same, err := Open(folder)
	require.NoError(t, err)
	require.Equal(t, id.kept, same.kept)
	deeds, _, err := h.rec.DeedPage(ctx, records.DeedFilter{Who: "agent gate-07"})
	require.NoError(t, err)
	require.Len(t, deeds, 2, "it joined and was certified anew; what strangers tried is counted elsewhere")

	_, err = Open(t.TempDir())
	require.ErrorContains(t, err, "keenlodge agent join")
	require.NoError(t, os.WriteFile(fileIn(folder), []byte(`{"key": "torn`), 0o600))
	_, err = Open(folder)
	require.ErrorContains(t, err, fileIn(folder))
}

// The agent renews its certificate with a key of its own choice, and follows when the authority is renewed, whatever became of its key. What a
// thief makes with a stolen authority opens nothing, and a revoked agent is refused at once.
func TestRenewal(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	folder := t.TempDir()
	id, err := Join(ctx, folder, h.url, h.fingerprint(), "gate-07", h.admit("gate-07"))
	require.NoError(t, err)
	known := func(c *tls.Certificate) error { _, err := h.l.Agents.Check(ctx, c.Leaf); return err }
	require.NoError(t, known(id.cert))
	first := id.cert
	for range 3 {
		before := id.cert
		require.NoError(t, id.Renew(ctx))
		require.NotEqual(t, pinned.Fingerprint(before.Leaf), pinned.Fingerprint(id.cert.Leaf))
		require.NoError(t, known(id.cert))
	}
	require.ErrorIs(t, known(first), fault.ErrNotFound, "an old key is of no use once a newer one was shown")
	for range 2 {
		_, err = h.l.Authority.Renew(ctx, "")
		require.NoError(t, err)
		require.NoError(t, id.Renew(ctx))
		require.Equal(t, h.fingerprint(), id.kept.Pins[0])
	}
	_, thief, err := newKey()
	require.NoError(t, err)
	stolen, err := selfSigned(thief)
	require.NoError(t, err)
	k, err := id.client(stolen)
	require.NoError(t, err)
	request, err := requestFor(thief, "gate-07")
	require.NoError(t, err)
	_, err = k.RenewAgent(ctx, wireRequest(request))
	refused(t, err)
	for _, bad := range []string{"", "no PEM", request[:len(request)/2]} {
		k, err = id.client(id.cert)
		require.NoError(t, err)
		_, err = k.RenewAgent(ctx, wireRequest(bad))
		var p *client.Problem
		require.ErrorAs(t, err, &p)
		require.Equal(t, 422, p.Status, p)
	}

	due := id.kept
	due.Ends = time.Now().Add(time.Hour)
	require.NoError(t, id.save(due))
	require.NoError(t, h.l.Agents.Revoke(ctx, "gate-07"))
	require.ErrorIs(t, known(id.cert), fault.ErrNotFound)
	require.ErrorContains(t, id.Keep(ctx, slog.New(slog.DiscardHandler)), "it was revoked, or away for too long")
	require.ErrorIs(t, h.l.Agents.Revoke(ctx, "gate-07"), fault.ErrConflict)
	require.ErrorIs(t, h.l.Agents.Revoke(ctx, "gate-70"), fault.ErrNotFound)
	body, err := os.ReadFile(filepath.Join(folder, "identity.json"))
	require.NoError(t, err)
	require.True(t, json.Valid(body), "what is refused loses nothing")
	again, err := Join(ctx, t.TempDir(), h.url, h.fingerprint(), "gate-07", h.admit("gate-07"))
	require.NoError(t, err, "it is admitted again")
	require.NoError(t, known(again.cert))
}

func wireRequest(text string) wire.CertificateRequest { return wire.CertificateRequest{Request: text} }
