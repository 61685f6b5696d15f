package inside

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/files"
	"keenlodge/internal/mount"
	"keenlodge/internal/reader"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == reader.Command { // this is a reader guest
		fmt.Fprintln(os.Stderr, Run(context.Background()))
		os.Exit(1)
	}
	if len(os.Args) > 2 && os.Args[1] == dying { // this process starts a guest, and is killed meanwhile
		_, err := reader.Start(context.Background(), os.Args[2], os.Args[0], nil, false)
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// dying is the argument of a process that is killed while its guest comes up.
const dying = "start-and-die"

// A guest whose process was killed before it had come up ends by itself.
func TestAnOrphanedGuest(t *testing.T) {
	if os.Getenv("KEENLODGE_KILLS") == "" {
		t.Skip("make faults does it: it waits for half a minute")
	}
	t.Parallel()
	folder := t.TempDir()
	cmd := exec.Command(os.Args[0], dying, folder)
	require.NoError(t, cmd.Start())
	up := func() bool { return exec.Command("pgrep", "-f", "path="+folder).Run() == nil }
	require.Eventually(t, up, 20*time.Second, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	require.Eventually(t, func() bool { return !up() }, 90*time.Second, 200*time.Millisecond)
	found, err := reader.Clean(folder)
	require.NoError(t, err)
	require.Len(t, found, 1)
}

// shelf is where the tests' disks are made, and what all guests have in common.
type shelf struct {
	t      *testing.T
	folder string
	files  string // of each disk
	large  bool
}

func newShelf(t *testing.T) *shelf {
	s := &shelf{t: t, folder: t.TempDir(), files: t.TempDir()}
	s.write("etc/list", "cabin 4\n")
	s.write("srv/large", strings.Repeat("passage 17\n", 200_000))
	require.NoError(t, os.Symlink("/etc/list", filepath.Join(s.files, "srv/link")))
	require.NoError(t, os.Symlink("../../../../../../etc/shadow", filepath.Join(s.files, "srv/out")))
	require.NoError(t, os.Link(filepath.Join(s.files, "etc/list"), filepath.Join(s.files, "etc/same")))
	holes, err := os.Create(filepath.Join(s.files, "srv/holes"))
	require.NoError(t, err)
	_, err = holes.WriteAt([]byte("end"), 1<<20)
	require.NoError(t, err)
	require.NoError(t, holes.Close())
	return s
}

func (s *shelf) write(p, content string) {
	place := filepath.Join(s.files, p)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(place), 0o755))
	require.NoError(s.t, os.WriteFile(place, []byte(content), 0o644))
}

// disk makes a disk by a script, in $f, with the files of $d.
func (s *shelf) disk(name string, size int64, script string) reader.Disk {
	s.t.Helper()
	f := filepath.Join(s.t.TempDir(), "disk")
	require.NoError(s.t, os.WriteFile(f, nil, 0o600))
	require.NoError(s.t, os.Truncate(f, size))
	cmd := exec.Command("sh", "-ec", script)
	cmd.Env = append(os.Environ(), "f="+f, "d="+s.files, "PATH=/usr/sbin:/sbin:"+os.Getenv("PATH"))
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, string(out))
	body, err := os.ReadFile(f)
	require.NoError(s.t, err)
	return reader.Disk{Name: name, Disk: disk.Memory(body)}
}

func (s *shelf) start(disks ...reader.Disk) *reader.Guest {
	s.t.Helper()
	g, err := reader.Start(s.t.Context(), s.folder, os.Args[0], disks, s.large)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { require.NoError(s.t, g.Close()) })
	return g
}

// names are those of a folder's entries.
func names(t *testing.T, g *reader.Guest, at reader.Where) (out []string) {
	t.Helper()
	in, err := g.List(t.Context(), at)
	require.NoError(t, err)
	defer in.Close()
	l, err := files.NewListReader(in)
	require.NoError(t, err)
	for {
		e, _, err := l.Next()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err)
		out = append(out, path.Base(e.Path))
	}
}

