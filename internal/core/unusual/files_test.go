package unusual

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/files"
)

// simulated is a machine with files of which each day some change; what lies in them is drawn from their kind when it is looked at.
type simulated struct {
	rng    *rand.Rand
	day    int
	now    map[string]simFile
	past   []Change
	sizes  []Figures
	fresh  int64 // bytes that were written since the last image
	packed int64 // of these, what is left when they are compressed
}

type simFile struct {
	size  int64
	mtime int
	// crypt says that it was encrypted, from where on: 0 not at all, 1 whole, 2 every other piece, 3 as text (base64), 4 only its end, 5 zeroed.
	crypt int
}

var simKinds = []string{".txt", ".csv", ".xml", ".pdf", ".jpg", ".docx", ".dat", ".html", ".log", ".sql"}

func newSimulated(seed uint64) *simulated {
	s := &simulated{rng: rand.New(rand.NewPCG(seed, 18)), now: map[string]simFile{}}
	for f := range 6 + s.rng.IntN(20) {
		for n := range 10 + s.rng.IntN(40) {
			s.now[fmt.Sprintf("srv/berths/%02d/sheet-%03d%s", f, n, simKinds[s.rng.IntN(len(simKinds))])] = simFile{size: 200 + s.rng.Int64N(300<<10)}
		}
	}
	for n := range 300 {
		s.now[fmt.Sprintf("usr/lib/ferry/part-%03d.so", n)] = simFile{size: 10 << 10}
	}
	s.now["var/lib/db/records.dat"] = simFile{size: 900 << 20}
	for i := range 7 {
		s.now[fmt.Sprintf("srv/dumps/sailings-%03d.sql", i)] = simFile{size: 30<<20 + s.rng.Int64N(1<<20)}
	}
	return s
}

// data are the paths of the machine's data, sorted.
func (s *simulated) data() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(s.now)), func(p string) bool { return !isData(p) })
}

func (s *simulated) write(p string, f simFile) {
	f.mtime = s.day
	s.now[p] = f
	share := 0.2 + 0.1*s.rng.Float64()
	switch ending(p) {
	case ".jpg", ".pdf", ".docx":
		share = 0.95
	}
	if f.crypt == 1 {
		share = 1
	}
	s.fresh += f.size
	s.packed += int64(share * float64(f.size))
}

// live is an ordinary day: people write, add and remove some sheets, the database goes on, dumps move on, and now and then the system is updated, a folder
// moves, reports are packed, a hundred photographs come.
func (s *simulated) live() {
	s.day++
	all := s.data()
	for range 2 + s.rng.IntN(25) {
		p := all[s.rng.IntN(len(all))]
		if f, ok := s.now[p]; ok && strings.HasPrefix(p, "srv/berths") {
			f.size += s.rng.Int64N(4 << 10)
			s.write(p, f)
		}
	}
	for range s.rng.IntN(12) {
		s.write(fmt.Sprintf("srv/berths/%02d/sheet-%d%s", s.rng.IntN(6), 1000+s.rng.IntN(1_000_000), simKinds[s.rng.IntN(len(simKinds))]), simFile{size: 200 + s.rng.Int64N(300<<10)})
	}
	for range s.rng.IntN(8) {
		if p := all[s.rng.IntN(len(all))]; strings.HasPrefix(p, "srv/berths") {
			delete(s.now, p)
		}
	}
	db := s.now["var/lib/db/records.dat"]
	s.now["var/lib/db/records.dat"] = simFile{size: db.size + 1<<20, mtime: s.day}
	s.fresh, s.packed = s.fresh+60<<20, s.packed+int64((0.25+0.1*s.rng.Float64())*(60<<20))
	delete(s.now, fmt.Sprintf("srv/dumps/sailings-%03d.sql", s.day-1))
	s.write(fmt.Sprintf("srv/dumps/sailings-%03d.sql", s.day+6), simFile{size: 30<<20 + s.rng.Int64N(1<<20)})
	switch {
	case s.day%30 == 12: // an update of the system
		for n := range 300 {
			s.write(fmt.Sprintf("usr/lib/ferry/part-%03d.so", n), simFile{size: 10<<10 + int64(s.day)})
		}
	case s.day%61 == 20: // photographs
		for n := range 60 {
			s.write(fmt.Sprintf("srv/berths/photos-%d/quay-%03d.jpg", s.day, n), simFile{size: 400<<10 + s.rng.Int64N(200<<10)})
		}
	case s.day%73 == 30: // a folder moves
		for _, p := range all {
			if rest, ok := strings.CutPrefix(p, "srv/berths/03/"); ok {
				f := s.now[p]
				delete(s.now, p)
				s.now[fmt.Sprintf("srv/berths/moved-%d/%s", s.day, rest)] = f
			}
		}
	case s.day%90 == 40: // old sheets are packed, each by itself
		n := 0
		for _, p := range all {
			if strings.HasPrefix(p, "srv/berths/01/") && ending(p) != ".gz" && n < 15 {
				f := s.now[p]
				delete(s.now, p)
				s.write(p+".gz", simFile{size: f.size / 3})
				n++
			}
		}
	}
}

