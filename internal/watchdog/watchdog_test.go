package watchdog

import (
	"encoding/json"
	"io"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
)

// A watchdog has nothing of the service's environment that it does not need.
func TestAWatchdogKnowsNoSecrets(t *testing.T) {
	t.Setenv("PGPASSWORD", "of the database")
	t.Setenv("KEENLODGE_PASSPHRASE", "of a store")
	t.Setenv("SSH_AUTH_SOCK", "/run/agent")
	env := strings.Join(watchdogEnv(), "\n")
	require.NotContains(t, env, "of the database")
	require.NotContains(t, env, "of a store")
	require.Contains(t, env, "SSH_AUTH_SOCK=/run/agent")
	require.Contains(t, env, "PATH=")
}

// The watchdog thaws when its parent dies, as often as it takes, and leaves a guest alone that was thawed.
func TestTheWatchdog(t *testing.T) {
	host := sourcetest.Named(t.Name())
	host.Add("tickets-db", "u-tickets", nil, nil)
	watch := func(words string) (string, error) {
		host.Change("tickets-db", func(g *sourcetest.Guest) { g.Frozen = true })
		order, err := json.Marshal(watched{site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name()}, "tickets-db"})
		require.NoError(t, err)
		var out strings.Builder
		err = Thaw(t.Context(), strings.NewReader(string(order)+"\n"+words), &out)
		return out.String(), err
	}
	out, err := watch("frozen\nthawed\n")
	require.NoError(t, err)
	require.Equal(t, "watching\n", out)
	require.True(t, host.Look("tickets-db").Frozen, "its parent thawed it")
	_, err = watch("frozen\n")
	require.NoError(t, err)
	require.False(t, host.Look("tickets-db").Frozen)
	var dials atomic.Int32
	host.SetFault(func(call, _ string) error {
		if call == "dial" && dials.Add(1) == 2 {
			return source.ErrUnreachable
		}
		return nil
	})
	host.Remove("tickets-db") // it does not answer for a while
	go func() {
		for dials.Load() < 3 {
			time.Sleep(time.Millisecond)
		}
		host.Add("tickets-db", "u-tickets", nil, nil)
	}()
	order, err := json.Marshal(watched{site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name()}, "tickets-db"})
	require.NoError(t, err)
	require.NoError(t, Thaw(t.Context(), strings.NewReader(string(order)+"\n"), io.Discard))
	require.ErrorContains(t, Thaw(t.Context(), strings.NewReader(""), io.Discard), "nothing was said")
	require.ErrorContains(t, Thaw(t.Context(), strings.NewReader("odd\n"), io.Discard), "what to watch")
	_, err = Start("/bin/false", site.Hypervisor{}, "tickets-db")
	require.ErrorContains(t, err, "the watchdog of guest tickets-db did not start")
	_, err = Start("/nowhere", site.Hypervisor{}, "tickets-db")
	require.ErrorContains(t, err, "start the watchdog")
}
