package internal

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Rooms from the top of the house to its ground. Imports point downward, never up or sideways.
var rooms = []string{"cmd/keenlodge", "demo", "internal/cli", "internal/console", "internal/client", "internal/api", "internal/lodge", "internal/records",
	"internal/hypervisor/libvirt", "internal/hypervisor", "internal/openlayout", "internal/store", "internal/store/medium/mediumtest", "internal/store/medium/dir", "internal/store/medium/s3",
	"internal/store/medium/sftp", "internal/store/medium", "internal/mount", "internal/notify", "internal/nbd", "internal/core"}

func room(path string) int {
	best := -1
	for i, r := range rooms {
		if (path == r || strings.HasPrefix(path, r+"/")) && (best < 0 || len(r) > len(rooms[best])) {
			best = i
		}
	}
	return best
}

func TestImportsPointDownward(t *testing.T) {
	cmd := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./cmd/...", "./demo/...", "./internal/...")
	cmd.Dir = ".."
	out, err := cmd.Output()
	require.NoError(t, err)
	seen := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		from := strings.TrimPrefix(fields[0], "keenlodge/")
		if from == "internal" {
			continue // this test
		}
		seen++
		require.GreaterOrEqual(t, room(from), 0, "%s has no place in the house", from)
		core := strings.HasPrefix(from, "internal/core/")
		for _, path := range fields[1:] {
			to, ours := strings.CutPrefix(path, "keenlodge/")
			if ours {
				require.False(t, room(to) < room(from) || room(to) == room(from) && !core, "%s must not import %s", from, to)
			}
			require.False(t, core && slices.Contains([]string{"net/http", "database/sql", "os/exec", "net"}, path), "%s must not import %s", from, path)
		}
	}
	require.Greater(t, seen, 15)
}
