package lists

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/vault"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// shelf has the images of a machine, and what each has of files.
type shelf struct {
	t      *testing.T
	rec    *records.Records
	l      *Lists
	images []string // oldest first
	has    map[string]map[string]files.Entry
	policy string
}

func newShelf(t *testing.T) *shelf {
	rec := recordstest.Open(t)
	v, err := vault.Open(rec, filepath.Join(t.TempDir(), "lodge-key"))
	require.NoError(t, err)
	return &shelf{t, rec, New(rec, nil, v, recordstest.Quiet(t)), nil, map[string]map[string]files.Entry{}, "weekly-system"}
}

// image adds an image with these files, n days later than the first.
func (s *shelf) image(has map[string]files.Entry) string {
	s.t.Helper()
	n := len(s.images)
	m := records.Image{ID: fmt.Sprintf("image%05d", n), Machine: "gate-07", MachineID: "u-gate", Policy: s.policy, Store: "quay-shelf", Taken: time.Unix(1_790_000_000, 0).AddDate(0, 0, n), Scope: "system", Capture: "full"}
	require.NoError(s.t, s.rec.AddImage(s.t.Context(), m))
	m.Consistency, m.Disks = "each file", []records.ImageDisk{}
	require.NoError(s.t, s.rec.FinishImage(s.t.Context(), m))
	s.images, s.has[m.ID] = append(s.images, m.ID), has
	return m.ID
}

func (s *shelf) keep(id string) { s.keepLooking(id, nil) }

func (s *shelf) keepLooking(id string, look Looking) {
	s.t.Helper()
	list := []byte(files.ListHead)
	for _, e := range s.has[id] {
		list = files.AppendEntry(list, &e)
	}
	require.NoError(s.t, s.l.Keep(s.t.Context(), "u-gate", id, map[string]io.Reader{"": bytes.NewReader(list)}, look))
}

// What is found is what a look into every image would find, whatever was listed when, in any order, and whatever went meanwhile.
func TestAnyHistory(t *testing.T) {
	for seed := range uint64(4) {
		rng := rand.New(rand.NewPCG(seed, 7))
		s := newShelf(t)
		now := map[string]files.Entry{}
		for range 12 {
			next := map[string]files.Entry{}
			for p, e := range now {
				next[p] = e
			}
			for range rng.IntN(30) {
				p := fmt.Sprintf("srv/%d/berth-%d\xff.txt", rng.IntN(3), rng.IntN(20))
				if rng.IntN(3) == 0 {
					delete(next, p)
				} else {
					next[p] = files.Entry{Path: p, Kind: files.File, Size: int64(rng.IntN(3)), Modified: time.Unix(1_790_000_000+int64(rng.IntN(3)), 7).UTC()}
				}
			}
			s.image(next)
			now = next
		}
		for _, i := range rng.Perm(len(s.images)) {
			if rng.IntN(5) > 0 {
				s.keep(s.images[i])
			}
		}
		for range 3 {
			id := s.images[rng.IntN(len(s.images))]
			require.NoError(t, s.rec.ForgetImage(t.Context(), id))
			require.NoError(t, s.rec.DropLists(t.Context()))
			delete(s.has, id)
		}
		for _, name := range []string{"berth-1", "BERTH-", "*-1?.txt", "1/*", "/srv/2/*", "nothing"} {
			p, err := parse(name)
			require.NoError(t, err)
			got, err := s.l.Find(t.Context(), "u-gate", name, 1000)
			require.NoError(t, err)
			missing := map[string]bool{}
			for _, m := range got.Missing {
				missing[m.ID] = true
			}
			want := map[string][]string{}
			for i := len(s.images) - 1; i >= 0; i-- { // the newest first
				id := s.images[i]
				if has, is := s.has[id]; is && !missing[id] {
					for path, e := range has {
						if p.fits(path) {
							want[path] = append(want[path], fmt.Sprint(id, e.Size, e.Modified.Unix()))
						}
					}
				}
			}
			found := map[string][]string{}
			for _, f := range got.Files {
				for _, v := range f.Versions {
					for i := len(s.images) - 1; i >= 0; i-- {
						id := s.images[i]
						e, has := s.has[id][f.Path]
						if has && !missing[id] && id <= v.Newest.ID && id >= v.Oldest.ID && e.Size == v.Entry.Size && e.Modified.Equal(v.Entry.Modified) {
							found[f.Path] = append(found[f.Path], fmt.Sprint(id, e.Size, e.Modified.Unix()))
						}
					}
				}
			}
			require.Equal(t, len(want), len(found), name)
			for path := range want {
				require.ElementsMatch(t, want[path], found[path], "%s %q", name, path)
			}
		}
	}
}

