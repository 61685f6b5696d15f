package back

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/files"
)

var then = time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)

// What becomes of a path, by what is there and by the rule: in the order keep-both, replace, skip, newer.
func TestDecide(t *testing.T) {
	file := files.Entry{Path: "srv/list.txt", Kind: files.File, Size: 8, Modified: then, Mode: 0o644}
	dir := files.Entry{Path: "srv/list.txt", Kind: files.Dir, Modified: then, Mode: 0o755}
	unread := file
	unread.Unread = "input/output error"
	same := file
	same.Same = "srv/first"
	there := func(change func(*Found)) *Found {
		f := &Found{Kind: files.File, Size: 8, Modified: then, Mode: 0o644}
		change(f)
		return f
	}
	nothing := func(*Found) {}
	for name, c := range map[string]struct {
		e     files.Entry
		found *Found
		want  string
	}{
		"nothing is there":             {file, nil, "make make make make"},
		"it was never read":            {unread, nil, "refuse refuse refuse refuse"},
		"it is the same":               {file, there(nothing), "same same same same"},
		"another mode":                 {file, there(func(f *Found) { f.Mode = 0o600 }), "leave amend leave leave"},
		"another owner":                {file, there(func(f *Found) { f.UID = 7 }), "leave amend leave leave"},
		"an older one":                 {file, there(func(f *Found) { f.Modified = then.Add(-1) }), "beside replace leave replace"},
		"a newer one":                  {file, there(func(f *Found) { f.Modified = then.Add(1) }), "beside replace leave leave"},
		"as old, and longer":           {file, there(func(f *Found) { f.Size++ }), "beside replace leave leave"},
		"a link is there":              {file, there(func(f *Found) { f.Kind, f.Target, f.Modified = files.Link, "/x", then.Add(-1) }), "beside replace leave replace"},
		"a folder is in its place":     {file, there(func(f *Found) { f.Kind = files.Dir }), "beside refuse leave leave"},
		"a file is in a folder's":      {dir, there(nothing), "refuse replace leave leave"},
		"a folder is there":            {dir, there(func(f *Found) { f.Kind, f.Mode = files.Dir, 0o755 }), "same same same same"},
		"a folder of another mode":     {dir, there(func(f *Found) { f.Kind, f.Mode = files.Dir, 0o700 }), "same amend same same"},
		"another name of another file": {same, there(nothing), "beside replace leave leave"},
		"another name of the same":     {same, there(func(f *Found) { f.Same, f.UID = true, 7 }), "same same same same"},
	} {
		var got []string
		for _, rule := range Rules {
			s := Decide(&c.e, "to/list.txt", c.found, rule, then)
			got = append(got, string(s.Action))
			require.Equal(t, s.Action == Beside, s.Path != "to/list.txt", name)
			if s.Action == Leave || s.Action == Refuse {
				require.NotEmpty(t, s.Why, name)
			}
		}
		require.Equal(t, c.want, strings.Join(got, " "), name)
	}
}

// What is put beside another says when it is from, keeps its ending, and is no longer than a name may be.
func TestBeside(t *testing.T) {
	for name, want := range map[string]string{
		"srv/list.txt":                    "srv/list.from-20260314-023000.txt",
		"list":                            "list.from-20260314-023000",
		"home/.bashrc":                    "home/.bashrc.from-20260314-023000",
		"a.tar.gz":                        "a.tar.from-20260314-023000.gz",
		"a." + strings.Repeat("x", 30):    "a." + strings.Repeat("x", 30) + ".from-20260314-023000",
		strings.Repeat("ä", 125) + ".txt": strings.Repeat("ä", 115) + ".from-20260314-023000.txt",
	} {
		got := besideName(name, then)
		require.LessOrEqual(t, len(got)-strings.LastIndex(got, "/")-1, maxName)
		require.Equal(t, want, got)
	}
}

// Names are bytes: they travel through JSON as they are.
func TestNamesTravel(t *testing.T) {
	name := "srv/\xff\xfe\n\"berth"
	body, err := json.Marshal(Step{Action: Make, Path: name, From: "plain", Old: &Found{Kind: files.Link, Target: name}})
	require.NoError(t, err)
	var s Step
	require.NoError(t, json.Unmarshal(body, &s))
	require.Equal(t, [3]string{name, "plain", name}, [3]string{s.Path, s.From, s.Old.Target})
	body, err = json.Marshal(Root{From: name, To: name + "2"})
	require.NoError(t, err)
	var r Root
	require.NoError(t, json.Unmarshal(body, &r))
	require.Equal(t, Root{From: name, To: name + "2"}, r)
}

// Where an entry goes to is what the root nearest to it says.
func TestLocate(t *testing.T) {
	roots := []Root{{From: "srv", To: "mnt/old"}, {From: "srv/berths", To: "berths"}, {From: "etc/passwd", To: "etc/passwd"}}
	for p, want := range map[string]string{"srv": "mnt/old", "srv/a/b": "mnt/old/a/b", "srv/berths/7": "berths/7", "srv/berths2": "mnt/old/berths2", "etc/passwd": "etc/passwd", "etc": "", "srvother": ""} {
		to, ok := Locate(roots, p)
		require.Equal(t, want, to, p)
		require.Equal(t, want != "", ok, p)
	}
	to, _ := Locate([]Root{{From: ".", To: "."}}, ".")
	require.Equal(t, ".", to)
	o := Order{Whole: []string{"srv/berths"}}
	require.True(t, o.Holds("srv/berths/7") && o.Holds("srv/berths"))
	require.False(t, o.Holds("srv") || o.Holds("srv/berths2"))
}

// A plan is another one as soon as what it acts on is, and no other when only what stays is.
func TestDigest(t *testing.T) {
	plan := func(change func(*Step)) string {
		s := Step{Action: Replacing, Path: "srv/a", From: "srv/a", Kind: files.File, Bytes: 8, Old: &Found{Key: "1"}}
		change(&s)
		var p Plan
		p.Add(Step{Action: Leave, Path: "srv/b"})
		p.Add(s)
		return p.Digest()
	}
	seen := map[string]bool{plan(func(*Step) {}): true}
	for _, change := range []func(*Step){
		func(s *Step) { s.Action = Amend }, func(s *Step) { s.Path = "srv/c" }, func(s *Step) { s.From = "srv/c" },
		func(s *Step) { s.Bytes++ }, func(s *Step) { s.Old.Key = "2" }, func(s *Step) { s.Old = nil },
	} {
		d := plan(change)
		require.False(t, seen[d])
		seen[d] = true
	}
	var p Plan
	p.Add(Step{Action: Replacing, Path: "srv/a", From: "srv/a", Kind: files.File, Bytes: 8, Old: &Found{Key: "1"}})
	require.True(t, seen[p.Digest()])
}

// What was done in several goes is one.
func TestJoin(t *testing.T) {
	var all Done
	for n := range 3 {
		var d Done
		d.Add(Step{Action: Make, Bytes: 10})
		for i := range 60 {
			d.Fail(fmt.Sprintf("%d/%d", n, i), errors.New("no space"))
		}
		d.Kept = then.Add(time.Duration(n))
		all.Join(d)
	}
	require.Equal(t, map[Action]Counts{Make: {3, 30}}, all.Counts)
	require.EqualValues(t, 180, all.Failures)
	require.Len(t, all.Failed, mostFailed)
	require.Equal(t, then.Add(2), all.Kept)
	require.EqualValues(t, 3, all.Paths())
}
