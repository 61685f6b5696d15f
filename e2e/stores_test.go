package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store"
	"keenlodge/internal/wire"
)

const passphrase = "ebb and flow at the pier"

// A place is tried before it is used, and what is wrong with it is told in words.
func TestProbingAPlace(t *testing.T) {
	folder := t.TempDir()
	out := keenOK(t, "store", "probe", "--folder", folder)
	require.Contains(t, out, "✓ write")
	require.Contains(t, out, "✓ content  empty: a store can be made here")
	s := keen(t, "store", "probe", "--folder", filepath.Join(folder, "absent"))
	require.Equal(t, 1, s.code)
	require.Contains(t, s.out, "✗ reach")
	require.Contains(t, s.out, "does not exist")
	s = keen(t, "store", "probe", "--medium", "sftp", "--folder", "/images", "--host", "127.0.0.1", "--port", "1", "--user", "pier", "--secret-file", "/dev/null")
	require.Contains(t, s.err, "is empty")
	t.Setenv("KEENLODGE_SECRET", "tide tables")
	s = keen(t, "store", "probe", "--medium", "sftp", "--folder", "/images", "--host", "127.0.0.1", "--port", "1", "--user", "pier")
	require.Contains(t, s.out, "can't be reached")
	s = keen(t, "store", "probe", "--medium", "s3", "--endpoint", "http://127.0.0.1:1", "--bucket", "images", "--access-key", "pier")
	require.Contains(t, s.out, "can't be reached")
	s = keen(t, "store", "probe", "--medium", "s3", "--bucket", "images")
	require.Equal(t, 2, s.code)
	require.Contains(t, s.err, "medium s3 needs endpoint")
	s = keen(t, "store", "probe", "--medium", "tape")
	require.Contains(t, s.err, `medium "tape" is not known`)
	out = keenOK(t, "store", "probe", "quay-shelf")
	require.Contains(t, out, "✓ room")
	out = keenOK(t, "store", "probe", "--folder", place.Shelf())
	require.Contains(t, out, "a store, made on")
}

// sealedStore makes a sealed store in an empty folder.
func sealedStore(t *testing.T, name string) (folder string) {
	folder = t.TempDir()
	t.Setenv("KEENLODGE_PASSPHRASE", passphrase)
	s := keen(t, "store", "add", name, "--folder", folder, "--sealed", "--yes", "--label", "safe in the harbour office")
	require.Equal(t, 0, s.code, s.err)
	require.Contains(t, s.err, "A sealed store whose keys are lost is lost")
	require.Contains(t, s.out, "store "+name+" is made")
	return folder
}

// A sealed store is made, used, given keys and takes them back; its passphrase is nowhere to be found.
func TestASealedStore(t *testing.T) {
	file, _, err := place.Site()
	require.NoError(t, err)
	t.Cleanup(func() { keenOK(t, "site", "apply", file) })
	s := keen(t, "store", "add", "vault", "--folder", t.TempDir(), "--sealed")
	require.Equal(t, 2, s.code)
	require.Contains(t, s.err, "no terminal to ask on; write --yes")
	folder := sealedStore(t, "vault")
	require.Contains(t, keenOK(t, "store", "list"), "yes")
	keys := keenJSON[[]store.Key](t, "store", "key", "list", "vault")
	require.Len(t, keys, 1)
	s = keen(t, "store", "key", "remove", "vault", keys[0].ID)
	require.Contains(t, s.err, "is the last one; without a key the store is lost")
	t.Setenv("KEENLODGE_PASSPHRASE", "another of several words")
	keenOK(t, "store", "key", "add", "vault", "--label", "operator")
	require.Contains(t, keenOK(t, "store", "key", "list", "vault"), "safe in the harbour office")
	keenOK(t, "store", "key", "remove", "vault", keys[0].ID)
	s = keen(t, "store", "key", "list", "quay-shelf")
	require.Contains(t, s.err, "the store is not sealed, so it has no keys")

	text, err := os.ReadFile(file)
	require.NoError(t, err)
	changed := strings.Replace(string(text), "stores:\n", "stores:\n"+storeText("vault", folder)+"    sealed: true\n", 1)
	changed = strings.Replace(changed, "policies:\n", "policies:\n  monthly-whole:\n"+policyText("berth-sim", "vault", "    prove: mount\n"), 1)
	other := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(other, []byte(changed), 0o600))
	keenOK(t, "site", "apply", other)
	backUp(t, "monthly-whole")
	require.Contains(t, keenOK(t, "store", "show", "vault"), "store vault, sealed")

	// The day on which there is neither a service nor a database.
	id := keenJSON[[]wire.Image](t, "image", "list", "--store", "vault")[0].ID
	t.Setenv("KEENLODGE_TOKEN_FILE", "/nonexistent")
	to := t.TempDir()
	require.Contains(t, keenOK(t, "store", "extract", folder), "berth-sim")
	written := strings.TrimSpace(keenOK(t, "store", "extract", folder, id, "--to", to))
	info, err := os.Stat(written)
	require.NoError(t, err)
	require.EqualValues(t, keenJSON[[]wire.Image](t, "image", "list", "--store", "vault")[0].Size, info.Size())
	t.Setenv("KEENLODGE_PASSPHRASE", passphrase)
	s = keen(t, "store", "extract", folder)
	require.Contains(t, s.err, "the key does not fit any of its 1 keys")

	for what, grep := range map[string]string{
		"the service's log": "grep -c -e 'ebb and flow' -e 'of several words' " + filepath.Join(place.Folder, "service.log"),
		"its state":         "grep -rc --exclude='system-*' -e 'ebb and flow' -e 'of several words' " + filepath.Join(place.Folder, "state") + " | grep -v ':0$' | wc -l",
		"the database":      "grep -rl -e 'ebb and flow' -e 'of several words' " + filepath.Join(place.Folder, "pg") + " | wc -l",
		"the store":         "grep -rl -e 'ebb and flow' -e 'of several words' -e berth-sim -e monthly-whole " + folder + " | wc -l",
	} {
		out, _ := exec.Command("sh", "-c", grep).Output()
		require.Equal(t, "0", strings.TrimSpace(string(out)), "secrets are in %s", what)
	}
}

