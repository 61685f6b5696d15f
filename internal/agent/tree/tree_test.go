package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
)

func TestMain(m *testing.M) {
	unsure = 60 * time.Millisecond // of this host's file systems
	os.Exit(m.Run())
}

// site is a server's files below a folder, and what an image of them had last.
type site struct {
	t      *testing.T
	folder string // the agent's
	offer  Offer
	image  map[string]files.Entry
	bytes  map[string]string
	order  []string // as they were told
	id     string
	last   files.Last
	why    string
	resent int               // entries that were not kept
	met    func(path string) // is called when an entry was told, and before its content is read; may be nil
}

func newSite(t *testing.T) *site {
	root := t.TempDir()
	return &site{t: t, folder: t.TempDir(), offer: Offer{Root: root, Settings: filepath.Join(root, "etc/keenlodge")}}
}

func (s *site) path(p string) string { return filepath.Join(s.offer.Root, p) }

func (s *site) write(p, content string) {
	s.t.Helper()
	require.NoError(s.t, os.MkdirAll(filepath.Dir(s.path(p)), 0o755))
	require.NoError(s.t, os.WriteFile(s.path(p), []byte(content), 0o644))
}

// settle lets everything that was changed lie so far back that it can be told apart.
func (s *site) settle() { time.Sleep(unsure + 50*time.Millisecond) }

// take takes an image since the one before, as the lodge does.
func (s *site) take(w line.Files) error {
	s.t.Helper()
	walk := line.Walk{ID: image.NewID(), Since: s.id, Remember: true, Files: w}
	c, err := Begin(s.t.Context(), s.folder, s.offer, walk)
	if err != nil {
		return err
	}
	s.why = c.Walked().Why
	err = s.read(c)
	if err == nil {
		s.id = walk.ID
	}
	require.NoError(s.t, c.End(err == nil))
	return err
}

// read reads a capture over a line that is cut again and again, and brings the image up to date.
func (s *site) read(c *Capture) error {
	r := files.NewReader(&cutting{t: s.t, c: c, rng: rand.New(rand.NewPCG(1, 1))})
	order, entries, content := []string{}, map[string]files.Entry{}, map[string]string{}
	older := s.order
	s.resent = 0
	for {
		step, err := r.Next()
		if err != nil {
			return err
		}
		if step.Last != nil {
			s.last = *step.Last
			break
		}
		if e := step.Entry; e != nil {
			if s.met != nil {
				s.met(e.Path)
			}
			body, err := io.ReadAll(r)
			require.NoError(s.t, err)
			require.EqualValues(s.t, e.Stored(), len(body))
			require.NoError(s.t, r.Settle(e))
			order, entries[e.Path], content[e.Path] = append(order, e.Path), *e, string(body)
			s.resent++
			continue
		}
		for _, p := range older[:step.Keep] {
			order, entries[p], content[p] = append(order, p), s.image[p], s.bytes[p]
		}
		older = older[step.Keep+step.Skip:]
	}
	if c.Walked().Since {
		require.Empty(s.t, older, "all of the older list is spoken of")
	}
	require.True(s.t, slices.IsSortedFunc(slices.DeleteFunc(slices.Clone(order), func(p string) bool { return within(p, files.OutputFolder) }), files.Compare))
	s.order, s.image, s.bytes = order, entries, content
	return nil
}

// cutting reads an archive over lines that are cut.
type cutting struct {
	t    *testing.T
	c    *Capture
	rng  *rand.Rand
	at   int64
	conn net.Conn
	left int
}

