package rotation

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
)

// reference plans a rotation as slowly and as plainly as the guide puts it: each rule once through all images. why is "" where only what
// leans decides.
func reference(phrase string, now time.Time, images []Image) (stays []bool, why []string, guard string) {
	stays, why = make([]bool, len(images)), make([]string, len(images))
	keep := func(i int, reason string) {
		if !stays[i] {
			stays[i], why[i] = true, reason
		}
	}
	newest := make([]int, len(images)) // newest first
	for i := range newest {
		newest[i] = i
	}
	slices.SortFunc(newest, func(a, b int) int {
		if !images[a].Taken.Equal(images[b].Taken) {
			return images[b].Taken.Compare(images[a].Taken)
		}
		return strings.Compare(images[b].ID, images[a].ID)
	})
	usable := func(i int) bool { return images[i].State == image.Usable }
	var candidates []int
	for _, i := range newest {
		switch {
		case images[i].State == image.Writing:
			keep(i, "it is being written")
		case images[i].Pinned:
			keep(i, "it is pinned")
		case images[i].State == image.Doubtful:
			keep(i, "it is doubtful: a repair may mend it, or a second reading tell that it is broken")
		case images[i].State == "strange":
			keep(i, `its state "strange" is none that this program knows`)
		case usable(i):
			candidates = append(candidates, i)
		}
	}
	clauses := strings.Split(phrase, ",")
	if strings.Contains(phrase, "first") && len(candidates) > 0 {
		keep(candidates[len(candidates)-1], `clause "first": the earliest usable image`)
		candidates = candidates[:len(candidates)-1]
	}
	for _, c := range clauses {
		words := strings.Fields(c)
		if words[0] == "first" {
			continue
		}
		if words[0] == "last" {
			name, found := strings.Join(words, " "), false
			for _, i := range candidates {
				level := slices.Index(image.Levels, images[i].Proven)
				if found = found || level >= slices.Index(image.Levels, image.Level(words[2])); found {
					keep(i, fmt.Sprintf("clause %q: the newest with a proof by %s", name, images[i].Proven))
					break
				}
			}
			continue
		}
		number, unit := words[0], words[1]
		if number == "newest" {
			number, unit = words[1], words[0]
		}
		n, _ := strconv.Atoi(number)
		name := strings.Join(words, " ")
		seen := map[string]bool{}
		for at, i := range candidates {
			taken := images[i].Taken.In(now.Location())
			var edge time.Time
			var label string
			switch unit {
			case "newest":
				if at < n {
					keep(i, fmt.Sprintf("clause %q: number %d of %d", name, at+1, n))
				}
				continue
			case "hours":
				edge = now.Add(-time.Duration(n) * time.Hour)
			case "days":
				edge = now.AddDate(0, 0, -n)
			case "weeks":
				edge = now.AddDate(0, 0, -7*n)
			case "months", "years": // of which the days of the moments below are never too many
				edge = now.AddDate(0, -n, 0)
				if unit == "years" {
					edge = now.AddDate(-n, 0, 0)
				}
			case "hourly":
				label = taken.Format("2006-01-02 15h -07:00")
			case "daily":
				label = taken.Format("2006-01-02")
			case "weekly":
				year, week := taken.ISOWeek()
				label = fmt.Sprintf("%d week %d", year, week)
			case "monthly":
				label = taken.Format("January 2006")
			case "yearly":
				label = taken.Format("2006")
			}
			if label == "" {
				if !taken.Before(edge) {
					keep(i, fmt.Sprintf("clause %q: taken since %s", name, edge.Format("2006-01-02 15:04")))
				}
				continue
			}
			if !seen[label] && len(seen) < n {
				keep(i, fmt.Sprintf("clause %q: the newest of %s", name, label))
			}
			seen[label] = true
		}
	}
	latest, shown := -1, -1
	for _, i := range newest {
		if usable(i) && latest < 0 {
			latest = i
		}
		if usable(i) && shown < 0 && slices.Contains([]image.Level{"mount", "boot", "restore"}, images[i].Proven) {
			shown = i
		}
	}
	if latest >= 0 {
		keep(latest, "it is the newest usable image")
	}
	if shown >= 0 {
		keep(shown, "it is the newest image proven by "+string(images[shown].Proven))
	}
	for i, m := range images {
		if m.State == image.Broken && (latest < 0 || !images[latest].Taken.After(m.Taken)) {
			keep(i, fmt.Sprintf("it is %s, and there is no newer usable image yet", m.State))
		}
	}
	for range images { // until nothing changes: what a staying image leans on stays
		for _, m := range images {
			if i := slices.IndexFunc(images, func(b Image) bool { return b.ID == m.Base }); i >= 0 && stays[slices.IndexFunc(images, func(o Image) bool { return o.ID == m.ID })] {
				stays[i] = true
			}
		}
	}
	alone, goes, withBroken, goWithBroken := 0, 0, 0, 0
	var last time.Time
	for i, m := range images {
		if m.Taken.After(last) {
			last = m.Taken
		}
		if usable(i) && m.Base == "" {
			if alone++; !stays[i] {
				goes++
			}
		}
		if (usable(i) || m.State == image.Broken) && m.Base == "" {
			if withBroken++; !stays[i] {
				goWithBroken++
			}
		}
	}
	switch {
	case latest >= 0 && now.Before(last):
		guard = fmt.Sprintf("the moment %s is earlier than the newest image (%s): is the clock right?", now.Format(time.RFC3339), last.In(now.Location()).Format(time.RFC3339))
	case goes >= 3 && goes > alone-goes:
		guard = fmt.Sprintf("it would drop %d of %d usable images that stand by themselves: is the rule right?", goes, alone)
	case goWithBroken >= 3 && goWithBroken > withBroken-goWithBroken:
		guard = fmt.Sprintf("it would drop %d of %d images that stand by themselves, broken ones among them: is what read them in order, and can they be repaired?", goWithBroken, withBroken)
	}
	return stays, why, guard
}