func content(t *testing.T, g *reader.Guest, system, p string, offset, length int64) string {
	t.Helper()
	found, in, err := g.Read(t.Context(), reader.Read{Where: reader.Where{FileSystem: system, Path: p}, Offset: offset, Length: length})
	require.NoError(t, err)
	defer in.Close()
	body, err := io.ReadAll(in)
	require.NoError(t, err)
	require.EqualValues(t, found.Length, len(body))
	return string(body)
}

// The disks of a machine are opened, whatever lies on them, and are one tree where they say how; links lead where they led on the machine, and nothing
// leads out.
func TestDisks(t *testing.T) {
	s := newShelf(t)
	s.write("etc/fstab", "# made up\nUUID=5f2c3d84-1111-4222-8333-0123456789ab / ext4 defaults 0 1\nLABEL=records /records xfs defaults 0 2\n/dev/vdc /media vfat ro 0 0\nUUID=0000 /nowhere ext4 defaults 0 2\n")
	for _, p := range []string{"records", "media"} {
		require.NoError(t, os.Mkdir(filepath.Join(s.files, p), 0o755))
	}
	ext := "mkfs.ext4 -q -U 5f2c3d84-1111-4222-8333-0123456789ab -L system -E offset=1048576 -d $d $f 60M"
	g := s.start(
		// A logical partition beside a primary one, and swap.
		s.disk("vda", 100<<20, "printf '2048,122880,83\\n,,5\\n,20480,82\\n,,83\\n' | sfdisk -q $f; "+ext+"; mkswap -q --offset $((512*$(sfdisk -l -o start $f | tail -n 2 | head -n 1))) $f 2>/dev/null || true"),
		s.disk("vdb", 400<<20, "printf 'label: gpt\\n2048,\\n' | sfdisk -q $f; truncate -s 380M $f.p; mkfs.xfs -q -L records $f.p; dd if=$f.p of=$f bs=1M seek=1 conv=notrunc,sparse status=none"),
		s.disk("vdc", 40<<20, "mkfs.vfat $f >/dev/null; mcopy -i $f $d/etc/list ::list"),
		s.disk("vdd", 300<<20, "mkfs.btrfs -q -r $d $f"),
		s.disk("vde", 1<<20, "true"),
		s.disk("vdf", 20<<20, "mksquashfs $d $f.s -quiet -no-progress >/dev/null; dd if=$f.s of=$f conv=notrunc status=none"),
		s.disk("vdg", 20<<20, "mkntfs -q -F $f 2>/dev/null; ntfscp -q $f $d/etc/list list"),
		s.disk("vdh", 20<<20, "xorriso -as mkisofs -quiet -R -o $f.i $d; dd if=$f.i of=$f conv=notrunc status=none"),
		s.disk("vdi", 20<<20, "mkfs.ext4 -q -F -d $d $f; debugfs -w -R 'clri /etc/list' $f 2>/dev/null"), // a name of a file that is gone
	)
	require.True(t, g.Opened().Tree)
	by := map[string]reader.FileSystem{}
	for _, f := range g.Opened().FileSystems {
		by[f.Name] = f
	}
	for name, want := range map[string][3]string{"vda1": {"ext4", "system", "/"}, "vdb1": {"xfs", "records", "/records"}, "vdc": {"vfat", "", "/media"}, "vdd": {"btrfs", "", ""}, "vdf": {"squashfs", "", ""}, "vdg": {"ntfs", "", ""}, "vdh": {"iso9660", "ISOIMAGE", ""}} {
		f := by[name]
		require.Empty(t, f.Why, name)
		if name == "vdc" {
			f.Label = ""
		}
		require.Equal(t, want, [3]string{f.Format, f.Label, f.Mounted}, name)
		require.Positive(t, f.Size)
	}
	require.Contains(t, by["vde"].Why, "no file system that is known")
	require.Len(t, g.Opened().FileSystems, 11, "%+v", g.Opened().FileSystems)

	require.Subset(t, names(t, g, reader.Where{Path: "/"}), []string{"etc", "records", "srv"})
	require.Equal(t, []string{"list"}, names(t, g, reader.Where{Path: "/media"}))
	require.Equal(t, []string{"list"}, names(t, g, reader.Where{Path: "/etc/list"}))
	for _, system := range []string{"", "vda1", "vdd", "vdf", "vdh"} {
		require.Equal(t, "cabin 4\n", content(t, g, system, "/etc/list", 0, -1), system)
		require.Equal(t, "cabin 4\n", content(t, g, system, "/srv/link", 0, -1), system)
		require.Equal(t, "assage", content(t, g, system, "/srv/large", 11*100_000+1, 6), system)
	}
	require.Equal(t, "cabin 4\n", content(t, g, "vdg", "/list", 0, -1))
	for p, why := range map[string]string{"/srv/out": "/srv/out is not there", "/nowhere/at/all": "is not there", "/etc": "/etc is a dir, and no file"} {
		_, _, err := g.Read(t.Context(), reader.Read{Where: reader.Where{FileSystem: "vda1", Path: p}, Length: -1})
		require.ErrorContains(t, err, why)
	}
	_, err := g.List(t.Context(), reader.Where{FileSystem: "vde", Path: "/"})
	require.ErrorContains(t, err, "file system vde is not open")
	_, err = g.List(t.Context(), reader.Where{FileSystem: "vdz", Path: "/"})
	require.ErrorContains(t, err, `no file system is called "vdz"`)

	c, err := g.Count(t.Context(), "vda1")
	require.NoError(t, err)
	require.EqualValues(t, 5, c.Read, "list, same, fstab, large, holes: %+v", c)
	require.Greater(t, c.Bytes, int64(3<<20))
	where, err := g.Locate(t.Context(), reader.Locate{FileSystem: "vda1", Ranges: []mount.Range{{Offset: 0, Length: 60 << 20}, {Offset: 60 << 20, Length: 4096}}})
	require.NoError(t, err)
	require.Contains(t, where[0], "srv/large")
	require.Empty(t, where[1])
	require.NoError(t, g.Trouble())

	in, err := g.Archive(t.Context(), reader.Where{Path: "/srv"})
	require.NoError(t, err)
	defer in.Close()
	got := map[string]files.Entry{}
	for r := files.NewReader(in); ; {
		step, err := r.Next()
		require.NoError(t, err)
		if step.Last != nil {
			break
		}
		body, err := io.ReadAll(step.Entry.Flowing(r))
		require.NoError(t, err)
		if step.Entry.Path == "srv/holes" {
			require.True(t, bytes.Equal(append(make([]byte, 1<<20), "end"...), body))
			require.NotEmpty(t, step.Entry.Data)
		}
		got[step.Entry.Path] = *step.Entry
	}
	require.Equal(t, "/etc/list", got["srv/link"].Target)
	require.EqualValues(t, 2_200_000, got["srv/large"].Size)
	require.Contains(t, got, "srv")
	require.NotContains(t, got, "etc/list")
	require.NoError(t, in.Close())

	// Their own tools find the damage that there is, and no other; afterwards all is open again.
	for name, tool := range map[string]string{"vda1": "e2fsck", "vdb1": "xfs_repair", "vdc": "fsck.fat", "vdd": "btrfs", "vdf": ""} {
		c, err := g.Check(t.Context(), name)
		require.NoError(t, err, name)
		require.Equal(t, tool, c.Tool, name)
		require.Equal(t, tool != "", c.Clean, "%s: %s", name, c.Said)
	}
	damaged, err := g.Check(t.Context(), "vdi")
	require.NoError(t, err)
	require.False(t, damaged.Clean)
	require.Contains(t, damaged.Said, "list")
	_, err = g.Check(t.Context(), "vdz")
	require.ErrorContains(t, err, "there is no file system")
	require.Equal(t, []string{"list"}, names(t, g, reader.Where{Path: "/media"}))
}