func (k *cutting) Read(p []byte) (int, error) {
	for {
		if k.conn == nil {
			send, err := k.c.Archive(k.t.Context(), k.at)
			if err != nil {
				return 0, err
			}
			here, there := net.Pipe()
			k.conn, k.left = here, 1+k.rng.IntN(1<<20)
			go func() { send(there); there.Close() }()
		}
		if k.left == 0 {
			k.conn.Close()
			k.conn = nil
			continue
		}
		n, err := k.conn.Read(p[:min(len(p), k.left)])
		k.at, k.left = k.at+int64(n), k.left-n
		if err == nil || n > 0 {
			return n, nil
		}
		k.conn, k.left = nil, 0
		if k.c.spool.from(k.at) != nil || k.c.spool.end == k.at && k.c.spool.done {
			return 0, io.EOF
		}
	}
}

// require makes sure that the image has what lies on the server.
func (s *site) require(paths ...string) {
	s.t.Helper()
	have := slices.DeleteFunc(slices.Clone(s.order), func(p string) bool { return s.image[p].Kind == files.Dir })
	require.Equal(s.t, paths, have)
	for _, p := range paths {
		e := s.image[p]
		if e.Kind != files.File || e.Same != "" || e.Unread != "" || within(p, files.OutputFolder) {
			continue
		}
		want, err := os.ReadFile(s.path(p))
		require.NoError(s.t, err)
		got := make([]byte, e.Size)
		spans, rest := e.Data, s.bytes[p]
		if spans == nil {
			spans = []files.Span{{Length: e.Size}}
		}
		for _, v := range spans {
			copy(got[v.Offset:], rest[:v.Length])
			rest = rest[v.Length:]
		}
		require.Equal(s.t, string(want), string(got), p)
	}
}

// Files come as they are, whatever they are called and whatever they are; from the second image on only what changed is told.
func TestFilesOfAServer(t *testing.T) {
	s := newSite(t)
	odd := "srv/" + strings.Repeat("\xfe", 255)
	s.write("srv/timetable", "07:10 to the north pier")
	s.write(odd, "odd")
	s.write("srv/+first", "before .keenlodge in order")
	s.write("srv/gate/log", strings.Repeat("turnstile\n", 300_000))
	require.NoError(t, os.Symlink("../nowhere \xff", s.path("srv/points")))
	require.NoError(t, os.Link(s.path("srv/timetable"), s.path("srv/zz-same")))
	require.NoError(t, unix.Mkfifo(s.path("srv/pipe"), 0o600))
	require.NoError(t, os.Chmod(s.path("srv/pipe"), 0o620))
	holes, err := os.Create(s.path("srv/gate/holes"))
	require.NoError(t, err)
	for _, at := range []int64{4096, 40 << 20} {
		_, err = holes.WriteAt([]byte("data"), at)
		require.NoError(t, err)
	}
	require.NoError(t, holes.Close())
	require.NoError(t, unix.Setxattr(s.path("srv/timetable"), "user.berth", []byte("4\x00"), 0))
	s.settle()
	folders := line.Files{Folders: []string{"/srv"}}
	require.NoError(t, s.take(folders))
	all := []string{"srv/+first", "srv/gate/holes", "srv/gate/log", "srv/pipe", "srv/points", "srv/timetable", "srv/zz-same", odd}
	s.require(all...)
	require.Equal(t, "srv/timetable", s.image["srv/zz-same"].Same)
	require.Equal(t, "../nowhere \xff", s.image["srv/points"].Target)
	require.EqualValues(t, 0o620, s.image["srv/pipe"].Mode)
	require.Equal(t, map[string]string{"user.berth": "4\x00"}, s.image["srv/timetable"].Xattrs)
	holed := s.image["srv/gate/holes"]
	require.Less(t, holed.Stored(), int64(1<<20))

	require.NoError(t, s.take(folders))
	require.Equal(t, []any{"", 0}, []any{s.why, s.resent}, "nothing changed")
	s.require(all...)

	// Each kind of change is seen: of content by the same length and time, of rights, of names.
	info, err := os.Stat(s.path("srv/+first"))
	require.NoError(t, err)
	s.write("srv/+first", "BEFORE .keenlodge in order")
	require.NoError(t, os.Chtimes(s.path("srv/+first"), info.ModTime(), info.ModTime()))
	require.NoError(t, os.Chmod(s.path("srv/pipe"), 0o600))
	require.NoError(t, os.Remove(s.path("srv/timetable")))
	require.NoError(t, os.Rename(s.path("srv/gate"), s.path("srv/gate-2")))
	s.write("srv/gate-2/new", "new")
	require.NoError(t, s.take(folders))
	s.require("srv/+first", "srv/gate-2/holes", "srv/gate-2/log", "srv/gate-2/new", "srv/pipe", "srv/points", "srv/zz-same", odd)
	require.Empty(t, s.image["srv/zz-same"].Same, "the only name that is left has the content")
	require.EqualValues(t, 0o600, s.image["srv/pipe"].Mode)

	require.NoError(t, s.take(line.Files{Folders: []string{"/srv"}, Ignore: []string{"*.tmp"}}))
	require.Contains(t, s.why, "other files are asked for")
	require.Equal(t, len(s.order), s.resent)
	require.NoError(t, os.WriteFile(memoryFile(s.folder, s.id), []byte("spoilt"), 0o600))
	require.NoError(t, s.take(line.Files{Folders: []string{"/srv"}, Ignore: []string{"*.tmp"}}))
	require.Contains(t, s.why, "damaged")
	gone, err := Forget(s.folder, []string{s.id, "../../etc", image.NewID()})
	require.NoError(t, err)
	require.Equal(t, []string{s.id}, gone)
	known, err := Known(s.folder)
	require.NoError(t, err)
	require.NotContains(t, known, s.id)
}

