package files

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"keenlodge/internal/core/chunk"
)

func Example() {
	var list []byte
	list = AppendEntry(list, &Entry{Path: "etc/turnstile.conf", Kind: File, Mode: 0o640, Owner: "root", Group: "gate", GID: 112, Size: 42, Modified: time.Unix(1_700_000_000, 0), Part: "configuration"})
	fmt.Print(string(list))
	// Output:
	// ./etc/turnstile.conf type=file mode=0640 uid=0 gid=112 uname=root gname=gate time=1700000000.000000000 size=42
	// #part configuration
}

// any draws an entry of any kind, as odd as a file system may have it.
func anyEntry(rng *rand.Rand, n int) Entry {
	odd := func(most int) string {
		b := make([]byte, 1+rng.IntN(most))
		for i := range b {
			for b[i] = byte(rng.IntN(256)); b[i] == 0 || b[i] == '/' || b[i] == '.' || b[i] == '='; {
				b[i] = byte(rng.IntN(256))
			}
		}
		return string(b)
	}
	e := Entry{Path: fmt.Sprintf("%s/%06d%s", odd(9), n, odd(255-6)), Kind: kinds[rng.IntN(len(kinds))], Mode: uint32(rng.IntN(010000)), UID: rng.Uint32N(1 << 20), GID: rng.Uint32N(1 << 31), Owner: "root",
		Modified: time.Unix(rng.Int64N(1<<32), rng.Int64N(1e9)).UTC()}
	switch e.Kind {
	case File:
		if e.Size = rng.Int64N(5000); rng.IntN(3) == 0 {
			e.Data = []Span{}
			for at := rng.Int64N(5) * SpanUnit; at < e.Size; {
				s := Span{at, min(e.Size-at, (1+rng.Int64N(3))*SpanUnit)}
				e.Data = append(e.Data, s)
				at += s.Length + rng.Int64N(4)*SpanUnit
			}
		}
		if rng.IntN(9) == 0 {
			e.Size, e.Data, e.Same = 0, nil, odd(20)
		}
	case Link:
		e.Target = "../" + odd(200)
	case Char, Block:
		e.Major, e.Minor = rng.Uint32N(4096), rng.Uint32N(1<<20)
	}
	for range rng.IntN(3) {
		if e.Xattrs == nil {
			e.Xattrs = map[string]string{}
		}
		e.Xattrs["user."+odd(20)] = odd(50) + "\x00=\n"
	}
	if rng.IntN(2) == 0 {
		e.Part = "configuration"
	}
	if rng.IntN(9) == 0 {
		e.Unread, e.Changed = "input/output error", true
	}
	return e
}

// A list gives its entries back, whatever their names are, and each line is plain text.
func TestAListComesBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	list := []byte(ListHead)
	var want []Entry
	for n := range 2000 {
		e := anyEntry(rng, n)
		if n%100 == 7 {
			e = Entry{Path: e.Path, Kind: Unseen, Unread: "permission denied"}
		}
		want = append(want, e)
		list = AppendEntry(list, &e)
	}
	for _, c := range list {
		require.True(t, c == '\n' || c >= ' ' && c < 127)
	}
	r, err := NewListReader(bytes.NewReader(list))
	require.NoError(t, err)
	var again []byte
	for i := range want {
		e, raw, err := r.Next()
		require.NoError(t, err)
		require.Equal(t, want[i], e)
		again = append(again, raw...)
	}
	_, _, err = r.Next()
	require.Equal(t, io.EOF, err)
	require.Equal(t, string(list[len(ListHead):]), string(again))
}

