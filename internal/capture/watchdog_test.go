package capture

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
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