// Many changes at random: each image is the server, and the lists agree.
func TestManyChanges(t *testing.T) {
	s := newSite(t)
	rng := rand.New(rand.NewPCG(7, 7))
	for i := range 400 {
		s.write(fmt.Sprintf("srv/%d/%d/f%d", rng.IntN(4), rng.IntN(4), i), fmt.Sprint(i))
	}
	for range 12 {
		for range rng.IntN(30) {
			p := fmt.Sprintf("srv/%d/%d", rng.IntN(4), rng.IntN(5))
			switch rng.IntN(4) {
			case 0:
				os.RemoveAll(s.path(p))
			case 1:
				os.Rename(s.path(p), s.path(fmt.Sprintf("srv/%d/%d", rng.IntN(4), 5+rng.IntN(90))))
			case 2:
				if os.RemoveAll(s.path(p)) == nil {
					s.write(p, "a file now")
				}
			default:
				if info, err := os.Stat(s.path(p)); err != nil || info.IsDir() {
					s.write(fmt.Sprintf("%s/f%d", p, rng.IntN(999)), fmt.Sprint(rng.Uint64()))
				}
			}
		}
		if rng.IntN(2) == 0 {
			s.settle()
		}
		require.NoError(t, s.take(line.Files{Folders: []string{"/srv"}}))
		var there []string
		require.NoError(t, filepath.WalkDir(s.path("srv"), func(p string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				rel, _ := filepath.Rel(s.offer.Root, p)
				there = append(there, rel)
			}
			return err
		}))
		slices.SortFunc(there, files.Compare)
		s.require(there...)
	}
}

