package ledger

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func write(n int) string {
	var out strings.Builder
	previous := "-"
	for i := 1; i <= n; i++ {
		previous = fmt.Sprintf("%x", sha256.Sum256(fmt.Appendf(nil, "%s %d %d", previous, i, 1_790_000_000+i)))
		fmt.Fprintln(&out, i, 1_790_000_000+i, previous)
	}
	return out.String()
}

func TestCheck(t *testing.T) {
	clean := write(100)
	s, err := Check(strings.NewReader(clean))
	require.NoError(t, err)
	require.EqualValues(t, 100, s.Lines)
	require.EqualValues(t, 1_790_000_100, s.Last.Unix())

	_, err = Check(strings.NewReader(clean[:len(clean)-5]))
	require.ErrorContains(t, err, "ledger line 100: it is torn")
	lines := strings.SplitAfter(clean, "\n")
	_, err = Check(strings.NewReader(strings.Join(append(lines[:40:40], lines[41:]...), "")))
	require.ErrorContains(t, err, "ledger line 41: its number")
	_, err = Check(strings.NewReader(strings.Replace(clean, "1790000050", "1790000051", 1)))
	require.ErrorContains(t, err, "ledger line 50: its checksum")
	_, err = Check(strings.NewReader(clean + strings.Repeat("\x00", 4096)))
	require.ErrorContains(t, err, "ledger line 101: it is torn")
}

// The few lines of shell in docs/ledger.md write a clean ledger, from its first line on.
func TestTheShellOfTheDocumentation(t *testing.T) {
	page, err := os.ReadFile("../../../docs/ledger.md")
	require.NoError(t, err)
	_, rest, found := strings.Cut(string(page), "```sh\n")
	require.True(t, found)
	script, _, _ := strings.Cut(rest, "```")
	folder := t.TempDir()
	for n := int64(1); n <= 3; n++ {
		out, err := exec.Command("sh", "-c", strings.ReplaceAll(script, "/data/", folder+"/")).CombinedOutput()
		require.NoError(t, err, string(out))
		f, err := os.Open(filepath.Join(folder, FileName))
		require.NoError(t, err)
		s, err := Check(f)
		require.NoError(t, err)
		require.Equal(t, n, s.Lines)
		require.NoError(t, f.Close())
	}
}