// A list that can't be opened any more is made anew; one that is cut short keeps nothing; names that are none are refused.
func TestListsThatCantBeRead(t *testing.T) {
	s := newShelf(t)
	first := s.image(map[string]files.Entry{"a": {Path: "a", Kind: files.File}})
	second := s.image(map[string]files.Entry{"b": {Path: "b", Kind: files.File}})
	s.keep(first)
	other, err := vault.Open(s.rec, filepath.Join(t.TempDir(), "lodge-key"))
	if err != nil { // the records have secrets of the first key
		other = nil
	}
	require.NotNil(t, other)
	again := New(s.rec, nil, other, recordstest.Quiet(t, "can't be read"))
	s.l = again
	s.keep(second)
	got, err := again.Find(t.Context(), "u-gate", "b", 10)
	require.NoError(t, err)
	require.Len(t, got.Files, 1)
	require.Equal(t, first, got.Missing[0].ID, "it is listed when it is opened again")

	third := s.image(nil)
	err = again.Keep(t.Context(), "u-gate", third, map[string]io.Reader{"": io.MultiReader(strings.NewReader(files.ListHead), failing{})}, nil)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	has, err := again.Has(context.Background(), third)
	require.NoError(t, err)
	require.False(t, has)
	for _, name := range []string{"", "[", "a\x00"} {
		_, err = again.Find(t.Context(), "u-gate", name, 10)
		if name == "a\x00" {
			require.NoError(t, err)
			continue
		}
		require.ErrorIs(t, err, fault.ErrInvalid, name)
	}
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.Join(io.ErrUnexpectedEOF) }

// What is unusual in how the files changed stays with the image until a person has looked; and what changed between two images is summed up.
func TestUnusualFiles(t *testing.T) {
	ctx := t.Context()
	s := newShelf(t)
	has := map[string]files.Entry{}
	at := time.Unix(1_790_000_000, 0).UTC()
	put := func(p string, size int64, day int) {
		has[p] = files.Entry{Path: p, Kind: files.File, Size: size, Modified: at.AddDate(0, 0, day)}
	}
	for i := range 60 {
		put(fmt.Sprintf("srv/berths/sheet-%02d.csv", i), 2000, 0)
	}
	put("var/lib/dpkg/info/openssl.list", 100, 0)
	s.keep(s.image(maps.Clone(has)))
	put("srv/berths/sheet-01.csv", 2100, 1)
	good := s.image(maps.Clone(has))
	s.keep(good)
	was := maps.Clone(has)
	clear(has)
	for p, e := range was {
		if ext := path.Ext(p); ext == ".csv" {
			p += ".sunk"
		}
		put(p, e.Size+512, 2)
	}
	bad := s.image(maps.Clone(has))
	looked := 0
	s.keepLooking(bad, func(_ context.Context, at []unusual.Suspect, see func(string, ...[]byte)) error {
		for _, one := range at {
			looked++
			see(one.Path, []byte("\x00\x01\x02\x03"))
		}
		return nil
	})
	require.Equal(t, 40, looked, "not all of them are looked into")
	for id, want := range map[string][]unusual.Kind{good: nil, bad: {unusual.NoText, unusual.Renamed}} {
		found, err := s.rec.Unusual(ctx, id)
		require.NoError(t, err)
		var kinds []unusual.Kind
		for _, o := range found {
			kinds = append(kinds, o.Kind)
		}
		require.Equal(t, want, kinds)
		m, err := s.rec.Image(ctx, id)
		require.NoError(t, err)
		require.Equal(t, len(want), m.Unusual)
	}
	seen, err := s.rec.Look(ctx, bad, "harbour-master", "it is a drill")
	require.NoError(t, err)
	require.True(t, seen)
	m, err := s.rec.Image(ctx, bad)
	require.NoError(t, err)
	require.Zero(t, m.Unusual)
	require.NoError(t, s.rec.AddUnusual(ctx, bad, []unusual.Sign{{Kind: unusual.Smaller, Text: "it is smaller"}}))
	m, err = s.rec.Image(ctx, bad)
	require.NoError(t, err)
	require.Equal(t, []any{1, "it is a drill"}, []any{m.Unusual, m.LookedNote}, "nobody has looked at what was found since")

	shift, ok, err := s.l.Between(ctx, "u-gate", good, bad)
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, "files: 1 changed, 60 came, 60 went (+31 KiB); packages: openssl", shift.String())
	back, ok, err := s.l.Between(ctx, "u-gate", bad, good)
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, -shift.Bytes, back.Bytes)
	_, ok, err = s.l.Between(ctx, "u-gate", good, "image99999")
	require.NoError(t, err)
	require.False(t, ok)
}

// Images of another policy hold other files: an image is compared with the one before of its own policy, also where others were listed in between.
func TestUnusualAmongOthers(t *testing.T) {
	ctx := t.Context()
	s := newShelf(t)
	set := func(n int, end string) map[string]files.Entry {
		has := map[string]files.Entry{}
		for i := range n {
			p := fmt.Sprintf("srv/berths/sheet-%02d.csv%s", i, end)
			has[p] = files.Entry{Path: p, Kind: files.File, Size: 2000, Modified: time.Unix(1_790_000_000, 0).UTC()}
		}
		return has
	}
	add := func(policy string, has map[string]files.Entry) string {
		s.policy = policy
		id := s.image(has)
		s.keep(id)
		return id
	}
	for range 6 {
		for policy, n := range map[string]int{"monthly-whole": 60, "weekly-system": 2} {
			found, err := s.rec.Unusual(ctx, add(policy, set(n, "")))
			require.NoError(t, err)
			require.Empty(t, found, policy)
		}
	}
	add("weekly-system", set(2, ""))
	found, err := s.rec.Unusual(ctx, add("monthly-whole", set(60, ".sunk")))
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.Equal(t, unusual.Renamed, found[0].Kind)
}