// The planner is as the reference has it, to the word: sets in any order, of equal moments, of some and of many images, with bases that are
// gone, that go in rounds, and that come later.
func TestThePlanIsTheReferences(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	guarded := map[string]int{}
	for seed := range uint64(1200) {
		rng := rand.New(rand.NewPCG(seed, 5))
		now := time.Date(2026, time.Month(1+rng.IntN(12)), 1+rng.IntN(28), rng.IntN(24), rng.IntN(60), 0, 0, zone)
		var clauses []string
		for range 1 + rng.IntN(3) {
			n := 1 + rng.IntN(8)
			clauses = append(clauses, []string{fmt.Sprint("newest ", n), "first", fmt.Sprint(n, " ", ages[rng.IntN(len(ages))]), fmt.Sprintf(" %d  %s", n, tiers[rng.IntN(len(tiers))]),
				fmt.Sprint("last proven ", image.Levels[rng.IntN(len(image.Levels))])}[rng.IntN(5)])
		}
		phrase := strings.Join(clauses, ",")
		most := 12
		if seed%10 == 0 {
			most = 3 * few
		}
		var images []Image
		step := []time.Duration{20 * time.Minute, 9 * time.Hour, 60 * time.Hour}[rng.IntN(3)]
		for i := range rng.IntN(most) {
			m := Image{ID: fmt.Sprintf("i%03d", i), Taken: now.Add(time.Hour - time.Duration(rng.IntN(60))*step), State: []image.State{image.Usable, image.Usable, image.Usable, image.Broken, image.Broken, image.Doubtful, image.Writing, "strange"}[rng.IntN(8)],
				Pinned: rng.IntN(9) == 0, Proven: append([]image.Level{"", "", "strange"}, image.Levels...)[rng.IntN(7)], Bytes: int64(rng.IntN(100))}
			if seed%2 == 0 {
				m.Taken = m.Taken.Add(-2 * time.Hour) // before the moment
			}
			if rng.IntN(3) == 0 {
				m.Base = fmt.Sprintf("i%03d", rng.IntN(i+2))
			}
			images = append(images, m)
		}
		rule, err := Parse(phrase)
		require.NoError(t, err, phrase)
		plan := Make(rule, now, images)
		stays, why, guard := reference(phrase, now, images)
		require.Equal(t, guard, plan.Guard, "seed %d: %s", seed, phrase)
		guarded[strings.Fields(guard + " none")[0]]++
		gives := int64(0)
		var drops []string
		for i, d := range plan.Decisions {
			m := images[i]
			require.Equal(t, m.ID, d.ID)
			switch d.Verdict {
			case Keep:
				require.Equal(t, why[i], d.Why, "seed %d: %s", seed, phrase)
			case Held:
				require.True(t, stays[i] && why[i] == "", "seed %d: %s of %s", seed, m.ID, phrase)
				j := slices.IndexFunc(images, func(o Image) bool {
					return fmt.Sprintf("the rule lets it go, but image %s, which stays, leans on it", o.ID) == d.Why
				})
				require.True(t, j >= 0 && stays[j] && images[j].Base == m.ID, d.Why)
			case Drop:
				require.False(t, stays[i], "seed %d: %s of %s", seed, m.ID, phrase)
				if m.State != image.Usable {
					require.Equal(t, fmt.Sprintf("it is %s, and a newer usable image exists", m.State), d.Why)
				} else {
					require.Equal(t, "no clause of the rule keeps it", d.Why)
				}
				gives += m.Bytes
				drops = append(drops, m.ID)
			}
		}
		require.Equal(t, gives, plan.Gives(images))
		require.Equal(t, drops, plan.Drops())
		going, _ := Going(rule, now, images)
		for i := range images {
			require.Equal(t, !stays[i], going[i])
		}
	}
	require.Greater(t, guarded["the"], 40, guarded)
	require.Greater(t, guarded["it"], 40, guarded)
	require.Greater(t, guarded["none"], 100, guarded)
}