// A folder of very many names is looked at bit by bit, and so are very many folders side by side, of which some go meanwhile: each is there once, in
// order.
func TestVeryManyNames(t *testing.T) {
	s := newSite(t)
	const many = 8 * lookedAtOnce
	require.NoError(t, os.MkdirAll(s.path("srv/berths"), 0o755))
	for i := range many {
		f, err := os.Create(s.path(fmt.Sprintf("srv/berths/passage-%06d", i)))
		require.NoError(t, err)
		f.Close()
	}
	for i := range 3 * mostAhead {
		s.write(fmt.Sprintf("srv/piers/%03d/berth/%d/list", i, i%7), "cabin")
	}
	s.settle()
	files := line.Files{Folders: []string{"/srv"}}
	require.NoError(t, s.take(files))
	require.Len(t, s.order, 3+many+1+4*3*mostAhead)
	const gone = 50
	s.met = func(string) { // the walk is on its way to them, or has read their names already
		for i := range gone {
			require.NoError(t, os.RemoveAll(s.path(fmt.Sprintf("srv/piers/%03d", 3*mostAhead-1-i))))
		}
	}
	require.NoError(t, os.WriteFile(s.path("srv/piers/000/berth/0/list"), []byte("cabin 4"), 0o644))
	require.NoError(t, s.take(files))
	s.met = nil
	require.NoError(t, s.take(files))
	require.Len(t, s.order, 3+many+1+4*(3*mostAhead-gone))
}

// Rules leave out what they fit, and are counted, the most first; people's own folders are out unless they are asked for.
func TestRules(t *testing.T) {
	s := newSite(t)
	s.write("home/operator/letter", "private")
	s.write("srv/cache/a", strings.Repeat("x", 5000))
	s.write("srv/cache/deep/b", strings.Repeat("x", 9000))
	s.write("srv/keep.tmp", "1")
	s.write("srv/other.tmp", "22")
	s.write("etc/hosts", "127.0.0.1 gate-07")
	everything := line.Files{Folders: []string{"/"}, Ignore: []string{"cache/", "*.tmp", "!keep.tmp"}}
	require.NoError(t, s.take(everything))
	s.require("etc/hosts", "srv/keep.tmp")
	require.Equal(t, []files.LeftOut{{Rule: "cache/", Files: 2, Bytes: 14000, Largest: []string{"/srv/cache/deep/b", "/srv/cache/a"}},
		{Rule: "personal folders", Files: 1, Bytes: 7, Largest: []string{"/home/operator/letter"}}, {Rule: "*.tmp", Files: 1, Bytes: 2, Largest: []string{"/srv/other.tmp"}}}, s.last.LeftOut)
	require.Equal(t, []string{"."}, s.last.Whole)
	everything.Personal = true
	require.NoError(t, s.take(everything))
	s.require("etc/hosts", "home/operator/letter", "srv/keep.tmp")
	s.offer.Paths = []string{"/etc", "/srv/keep.tmp"}
	require.NoError(t, s.take(everything))
	s.require("etc/hosts", "srv/keep.tmp")
	s.offer.Paths = []string{"/usr"}
	require.ErrorContains(t, s.take(line.Files{Folders: []string{"/etc"}}), "offers /usr")
	require.ErrorContains(t, s.take(line.Files{Folders: []string{"etc"}}), "absolute")
}