var errGone = errors.New("the store is gone")

// unreadable is a disk of which nothing can be read from a byte on.
type unreadable struct {
	disk.Disk
	from int64
}

func (u unreadable) ReadAt(p []byte, offset int64) (int, error) {
	if offset+int64(len(p)) > u.from {
		return 0, errGone
	}
	return u.Disk.ReadAt(p, offset)
}

// A program of the machine's own runs in its tree, may write there, and leaves nothing running; nothing of what it does gets into the disk.
func TestAProgramOfTheMachine(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.write("etc/fstab", "/dev/vda / ext4 defaults 0 1\n")
	libraries, err := exec.Command("sh", "-c", `ldd /bin/sh /usr/bin/sleep /usr/bin/cat | grep -o '/[^ )]*'| grep -v :`).Output()
	require.NoError(t, err)
	for _, file := range append(strings.Fields(string(libraries)), "/bin/sh", "/usr/bin/sleep", "/usr/bin/cat") {
		body, err := os.ReadFile(file)
		require.NoError(t, err)
		s.write(file, string(body))
		require.NoError(t, os.Chmod(filepath.Join(s.files, file), 0o755))
	}
	for _, folder := range []string{"dev", "proc", "tmp"} {
		require.NoError(t, os.MkdirAll(filepath.Join(s.files, folder), 0o755))
	}
	d := s.disk("vda", 40<<20, "mkfs.ext4 -q -d $d $f")
	before := bytes.Clone(d.Disk.(disk.Memory))
	g := s.start(d)
	run := func(within time.Duration, script string) reader.Executed {
		x, err := g.Execute(t.Context(), reader.Execute{Command: []string{"sh", "-c", script}, Limit: within})
		require.NoError(t, err)
		return x
	}
	c, err := g.Check(t.Context(), "vda")
	require.NoError(t, err)
	require.True(t, c.Clean, c.Said)
	require.Equal(t, reader.Executed{Code: 3, Said: "cabin 4\ncabin 5\n"}, run(time.Minute, "echo cabin 5 >>/etc/list; cat /etc/list; [ -c /dev/null ] && [ $$ -lt 9 ] && echo gone >/tmp/x && sleep 300 & exit 3"))
	require.Equal(t, reader.Executed{Code: 1, Said: ""}, run(time.Minute, "for p in /proc/[0-9]*; do case $(cat $p/comm 2>/dev/null) in sleep) echo still there; esac; done; exit 1"))
	require.True(t, run(time.Second, "sleep 300").Late)
	x, err := g.Execute(t.Context(), reader.Execute{Command: []string{"no-such-tool"}, Limit: time.Minute})
	require.NoError(t, err)
	require.Equal(t, 127, x.Code)
	require.Contains(t, x.Said, "not found")
	require.Equal(t, "cabin 4\ncabin 5\n", content(t, g, "", "/etc/list", 0, -1))
	require.True(t, bytes.Equal(before, d.Disk.(disk.Memory)))

	none := s.start(s.disk("vdb", 40<<20, "true"))
	_, err = none.Execute(t.Context(), reader.Execute{Command: []string{"true"}, Limit: time.Minute})
	require.ErrorContains(t, err, "no tree in which a program")
}

