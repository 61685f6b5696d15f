package authority

import (
	"context"
	"crypto/tls"
	"encoding/pem"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/pinned"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/vault"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// house is a lodge of several processes.
type house struct {
	t    *testing.T
	rec  *records.Records
	file string
}

func newHouse(t *testing.T) *house {
	return &house{t, recordstest.Open(t), filepath.Join(t.TempDir(), "lodge-key")}
}

func (h *house) process(names ...string) *Authority {
	v, err := vault.Open(h.rec, h.file)
	require.NoError(h.t, err)
	return New(v, names)
}

// greet connects to a process over TLS, as a client with pins does, and returns what it was met by.
func (h *house) greet(a *Authority, host string, pins ...string) (met string, err error) {
	h.t.Helper()
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{MinVersion: tls.VersionTLS13, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return a.Server(context.Background()) }})
	require.NoError(h.t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.(*tls.Conn).Handshake()
			c.Close()
		}
	}()
	raw, err := net.Dial("tcp", l.Addr().String())
	require.NoError(h.t, err)
	defer raw.Close()
	c := tls.Client(raw, pinned.Config(host, pins, func(f string) { met = f }))
	return met, c.Handshake()
}

// All processes show one authority, whose fingerprint is enough to trust them; a stranger's is refused, and one that is met first tells
// who it is.
func TestProcessesShareIt(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	one, two := h.process("lodge.brindle.example", "127.0.0.1"), h.process("lodge.brindle.example")
	states := make(chan State, 2)
	for _, a := range []*Authority{one, two} {
		go func() { s, _ := a.State(ctx); states <- s }()
	}
	s := <-states
	require.Equal(t, s, <-states)
	require.NoError(t, pinned.Check(s.Fingerprint))
	require.NoError(t, pinned.Check(s.Next))
	require.True(t, s.Spare)
	for _, a := range []*Authority{one, two} {
		met, err := h.greet(a, "lodge.brindle.example", s.Fingerprint, s.Next)
		require.NoError(t, err)
		require.Equal(t, s.Fingerprint, met)
	}
	_, err := h.greet(one, "127.0.0.1", s.Fingerprint)
	require.NoError(t, err)

	var unknown *pinned.Unknown
	_, err = h.greet(one, "lodge.brindle.example")
	require.ErrorAs(t, err, &unknown)
	require.Equal(t, s.Fingerprint, unknown.Fingerprint)
	require.ErrorContains(t, err, "keenlodge sign-in")
	thief := newHouse(t).process("lodge.brindle.example")
	_, err = h.greet(thief, "lodge.brindle.example", s.Fingerprint, s.Next)
	require.ErrorAs(t, err, &unknown)
	require.Equal(t, []string{s.Fingerprint, s.Next}, unknown.Pinned)
	require.ErrorContains(t, err, "Somebody may be in between")
}

// A certificate that has ended, has not begun, or is of another name is refused, each in its own words; clocks an hour apart are no trouble.
func TestCertificatesThatAreNotGood(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	s, err := h.process().State(ctx)
	require.NoError(t, err)
	for _, c := range []struct {
		clock time.Duration
		host  string
		says  string
	}{
		{time.Hour, "lodge.brindle.example", ""},
		{-time.Hour, "lodge.brindle.example", ""},
		{-serverTime - time.Hour, "lodge.brindle.example", "ended on"},
		{clockSlack + time.Hour, "lodge.brindle.example", "one of the two clocks is wrong"},
		{0, "other.brindle.example", "is for lodge.brindle.example: use one of these names"},
	} {
		a := h.process("lodge.brindle.example")
		a.now = func() time.Time { return time.Now().Add(c.clock) }
		_, err := h.greet(a, c.host, s.Fingerprint)
		if c.says == "" {
			require.NoError(t, err, c.clock)
			continue
		}
		require.ErrorContains(t, err, c.says)
		require.IsType(t, &pinned.Wrong{}, err)
	}
	a := h.process("lodge.brindle.example")
	first, err := a.Server(ctx)
	require.NoError(t, err)
	same, err := a.Server(ctx)
	require.NoError(t, err)
	require.Same(t, first, same)
	a.now = func() time.Time { return time.Now().Add(serverTime/2 + time.Hour) }
	later, err := a.Server(ctx)
	require.NoError(t, err)
	require.True(t, later.Leaf.NotAfter.After(first.Leaf.NotAfter), "it is made anew long before it ends")
}

// When the authority is renewed, whoever pinned it follows: twice, if he came in between.
func TestRenewal(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	a := h.process("lodge.brindle.example")
	was, err := a.State(ctx)
	require.NoError(t, err)
	is, err := a.Renew(ctx, "")
	require.NoError(t, err)
	require.Equal(t, was.Next, is.Fingerprint)
	require.Equal(t, 1, is.Renewed)
	met, err := h.greet(a, "lodge.brindle.example", was.Fingerprint, was.Next)
	require.NoError(t, err)
	require.Equal(t, was.Next, met)
	_, err = a.Renew(ctx, "")
	require.NoError(t, err)
	_, err = h.greet(a, "lodge.brindle.example", is.Fingerprint, is.Next)
	require.NoError(t, err)
	_, err = h.greet(a, "lodge.brindle.example", was.Fingerprint, was.Next)
	require.ErrorContains(t, err, "another authority than before", "who was away for two has to look")
}

// The key of the next authority can be kept elsewhere: then it is needed, whether the authority's own was stolen or lost with the vault.
func TestTheSpareKey(t *testing.T) {
	h, ctx := newHouse(t), t.Context()
	a := h.process("lodge.brindle.example")
	was, err := a.State(ctx)
	require.NoError(t, err)
	spare, err := a.TakeSpare(ctx)
	require.NoError(t, err)
	now, err := a.State(ctx)
	require.NoError(t, err)
	require.False(t, now.Spare)
	require.Equal(t, was.Next, now.Next)
	_, err = a.TakeSpare(ctx)
	require.ErrorIs(t, err, fault.ErrConflict)
	_, err = a.Renew(ctx, "")
	require.ErrorIs(t, err, fault.ErrConflict)
	other, err := newHouse(t).process().TakeSpare(ctx)
	require.NoError(t, err)
	key, _ := pem.Decode([]byte(spare))
	for name, text := range map[string]string{"nothing": "", "text": "no PEM", "another's": other, "torn": spare[:len(spare)/4]} {
		_, err = a.Renew(ctx, text)
		require.Error(t, err, name)
	}
	still, err := a.State(ctx)
	require.NoError(t, err)
	require.Equal(t, was.Fingerprint, still.Fingerprint, "what is refused changes nothing")

	// The vault is lost: another key file can't open what lies in the database.
	lost := &house{t, h.rec, filepath.Join(t.TempDir(), "lodge-key")}
	b := lost.process("lodge.brindle.example")
	_, err = b.State(ctx)
	require.ErrorContains(t, err, "does not open with this host's key file")
	_, err = b.Renew(ctx, "")
	require.ErrorContains(t, err, "without the spare key nobody would follow")
	_, err = b.Renew(ctx, string(pem.EncodeToMemory(key)))
	require.ErrorContains(t, err, "its certificate is missing")
	is, err := b.Renew(ctx, spare)
	require.NoError(t, err)
	require.Equal(t, was.Next, is.Fingerprint)
	_, err = h.greet(b, "lodge.brindle.example", was.Fingerprint, was.Next)
	require.NoError(t, err)
	require.False(t, strings.Contains(is.Fingerprint, was.Fingerprint))
}
