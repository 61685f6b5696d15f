package unpack

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/tree"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
)

// archived is a folder as an archive, with all below it.
func archived(t *testing.T, root string) []byte {
	t.Helper()
	c, err := tree.Begin(t.Context(), t.TempDir(), tree.Offer{Root: root, Settings: t.TempDir()}, line.Walk{ID: image.NewID(), Files: line.Files{Folders: []string{"/"}, Personal: true}})
	require.NoError(t, err)
	send, err := c.Archive(t.Context(), 0)
	require.NoError(t, err)
	here, there := net.Pipe()
	failed := make(chan error, 1)
	go func() { failed <- send(there); there.Close() }()
	body, err := io.ReadAll(here)
	require.NoError(t, err)
	require.NoError(t, <-failed)
	require.NoError(t, c.End(false))
	return body
}

// contents are the entries of an archive with their contents, as texts.
func contents(t *testing.T, archive []byte) (out []string) {
	t.Helper()
	r := files.NewReader(bytes.NewReader(archive))
	for {
		s, err := r.Next()
		require.NoError(t, err)
		if s.Last != nil {
			return out
		}
		if s.Entry == nil {
			continue
		}
		e := *s.Entry
		body, err := io.ReadAll(e.Flowing(r))
		require.NoError(t, err)
		if e.Path == "." {
			continue // what is held lies below it
		}
		e.Data = nil
		out = append(out, fmt.Sprintf("%s %x", files.AppendEntry(nil, &e), blake3.Sum256(body)))
	}
}

// listed is the list of an archive.
func listed(t *testing.T, archive []byte) *files.ListReader {
	t.Helper()
	out := []byte(files.ListHead)
	r := files.NewReader(bytes.NewReader(archive))
	for {
		s, err := r.Next()
		require.NoError(t, err)
		if s.Last != nil {
			break
		}
		if s.Entry != nil {
			_, err := io.Copy(io.Discard, r)
			require.NoError(t, err)
			out = files.AppendEntry(out, s.Entry)
		}
	}
	l, err := files.NewListReader(bytes.NewReader(out))
	require.NoError(t, err)
	return l
}

// grow makes a random tree in a folder: few names, so that two trees have many in common, and as different things.
func grow(t *testing.T, rng *rand.Rand, folder string, depth int) {
	t.Helper()
	var made []string
	for _, name := range []string{"a", "b.txt", "c", "d\xffodd", ".e", "f"} {
		p, what := filepath.Join(folder, name), 9
		switch rng.IntN(9) {
		case 0, 1, 2:
			what = rng.IntN(3)
			require.NoError(t, os.WriteFile(p, bytes.Repeat([]byte{byte('0' + what)}, rng.IntN(3)*1000), 0o600))
			made = append(made, p)
		case 3:
			f, err := os.Create(p)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte("beyond a hole"), 1<<20)
			require.NoError(t, errors.Join(err, f.Close()))
		case 4:
			require.NoError(t, os.Symlink([]string{"a", "/etc/passwd", "../../.."}[rng.IntN(3)], p))
		case 5:
			require.NoError(t, unix.Mkfifo(p, 0o600))
		case 6:
			if what = -1; len(made) > 0 {
				require.NoError(t, os.Link(made[rng.IntN(len(made))], p))
			}
		case 7, 8:
			require.NoError(t, os.Mkdir(p, 0o700))
			if depth > 0 {
				grow(t, rng, p, depth-1)
			}
		}
		st, err := os.Lstat(p)
		if err != nil || st.Mode()&os.ModeSymlink != 0 || what < 0 {
			continue
		}
		if os.Geteuid() == 0 && st.Mode().IsRegular() && rng.IntN(4) == 0 { // an ACL that lets user 1000 read, and what a program may do without root
			require.NoError(t, unix.Lsetxattr(p, "system.posix_acl_access", []byte("\x02\x00\x00\x00\x01\x00\x06\x00\xff\xff\xff\xff\x02\x00\x04\x00\xe8\x03\x00\x00\x04\x00\x00\x00\xff\xff\xff\xff\x10\x00\x04\x00\xff\xff\xff\xff\x20\x00\x00\x00\xff\xff\xff\xff"), 0))
		}
		if rng.IntN(3) == 0 && st.Mode()&os.ModeNamedPipe == 0 {
			require.NoError(t, unix.Lsetxattr(p, "user.note", []byte{byte(rng.IntN(3)), 0}, 0))
		}
		require.NoError(t, os.Chmod(p, []os.FileMode{0o600, 0o755, 0o500}[rng.IntN(3)]))
		if os.Geteuid() == 0 {
			require.NoError(t, os.Lchown(p, rng.IntN(2)*1000, 0))
			if st.Mode().IsRegular() && rng.IntN(4) == 0 { // cap_net_bind_service
				require.NoError(t, unix.Lsetxattr(p, "security.capability", []byte("\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"), 0))
			}
		}
		require.NoError(t, os.Chtimes(p, time.Time{}, time.Unix(1_790_000_000+int64(2*what+rng.IntN(2)), 5) /* what has the same size and time has the same content */))
	}
}

