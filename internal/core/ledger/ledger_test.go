package ledger

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

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
	require.ErrorContains(t, err, "ledger line 101: it is torn: no end of line after 4096 bytes")
	for text, want := range map[string]string{
		"2 1790000001 x\n":   `ledger line 1: its number is "2"`,
		"1  x\n":             `ledger line 1: its time is ""`,
		"1 now x\n":          `ledger line 1: its time is "now"`,
		"1 1790000001\n":     "ledger line 1: it has 2 fields, not 3",
		"1 1790000001 x y\n": "ledger line 1: it has 4 fields, not 3",
		write(1) + "\n":      "ledger line 2: it has 1 fields, not 3",
		strings.Replace(write(2), "\n2", "\n1", 1): `ledger line 2: its number is "1"`,
	} {
		_, err := Check(strings.NewReader(text))
		require.ErrorContains(t, err, want)
	}
	_, err = Check(io.MultiReader(strings.NewReader(write(2)), iotest.ErrReader(errors.New("the disk is gone"))))
	require.ErrorContains(t, err, "ledger line 3: the disk is gone")
	s, err = Check(strings.NewReader(""))
	require.NoError(t, err)
	require.Equal(t, "ledger clean, no line in it yet", s.String())
	s, err = Check(strings.NewReader(write(1)))
	require.NoError(t, err)
	require.Equal(t, "ledger clean, 1 lines, the last of 2026-09-21T14:13:21Z", s.String())
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
