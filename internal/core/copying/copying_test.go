package copying

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
)

var lisbon = func() *time.Location {
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		panic(err)
	}
	return zone
}()

func at(text string) time.Time {
	t, err := time.ParseInLocation("2006-01-02 15:04", text, lisbon)
	if err != nil {
		panic(err)
	}
	return t
}

func rule(t *testing.T, text string) rotation.Rule {
	r, err := rotation.Parse(text)
	require.NoError(t, err)
	return r
}

func images(moments ...string) (out []Image) {
	for i, m := range moments {
		id := fmt.Sprintf("image%05d", i)
		out = append(out, Image{rotation.Image{ID: id, Taken: at(m), Capture: image.Incremental, State: image.Usable}, id})
	}
	return out
}

func copied(verdicts []Verdict) (out []int) {
	for i, v := range verdicts {
		if v.Copy {
			out = append(out, i)
		}
	}
	return out
}

func TestDecide(t *testing.T) {
	all := images("2026-10-30 23:00", "2026-10-31 09:00", "2026-10-31 23:00", "2026-11-08 23:00", "2026-11-09 01:00", "2026-11-09 23:00")
	all[0].Capture, all[4].Capture = image.Full, image.Full
	now := at("2026-11-09 23:30")
	keepAll := rule(t, "newest 99")
	none := Set{Images: all, Known: map[string]bool{}, Rule: keepAll}
	some := none
	some.Known = map[string]bool{"image00002": true}
	some.Copies = []rotation.Image{{ID: "there", Taken: at("2026-10-31 23:00"), State: image.Usable}}
	for _, c := range []struct {
		which Which
		set   Set
		force bool
		want  []int
	}{
		{Each, none, false, []int{0, 1, 2, 3, 4, 5}},
		{Each, some, false, []int{0, 1, 3, 4, 5}},
		{FullOnes, none, false, []int{0, 4}},
		{FullOnes, none, true, []int{0, 4, 5}},
		{OfEachDay, none, false, []int{0, 2, 3, 5}}, // of a machine without a copy, the newest goes, too
		{OfEachDay, some, false, []int{0, 3}},
		{OfEachWeek, some, false, []int{3}}, // 2026-11-08 is a Sunday
		{OfEachMonth, some, false, nil},
		{OfEachMonth, some, true, []int{5}},
		{OfEachMonth, none, false, []int{2, 5}},
	} {
		got := Decide(c.which, c.set, now, c.force)
		require.Equal(t, c.want, copied(got), "%s, %v", c.which, c.force)
		for i, v := range got {
			require.NotEmpty(t, v.Why+fmt.Sprint(v.Copy && i == len(got)-1 && c.force), "%s: image %d", c.which, i)
		}
	}
	// What rotation over there would let go at once is not brought, and neither is what is broken.
	few := none
	few.Rule = rule(t, "newest 2")
	got := Decide(Each, few, now, false)
	require.Equal(t, []int{4, 5}, copied(got))
	require.Contains(t, got[0].Why, "the rotation of copies would let it go at once")
	few.Images = slices.Clone(all)
	few.Images[5].State = image.Broken
	require.Equal(t, []int{3, 4}, copied(Decide(Each, few, now, false)))
}

// However images come, a rule that has copied what is due has nothing more to do, and rotation over there does not let go at once what has come.
func TestCopyingSettles(t *testing.T) {
	rng := rand.New(rand.NewPCG(20, 7))
	for range 400 {
		which := Whiches[rng.IntN(len(Whiches))]
		s := Set{Known: map[string]bool{}, Rule: rule(t, []string{"newest 3", "7 daily, 4 weekly", "10 days", "first, newest 2", "2 monthly"}[rng.IntN(5)])}
		now := at("2026-03-01 06:00")
		for n := range 40 {
			now = now.Add(time.Duration(rng.IntN(60*24)) * time.Minute)
			id := fmt.Sprintf("image%05d", n)
			m := Image{rotation.Image{ID: id, Taken: now, Capture: image.Captures[rng.IntN(2)], State: image.Usable}, id}
			if rng.IntN(10) == 0 {
				m.State = image.Broken
			}
			s.Images = append(s.Images, m)
			if rng.IntN(3) > 0 {
				continue
			}
			brought := map[string]bool{}
			for _, v := range Decide(which, s, now, rng.IntN(5) == 0) {
				if v.Copy {
					brought[v.ID] = true
					s.Known[v.Origin] = true
					s.Copies = append(s.Copies, v.Image.Image)
				}
			}
			slices.SortFunc(s.Copies, func(a, b rotation.Image) int { return a.Taken.Compare(b.Taken) })
			again := Decide(which, s, now, false)
			require.Empty(t, copied(again), "%s at %s: %v", which, now, again)
			s.Copies = slices.DeleteFunc(s.Copies, func(m rotation.Image) bool {
				d := decision(s, m.ID, now)
				return d == rotation.Drop
			})
		}
	}
}

func decision(s Set, id string, now time.Time) rotation.Verdict {
	for _, d := range rotation.Make(s.Rule, now, s.Copies).Decisions {
		if d.ID == id {
			return d.Verdict
		}
	}
	return rotation.Keep
}

// After an outage everything has one fresh copy before the backlog goes.
func TestOrder(t *testing.T) {
	type m struct {
		machine string
		day     int
	}
	day := func(n int) time.Time { return at("2026-03-01 06:00").AddDate(0, 0, n) }
	got := Order([]m{{"a", 1}, {"a", 2}, {"b", 1}, {"a", 3}, {"c", 0}, {"b", 2}}, func(v m) string { return v.machine }, func(v m) time.Time { return day(v.day) })
	require.Equal(t, []m{{"c", 0}, {"b", 2}, {"a", 3}, {"a", 1}, {"b", 1}, {"a", 2}}, got)
}
