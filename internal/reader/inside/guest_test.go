package inside

import (
	"bytes"
	"context"
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
	os.Exit(m.Run())
}

// shelf is where the tests' disks are made, and what all guests have in common.
type shelf struct {
	t      *testing.T
	folder string
	files  string // of each disk
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
	g, err := reader.Start(s.t.Context(), s.folder, os.Args[0], disks)
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
	)
	require.True(t, g.Tree)
	by := map[string]reader.FileSystem{}
	for _, f := range g.FileSystems {
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
	require.Len(t, g.FileSystems, 10, "%+v", g.FileSystems)

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

// A file system that its kernel can't bear ends the reader guest, and nothing else; what can't be opened is told; nothing of a guest stays.
func TestHostileDisks(t *testing.T) {
	s := newShelf(t)
	torn := s.disk("vda", 64<<20, "mkfs.ext4 -q -d $d $f; dd if=/dev/urandom of=$f bs=1k seek=1 count=1 conv=notrunc status=none; printf '\\123\\357' | dd of=$f bs=1 seek=1080 conv=notrunc status=none")
	lost := s.disk("vdc", 64<<20, "mkfs.ext4 -q -d $d $f")
	lost.Disk = unreadable{lost.Disk, 8 << 10}
	g := s.start(torn, s.disk("vdb", 64<<20, "mkfs.ext4 -q -d $d $f"), lost)
	require.NotEmpty(t, g.FileSystems[0].Why)
	require.True(t, g.FileSystems[0].Refused)
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
	_, err = reader.Start(t.Context(), s.folder, "/bin/true", nil)
	require.ErrorIs(t, err, reader.ErrUnfit, "a program that is none of ours ends the guest at once")
}
