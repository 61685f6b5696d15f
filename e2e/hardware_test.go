package e2e

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A guest comes back on disks of other sizes and as several machines, in the place of one that is there and out of it again, and gives a disk to another.
func TestOtherHardware(t *testing.T) {
	forFaults(t, "guests start four times")
	shelf := t.TempDir()
	withPolicy(t, "moved", policyText("tickets-db", "moving-shelf", ""), storeText("moving-shelf", shelf))
	backUp(t, "moved")
	id := in(t, "moving-shelf")[0].ID
	t.Cleanup(func() {
		for _, name := range []string{"counter-01", "counter-02"} {
			place.Quay.Virsh(context.Background(), "destroy", name)
			place.Quay.Virsh(context.Background(), "undefine", name)
		}
	})
	shown := keenOK(t, "image", "restore", id, "--as", "counter-01", "--size", "vda=120MiB", "--size", "vdb=700MiB", "--preview")
	require.Regexp(t, `vda1 +ext4 +255 MiB +119 MiB +gets smaller`, shown)
	require.Regexp(t, `vdb1 +ext4 +511 MiB +699 MiB +grows`, shown)
	said := keenOK(t, "image", "clone", id, "--as", "counter-{01..02}", "--size", "vda=120MiB", "--size", "vdb=700MiB", "--start", "--yes", "--wait")
	require.Equal(t, 2, strings.Count(said, "ledger clean"), said)
	for target, size := range map[string]string{"vda": "125829120", "vdb": "734003200"} {
		require.Regexp(t, `Capacity: +`+size, virsh(t, "domblkinfo", "counter-02", target))
	}
	cards := virsh(t, "domiflist", "counter-01") + virsh(t, "domiflist", "counter-02") + virsh(t, "domiflist", "tickets-db")
	seen := map[string]bool{}
	for word := range strings.FieldsSeq(cards) {
		if strings.HasPrefix(word, "52:54:00:") {
			require.False(t, seen[word], "two guests have the card %s", word)
			seen[word] = true
		}
	}

	virsh(t, "destroy", "counter-01")
	before := virsh(t, "dumpxml", "counter-01")
	s := keen(t, "image", "restore", id, "--over", "counter-01", "--typed", "counter-02", "--wait")
	require.Contains(t, s.err, `"counter-02" is not "counter-01"; nothing was done`)
	keenOK(t, "image", "restore", id, "--over", "counter-01", "--typed", "counter-01", "--wait")
	require.NotEqual(t, before, virsh(t, "dumpxml", "counter-01"))
	run := strings.TrimSpace(keenJSON[[]struct{ ID string }](t, "run", "list")[0].ID)
	keenOK(t, "restore", "undo", run, "--wait")
	require.Equal(t, before, virsh(t, "dumpxml", "counter-01"))
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "*"+run+"*"))
	require.NoError(t, err)
	require.Empty(t, left)

	keenOK(t, "image", "restore", id, "--into", "counter-01", "--disk", "vdb", "--wait")
	require.Contains(t, virsh(t, "domblklist", "counter-01"), "vdc")
}
