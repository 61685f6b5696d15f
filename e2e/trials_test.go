package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/wire"
)

// A guest comes up from its image, and all goes that it had on its host.
func TestATrial(t *testing.T) {
	folder := t.TempDir()
	withPolicy(t, "tried", policyText("tickets-db", "tried-shelf", ""), storeText("tried-shelf", folder))
	backUp(t, "tried")
	list := keenJSON[[]wire.Image](t, "image", "list", "--policy", "tried")
	require.NotEmpty(t, list)
	out := keenOK(t, "image", "prove", list[0].ID, "--level", "boot", "--wait")
	t.Log(out)
	t.Log(keenOK(t, "image", "show", list[0].ID))
	t.Log(keenOK(t, "image", "evidence", list[0].ID, "--into", "/tmp/evidence"))
	var image wire.ProvenImage
	require.NoError(t, json.Unmarshal([]byte(keenOK(t, "image", "show", list[0].ID, "-o", "json")), &image))
	require.True(t, image.Proofs[0].Passed)
	require.NotContains(t, virsh(t, "list", "--all", "--name"), "keenlodge-trial")
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "keenlodge-trial*"))
	require.NoError(t, err)
	require.Empty(t, left, strings.Join(left, " "))
}
