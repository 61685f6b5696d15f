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
	for name, body := range map[string]string{"empty": "", "torn": one.String()[:20] + "\n", "text": "herring\n"} {
		file := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(file, []byte(body), 0o600))
		_, err := Open(rec, file)
		require.ErrorContains(t, err, "does not hold age identities", name)
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
			keys <- v.keys[0].String()
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

// The key is changed while two processes go on: what either sealed opens in both all the time, and in the end with the new key alone.
func TestTheKeyIsChangedWhileTheyRun(t *testing.T) {
	ctx, rec := t.Context(), recordstest.Open(t)
	file := filepath.Join(t.TempDir(), "lodge-key")
	one, err := Open(rec, file)
	require.NoError(t, err)
	two, err := Open(rec, file)
	require.NoError(t, err)
	all := func(want int) {
		t.Helper()
		names, err := rec.SecretNames(ctx)
		require.NoError(t, err)
		require.Len(t, names, want)
		for _, v := range []*Vault{one, two} {
			for _, name := range names {
				var word string
				ok, err := v.Get(ctx, name, &word)
				require.NoError(t, err)
				require.True(t, ok)
				require.Equal(t, "word of "+name, word)
			}
		}
	}
	set := func(v *Vault, name string) { t.Helper(); require.NoError(t, v.Set(ctx, name, "word of "+name)) }
	set(one, "a")
	set(two, "b")
	old, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, one.NewKey())
	set(two, "c")
	all(3)
	_, err = one.DropOldKeys(ctx)
	require.ErrorContains(t, err, "secret a is not sealed with the newest key yet")
	n, err := two.Reseal(ctx)
	require.NoError(t, err)
	require.Equal(t, 2, n, "c was sealed with the new one")
	all(3)
	n, err = one.DropOldKeys(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	all(3)
	set(two, "d")
	all(4)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())

	thief := filepath.Join(t.TempDir(), "lodge-key")
	require.NoError(t, os.WriteFile(thief, old, 0o600))
	late, err := Open(rec, thief)
	require.NoError(t, err)
	var word string
	_, err = late.Get(ctx, "a", &word)
	require.ErrorContains(t, err, "does not open with this host's key file")
	n, err = late.Reseal(ctx)
	require.Error(t, err)
	require.Zero(t, n)
	all(4)

	// A file that is half written, or gone, leaves those who know the key at work.
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, now[:len(now)/2], 0o600))
	all(4)
	require.NoError(t, os.Remove(file))
	set(one, "e")
	all(5)
}