func (s *simulated) list() (out []files.Entry) {
	for _, p := range slices.Sorted(maps.Keys(s.now)) {
		f := s.now[p]
		out = append(out, files.Entry{Path: p, Kind: files.File, Size: f.size, Modified: time.Unix(int64(f.mtime)*86400, 0)})
	}
	return out
}

// head is a piece of a file.
func (s *simulated) head(p string) []byte {
	random := make([]byte, 512)
	for i := range random {
		random[i] = byte(s.rng.Uint32())
	}
	text := bytes.Repeat([]byte("berth 7;1.5 m;évening tide\n"), 20)[:512]
	switch f := s.now[p]; {
	case f.crypt == 1 || f.crypt == 2:
		return random
	case f.crypt == 3:
		return []byte(base64.StdEncoding.EncodeToString(random))
	case f.crypt == 5:
		return make([]byte, 512)
	case IsTextByName(p):
		return text
	case ending(p) == ".gz":
		copy(random, "\x1f\x8b")
	}
	return random
}

// image takes one, and says what is unusual in it.
func (s *simulated) image(before, now []files.Entry) (signs []Sign) {
	var tally Tally
	for _, d := range differences(before, now) {
		tally.See(d)
	}
	c, suspects := tally.Sum(now)
	for _, p := range suspects {
		c.Looked++
		if !Readable(p.Path, s.head(p.Path)) {
			c.Textless++
		}
	}
	f := Figures{Read: s.fresh, Fresh: s.fresh, Stored: s.packed, Took: time.Minute}
	signs = append(CompareFiles(c, s.past), Compare(f, s.sizes)...)
	s.past, s.sizes = slices.Insert(s.past, 0, c), slices.Insert(s.sizes, 0, f)
	s.fresh, s.packed = 0, 0
	return Grave(signs)
}

func differences(before, now []files.Entry) (out []files.Difference) {
	old := map[string]files.Entry{}
	for _, e := range before {
		old[e.Path] = e
	}
	for _, e := range now {
		o, was := old[e.Path]
		delete(old, e.Path)
		if !was {
			out = append(out, files.Difference{New: &e})
		} else if what := files.Changes(&o, &e); len(what) > 0 {
			out = append(out, files.Difference{Old: &o, New: &e, What: what})
		}
	}
	for _, e := range old {
		out = append(out, files.Difference{Old: &e})
	}
	return out
}