type bench struct {
	t     *testing.T
	place Place
	order back.Order
	image []byte
}

func newBench(t *testing.T, archive []byte, rule back.Existing) *bench {
	return &bench{t, Place{Root: t.TempDir(), Writable: []string{"/"}, Folder: t.TempDir()},
		back.Order{ID: image.NewID(), Roots: []back.Root{{From: ".", To: "."}}, Existing: rule, Keep: true, Whole: []string{"."}, Moment: time.Unix(1_795_000_000, 0)}, archive}
}

func (b *bench) plan() *Restore {
	b.t.Helper()
	r, err := b.place.Plan(b.t.Context(), b.order, listed(b.t, b.image))
	require.NoError(b.t, err)
	return r
}

func (b *bench) put(r *Restore) (back.Done, error) {
	b.t.Helper()
	return r.Put(b.t.Context(), files.NewReader(bytes.NewReader(b.image)), func(back.Progress) {})
}

// Whatever is there, a folder that shall be as it was is that afterwards, the plan said what became of each path, and it can be taken back; other rules
// lose nothing. A restore that was stopped anywhere goes on when it is asked for again.
func TestAnyFolder(t *testing.T) {
	for seed := range uint64(40) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			rng := rand.New(rand.NewPCG(seed, 1))
			was := t.TempDir()
			grow(t, rng, was, 2)
			b := newBench(t, archived(t, was), back.Rules[rng.IntN(len(back.Rules))])
			grow(t, rng, b.place.Root, 2)
			b.order.Delete = b.order.Existing == back.Replace && rng.IntN(2) == 0
			before := contents(t, archived(t, b.place.Root))
			r := b.plan()
			require.Equal(t, r.Digest(), b.plan().Digest(), "to look changes nothing")

			if rng.IntN(2) == 0 { // it is stopped once
				short := b.image[:rng.IntN(len(b.image)-3000)]
				_, err := r.Put(t.Context(), files.NewReader(bytes.NewReader(short)), func(back.Progress) {})
				require.ErrorIs(t, err, files.ErrCut)
				r = b.plan()
			}
			done, err := b.put(r)
			require.NoError(t, err)
			for _, a := range []back.Action{back.Make, back.Beside, back.Replacing, back.Delete} {
				require.Equal(t, r.Counts[a].Paths, done.Counts[a].Paths, "%s: %+v %+v", a, done, r.Counts)
			}
			require.Empty(t, done.Failed)
			after := contents(t, archived(t, b.place.Root))
			switch {
			case b.order.Delete:
				require.Equal(t, contents(t, b.image), after)
			case b.order.Existing == back.Replace:
				refused := r.Counts[back.Refuse].Paths
				missing := 0
				for _, e := range contents(t, b.image) {
					if !slicesContain(after, e) {
						missing++
					}
				}
				require.LessOrEqual(t, int64(missing), refused+int64(countDirs(r)), "%v", r.Steps)
			case b.order.Existing != back.Newer: // nothing that was there is another one
				for _, e := range before {
					if !strings.Contains(e, "type=dir") {
						require.Contains(t, after, e)
					}
				}
			}
			again := b.plan()
			for _, s := range again.Steps {
				require.False(t, s.Action.Acts() && s.Action != back.Amend, "%+v", s)
			}

			done, err = b.place.Undo(t.Context(), b.order.ID, func(back.Progress) {})
			require.NoError(t, err)
			require.Empty(t, done.Failed)
			require.Equal(t, withoutTimes(before), withoutTimes(contents(t, archived(t, b.place.Root))))
			_, err = b.place.Undo(t.Context(), b.order.ID, func(back.Progress) {})
			require.ErrorIs(t, err, ErrGone)
			require.NoDirExists(t, filepath.Join(b.place.Root, files.HeldFolder))
		})
	}
}

func slicesContain(all []string, one string) bool {
	for _, a := range all {
		if a == one {
			return true
		}
	}
	return false
}