// Parts of the system state take their paths and what commands say, and can be left out, but for those that are mandatory.
func TestParts(t *testing.T) {
	s := newSite(t)
	s.write("etc/hosts", "127.0.0.1")
	s.write("etc/passwd", "root")
	s.write("etc/cron.d/night", "0 3 * * *")
	s.write("etc/cron.daily/tidy", "#!/bin/sh")
	s.write("var/lib/dpkg/status", "Package: turnstile")
	s.write("etc/keenlodge/parts/configuration.yaml", "about: the rest\npaths: [/etc]\nignore: ['*~']\n")
	s.write("etc/keenlodge/parts/accounts.yaml", "about: accounts\nmandatory: true\npaths: [/etc/passwd, /etc/shadow]\n")
	s.write("etc/keenlodge/parts/jobs.yaml", "about: jobs\npaths: [/etc/cron.*]\noutput: {timers: list-timers, none: not-there}\n")
	s.write("etc/keenlodge/commands/list-timers", "#!/bin/sh\necho night at 03:00\n")
	require.NoError(t, os.Chmod(s.path("etc/keenlodge/commands/list-timers"), 0o755))
	require.NoError(t, s.take(line.Files{System: true, Ignore: []string{"/etc/keenlodge/"}}))
	s.require(".keenlodge/jobs/timers", "etc/cron.d/night", "etc/cron.daily/tidy", "etc/hosts", "etc/passwd")
	require.Equal(t, "night at 03:00\n", s.bytes[".keenlodge/jobs/timers"])
	for p, part := range map[string]string{"etc/passwd": "accounts", "etc/cron.d/night": "jobs", "etc/hosts": "configuration", "etc": "configuration", ".keenlodge/jobs/timers": "jobs"} {
		require.Equal(t, part, s.image[p].Part, p)
	}
	require.NoError(t, s.take(line.Files{System: true, LeaveOut: []string{"jobs"}, Ignore: []string{"/etc/keenlodge/"}}))
	s.require("etc/hosts", "etc/passwd")
	require.NoError(t, s.take(line.Files{System: true, Parts: []string{"jobs"}}))
	s.require(".keenlodge/jobs/timers", "etc/cron.d/night", "etc/cron.daily/tidy", "etc/passwd")
	require.ErrorContains(t, s.take(line.Files{System: true, LeaveOut: []string{"accounts"}}), "mandatory")
	require.ErrorContains(t, s.take(line.Files{System: true, Parts: []string{"acounts"}}), `no part "acounts"; it has accounts, configuration, jobs`)

	told, err := Parts(t.Context(), s.offer, true)
	require.NoError(t, err)
	require.Len(t, told.Parts, 3)
	require.Equal(t, line.Part{Name: "jobs", About: "jobs", Paths: []string{"/etc/cron.*"}, Files: 4, Bytes: 18, Output: []string{"timers"}}, told.Parts[2])

	s.write("etc/keenlodge/commands/list-timers", "#!/bin/sh\necho half; echo the clock is gone >&2; exit 3\n")
	require.NoError(t, s.take(line.Files{System: true, Parts: []string{"jobs"}}))
	require.Contains(t, s.image[".keenlodge/jobs/timers"].Unread, "exit status 3: the clock is gone")
	s.write("etc/keenlodge/parts/jobs.yaml", "about: jobs\npaths: [/etc/cron.*]\noutput: {timers: list-timers}\nwithin: 1 second\n")
	s.write("etc/keenlodge/commands/list-timers", "#!/bin/sh\nsleep 60 & sleep 60\n")
	begun := time.Now()
	require.NoError(t, s.take(line.Files{System: true, Parts: []string{"jobs"}}))
	require.Contains(t, s.image[".keenlodge/jobs/timers"].Unread, "longer than 1s")
	require.Less(t, time.Since(begun), 20*time.Second)
	require.NoError(t, os.Chmod(s.path("etc/keenlodge/commands/list-timers"), 0o777))
	require.ErrorContains(t, s.take(line.Files{System: true}), "can be written to by others")
}