// A file system that its kernel can't bear ends the reader guest, and nothing else; what can't be opened is told; nothing of a guest stays.
func TestHostileDisks(t *testing.T) {
	s := newShelf(t)
	torn := s.disk("vda", 64<<20, "mkfs.ext4 -q -d $d $f; dd if=/dev/urandom of=$f bs=1k seek=1 count=1 conv=notrunc status=none; printf '\\123\\357' | dd of=$f bs=1 seek=1080 conv=notrunc status=none")
	lost := s.disk("vdc", 64<<20, "mkfs.ext4 -q -d $d $f")
	lost.Disk = unreadable{lost.Disk, 8 << 10}
	g := s.start(torn, s.disk("vdb", 64<<20, "mkfs.ext4 -q -d $d $f"), lost)
	require.NotEmpty(t, g.Opened().FileSystems[0].Why)
	require.True(t, g.Opened().FileSystems[0].Refused)
	_, err := g.Count(t.Context(), "vdc")
	require.Error(t, err)
	require.ErrorIs(t, g.Trouble(), errGone, "what the guest says then says nothing of the file system")
	require.Equal(t, "cabin 4\n", content(t, g, "vdb", "/etc/list", 0, -1))
	_, in, err := g.Read(t.Context(), reader.Read{Where: reader.Where{FileSystem: "vdb", Path: "/srv/large"}, Length: -1})
	require.NoError(t, err)
	defer in.Close()

	// One that hangs, over what it opens, holds nobody for longer than they want to wait.
	qemu, err := exec.Command("pgrep", "-f", s.folder).Output()
	require.NoError(t, err)
	stop := func(signal string) {
		require.NoError(t, exec.Command("kill", append([]string{signal}, strings.Fields(string(qemu))...)...).Run())
	}
	stop("-STOP")
	soon, end := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer end()
	_, err = g.List(soon, reader.Where{FileSystem: "vdb", Path: "/"})
	require.ErrorIs(t, err, context.DeadlineExceeded)
	stop("-CONT")

	g.Kill() // as a panic of its kernel does
	<-g.Ended()
	_, err = g.List(t.Context(), reader.Where{FileSystem: "vdb", Path: "/"})
	require.ErrorContains(t, err, "the reader guest ended")
	require.NoError(t, g.Close())
	left, err := filepath.Glob(filepath.Join(s.folder, "guest-*"))
	require.NoError(t, err)
	require.Empty(t, left)
	_, err = reader.Start(t.Context(), s.folder, "/bin/true", nil, false)
	require.ErrorIs(t, err, reader.ErrUnfit, "a program that is none of ours ends the guest at once")
}