// Lists of others are refused where they can't be true.
func TestListsThatMakeNoSense(t *testing.T) {
	for _, text := range []string{"", "#mtree\n", ListHead + "./a", ListHead + "a type=file\n", ListHead + "./../a type=file size=1\n", ListHead + "/a type=file\n", ListHead + "./a//b type=dir\n", ListHead + "./a type=socket\n",
		ListHead + "./a\n", ListHead + "./a type=file size=-1\n", ListHead + "./a type=dir size=1\n", ListHead + "./a\\9 type=dir\n", ListHead + "./a type=link\n", ListHead + "./a type=file size=1000\n#data 512 489\n", ListHead + "./a type=file size=2000\n#data 1024 512 512 512\n",
		ListHead + "./a type=file size=10\n#data 5\n", ListHead + "./a type=file size=1000\n#data 0 100\n", ListHead + "./a type=file size=1000\n#data 8 992\n", ListHead + "./a type=file size=10\n#nope\n", ListHead + "./a type=file size=1 nope=1\n", ListHead + "./" + strings.Repeat("a", 256) + " type=dir\n", ListHead + "./a type=dir time=1.1\n",
		ListHead + "./a type=file size=9\n#same b\n", ListHead + "./a\\000 type=dir\n", ListHead + "./" + strings.Repeat("a", longestLine+9) + "\n"} {
		r, err := NewListReader(strings.NewReader(text))
		if err == nil {
			_, _, err = r.Next()
		}
		require.ErrorIs(t, err, chunk.ErrDamaged, "%.80q", text)
	}
}

// What travels arrives: entries with their content, what stays and goes, and what became of an entry while it was read.
func TestWhatTravels(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 2))
	var out bytes.Buffer
	w := NewWireWriter(&out)
	var want []any
	for n := range 500 {
		keep, skip := rng.Int64N(3), rng.Int64N(3)
		for range keep {
			require.NoError(t, w.Keep())
		}
		for range skip {
			w.Skip()
		}
		if keep+skip > 0 {
			want = append(want, Step{Keep: keep, Skip: skip})
		}
		e := anyEntry(rng, n)
		e.Unread, e.Changed = "", false
		content := make([]byte, e.Stored())
		for i := range content {
			content[i] = byte(rng.IntN(256))
		}
		require.NoError(t, w.Entry(&e))
		_, err := w.Write(content)
		require.NoError(t, err)
		if rng.IntN(9) == 0 {
			require.NoError(t, w.Changed())
			e.Changed = true
		}
		if rng.IntN(9) == 0 {
			require.NoError(t, w.Unread("a bad sector"))
			e.Unread = "a bad sector"
		}
		want = append(want, e, content)
	}
	last := Last{LeftOut: []LeftOut{{Rule: "*.tmp", Files: 3, Bytes: 5, Largest: []string{"a"}}}, Sum: "x"}
	require.NoError(t, w.Close(last))

	r := NewReader(bytes.NewReader(out.Bytes()))
	for i := 0; i < len(want); i++ {
		s, err := r.Next()
		require.NoError(t, err)
		if s.Entry == nil {
			require.Equal(t, want[i], s)
			continue
		}
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, r.Settle(s.Entry))
		require.Equal(t, want[i], *s.Entry)
		i++
		require.Equal(t, want[i], got)
	}
	s, err := r.Next()
	require.NoError(t, err)
	require.Equal(t, &last, s.Last)
	_, err = r.Next()
	require.Equal(t, io.EOF, err)

	for _, n := range []int{0, 100, 512, out.Len() / 2, out.Len() - 3000} {
		r := NewReader(bytes.NewReader(out.Bytes()[:n]))
		var err error
		for err == nil {
			var s Step
			if s, err = r.Next(); err == nil && s.Entry != nil {
				if _, err = io.Copy(io.Discard, r); err == nil {
					err = r.Settle(s.Entry)
				}
			}
		}
		require.True(t, errors.Is(err, ErrCut), "cut at %d: %v", n, err)
	}
}