// planted are ways in which data is lost to somebody. pick says which files are meant, share how many of them.
var planted = map[string]func(s *simulated){
	"in place":                         inPlace(1, 1, nil),
	"in place, the times kept":         keepingTimes(inPlace(1, 1, nil)),
	"in place, half of them":           inPlace(1, 0.5, nil),
	"in place, one in six":             inPlace(1, 0.17, nil),
	"in place, every other piece":      inPlace(2, 1, nil),
	"in place, documents only":         inPlace(1, 1, func(p string) bool { return IsTextByName(p) || ending(p) == ".docx" }),
	"in place, the largest":            inPlace(1, 1, func(p string) bool { return strings.HasPrefix(p, "srv/dumps") || strings.HasPrefix(p, "var/lib/db") }),
	"in place, zeroed":                 inPlace(5, 1, nil),
	"in place, text of random letters": renaming(3, func(rng *rand.Rand, p string) string { return p }),
	"an ending is added":               renaming(1, func(_ *rand.Rand, p string) string { return p + ".sunk" }),
	"an ending is added, half":         half(renaming(1, func(_ *rand.Rand, p string) string { return p + ".sunk" })),
	"an ending of its own for each":    renaming(1, func(rng *rand.Rand, p string) string { return fmt.Sprintf("%s.%08x", p, rng.Uint32()) }),
	"two endings are added":            renaming(1, func(_ *rand.Rand, p string) string { return p + ".[pay@example.org].sunk" }),
	"the ending is another":            renaming(1, func(_ *rand.Rand, p string) string { return strings.TrimSuffix(p, path.Ext(p)) + ".sunk" }),
	"another name":                     renaming(1, func(rng *rand.Rand, p string) string { return fmt.Sprintf("%s/%016x", path.Dir(p), rng.Uint64()) }),
	"another name, the ending stays": renaming(1, func(rng *rand.Rand, p string) string {
		return fmt.Sprintf("%s/%016x%s", path.Dir(p), rng.Uint64(), path.Ext(p))
	}),
	"as text, an ending is added": renaming(3, func(_ *rand.Rand, p string) string { return p + ".sunk" }),
	"packed into one":             func(s *simulated) { removeAll(s); s.write("srv/all.bin", simFile{size: 80 << 20, crypt: 1}) },
	"removed":                     removeAll,
	"removed, with a note":        func(s *simulated) { noted(s); removeAll(s) },
	"an ending, with notes": func(s *simulated) {
		noted(s)
		renaming(1, func(_ *rand.Rand, p string) string { return p + ".sunk" })(s)
	},
}

func inPlace(crypt int, share float64, pick func(string) bool) func(s *simulated) {
	return func(s *simulated) {
		for i, p := range s.data() {
			if float64(i%100) < 100*share && (pick == nil || pick(p)) {
				f := s.now[p]
				f.crypt = crypt
				s.write(p, f)
			}
		}
	}
}

func keepingTimes(act func(*simulated)) func(*simulated) {
	return func(s *simulated) {
		was := maps.Clone(s.now)
		act(s)
		for p, f := range s.now {
			f.mtime = was[p].mtime
			s.now[p] = f
		}
	}
}

func renaming(crypt int, name func(rng *rand.Rand, p string) string) func(s *simulated) {
	return func(s *simulated) {
		for _, p := range s.data() {
			f := s.now[p]
			f.crypt, f.size = crypt, f.size+512
			if crypt == 3 {
				f.size = f.size * 4 / 3
			}
			delete(s.now, p)
			s.write(name(s.rng, p), f)
		}
	}
}

func half(act func(*simulated)) func(*simulated) {
	return func(s *simulated) {
		kept := map[string]simFile{}
		for i, p := range s.data() {
			if i%2 == 0 {
				kept[p] = s.now[p]
				delete(s.now, p)
			}
		}
		act(s)
		maps.Copy(s.now, kept)
	}
}

func removeAll(s *simulated) {
	for _, p := range s.data() {
		if path.Base(p) != "READ_THIS.txt" {
			delete(s.now, p)
		}
	}
}

func noted(s *simulated) {
	for _, p := range s.data() {
		s.write(path.Dir(p)+"/READ_THIS.txt", simFile{size: 812})
	}
}