// What lies over partitions is opened, whatever lies over what: arrays, logical volumes in them, and in what is locked, for who has the key; a btrfs with
// the machine's root in a subvolume is its tree. The disks are made in a guest of the same kind, for this host is not to make such devices.
func TestVolumes(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"mdadm", "lvm", "cryptsetup"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(err)
		}
	}
	s := newShelf(t)
	s.large = true
	disks := s.volumes()[1:] // half of a mirror is enough
	subvolumes := s.disk("vdd", 300<<20, `mkfs.btrfs -q -U 5f2c3d84-2222-4222-8333-0123456789ab $f; m=$(mktemp -d); mount -o loop $f $m; trap "umount $m; rmdir $m" EXIT
		btrfs -q subvolume create $m/@; btrfs -q subvolume create $m/@home; cp -a $d/. $m/@/; mkdir $m/@/home $m/@/private; echo private > $m/@home/letter
		printf 'UUID=5f2c3d84-2222-4222-8333-0123456789ab / btrfs subvol=@ 0 1\nUUID=5f2c3d84-2222-4222-8333-0123456789ab /home btrfs defaults,subvol=/@home 0 1\n/dev/mapper/pier-records /srv ext4 defaults 0 2\n/dev/mapper/letters /private ext4 defaults 0 2\n' > $m/@/etc/fstab
		echo 'letters UUID=5f2c3d84-3333-4222-8333-0123456789ab none luks' > $m/@/etc/crypttab`)
	g := s.start(append(disks, subvolumes)...)
	by := map[string]reader.FileSystem{}
	for _, f := range g.Opened().FileSystems {
		by[f.Name] = f
	}
	require.Equal(t, "ext4", by["pier/records"].Format, "%+v", by)
	require.Empty(t, by["pier/records"].Why)
	require.Equal(t, "cabin 4\n", content(t, g, "pier/records", "/etc/list", 0, -1))
	require.True(t, g.Opened().Tree)
	require.Equal(t, "/", by["vdd"].Mounted)
	require.Equal(t, "/srv", by["pier/records"].Mounted)
	for p, want := range map[string]string{"/etc/list": "cabin 4\n", "/home/letter": "private\n", "/srv/etc/list": "cabin 4\n"} {
		require.Equal(t, want, content(t, g, "", p, 0, -1), p)
	}
	require.Equal(t, "private\n", content(t, g, "vdd", "/@home/letter", 0, -1))
	require.Contains(t, by["vdb"].Why, "it is a part of an array, md0")
	require.True(t, by["vdc"].Locked)
	require.NotContains(t, by, "vdc-unlocked")

	err := g.Unlock(t.Context(), reader.Unlock{FileSystem: "vdc", Key: []byte("another")})
	require.ErrorContains(t, err, "the key does not open vdc")
	require.ErrorContains(t, g.Unlock(t.Context(), reader.Unlock{FileSystem: "vdb", Key: []byte("turnstile 4")}), `nothing that is locked is called "vdb"`)
	require.NoError(t, g.Unlock(t.Context(), reader.Unlock{FileSystem: "vdc", Key: []byte("turnstile 4\n")}))
	for system, p := range map[string]string{"vdc-unlocked": "/etc/list", "": "/private/etc/list", "vdd": "/@/etc/list"} {
		require.Equal(t, "cabin 4\n", content(t, g, system, p, 0, -1), system)
	}
	require.Equal(t, "cabin 4\n", content(t, g, "", "/srv/etc/list", 0, -1), "the tree was put together anew")
}