func countDirs(r *Restore) (n int) {
	for _, s := range r.Steps {
		if s.Kind == files.Dir {
			n++
		}
	}
	return n
}

// withoutTimes are contents without the times of folders: what was written in them changes those.
func withoutTimes(all []string) (out []string) {
	for _, e := range all {
		if strings.Contains(e, "type=dir") {
			if i := strings.Index(e, "time="); i >= 0 {
				end := strings.IndexAny(e[i:], " \n")
				e = e[:i] + e[i+end:]
			}
		}
		out = append(out, e)
	}
	return out
}

// one is an archive of a folder with these files.
func one(t *testing.T, contents map[string]string) []byte {
	t.Helper()
	folder := t.TempDir()
	for p, text := range contents {
		place := filepath.Join(folder, p)
		require.NoError(t, os.MkdirAll(filepath.Dir(place), 0o755))
		require.NoError(t, os.WriteFile(place, []byte(text), 0o644))
	}
	return archived(t, folder)
}

func (b *bench) write(p, text string) {
	b.t.Helper()
	place := filepath.Join(b.place.Root, p)
	require.NoError(b.t, os.MkdirAll(filepath.Dir(place), 0o755))
	require.NoError(b.t, os.WriteFile(place, []byte(text), 0o644))
}

func (b *bench) read(p string) string {
	b.t.Helper()
	body, err := os.ReadFile(filepath.Join(b.place.Root, p))
	require.NoError(b.t, err)
	return string(body)
}

// Files are those of whose names they are, whatever number these have here; who has no name here keeps the number.
func TestOwnersByName(t *testing.T) {
	b := newBench(t, nil, back.Replace)
	var archive bytes.Buffer
	w := files.NewWireWriter(&archive)
	for _, c := range [][2]string{{"known", "daemon"}, {"unknown", "nobody-of-this-name"}} {
		require.NoError(t, w.Entry(&files.Entry{Path: c[0], Kind: files.File, Mode: 0o600, UID: 4242, GID: 4243, Owner: c[1], Group: c[1], Modified: b.order.Moment}))
	}
	require.NoError(t, w.Close(files.Last{}))
	b.image = archive.Bytes()
	_, err := b.put(b.plan())
	require.NoError(t, err)
	daemon, err := user.Lookup("daemon")
	require.NoError(t, err)
	var st unix.Stat_t
	require.NoError(t, unix.Stat(filepath.Join(b.place.Root, "known"), &st))
	require.Equal(t, daemon.Uid+":"+daemon.Gid, fmt.Sprintf("%d:%d", st.Uid, st.Gid))
	require.NoError(t, unix.Stat(filepath.Join(b.place.Root, "unknown"), &st))
	require.Equal(t, "4242:4243", fmt.Sprintf("%d:%d", st.Uid, st.Gid))
}

// What changes after it was looked at stays as it is, is named, and holds up nothing else; a link that somebody makes meanwhile leads nowhere.
func TestAMachineThatChanges(t *testing.T) {
	b := newBench(t, one(t, map[string]string{"srv/list": "cabin 4\n", "srv/new": "cabin 5\n", "srv/deep/plan": "deck 2\n", "srv/last": "pier\n"}), back.Replace)
	b.write("srv/list", "cabin 17\n")
	b.write("srv/deep/plan", "deck 9\n")
	outside := t.TempDir()
	r := b.plan()
	b.write("srv/list", "cabin 18\n")
	b.write("srv/new", "somebody's\n")
	require.NoError(t, os.RemoveAll(filepath.Join(b.place.Root, "srv/deep")))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "plan"), []byte("not ours\n"), 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(b.place.Root, "srv/deep")))
	done, err := b.put(r)
	require.NoError(t, err)
	failed := map[string]string{}
	for _, f := range done.Failed {
		failed[f.Path] = f.Why
	}
	require.Contains(t, failed["/srv/list"], "it changed since it was looked at")
	require.Contains(t, failed["/srv/new"], "it changed since it was looked at")
	require.Contains(t, failed["/srv/deep/plan"], "too many levels of symbolic links")
	require.Equal(t, "cabin 18\n", b.read("srv/list"))
	require.Equal(t, "somebody's\n", b.read("srv/new"))
	require.Equal(t, "pier\n", b.read("srv/last"))
	body, err := os.ReadFile(filepath.Join(outside, "plan"))
	require.NoError(t, err)
	require.Equal(t, "not ours\n", string(body))

	// Where a link is there from the start, that is seen beforehand.
	steps := map[string]back.Step{}
	for _, s := range b.plan().Steps {
		steps[s.Path] = s
	}
	require.Equal(t, back.Replacing, steps["srv/deep"].Action, "the link itself, and not what it leads to")
	b.order.Existing = back.KeepBoth
	for _, s := range b.plan().Steps {
		if s.Path == "srv/deep" || s.Path == "srv/deep/plan" {
			require.Equal(t, back.Refuse, s.Action, "%+v", s)
		}
	}

	// What was changed after the restore is left when it is taken back.
	b.order.Existing, b.order.ID = back.Replace, image.NewID()
	done, err = b.put(b.plan())
	require.NoError(t, err)
	require.Empty(t, done.Failed)
	b.write("srv/list", "cabin 19\n")
	undone, err := b.place.Undo(t.Context(), b.order.ID, func(back.Progress) {})
	require.NoError(t, err)
	require.Equal(t, []back.Failure{{Path: "/srv/list", Why: errElse.Error()}}, undone.Failed)
	require.Equal(t, "cabin 19\n", b.read("srv/list"))
	require.Equal(t, "somebody's\n", b.read("srv/new"))
	b.order.Roots = []back.Root{{From: ".", To: "srv/../.."}}
	_, err = b.place.Plan(t.Context(), b.order, listed(t, b.image))
	require.ErrorContains(t, err, "these are no paths")
}