// secondLodge starts a service on an empty database; keen runs the program against it.
func secondLodge(t *testing.T) (keen func(args ...string) said) {
	l := newLodging(t)
	_, address, _ := l.serve()
	keen = func(args ...string) said {
		return keenAt(t, "http://"+address, l.token, args...)
	}
	return keen
}

// The database is lost, and all that is left is a sealed store and a passphrase: an empty lodge adopts it, and machines, sets,
// images, pins and proofs are back; an image is proven and restored.
func TestLosingTheDatabase(t *testing.T) {
	file, _, err := place.Site()
	require.NoError(t, err)
	t.Cleanup(func() { keenOK(t, "site", "apply", file) })
	folder := sealedStore(t, "lifeboat")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	changed := strings.Replace(string(text), "stores:\n", "stores:\n"+storeText("lifeboat", folder)+"    sealed: true\n", 1)
	changed = strings.Replace(changed, "policies:\n", "policies:\n  monthly-whole:\n"+policyText("berth-sim, tickets-db", "lifeboat", "    prove: read\n"), 1)
	whole := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(whole, []byte(changed), 0o600))
	keenOK(t, "site", "apply", whole)
	backUp(t, "monthly-whole")
	backUp(t, "monthly-whole")
	before := keenJSON[[]wire.Image](t, "image", "list", "--store", "lifeboat")
	pinned := before[len(before)-1].ID
	keenOK(t, "image", "pin", pinned, "--note", "before the harbour upgrade")

	other := secondLodge(t)
	t.Setenv("KEENLODGE_PASSPHRASE", "not the one")
	s := other("store", "add", "lifeboat", "--folder", folder, "--sealed", "--yes")
	require.Equal(t, 1, s.code)
	require.Contains(t, s.err, "the key does not fit any of its 1 keys")
	s = other("store", "add", "lifeboat", "--folder", folder)
	require.Contains(t, s.err, "sealed")
	t.Setenv("KEENLODGE_PASSPHRASE", passphrase)
	s = other("store", "add", "lifeboat", "--folder", folder, "--sealed", "--yes")
	require.Equal(t, 0, s.code, s.err)
	require.Contains(t, s.out, "was there already")
	s = other("store", "adopt", "lifeboat", "-o", "json")
	require.Equal(t, 0, s.code, s.err)
	var a wire.Adopted
	require.NoError(t, json.Unmarshal([]byte(s.out), &a))
	require.Equal(t, []int{len(before), 2, 2, 1}, []int{a.Images, a.Sets, a.Machines, a.Pins})
	require.GreaterOrEqual(t, a.Proofs, len(before))

	s = other("image", "list", "-o", "json")
	var after []wire.Image
	require.NoError(t, json.Unmarshal([]byte(s.out), &after))
	require.Len(t, after, len(before))
	for i, m := range after {
		was := before[i]
		require.Equal(t, []any{was.ID, was.Machine, was.Policy, was.Consistency, was.Size, was.Stored, was.Disks, "read", "usable"},
			[]any{m.ID, m.Machine, m.Policy, m.Consistency, m.Size, m.Stored, m.Disks, string(m.Proven), string(m.State)})
		require.WithinDuration(t, was.Taken, m.Taken, time.Millisecond)
		require.Equal(t, m.ID == pinned, m.Pinned)
	}
	require.Contains(t, other("machine", "list").out, "berth-sim")
	require.Equal(t, 0, other("store", "check", "lifeboat", "--read").code)
	s = other("store", "adopt", "lifeboat")
	require.Contains(t, s.out, fmt.Sprintf("0 images in 2 sets adopted (%d were known)", len(before)))

	// The site file brings the rest back, and one machine is needed at once.
	s = other("site", "apply", whole)
	require.Equal(t, 0, s.code, s.err)
	var id string
	for _, m := range after {
		if m.Machine == "berth-sim" {
			id = m.ID
		}
	}
	s = other("image", "restore", id, "--as", "berth-sim-saved", "--wait")
	require.Equal(t, 0, s.code, s.out+s.err)
	require.Contains(t, virsh(t, "list", "--all", "--name"), "berth-sim-saved")
	virsh(t, "undefine", "berth-sim-saved")
}

// Two lodges write to one store while a third process sweeps it; nothing that is needed goes.
func TestTwoLodgesOnOneStore(t *testing.T) {
	forFaults(t, "it is a campaign")
	_, folder := freshStore(t, "weekly-system")
	other := secondLodge(t)
	s := other("store", "add", "shared", "--folder", folder)
	require.Equal(t, 0, s.code, s.err)
	r, err := lodge.RunPolicy(t.Context(), "weekly-system", "")
	require.NoError(t, err)
	for range 5 {
		s := other("store", "sweep", "shared")
		require.Equal(t, 0, s.code, s.err)
	}
	run, err := lodge.Watch(t.Context(), r.ID, func(wire.Run) {})
	require.NoError(t, err)
	require.Contains(t, []string{"done", "warned"}, string(run.State))
	require.Equal(t, 0, other("store", "sweep", "shared").code)
	require.Contains(t, other("store", "adopt", "shared").out, "1 images in 1 sets adopted")
	s = other("store", "check", "shared", "--read")
	require.Equal(t, 0, s.code, s.out)
}