// GNU tar brings back what an archive has: names, modes, links, holes, extended attributes.
func TestTarReadsAnArchive(t *testing.T) {
	folder := t.TempDir()
	at := time.Date(2026, 3, 1, 23, 0, 0, 123456789, time.UTC)
	entries := []Entry{{Path: "d", Kind: Dir, Mode: 0o750}, {Path: "d/plain", Kind: File, Mode: 0o4711, Size: 700, Xattrs: map[string]string{"user.berth": "4\x00x"}},
		{Path: "d/holes", Kind: File, Mode: 0o600, Size: 9 << 20, Data: []Span{{4096, 4096}, {5 << 20, 8192}}}, {Path: "d/empty", Kind: File, Mode: 0o600, Size: 1 << 20, Data: []Span{}},
		{Path: "d/same", Kind: File, Mode: 0o4711, Same: "d/plain"}, {Path: "d/" + strings.Repeat("\xff", 255), Kind: File, Mode: 0o600, Size: 1}, {Path: "d/points", Kind: Link, Mode: 0o777, Target: "../nowhere \xfe"}, {Path: "d/pipe", Kind: Fifo, Mode: 0o622}}
	var out bytes.Buffer
	w := NewWriter(&out)
	for i := range entries {
		e := &entries[i]
		e.Modified, e.UID, e.GID = at, uint32(os.Getuid()), uint32(os.Getgid())
		require.NoError(t, w.Entry(e))
		_, err := w.Write(bytes.Repeat([]byte{'k'}, int(e.Stored())))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	c := exec.Command("tar", "-x", "-p", "--xattrs", "-C", folder)
	c.Stdin = bytes.NewReader(out.Bytes())
	said, err := c.CombinedOutput()
	require.NoError(t, err, "%s", said)
	for i := range entries {
		e := &entries[i]
		info, err := os.Lstat(filepath.Join(folder, e.Path))
		require.NoError(t, err)
		require.True(t, info.ModTime().Equal(at), "%q: %v", e.Path, info.ModTime())
		if e.Kind != Link {
			require.Equal(t, e.FileMode(), info.Mode(), e.Path)
		}
		for k, v := range e.Xattrs {
			got := make([]byte, 99)
			n, err := unix.Lgetxattr(filepath.Join(folder, e.Path), k, got)
			require.NoError(t, err)
			require.Equal(t, v, string(got[:n]))
		}
		if e.Kind != File || e.Same != "" {
			continue
		}
		content, err := os.ReadFile(filepath.Join(folder, e.Path))
		require.NoError(t, err)
		want := make([]byte, e.Size)
		for _, s := range append(e.Data, Span{0, map[bool]int64{true: e.Size}[e.Data == nil]}) {
			copy(want[s.Offset:], bytes.Repeat([]byte{'k'}, int(s.Length)))
		}
		require.True(t, bytes.Equal(want, content), "%q", e.Path)
	}
	target, err := os.Readlink(filepath.Join(folder, "d/points"))
	require.NoError(t, err)
	require.Equal(t, "../nowhere \xfe", target)
}

func FuzzList(f *testing.F) {
	e := anyEntry(rand.New(rand.NewPCG(3, 3)), 1)
	f.Add(string(AppendEntry([]byte(ListHead), &e)))
	f.Fuzz(func(t *testing.T, text string) {
		r, err := NewListReader(strings.NewReader(text))
		for err == nil {
			var e Entry
			if e, _, err = r.Next(); err == nil {
				again, err := NewListReader(bytes.NewReader(AppendEntry([]byte(ListHead), &e)))
				require.NoError(t, err)
				same, _, err := again.Next()
				require.NoError(t, err)
				require.Equal(t, e, same)
			}
		}
	})
}

func FuzzArchive(f *testing.F) {
	var out bytes.Buffer
	w := NewWireWriter(&out)
	e := Entry{Path: "a", Kind: File, Size: 515, Data: []Span{{512, 3}}}
	w.Entry(&e)
	w.Write([]byte("abc"))
	w.Keep()
	w.Close(Last{})
	f.Add(out.Bytes())
	f.Fuzz(func(t *testing.T, body []byte) {
		r := NewReader(bytes.NewReader(body))
		for {
			s, err := r.Next()
			if err != nil {
				return
			}
			if s.Entry != nil {
				require.NoError(t, s.Entry.Check())
				if _, err := io.Copy(io.Discard, r); err != nil || r.Settle(s.Entry) != nil {
					return
				}
			}
		}
	})
}