// Only where the image holds all of a folder is anything superfluous: not in folders on the way to what it holds, and not in file systems that lie over
// a folder of it.
func TestWhatIsNotSuperfluous(t *testing.T) {
	b := newBench(t, one(t, map[string]string{"srv/berths/list": "cabin 4\n", "srv/berths/open/plan": "deck 2\n", "srv/berths/shore/rota": "two\n"}), back.Replace)
	require.NoError(t, os.MkdirAll(filepath.Join(b.place.Root, "srv/berths/open"), 0o755))
	for _, p := range []string{"keel", "srv/fares", "srv/berths/old", "srv/berths/open/old", "srv/berths/shore/old", "srv/berths/kept.tmp"} {
		b.write(p, "here\n")
	}
	deleted := func() (out []string) {
		t.Helper()
		for _, s := range b.plan().Steps {
			if s.Action == back.Delete {
				out = append(out, s.Path)
			}
		}
		return out
	}
	b.order.Delete, b.order.Whole, b.order.Spare = true, []string{"srv/berths"}, []string{"*.tmp"}
	require.Equal(t, []string{"srv/berths/open/old", "srv/berths/shore/old", "srv/berths/old"}, deleted())
	b.order.Whole = nil
	require.Empty(t, deleted())
	b.order.Whole, b.order.Spare = []string{"."}, nil
	require.Len(t, deleted(), 6)

	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	require.NoError(t, os.Remove(filepath.Join(b.place.Root, "srv/berths/open/old")))
	for _, p := range []string{"srv/berths/open", "srv/berths/new"} { // one over a folder of the image, one over what is superfluous
		place := filepath.Join(b.place.Root, p)
		require.NoError(t, os.MkdirAll(place, 0o755))
		require.NoError(t, unix.Mount("tmpfs", place, "tmpfs", 0, "size=1m"))
		t.Cleanup(func() { unix.Unmount(place, unix.MNT_DETACH) })
		b.write(p+"/theirs", "here\n")
	}
	bound := filepath.Join(b.place.Root, "srv/berths/bound")
	require.NoError(t, os.Mkdir(bound, 0o755))
	require.NoError(t, unix.Mount(filepath.Join(b.place.Root, "srv/berths/shore"), bound, "", unix.MS_BIND, ""))
	t.Cleanup(func() { unix.Unmount(bound, unix.MNT_DETACH) })
	b.order.Whole = []string{"srv/berths"}
	require.Equal(t, []string{"srv/berths/shore/old", "srv/berths/kept.tmp", "srv/berths/old"}, deleted())
	done, err := b.put(b.plan())
	require.NoError(t, err)
	require.Empty(t, done.Failed)
	for _, p := range []string{"keel", "srv/fares", "srv/berths/open/theirs", "srv/berths/new/theirs"} {
		require.Equal(t, "here\n", b.read(p))
	}
	require.Equal(t, "two\n", b.read("srv/berths/bound/rota"))

	// Asked for by itself it is as the image has it, unless the image has nothing of it.
	b.order.Roots = []back.Root{{From: "srv/berths/open", To: "srv/berths/open"}}
	require.Equal(t, []string{"srv/berths/open/theirs"}, deleted())
	empty := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(empty, "srv/berths/open"), 0o755))
	b.image = archived(t, empty)
	require.Empty(t, deleted())
}

