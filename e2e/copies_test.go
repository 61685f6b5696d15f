package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/s3"
	"keenlodge/internal/wire"
)

// withCopies gives the site copy rules, until withPolicy, which was called before, takes its changes back.
func withCopies(t *testing.T, rules map[string]site.Copy) {
	t.Helper()
	c, err := place.Client()
	require.NoError(t, err)
	s, err := c.Site(t.Context())
	require.NoError(t, err)
	s.Copies = rules
	_, err = c.ApplySite(t.Context(), s, false)
	require.NoError(t, err)
}

// Off site, whole: an image of a guest goes into a sealed store in an object service as soon as it is complete, the list says where else it is, and the
// guest's disk comes back from there when the first store is gone.
func TestOffSite(t *testing.T) {
	address, err := place.ServeObjects("islet-vault")
	require.NoError(t, err)
	c, err := place.Client()
	require.NoError(t, err)
	shelf := t.TempDir()
	withPolicy(t, "weekly-system", "    machines: [timetable]\n    store: near-shelf\n    rotation: newest 3\n", storeText("near-shelf", shelf))
	_, err = c.AddStore(t.Context(), "islet-vault", wire.StoreAddition{
		Spec:   site.Store{Medium: "s3", Layout: site.Pooled, Sealed: true, Like: "near-shelf", Place: "islet", Settings: &s3.Settings{Endpoint: address, Bucket: "islet-vault", PathStyle: true, Region: "sound"}},
		Access: wire.Credentials{"access_key": demo.ObjectsKey, "secret_key": demo.ObjectsSecret}, Keys: []store.NewKey{{Label: "safe", Passphrase: "ebb and flow at the pier"}}})
	require.NoError(t, err)
	withCopies(t, map[string]site.Copy{"to-islet": {From: "near-shelf", To: "islet-vault", Soon: true, Rotation: "newest 2"}})
	require.Contains(t, []int{0, 3}, keen(t, "policy", "run", "weekly-system", "--wait").code)
	r := awaitRun(t, "to-islet", func(r wire.Run) bool { return r.Over() })
	require.EqualValues(t, "done", r.State, keen(t, "run", "log", r.ID).out)
	list := keenOK(t, "image", "list", "--store", "near-shelf")
	require.Contains(t, list, "islet-vault")
	copied := in(t, "islet-vault")
	require.Len(t, copied, 1)
	require.Contains(t, keenOK(t, "copy", "list"), "near-shelf → islet-vault")
	keenOK(t, "image", "prove", copied[0].ID, "--level", "read", "--wait")
	out := t.TempDir()
	src := in(t, "near-shelf")[0]
	keenOK(t, "image", "export", src.ID, "--as", "raw", "--to", filepath.Join(out, "near"))

	// The building burns.
	require.NoError(t, os.RemoveAll(shelf))
	require.Contains(t, keen(t, "image", "export", src.ID, "--as", "raw", "--to", filepath.Join(out, "none")).err, "near-shelf")
	keenOK(t, "image", "export", copied[0].ID, "--as", "raw", "--to", filepath.Join(out, "far"))
	different, err := exec.Command("cmp", filepath.Join(out, "near", "timetable-vda.raw"), filepath.Join(out, "far", "timetable-vda.raw")).CombinedOutput()
	require.NoError(t, err, string(different))
	require.Contains(t, keen(t, "copy", "run", "to-islet", "--wait").out, "done", "what is there need not be read again")
}
