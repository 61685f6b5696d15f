package vault

import (
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// A secret comes back as it was put in, for whoever has the key file and for nobody else.
func TestSecrets(t *testing.T) {
	ctx, rec := t.Context(), recordstest.Open(t)
	file := filepath.Join(t.TempDir(), "lodge-key")
	v, err := Open(rec, file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())

	var found map[string]string
	ok, err := v.Get(ctx, "store/quay-shelf/access", &found)
	require.NoError(t, err)
	require.False(t, ok)
	for _, password := range []string{"herring", "mackerel"} {
		require.NoError(t, v.Set(ctx, "store/quay-shelf/access", map[string]string{"password": password}))
		same, err := Open(rec, file) // as another process has it
		require.NoError(t, err)
		ok, err = same.Get(ctx, "store/quay-shelf/access", &found)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, map[string]string{"password": password}, found)
	}
	sealed, err := rec.Secret(ctx, "store/quay-shelf/access")
	require.NoError(t, err)
	require.NotContains(t, string(sealed), "mackerel")
	require.Error(t, v.Set(ctx, "odd", make(chan int)), "what is no JSON is refused")

	other, err := Open(rec, filepath.Join(t.TempDir(), "lodge-key"))
	require.NoError(t, err)
	ok, err = other.Get(ctx, "store/quay-shelf/access", &found)
	require.False(t, ok)
	require.ErrorContains(t, err, "does not open with this host's key file")

	require.NoError(t, rec.SetSecret(ctx, "store/quay-shelf/access", sealed[:len(sealed)-3]))
	ok, err = v.Get(ctx, "store/quay-shelf/access", &found)
	require.False(t, ok)
	require.ErrorContains(t, err, "secret store/quay-shelf/access")
}

// A key file that is not one stops the lodge before it makes another that opens nothing.
func TestKeyFiles(t *testing.T) {
	rec, folder := recordstest.Open(t), t.TempDir()
	one, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for name, body := range map[string]string{"empty": "", "torn": one.String()[:20] + "\n", "two": one.String() + "\n" + one.String() + "\n"} {
		file := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(file, []byte(body), 0o600))
		_, err := Open(rec, file)
		require.ErrorContains(t, err, "does not hold one age identity", name)
		kept, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, body, string(kept))
	}
	_, err = Open(rec, folder)
	require.ErrorContains(t, err, "key file")
	_, err = Open(rec, filepath.Join(folder, "nowhere", "lodge-key"))
	require.ErrorContains(t, err, "key file")
}

// Processes that start together make one key, and leave nothing else.
func TestAKeyMadeTogether(t *testing.T) {
	rec, folder := recordstest.Open(t), t.TempDir()
	keys := make(chan string, 16)
	for range cap(keys) {
		go func() {
			v, err := Open(rec, filepath.Join(folder, "lodge-key"))
			if err != nil {
				keys <- err.Error()
				return
			}
			keys <- v.key.String()
		}()
	}
	first := <-keys
	require.Contains(t, first, "AGE-SECRET-KEY-1")
	for range cap(keys) - 1 {
		require.Equal(t, first, <-keys)
	}
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, left, 1)
}
