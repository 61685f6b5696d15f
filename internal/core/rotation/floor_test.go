package rotation

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/image"
)

// A store that is short of room loses its oldest images first, never one that more than a clause keeps, and never one on which a
// staying image leans.
func TestTheFloorTakesNoMoreThanItMay(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	now := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	for round := range 1500 {
		rule, err := Parse([]string{"newest 5", "20 days", "9 daily, first"}[rng.IntN(3)])
		require.NoError(t, err)
		var sets []Set
		var all int64
		for range 1 + rng.IntN(3) {
			images := randomSet(rng)
			for i := range images {
				images[i].Bytes = 1 + rng.Int64N(1000)
				all += images[i].Bytes
			}
			sets = append(sets, Set{images, Make(rule, now, images)})
		}
		before := make([]Plan, len(sets))
		for i, s := range sets {
			before[i] = Make(rule, now, s.Images)
		}
		need := rng.Int64N(1 + all)
		missing := Relieve(sets, need, "the store must keep 20 GiB free", now)
		var given int64
		for i, s := range sets {
			stays := map[string]bool{}
			for _, d := range s.Plan.Decisions {
				stays[d.ID] = d.Verdict != Drop
			}
			for k, m := range s.Images {
				was, is := before[i].Decisions[k].Verdict, s.Plan.Decisions[k].Verdict
				if was != Drop && is == Drop {
					given += m.Bytes
					require.False(t, before[i].fixed[k], "round %d: more than a clause keeps %s", round, m.ID)
				} else {
					require.Equal(t, was, is)
				}
				if stays[m.ID] && m.Base != "" {
					require.True(t, stays[m.Base], "round %d: %s leans on %s", round, m.ID, m.Base)
				}
			}
			if missing > 0 { // then all that may go is gone
				for k, m := range s.Images {
					leant := false
					for _, o := range s.Images {
						leant = leant || o.Base == m.ID && stays[o.ID]
					}
					require.False(t, stays[m.ID] && !s.Plan.fixed[k] && !leant, "round %d: %s might have gone", round, m.ID)
				}
			}
		}
		if missing > 0 {
			require.Equal(t, need-given, missing)
		} else {
			require.GreaterOrEqual(t, given, need)
			require.Less(t, given, need+1000, "no more than asked for")
		}
	}
}

// A floor that would take too much is held back as a rule is.
func TestTheGuardWatchesTheFloor(t *testing.T) {
	start := time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC)
	var images []Image
	for i := range 10 {
		images = append(images, Image{ID: fmt.Sprint("i", i), Taken: start.AddDate(0, 0, i), Capture: "full", State: "usable", Bytes: 1})
	}
	rule, err := Parse("newest 10")
	require.NoError(t, err)
	now := images[9].Taken.Add(time.Hour)
	for need, guarded := range map[int64]bool{0: false, 5: false, 6: true, 50: true} {
		sets := []Set{{images, Make(rule, now, images)}}
		require.Equal(t, max(0, need-9), Relieve(sets, need, "why", now))
		require.Equal(t, guarded, sets[0].Plan.Guard != "", need)
	}
}

// While an image is unusual neither the rule nor the floor drops any of its set; others give what they can.
func TestWhatIsUnusualHoldsTheFloor(t *testing.T) {
	start := time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC)
	set := func(odd int) Set {
		var images []Image
		for i := range 4 {
			images = append(images, Image{ID: fmt.Sprint("i", i), Taken: start.AddDate(0, 0, i), Capture: "full", State: "usable", Bytes: 1, Unusual: i == odd})
		}
		rule, err := Parse("newest 3")
		require.NoError(t, err)
		s := Set{images, Make(rule, start.AddDate(0, 0, 5), images)}
		require.Len(t, s.Plan.Drops(), 1)
		s.Plan.HoldUnusual(images)
		return s
	}
	sets := []Set{set(2), set(-1)}
	require.Equal(t, []string{"i2", ""}, []string{sets[0].Plan.Unusual, sets[1].Plan.Unusual})
	require.EqualValues(t, 98, Relieve(sets, 100, "the store must keep 20 GiB free", start.AddDate(0, 0, 5)))
	require.Empty(t, sets[0].Plan.Drops())
	require.Len(t, sets[1].Plan.Drops(), 3)
	require.Equal(t, Decision{"i0", Held, "image i2 is unusual, and nobody has looked (else: no clause of the rule keeps it)"}, sets[0].Plan.Decisions[0])
}