// What can't be read, changes or goes while it is read is told, and the rest is there.
func TestWhatCannotBeRead(t *testing.T) {
	s := newSite(t)
	s.write("srv/good", "good")
	s.write("srv/grows", strings.Repeat("g", 3*kept)) // more than the agent reads before anybody wants it
	s.met = func(path string) {
		if path == "srv/grows" {
			f, err := os.OpenFile(s.path(path), os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteString("more")
			require.NoError(t, errors.Join(err, f.Close()))
		}
	}
	require.NoError(t, s.take(line.Files{Folders: []string{"/srv"}}))
	s.met = nil
	require.True(t, s.image["srv/grows"].Changed)
	require.False(t, s.image["srv/good"].Changed)

	// A million names would do as well: some thousand come and go while they are walked.
	burst := make(chan struct{})
	go func() {
		defer close(burst)
		for i := range 3000 {
			os.WriteFile(s.path(fmt.Sprintf("srv/burst-%d", i)), []byte("x"), 0o600)
			if i > 10 {
				os.Remove(s.path(fmt.Sprintf("srv/burst-%d", i-10)))
			}
		}
	}()
	for range 5 {
		require.NoError(t, s.take(line.Files{Folders: []string{"/srv"}}))
		require.Equal(t, "good", s.bytes["srv/good"])
		for p, e := range s.image {
			require.Empty(t, e.Unread, p)
		}
	}
	<-burst
}

// A disk with a bad sector: what can be read of a file is there, the rest is zeros, and it is told where.
func TestABadSector(t *testing.T) {
	d := agenttest.New(t, 64<<20, "mkfs.ext4 -q -b 4096 $f")
	s := newSite(t)
	s.offer.Root = d.Mounted
	s.write("big", strings.Repeat("b", 8<<20))
	// The disk behind it becomes shorter, in the middle of the file.
	agenttest.Sh(t, `sync; b=$(filefrag -v $m/big | awk '$1 == "0:" {print $4}' | tr -d .); truncate -s $(( (b + 1024) * 4096 )) $f; echo 1 > /proc/sys/vm/drop_caches`, "f="+d.File, "m="+d.Mounted)
	require.NoError(t, s.take(line.Files{Folders: []string{"/"}}))
	e := s.image["big"]
	require.Regexp(t, `^input/output error at byte \d+, and the rest is zeros$`, e.Unread)
	require.Equal(t, strings.Repeat("b", 2<<20), s.bytes["big"][:2<<20])
	require.Equal(t, byte(0), s.bytes["big"][8<<20-1])
	require.Contains(t, s.order, "lost+found")
}

// A server whose disk is full has an image all the same; it only can't remember what that holds.
func TestAFullServer(t *testing.T) {
	d := agenttest.New(t, 8<<20, "mkfs.ext4 -q $f")
	s := newSite(t)
	s.folder = d.Mounted
	for i := range 3000 {
		s.write(fmt.Sprintf("srv/%04d-%s", i, strings.Repeat("x", 200)), "")
	}
	agenttest.Sh(t, "mkdir $m/files; dd if=/dev/zero of=$m/fill bs=64k 2>/dev/null || true", "m="+d.Mounted)
	require.NoError(t, s.take(line.Files{Folders: []string{"/srv"}}))
	require.Len(t, s.order, 3000+2)
	known, err := Known(s.folder)
	require.NoError(t, err)
	require.Empty(t, known)
	require.NoError(t, s.take(line.Files{Folders: []string{"/srv"}}))
	require.Contains(t, s.why, "remembers nothing")
}

// A capture that is ended in the middle leaves nothing, and one that nobody reads waits without taking more memory.
func TestACaptureThatIsEnded(t *testing.T) {
	s := newSite(t)
	for i := range 8 {
		s.write(fmt.Sprintf("srv/%d", i), strings.Repeat("x", 9<<20))
	}
	c, err := Begin(t.Context(), s.folder, s.offer, line.Walk{ID: image.NewID(), Remember: true, Files: line.Files{Folders: []string{"/srv"}}})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		c.spool.mu.Lock()
		defer c.spool.mu.Unlock()
		return c.spool.end == int64(len(c.spool.ring))
	}, 10*time.Second, time.Millisecond)
	send, err := c.Archive(context.Background(), 0)
	require.NoError(t, err)
	here, there := net.Pipe()
	go func() { send(there); there.Close() }()
	_, err = io.ReadFull(here, make([]byte, 15<<20))
	require.NoError(t, err)
	here.Close()
	require.Eventually(t, func() bool { return c.spool.from(0) != nil }, 10*time.Second, time.Millisecond, "what was read long ago is not kept")
	require.NoError(t, c.End(false))
	left, err := filepath.Glob(filepath.Join(s.folder, memoryFolder, "*"))
	require.NoError(t, err)
	require.Empty(t, left)
	hidden, err := filepath.Glob(filepath.Join(s.folder, memoryFolder, ".*"))
	require.NoError(t, err)
	require.Empty(t, hidden)
}
