package inside

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"keenlodge/internal/fitting"
	"keenlodge/internal/reader"
	"keenlodge/internal/scratch"
)

// Disks go to others of other sizes, and the machine gets an identity of its own: what lies in them is whole afterwards by the word of each file system's
// own tool, has the room that there is, and holds what it held.
func TestFitting(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.large = true
	for p, content := range map[string]string{"etc/fstab": "UUID=5f2c3d84-1111-4222-8333-0123456789ab / ext4 defaults 0 1\nLABEL=records /records xfs defaults 0 2\n", "etc/hostname": "web\n", "etc/hosts": "127.0.0.1 localhost\n127.0.1.1 web.harbour.example web\n10.0.0.2 webmail\n",
		"etc/machine-id": "5f2c3d8411114222833301234567aaaa\n", "etc/netplan/50-card.yaml": "match: {macaddress: \"52:54:00:AA:00:01\"}\n", "var/lib/dhcp/client.leases": "lease {}\n", "var/lib/systemd/random-seed": "seed", "records/none": ""} {
		s.write(p, content)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(s.files, "etc/ssh"), 0o755))
	for _, kind := range []string{"ed25519", "ecdsa"} {
		out, err := exec.Command("ssh-keygen", "-q", "-N", "", "-t", kind, "-f", filepath.Join(s.files, "etc/ssh/ssh_host_"+kind+"_key")).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	was, err := os.ReadFile(filepath.Join(s.files, "etc/ssh/ssh_host_ed25519_key.pub"))
	require.NoError(t, err)
	disks := []reader.Disk{
		s.disk("vda", 100<<20, "printf '2048,122880,83\\n,,5\\n,20480,82\\n' | sfdisk -q $f; mkfs.ext4 -q -U 5f2c3d84-1111-4222-8333-0123456789ab -E offset=1048576 -d $d $f 60M"),
		s.disk("vdb", 300<<20, "printf 'label: gpt\\n2048,\\n' | sfdisk -q $f; mkfs.ext4 -q -E offset=1048576 -d $d $f 298M"),
		s.disk("vdc", 420<<20, `printf 'label: gpt\n2048,\n' | sfdisk -q $f; truncate -s 418M $f.p; mkfs.xfs -q -L records $f.p; m=$(mktemp -d); mount -o loop $f.p $m; cp -a $d/. $m/; umount $m; rmdir $m
			dd if=$f.p of=$f bs=1M seek=1 conv=notrunc,sparse status=none`),
		s.disk("vdd", 300<<20, "mkfs.btrfs -q -r $d $f"),
		s.disk("vde", 24<<20, "truncate -s 24M $f"),
		{Name: "vdf", Disk: s.group()}, // a volume group, whose volume grows with the disk below it
	}
	sizes := map[string]int64{"vda": 170 << 20, "vdb": 150 << 20, "vdc": 350 << 20, "vdd": 400 << 20, "vde": 30 << 20, "vdf": 120 << 20}
	want := map[string]int64{"vda1": 130, "vda5": 10, "vdb1": 148, "vdc1": 348, "vdd": 400, "vde": 30, "vdf": 120, "pier/records": 116}
	if os.Getenv("KEENLODGE_KILLS") == "" { // what gets smaller takes one more guest; make faults does it
		for _, name := range []string{"vdb", "vdc"} {
			disks = slices.DeleteFunc(disks, func(d reader.Disk) bool { return d.Name == name })
			delete(sizes, name)
			delete(want, name+"1")
		}
	}
	plans, err := fitting.Plans(disks, sizes)
	require.NoError(t, err)
	at := scratch.Folder(t.TempDir())
	start := reader.In(s.folder, os.Args[0])
	f, err := fitting.Fit(t.Context(), start, at, disks, plans, true)
	require.NoError(t, err)
	for i, p := range plans {
		require.Equal(t, sizes[p.Target], f.Disks[i].Size())
	}
	clones, err := f.Clones(t.Context(), start)
	require.NoError(t, err)
	_, before, err := clones.Next(t.Context(), reader.Identity{Host: "web-01", Cards: map[string]string{"52:54:00:aa:00:01": "52:54:00:bb:00:01"}})
	require.NoError(t, err)
	second, done, err := clones.Next(t.Context(), reader.Identity{Host: "web-02", Cards: map[string]string{"52:54:00:aa:00:01": "52:54:00:bb:00:02"}})
	require.NoError(t, err)
	require.NoError(t, clones.Close())
	t.Log(strings.Join(slices.Concat(f.Done, before, done), "\n"))

	g := s.start(second...)
	is := map[string]int64{}
	for _, o := range g.Opened().FileSystems {
		is[o.Name] = o.Size >> 20
		if slices.Contains([]string{"", "swap", "lvm"}, o.Format) {
			continue
		}
		require.Empty(t, o.Why, o.Name)
		require.Equal(t, "cabin 4\n", content(t, g, o.Name, "/etc/same", 0, -1), o.Name)
		require.Equal(t, int64(2_200_000), int64(len(content(t, g, o.Name, "/srv/large", 0, -1))), o.Name)
		c, err := g.Check(t.Context(), o.Name)
		require.NoError(t, err)
		require.True(t, c.Clean, "%s: %s", o.Name, c.Said)
	}
	require.Equal(t, want, is)
	require.True(t, g.Opened().Tree)
	require.Equal(t, "web-02\n", content(t, g, "", "/etc/hostname", 0, -1))
	require.Equal(t, "127.0.0.1 localhost\n127.0.1.1 web-02.harbour.example web-02\n10.0.0.2 webmail\n", content(t, g, "", "/etc/hosts", 0, -1))
	require.Regexp(t, "^[0-9a-f]{32}\n$", content(t, g, "", "/etc/machine-id", 0, -1))
	require.NotEqual(t, "5f2c3d8411114222833301234567aaaa\n", content(t, g, "", "/etc/machine-id", 0, -1))
	require.Contains(t, content(t, g, "", "/etc/netplan/50-card.yaml", 0, -1), "52:54:00:bb:00:02")
	require.NotContains(t, names(t, g, reader.Where{Path: "/var/lib/dhcp"}), "client.leases")
	key, err := ssh.ParsePrivateKey([]byte(content(t, g, "", "/etc/ssh/ssh_host_ed25519_key", 0, -1)))
	require.NoError(t, err)
	public := content(t, g, "", "/etc/ssh/ssh_host_ed25519_key.pub", 0, -1)
	require.Equal(t, string(ssh.MarshalAuthorizedKey(key.PublicKey())), public)
	require.NotEqual(t, strings.Fields(string(was))[1], strings.Fields(public)[1])
	require.Equal(t, "web\n", content(t, g, "vdd", "/etc/hostname", 0, -1), "what is no part of the tree is not looked at")

	require.NoError(t, f.Close())
	left, err := os.ReadDir(string(at))
	require.NoError(t, err)
	require.Empty(t, left)

	_, err = fitting.Plans(disks, map[string]int64{"vda": 20 << 20})
	require.ErrorContains(t, err, "disk vda: too small: what is on it needs a disk of ")
	_, err = fitting.Plans(disks, map[string]int64{"vdz": 20 << 20})
	require.ErrorContains(t, err, `the image has no disk vdz; did you mean`)
}