// Another zone moves the edges of days by hours; it never empties a set.
func TestAZoneThatChanges(t *testing.T) {
	start := time.Date(2026, 1, 1, 23, 30, 0, 0, time.UTC)
	var images []Image
	for i := range 60 {
		images = append(images, Image{ID: fmt.Sprint("i", i), Taken: start.AddDate(0, 0, i), Capture: "full", State: "usable"})
	}
	now := images[59].Taken.Add(time.Minute)
	for _, phrase := range []string{"30 days", "7 daily, 4 weekly, 2 monthly", "48 hours, first"} {
		rule, err := Parse(phrase)
		require.NoError(t, err)
		stays := func(zone string) (out map[string]bool) {
			z, err := time.LoadLocation(zone)
			require.NoError(t, err)
			out = map[string]bool{}
			for _, d := range Make(rule, now.In(z), images).Decisions {
				out[d.ID] = d.Verdict != Drop
			}
			return out
		}
		home := stays("Europe/Lisbon")
		for _, zone := range []string{"Pacific/Kiritimati", "Etc/GMT+12", "America/St_Johns"} {
			lost := 0
			away := stays(zone)
			for id, stay := range home {
				if stay && !away[id] {
					lost++
				}
			}
			require.LessOrEqual(t, lost, 6, "%s in %s", phrase, zone)
			require.True(t, away["i59"])
		}
	}
}

// A story never has fewer usable images than the rule counts, once there were so many, and nothing leans on what is gone.
func TestStories(t *testing.T) {
	for _, c := range []struct {
		cycle   string
		capture image.Capture
		fold    bool
	}{{"always full", "incremental", false}, {"full every 7th", "incremental", false}, {"full on sun", "differential", false}, {"full once", "incremental", false}, {"full once", "incremental", true}} {
		rule, err := Parse("newest 4")
		require.NoError(t, err)
		cyc, err := cycle.Parse(c.cycle)
		require.NoError(t, err)
		nights := Simulate(Scenario{Rule: rule, Cycle: cyc, Capture: c.capture, Leans: true, Fold: c.fold, First: time.Date(2026, 2, 1, 23, 0, 0, 0, time.UTC), Nights: 40})
		require.Len(t, nights, 40)
		for n, night := range nights {
			there := map[string]bool{}
			for _, m := range night.Images {
				if m.Verdict == Keep || m.Verdict == Held {
					there[m.ID] = true
					require.True(t, m.Base == "" || there[m.Base])
				}
			}
			require.GreaterOrEqual(t, len(there), min(n+1, 4))
			if c.cycle == "always full" || c.fold {
				require.Len(t, there, min(n+1, 4))
			}
		}
	}
}

func BenchmarkPlan100000(b *testing.B) {
	rule, err := Parse("24 hourly, 30 daily, 52 weekly, 120 monthly, 5 yearly, first")
	require.NoError(b, err)
	var images []Image
	at := time.Date(2015, 1, 1, 0, 0, 0, 0, time.UTC)
	for i := range 100_000 {
		m := Image{ID: fmt.Sprint("i", i), Taken: at.Add(time.Duration(i) * time.Hour), Capture: "full", State: "usable", Bytes: 1}
		if i%24 > 0 {
			m.Capture, m.Base = "incremental", images[i-1].ID
		}
		images = append(images, m)
	}
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(b, err)
	now := images[len(images)-1].Taken.In(lisbon)
	for b.Loop() {
		Make(rule, now, images)
	}
}

// What a night's image leans on, and when it goes, night by night: F is a full image, I or D one that leans on the one named.
func TestNights(t *testing.T) {
	for name, c := range map[string]struct {
		rule, cycle string
		capture     image.Capture
		leans, fold bool
		want        string
	}{
		"full ones":    {"newest 2", "always full", image.Incremental, true, false, "1F | 1F 2F | 2F 3F | 3F 4F"},
		"increments":   {"newest 2", "full once", image.Incremental, true, false, "1F | 1F 2I1 | 1F* 2I1 3I2 | 1F* 2I1* 3I2 4I3"},
		"differential": {"newest 2", "full every 3rd", image.Differential, true, false, "1F | 1F 2D1 | 1F* 2D1 3D1 | 1F* 3D1 4F"},
		"pooled":       {"newest 2", "full once", image.Incremental, false, false, "1F | 1F 2I | 2I 3I | 3I 4I"},
		"folded":       {"newest 2", "full once", image.Incremental, true, true, "1F | 1F 2I1 | 2F 3I2 | 3F 4I3"},
	} {
		rule, err := Parse(c.rule)
		require.NoError(t, err)
		cyc, err := cycle.Parse(c.cycle)
		require.NoError(t, err)
		var nights []string
		for i, n := range Simulate(Scenario{Rule: rule, Cycle: cyc, Capture: c.capture, Leans: c.leans, Fold: c.fold, First: time.Date(2026, 2, 1, 23, 0, 0, 0, time.UTC), Nights: 4}) {
			require.Equal(t, time.Date(2026, 2, 1+i, 23, 0, 0, 0, time.UTC), n.At)
			require.Len(t, n.Images, i+1)
			var there []string
			for _, m := range n.Images {
				if m.Verdict == Keep || m.Verdict == Held {
					word := strings.TrimPrefix(m.ID, "night-00") + strings.ToUpper(string(m.Capture[:1]))
					if m.Base != "" {
						word += strings.TrimPrefix(m.Base, "night-00")
					}
					if m.Verdict == Held {
						word += "*"
					}
					there = append(there, word)
				}
			}
			nights = append(nights, strings.Join(there, " "))
		}
		require.Equal(t, c.want, strings.Join(nights, " | "), name)
	}
}