// A full target is seen beforehand; one that fills up meanwhile ends the restore at the file that it was at, whole files are whole, and it goes on when
// there is room. A name that the file system can't have fails by itself.
func TestATargetThatIsFull(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	large := strings.Repeat("passage 17\n", 50_000)
	b := newBench(t, one(t, map[string]string{"a": large, "b": large, "c": large, "what?": "a question\n"}), back.Replace)
	b.order.Keep = false
	require.NoError(t, unix.Mount("tmpfs", b.place.Root, "tmpfs", 0, "size=2m"))
	t.Cleanup(func() { unix.Unmount(b.place.Root, unix.MNT_DETACH) })
	b.write("ballast", large)
	b.write("more", large)
	r := b.plan()
	require.Contains(t, r.Short, "bytes free, and 1650011 are to be written")
	_, err := b.put(r)
	require.ErrorContains(t, err, "nothing was written; make room")
	require.NoError(t, os.Remove(filepath.Join(b.place.Root, "more")))
	require.NoError(t, os.Remove(filepath.Join(b.place.Root, "ballast")))
	r = b.plan()
	require.Empty(t, r.Short)
	b.write("ballast", large)
	b.write("more", large)
	done, err := b.put(r)
	require.ErrorIs(t, err, unix.ENOSPC)
	require.ErrorContains(t, err, "the restore stopped, at /")
	require.ErrorContains(t, err, "goes on from there")
	require.Positive(t, done.Counts[back.Make].Paths)
	require.Equal(t, large, b.read("a"))
	require.NoFileExists(t, filepath.Join(b.place.Root, "c"))
	require.NoError(t, os.Remove(filepath.Join(b.place.Root, "ballast")))
	require.NoError(t, os.Remove(filepath.Join(b.place.Root, "more")))
	done, err = b.put(b.plan())
	require.NoError(t, err)
	require.Empty(t, done.Failed)
	require.Equal(t, large, b.read("c"))

	// NTFS: no question marks, no files without a name.
	disk := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(disk, nil, 0o600))
	require.NoError(t, os.Truncate(disk, 8<<20))
	v := newBench(t, b.image, back.Replace)
	v.order.Keep = false
	out, err := exec.Command("sh", "-ec", "mkntfs -q -F "+disk+" 2>/dev/null; ntfs-3g -o windows_names "+disk+" "+v.place.Root).CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() { unix.Unmount(v.place.Root, unix.MNT_DETACH) })
	done, err = v.put(v.plan())
	require.NoError(t, err)
	require.Len(t, done.Failed, 1, "%+v", done.Failed)
	require.Equal(t, "/what?", done.Failed[0].Path)
	require.Equal(t, large, v.read("b"))
}

// An agent that dies in the middle leaves temporary files; the next one removes them, keeps what was replaced until its day is over, and no longer.
func TestWhatADeadRestoreLeft(t *testing.T) {
	b := newBench(t, one(t, map[string]string{"a": "one\n", "b": "two\n"}), back.Replace)
	b.write("a", "old\n")
	_, err := b.put(b.plan())
	require.NoError(t, err)
	j, err := begin(b.place.Folder, b.order)
	require.NoError(t, err)
	temp := ".keenlodge-" + b.order.ID + "-1"
	require.NoError(t, j.temp(temp))
	require.NoError(t, j.temp("../"+temp), "whoever wrote that")
	b.write(temp, "half of i")
	b.write(".keenlodge-"+image.NewID()+"-1", "somebody else's")
	require.NoError(t, j.close())
	found, err := b.place.Tidy(time.Now(), func(id string) bool { return id == b.order.ID })
	require.NoError(t, err)
	require.Empty(t, found, "it is at work")
	found, err = b.place.Tidy(time.Now(), func(string) bool { return false })
	require.NoError(t, err)
	require.Equal(t, []string{"/" + temp}, found)
	held := filepath.Join(b.place.Root, files.HeldFolder)
	require.DirExists(t, held)
	st, err := os.Stat(held)
	require.NoError(t, err)
	require.EqualValues(t, 0o700, st.Mode().Perm())
	_, err = b.place.Tidy(time.Now().Add(KeptFor+time.Minute), func(string) bool { return false })
	require.NoError(t, err)
	require.NoDirExists(t, held)
	require.Equal(t, "one\n", b.read("a"))
	_, err = b.place.Undo(t.Context(), b.order.ID, func(back.Progress) {})
	require.ErrorIs(t, err, ErrGone)
}