// What lies in what was locked may be the machine's root, and beside it lies its /boot.
func TestAnEncryptedRoot(t *testing.T) {
	if os.Getenv("KEENLODGE_KILLS") == "" {
		t.Skip("make faults does it: it waits for a guest")
	}
	t.Parallel()
	s := newShelf(t)
	s.large = true
	s.write("etc/fstab", "/dev/mapper/root / ext4 defaults 0 1\nLABEL=starts /boot ext4 defaults 0 2\n")
	s.write("etc/crypttab", "root /dev/disk/by-uuid/5f2c3d84-3333-4222-8333-0123456789ab none luks\n")
	require.NoError(t, os.Mkdir(filepath.Join(s.files, "boot"), 0o755))
	g := s.start(s.locked(), s.disk("vda", 20<<20, "mkfs.ext4 -q -L starts -d $d/srv $f"))
	require.False(t, g.Opened().Tree, "the only one that is open is not the machine's root")
	require.NoError(t, g.Unlock(t.Context(), reader.Unlock{FileSystem: "vdc", Key: []byte("turnstile 4")}))
	require.True(t, g.Opened().Tree)
	require.Equal(t, "assage", content(t, g, "", "/boot/large", 11*100_000+1, 6))
	require.Equal(t, "cabin 4\n", content(t, g, "", "/etc/list", 0, -1))
}

// volumes makes two disks that mirror each other, with a logical volume on them, and one that is encrypted. No device of this host's kernel is made for it
// but a loop device for a moment: an array is no more than its superblocks, a volume no more than what its group says.
func (s *shelf) volumes() []reader.Disk {
	s.t.Helper()
	group := s.group()
	var out []reader.Disk
	for i := range 2 {
		out = append(out, reader.Disk{Name: fmt.Sprintf("vd%c", 'a'+i), Disk: mirrored(group, i)})
	}
	return append(out, s.locked())
}

