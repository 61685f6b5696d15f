package zone

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheHostsZoneIsWhatItSaysOrUTC(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(root, "etc"), 0o755))
	t.Setenv("TZ", "") // so that it is put back
	require.NoError(t, os.Unsetenv("TZ"))
	require.Equal(t, "UTC", hostBelow(root), "a host that says nothing")

	file := filepath.Join(root, "etc/timezone")
	require.NoError(t, os.WriteFile(file, []byte("Mars/Olympus\n"), 0o644))
	require.Equal(t, "UTC", hostBelow(root), "a zone that does not exist")
	require.NoError(t, os.WriteFile(file, []byte("Europe/Lisbon\n"), 0o644))
	require.Equal(t, "Europe/Lisbon", hostBelow(root))

	require.NoError(t, os.Symlink("/usr/share/zoneinfo/America/Halifax", filepath.Join(root, "etc/localtime")))
	require.Equal(t, "America/Halifax", hostBelow(root), "the link is what the C library goes by")

	for tz, want := range map[string]string{":Asia/Kathmandu": "Asia/Kathmandu", "Asia/Tokyo": "Asia/Tokyo", "/etc/localtime": "America/Halifax", "Local": "America/Halifax"} {
		t.Setenv("TZ", tz)
		require.Equal(t, want, hostBelow(root), tz)
	}
}
