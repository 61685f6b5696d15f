package internal

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// layers are the rooms from the top of the house to its ground, those of one row side by side. Imports point to a lower row: never up,
// never sideways.
var layers = [][]string{
	{"e2e", "bench"},
	{"bench/copying"},
	{"bench/line", "bench/door", "bench/servers", "bench/mutants", "bench/report", "bench/kinds"},
	{"cmd/keenlodge"},
	{"demo/show"},
	{"demo"},
	{"packaging"},
	{"internal/service"},
	{"internal/cli"},
	{"internal/rescue/making"},
	{"internal/rescue"},
	{"internal/agent", "internal/reader/inside"},
	{"internal/client", "internal/api", "internal/console"},
	{"internal/api/feed", "internal/api/lines", "internal/api/paging"},
	{"internal/api/called"},
	{"internal/api/schema", "internal/api/guard", "internal/api/content", "internal/api/shape", "internal/api/sight", "internal/api/problem"},
	{"internal/lodge/lodgetest"},
	{"internal/lodge"},
	{"internal/rehearsal"},
	{"internal/copies", "internal/disks", "internal/moving", "internal/snapshots"},
	{"internal/planning"},
	{"internal/drills"},
	{"internal/promises"},
	{"internal/trials"},
	{"internal/capture", "internal/restore", "internal/proof"},
	{"internal/exports"},
	{"internal/retention", "internal/witness", "internal/browse", "internal/lending", "internal/intake", "internal/fitting"},
	{"internal/lists"},
	{"internal/stores/storestest"},
	{"internal/inventory", "internal/stores", "internal/hooks"},
	{"internal/places", "internal/opening"},
	{"internal/runs"},
	{"internal/watchdog"},
	{"internal/authority", "internal/doorman", "internal/switchboard"},
	{"internal/access", "internal/trail", "internal/events", "internal/vault", "internal/throttle"},
	{"internal/unpack"},
	{"internal/agent/moment", "internal/agent/tree", "internal/agent/inplace"},
	{"internal/agent/parts"},
	{"internal/agent/block"},
	{"internal/agent/agenttest"},
	{"internal/records/recordstest/share"},
	{"internal/records/recordstest"},
	{"internal/records"},
	{"internal/records/trust", "internal/records/around", "internal/records/secrets", "internal/records/doors", "internal/records/deeds", "internal/records/unread", "internal/records/listed", "internal/records/copied", "internal/records/upkeep", "internal/records/inplace"},
	{"internal/records/db"},
	{"internal/records/listing", "internal/records/schema", "internal/records/seen"},
	{"internal/source/islet", "internal/source/skerry", "internal/source/sound"},
	{"internal/source/libvirt", "internal/source/qemu", "internal/source/agent", "internal/source/sourcetest"},
	{"internal/source/libvirt/inside", "internal/source/libvirt/trial", "internal/source/libvirt/inplace"},
	{"internal/source/libvirt/admit"},
	{"internal/source/libvirt/daemon", "internal/source/guestagent"},
	{"internal/standin/all", "internal/standin/standintest"},
	{"internal/standin/islet", "internal/standin/skerry", "internal/standin/sound"},
	{"internal/standin"},
	{"internal/source/rest", "internal/receive"},
	{"internal/source"},
	{"internal/reader/identity"},
	{"internal/reader"},
	{"internal/wire", "internal/mount", "internal/notify", "internal/line"},
	{"internal/store/pooled", "internal/store/open"},
	{"internal/store/open/plainfile"},
	{"internal/store"},
	{"internal/store/medium/all"},
	{"internal/store/medium/dir", "internal/store/medium/memory", "internal/store/medium/s3", "internal/store/medium/sftp", "internal/store/medium/webdav", "internal/store/medium/ftp", "internal/store/medium/smb"},
	{"internal/store/medium/mediumtest"},
	{"internal/store/medium/mediumtest/objects", "internal/store/medium/mediumtest/gateway"},
	{"internal/store/medium"},
	{"internal/nbd", "internal/zone", "internal/reach", "internal/pinned", "internal/private", "internal/inode", "internal/ahead", "internal/closed", "internal/scratch", "internal/bootable", "internal/meeting", "internal/selfsigned"},
	{"internal/core"},
}

// tallest bounds a room, in lines without tests: what grows past it has more than one job. A store of packs and the command line are one
// job each, with many parts.
const tallest = 2000

var tall = []string{"internal/store/pooled", "internal/cli"}

// place is the row of a package's room, and the room.
func place(path string) (row int, room string) {
	row = -1
	for i, rooms := range layers {
		for _, r := range rooms {
			if (path == r || strings.HasPrefix(path, r+"/")) && len(r) > len(room) {
				row, room = i, r
			}
		}
	}
	return row, room
}

// packages lists every package with what it imports, tests' imports marked by a leading "test ".
func packages(t *testing.T) map[string][]string {
	t.Helper()
	cmd := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}}|{{.}}{{end}}{{range .TestImports}}|test {{.}}{{end}}{{range .XTestImports}}|test {{.}}{{end}}`, "./...")
	cmd.Dir = ".."
	out, err := cmd.Output()
	require.NoError(t, err)
	found := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		fields := strings.Split(strings.TrimSpace(line), "|")
		found[strings.TrimPrefix(fields[0], "keenlodge/")] = fields[1:]
	}
	return found
}

func TestImportsPointDownward(t *testing.T) {
	seen := 0
	for from, imports := range packages(t) {
		if from == "internal" {
			continue // this test
		}
		seen++
		row, _ := place(from)
		require.GreaterOrEqual(t, row, 0, "%s has no place in the house", from)
		core := strings.HasPrefix(from, "internal/core/")
		for _, path := range imports {
			path, test := strings.CutPrefix(path, "test ")
			test = test || strings.HasSuffix(from, "test") // a package for tests
			to, ours := strings.CutPrefix(path, "keenlodge/")
			itsHelp := test && strings.HasPrefix(to, from+"/") && strings.HasSuffix(to, "test") // what a room's tests share with others'
			if ours && to != from && !itsHelp {
				below, _ := place(to)
				require.False(t, !core && below <= row || core && !strings.HasPrefix(to, "internal/core/"), "%s must not import %s", from, to)
			}
			require.False(t, core && !test && slices.Contains([]string{"net/http", "database/sql", "os/exec", "net"}, path), "%s must not import %s", from, path)
		}
	}
	require.Greater(t, seen, 40)
}

// No room is so large that nobody understands it in one sitting.
func TestRoomsStaySmall(t *testing.T) {
	lines := map[string]int{}
	for from := range packages(t) {
		_, room := place(from)
		if strings.HasPrefix(from, "internal/core/") {
			room = from // each of its packages is a room
		}
		files, err := filepath.Glob(filepath.Join("..", from, "*.go"))
		require.NoError(t, err)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			f, err := os.Open(file)
			require.NoError(t, err)
			for scan := bufio.NewScanner(f); scan.Scan(); {
				lines[room]++
			}
			f.Close()
		}
	}
	for room, n := range lines {
		require.False(t, n > tallest && !slices.Contains(tall, room), "%s has %d lines, more than %d; it has more than one job, so split it", room, n, tallest)
	}
	require.Less(t, lines["internal/lodge"], 1500, "what puts the parts together has no parts of its own")
}