// group makes a volume group, with a volume in it.
func (s *shelf) group() disk.Memory {
	s.t.Helper()
	const config = `--config 'devices{use_devicesfile=0 obtain_device_list_from_udev=0 filter=["a|^'$l'$|","r|.*|"]} activation{udev_sync=0 udev_rules=0 monitoring=0} backup{backup=0 archive=0}' --nolocking`
	return s.disk("group", 60<<20, `l=$(losetup --find --show $f); trap "losetup -d $l" EXIT
		export LVM_SUPPRESS_FD_WARNINGS=1 DM_DISABLE_UDEV=1
		lvm pvcreate -q -ff -y `+config+` $l; lvm vgcreate -q `+config+` pier $l; lvm lvcreate --driverloaded n -q -an -Zn -Wn -l 10 -n records `+config+` pier
		truncate -s 40M $f.fs; mkfs.ext4 -q -d $d $f.fs; dd if=$f.fs of=$l bs=1M seek=1 conv=notrunc status=none; sync`).Disk.(disk.Memory)
}

// locked makes a disk that is encrypted.
func (s *shelf) locked() reader.Disk {
	return s.disk("vdc", 96<<20, `mkfs.ext4 -q -d $d $f 60M
		printf 'turnstile 4' | cryptsetup reencrypt --encrypt --type luks2 --reduce-device-size 32M --pbkdf-memory 65536 --pbkdf-force-iterations 4 --batch-mode --key-file - $f 2>&1
		cryptsetup luksUUID --batch-mode --uuid 5f2c3d84-3333-4222-8333-0123456789ab $f`)
}

// mirrored is a member of a mirror of two, which has data from 1 MiB on (Linux, include/uapi/linux/raid/md_p.h, version 1.2).
func mirrored(data disk.Memory, i int) disk.Memory {
	const at, begin = 4096, 1 << 20
	out := make(disk.Memory, begin+len(data))
	copy(out[begin:], data)
	sb, le := out[at:at+260], binary.LittleEndian
	le.PutUint32(sb[0:], 0xa92b4efc)
	le.PutUint32(sb[4:], 1)
	copy(sb[16:32], "the pier's array")
	copy(sb[32:64], "gate-07:0")
	le.PutUint64(sb[64:], 1_790_000_000)
	le.PutUint32(sb[72:], 1)                         // level
	le.PutUint64(sb[80:], uint64(len(data)/512))     // sectors of each member
	le.PutUint32(sb[92:], 2)                         // members
	le.PutUint64(sb[128:], begin/512)                // where data begins
	le.PutUint64(sb[136:], uint64(len(data)/512))    // how much that is
	le.PutUint64(sb[144:], at/512)                   // where this lies
	le.PutUint32(sb[160:], uint32(i))                // which one it is
	copy(sb[168:184], fmt.Sprintf("member %09d", i)) // its own UUID
	le.PutUint64(sb[192:], 1_790_000_000)
	le.PutUint64(sb[200:], 20)         // events
	le.PutUint64(sb[208:], ^uint64(0)) // in step from begin to end
	le.PutUint32(sb[220:], 2)          // roles
	le.PutUint16(sb[256:], 0)
	le.PutUint16(sb[258:], 1)
	sum := uint64(0)
	for k := 0; k < len(sb); k += 4 {
		sum += uint64(le.Uint32(sb[k:]))
	}
	le.PutUint32(sb[216:], uint32(sum)+uint32(sum>>32))
	return out
}

// Whatever a member of an array says of itself, it gets a name that is none of a disk's, or none at all.
func TestNameOfArray(t *testing.T) {
	for told, want := range map[string][2]string{
		"MD_UUID=6e0c:11\nMD_NAME=gate-07:0\n":    {"6e0c:11", "md0"},
		"MD_UUID=6e0c:11\nMD_NAME=gate-07:a/b\n":  {"6e0c:11", "a-b"},
		"MD_UUID=6e0c11aa:11\nMD_NAME=gate-07:\n": {"6e0c11aa:11", "md6e0c11aa"},
		"MD_UUID=6e0c\nMD_LEVEL=raid1\nMD_NAME\n": {"6e0c", "md6e0c"},
		"MD_UUID=\nMD_NAME=\n":                    {"", ""},
		"":                                        {"", ""},
	} {
		uuid, name := nameOfArray(told)
		require.Equal(t, want, [2]string{uuid, name}, told)
	}
}
