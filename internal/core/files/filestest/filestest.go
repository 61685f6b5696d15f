// Package filestest makes trees of files in memory, for the tests of whatever keeps them.
package filestest

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/files"
)

// Node is a file of a tree: its entry, and what is stored of it.
type Node struct {
	files.Entry
	Content []byte
}

// Tree is files by path.
type Tree map[string]Node

// Add puts a file into the tree.
func (t Tree) Add(path string, content []byte) {
	e := files.Entry{Path: path, Kind: files.File, Mode: 0o644, Owner: "root", Group: "root", Modified: time.Unix(1_770_000_000, 5).UTC(), Size: int64(len(content)), Part: "configuration"}
	t[path] = Node{e, content}
}

// Random fills a tree with n files of all sizes, and some that are no regular files.
func Random(rng *rand.Rand, n int) Tree {
	t := Tree{}
	for i := range n {
		path := fmt.Sprintf("srv/%02d/gate-%04d\xff", rng.IntN(7), i)
		content := make([]byte, []int{0, 100, 5_000, 60_000, 300_000}[rng.IntN(5)])
		for k := range content {
			content[k] = byte(rng.Uint32() >> 3)
		}
		t.Add(path, content)
		v := t[path]
		switch rng.IntN(12) {
		case 0:
			v = Node{Entry: files.Entry{Path: path, Kind: files.Link, Mode: 0o777, Target: "../elsewhere", Modified: v.Modified}}
		case 1:
			v = Node{Entry: files.Entry{Path: path, Kind: files.Fifo, Mode: 0o600, Modified: v.Modified, Xattrs: map[string]string{"user.berth": "\x00\xff="}}}
		case 2:
			content = content[:len(content)/files.SpanUnit*files.SpanUnit]
			v.Content = content
			v.Size, v.Data = 8<<20, []files.Span{}
			for at, left := int64(4096), int64(len(content)); left > 0; at += 100 * files.SpanUnit {
				s := files.Span{Offset: at, Length: min(left, 20*files.SpanUnit)}
				v.Data = append(v.Data, s)
				left -= s.Length
			}
		}
		t[path] = v
	}
	return t
}

// Change makes another tree of one: some files go, some come, some change.
func (t Tree) Change(rng *rand.Rand, n int) Tree {
	out := maps.Clone(t)
	for _, path := range slices.Sorted(maps.Keys(t)) {
		if rng.IntN(len(t)) < n {
			delete(out, path)
			if rng.IntN(2) == 0 {
				out.Add(path, []byte(fmt.Sprint("changed ", rng.Uint64())))
			}
		}
	}
	return out
}

// Paths are those of the tree, in order.
func (t Tree) Paths() []string { return slices.Sorted(maps.Keys(t)) }

// Wire is the tree as it travels: whole, or what is not as in an older one.
func (t Tree) Wire(older Tree) []byte {
	var out bytes.Buffer // which takes all
	w := files.NewWireWriter(&out)
	paths, sum := t.Paths(), files.NewPathSum()
	send := func(path string) {
		v := t[path]
		must(w.Entry(&v.Entry))
		_, err := w.Write(v.Content)
		must(err)
	}
	for _, p := range older.Paths() {
		sum.Add(p)
		for len(paths) > 0 && paths[0] < p {
			send(paths[0])
			paths = paths[1:]
		}
		if len(paths) > 0 && paths[0] == p && bytes.Equal(t[p].Content, older[p].Content) && t[p].Kind == older[p].Kind {
			must(w.Keep())
			paths = paths[1:]
		} else {
			w.Skip()
		}
	}
	for _, p := range paths {
		send(p)
	}
	must(w.Close(files.Last{Sum: sum.String(), LeftOut: []files.LeftOut{{Rule: "*.tmp", Files: 2, Bytes: 3, Largest: []string{"/srv/scratch.tmp"}}}}))
	return out.Bytes()
}

func must(err error) {
	if err != nil {
		panic(err) // an entry of a test's that can be none
	}
}

// RequireArchive makes sure that an archive holds the tree, holes and all.
func (t Tree) RequireArchive(tb testing.TB, archive io.Reader) {
	tb.Helper()
	in, seen := tar.NewReader(archive), 0
	for {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(tb, err)
		v, ok := t[strings.TrimSuffix(h.Name, "/")]
		require.True(tb, ok, "%q is none of the tree", h.Name)
		seen++
		require.Equal(tb, v.Size, h.Size, "%q", h.Name)
		require.Equal(tb, v.Target, h.Linkname)
		require.EqualValues(tb, v.Mode, h.Mode)
		for k, x := range v.Xattrs {
			require.Equal(tb, x, h.PAXRecords["SCHILY.xattr."+k])
		}
		spans, at := v.Data, 0
		if spans == nil {
			spans = []files.Span{{Offset: 0, Length: v.Size}}
		}
		if v.Size > 64<<20 { // holes that nobody wants to read
			continue
		}
		content, err := io.ReadAll(in)
		require.NoError(tb, err)
		for _, s := range spans {
			require.True(tb, bytes.Equal(v.Content[at:at+int(s.Length)], content[s.Offset:s.Offset+s.Length]), "%q", h.Name)
			at += int(s.Length)
		}
	}
	require.Equal(tb, len(t), seen)
}

// RequireList makes sure that a list names the tree.
func (t Tree) RequireList(tb testing.TB, in io.Reader) {
	tb.Helper()
	list, err := files.NewListReader(in)
	require.NoError(tb, err)
	seen := 0
	for {
		e, _, err := list.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(tb, err)
		want := t[e.Path].Entry
		want.Digest = e.Digest
		require.Equal(tb, want, e)
		seen++
	}
	require.Equal(tb, len(t), seen)
}

// Contents are the regular files of an archive, by path.
func Contents(tb testing.TB, archive io.Reader) map[string]string {
	tb.Helper()
	out := map[string]string{}
	for in := tar.NewReader(archive); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(tb, err)
		body, err := io.ReadAll(in)
		require.NoError(tb, err)
		if h.Typeflag == tar.TypeReg {
			out[h.Name] = string(body)
		}
	}
}