// Of more than 500 planted changes of 21 kinds, 95 of 100 are told of in the image that has them first; in years of ordinary days nothing is.
func TestPlantedAndOrdinary(t *testing.T) {
	found, all := map[string]int{}, 0
	const machines = 25
	for seed := range uint64(machines) {
		days := 15
		if seed%13 == 0 {
			days = 366
		}
		s := newSimulated(seed)
		var last []files.Entry
		for range days {
			s.live()
			now := s.list()
			if signs := s.image(last, now); last != nil {
				require.Empty(t, signs, "day %d of machine %d is an ordinary one", s.day, seed)
			} else {
				s.past = nil // there was nothing to compare with
			}
			last = now
		}
		for name, act := range planted {
			hit := *s
			hit.now, hit.past, hit.sizes = maps.Clone(s.now), slices.Clone(s.past), slices.Clone(s.sizes)
			hit.live()
			act(&hit)
			all++
			if len(hit.image(last, hit.list())) > 0 {
				found[name]++
			}
		}
	}
	hits := 0
	for name := range planted {
		hits += found[name]
		if found[name] < machines {
			t.Logf("%s: %d of %d", name, found[name], machines)
		}
	}
	t.Logf("%d of %d", hits, all)
	require.GreaterOrEqual(t, all, 500)
	require.GreaterOrEqual(t, hits*100, all*95)
}

func TestIsText(t *testing.T) {
	for text, want := range map[string]bool{"": true, "tide;\t1.5\r\n": true, "Zürich \xfcber": true, "\xff\xfeT\x00i\x00": true, "\x1b[1mlog\x1b[0m": true, "\x00\x00\x00\x00": false} {
		require.Equal(t, want, IsText([]byte(text)), "%q", text)
	}
	rng := rand.New(rand.NewPCG(1, 2))
	for range 1000 {
		piece := make([]byte, 512)
		for i := range piece {
			piece[i] = byte(rng.Uint32())
		}
		require.False(t, IsText(piece))
	}
}

// Of few files, or with little known of a machine, only what tells by itself is told.
func TestWhereFilesBegin(t *testing.T) {
	past := []Change{{Files: 100, Folders: 10, Rewritten: 10, Renamed: 1, Gone: 2}, {Files: 100}, {Files: 100}, {Files: 100}}
	for name, c := range map[string]struct {
		now    Change
		before []Change
		want   []Kind
	}{
		"renamed with an ending":   {Change{Files: 200, Gone: 20, Renamed: 20, Ending: ".sunk", Ended: 16}, nil, []Kind{Renamed}},
		"too few of them":          {Change{Files: 200, Gone: 19, Renamed: 19, Ending: ".sunk", Ended: 19}, nil, nil},
		"too small a share":        {Change{Files: 201, Gone: 20, Renamed: 20, Ending: ".sunk", Ended: 20}, nil, nil},
		"not by the same ending":   {Change{Files: 200, Gone: 20, Renamed: 20, Ending: ".sunk", Ended: 15}, nil, nil},
		"but more than ever":       {Change{Files: 200, Gone: 20, Renamed: 20, Ending: ".sunk", Ended: 15}, past, []Kind{Renamed}},
		"rewritten":                {Change{Files: 100, Rewritten: 40}, past, []Kind{Rewritten}},
		"as it was before":         {Change{Files: 100, Rewritten: 30}, past, nil},
		"rewritten, nothing known": {Change{Files: 100, Rewritten: 100}, past[:3], nil},
		"gone":                     {Change{Files: 100, Gone: 41, Renamed: 1}, past, []Kind{Deleted}},
		"no text":                  {Change{Files: 100, Looked: 10, Textless: 5}, nil, []Kind{NoText}},
		"no text, as ever":         {Change{Files: 100, Looked: 10, Textless: 5}, []Change{{Looked: 4, Textless: 1}}, nil},
		"few that are no text":     {Change{Files: 100, Looked: 4, Textless: 4}, nil, nil},
		"the same file in each":    {Change{Files: 100, Folders: 40, Note: "READ", Notes: 20}, nil, []Kind{Noted}},
		"the same file in a few":   {Change{Files: 100, Folders: 41, Note: "READ", Notes: 20}, nil, nil},
		"nothing":                  {Change{}, past, nil},
	} {
		var got []Kind
		for _, s := range CompareFiles(c.now, c.before) {
			got = append(got, s.Kind)
		}
		require.Equal(t, c.want, got, name)
	}
}
