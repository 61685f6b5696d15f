package e2e

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/wire"
)

// What is exported is what QEMU reads as the same disk, in every format; a package of the whole machine is imported again as an image of another, which starts.
func TestExports(t *testing.T) {
	shelf, out := t.TempDir(), t.TempDir()
	withPolicy(t, "exported", policyText("tickets-db, berth-sim", "export-shelf", ""), storeText("export-shelf", shelf))
	backUp(t, "exported")
	taken := map[string]string{}
	for _, m := range in(t, "export-shelf") {
		taken[m.Machine] = m.ID
	}
	id := taken["tickets-db"]
	for _, as := range []string{"raw", "qcow2", "vhdx", "vmdk"} {
		keenOK(t, "image", "export", id, "--as", as, "--disk", "vdb", "--to", out)
	}
	name := func(end string) string { return filepath.Join(out, "tickets-db"+end) }
	for _, as := range []string{"qcow2", "vhdx", "vmdk"} {
		told, err := exec.Command("qemu-img", "compare", "-f", "raw", "-F", as, name("-vdb.raw"), name("-vdb."+as)).CombinedOutput()
		require.NoError(t, err, "%s: %s", as, told)
	}
	streamed := keenOK(t, "image", "export", id, "--as", "qcow2", "--disk", "vdb", "--to", "-")
	body, err := os.ReadFile(name("-vdb.qcow2"))
	require.NoError(t, err)
	require.True(t, string(body) == streamed)
	// Of another machine, for what is looked into is listed, and others search the lists of this one.
	require.Contains(t, keenOK(t, "image", "export", taken["berth-sim"], "--files", "vda2:/records", "--to", out), "berth-sim-vda2-records.tar")
	told, err := exec.Command("tar", "-tf", filepath.Join(out, "berth-sim-vda2-records.tar")).CombinedOutput()
	require.NoError(t, err, string(told))
	require.Contains(t, string(told), "sailings.txt")

	keenOK(t, "image", "export", id, "--as", "ova", "--to", out)
	brought := keenJSON[wire.Taken](t, "image", "import", name(".ova"), "--machine", "ferry-archive", "--store", "export-shelf")
	again := t.TempDir()
	keenOK(t, "image", "export", brought.Image, "--as", "raw", "--to", again)
	keenOK(t, "image", "export", id, "--as", "raw", "--disk", "vda", "--to", out)
	for _, disk := range []string{"vda", "vdb"} {
		told, err := exec.Command("cmp", name("-"+disk+".raw"), filepath.Join(again, "ferry-archive-"+disk+".raw")).CombinedOutput()
		require.NoError(t, err, "%s: %s", disk, told)
	}
	require.Zero(t, brought.Stored, "all of it was there")
	require.Contains(t, keenOK(t, "image", "prove", brought.Image, "--level", "read", "--wait"), "done")
	if faultsToo() { // make faults does it
		keenOK(t, "image", "prove", brought.Image, "--level", "boot", "--wait")
		// It becomes a guest, for what it was made of is known.
		said := keenOK(t, "image", "restore", brought.Image, "--as", "ferry-archive", "--start", "--wait")
		require.Contains(t, said, "ledger clean")
		t.Cleanup(func() {
			virsh(t, "destroy", "ferry-archive")
			virsh(t, "undefine", "ferry-archive")
		})
		require.Equal(t, "running", strings.TrimSpace(virsh(t, "domstate", "ferry-archive")))
	}

	// A file that is damaged, or goes away, leaves no image.
	body, err = os.ReadFile(name(".ova"))
	require.NoError(t, err)
	body[len(body)/2] ^= 0xff
	require.NoError(t, os.WriteFile(name("-damaged.ova"), body, 0o600))
	s := keen(t, "image", "import", name("-damaged.ova"), "--machine", "damaged", "--store", "export-shelf")
	require.Contains(t, s.err, "it was damaged or changed")
	f, err := os.Create(name("-large.raw"))
	require.NoError(t, err)
	random, err := os.Open("/dev/urandom")
	require.NoError(t, err)
	_, err = io.CopyN(f, random, 300<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, random.Close())
	cmd := exec.Command(place.Program, "--url", place.URL(), "--token-file", place.TokenFile(), "image", "import", f.Name(), "--machine", "cut-off", "--store", "export-shelf")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return used(t, shelf) > 60<<20 }, time.Minute, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	require.NotContains(t, keenOK(t, "machine", "list"), "cut-off")
	require.Len(t, in(t, "export-shelf"), 3)
	require.Contains(t, keenOK(t, "store", "check", "export-shelf", "--read"), "nothing is damaged")
}

// used is how much lies in a folder, in bytes.
func used(t *testing.T, folder string) (n int64) {
	require.NoError(t, filepath.WalkDir(folder, func(p string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			if st, gone := e.Info(); gone == nil {
				n += st.Size()
			}
		}
		return nil
	}))
	return n
}
