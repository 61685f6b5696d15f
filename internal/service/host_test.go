package service

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// The vault's key is systemd's credential where there is one, and a file of the state folder otherwise.
func TestTheKeyFile(t *testing.T) {
	state, credentials := t.TempDir(), t.TempDir()
	own := filepath.Join(state, "lodge-key")
	t.Setenv("CREDENTIALS_DIRECTORY", "")
	require.Equal(t, own, keyFile(state))
	t.Setenv("CREDENTIALS_DIRECTORY", credentials)
	require.Equal(t, own, keyFile(state), "there may be credentials of other names")
	given := filepath.Join(credentials, "lodge-key")
	require.NoError(t, os.WriteFile(given, []byte("x"), 0o400))
	require.Equal(t, given, keyFile(state))
}
