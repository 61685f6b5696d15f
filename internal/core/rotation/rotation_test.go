package rotation

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
)

func TestVectors(t *testing.T) {
	files, err := filepath.Glob("testdata/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".json"), func(t *testing.T) {
			var v struct {
				Input  json.RawMessage
				Expect struct {
					Verdicts map[string]Verdict
					Guard    bool
				}
			}
			body, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(body, &v))
			plan, err := Try(v.Input)
			require.NoError(t, err)
			got := map[string]Verdict{}
			for _, d := range plan.Decisions {
				got[d.ID] = d.Verdict
				require.NotEmpty(t, d.Why)
			}
			require.Equal(t, v.Expect.Verdicts, got)
			require.Equal(t, v.Expect.Guard, plan.Guard != "", plan.Guard)
		})
	}
}

// What must hold for every set and every rule.
func TestProperties(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 11))
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	phrases := []string{"newest 1", "newest 5", "3 days", "2 months", "7 daily, 4 weekly", "5 hourly, first", "2 yearly, newest 2, first"}
	for round := range 2000 {
		images := randomSet(rng)
		now := time.Date(2026, 1, 1, 0, 0, 0, 0, zone).Add(time.Duration(rng.Int64N(int64(400 * 24 * time.Hour))))
		phrase := phrases[rng.IntN(len(phrases))]
		rule, err := Parse(phrase)
		require.NoError(t, err)
		plan := Make(rule, now, images)
		require.Equal(t, plan, Make(rule, now, images), "same input, same answer")

		stays := map[string]bool{}
		for _, d := range plan.Decisions {
			stays[d.ID] = d.Verdict != Drop
		}
		newest, proven := -1, -1
		for i, m := range images {
			if stays[m.ID] && m.Base != "" {
				require.True(t, stays[m.Base], "round %d: %s leans on %s, which goes", round, m.ID, m.Base)
			}
			if m.Pinned || m.State == "writing" {
				require.True(t, stays[m.ID])
			}
			if m.State == "usable" {
				newest = i
				if m.Proven == "mount" || m.Proven == "boot" {
					proven = i
				}
			}
		}
		for _, i := range []int{newest, proven} {
			require.True(t, i < 0 || stays[images[max(i, 0)].ID])
		}
		more, err := Parse(phrase + ", 9 weekly")
		require.NoError(t, err)
		for i, d := range Make(more, now, images).Decisions {
			require.False(t, d.Verdict == Drop && plan.Decisions[i].Verdict != Drop, "more rule keeps less: %s", phrase)
		}
	}
}

// randomSet makes images in rising order of time; increments lean on an earlier image.
func randomSet(rng *rand.Rand) []Image {
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	var images []Image
	for i := range rng.IntN(40) {
		at = at.Add(time.Duration(1+rng.IntN(200)) * 30 * time.Minute)
		m := Image{ID: fmt.Sprint("i", i), Taken: at, Capture: "full", State: "usable", Pinned: rng.IntN(12) == 0,
			Proven: []image.Level{"", "", "read", "mount", "boot"}[rng.IntN(5)]}
		if rng.IntN(8) == 0 {
			m.State = []image.State{"broken", "writing"}[rng.IntN(2)]
		}
		if i > 0 && rng.IntN(3) > 0 {
			m.Capture, m.Base = "incremental", images[rng.IntN(i)].ID
		}
		images = append(images, m)
	}
	return images
}

func TestBadPhrasesPointAtTheWord(t *testing.T) {
	for phrase, want := range map[string]string{
		"":                    `a clause is missing`,
		"newst 7":             `at "newst" (character 1): not a clause; did you mean "newest"?`,
		"newest seven":        `at "seven" (character 8): a whole number`,
		"newest 0":            `at "0" (character 8): a whole number`,
		"newest 3, 30 dais":   `at "dais" (character 14): not a unit; did you mean "days"?`,
		"7 daily 4 weekly":    `at "4" (character 9): a clause has two words`,
		"-3 days":             `at "-3" (character 1): a whole number`,
		"newest 3,":           `a clause is missing`,
		"first 3":             `"first" stands alone`,
		"9999999999999 weeks": `a whole number`,
		"0 days":              `at "0" (character 1): a whole number from 1 to 100000 is needed`,
		"/ days":              `at "/" (character 1): not a clause`,
		": days":              `at ":" (character 1): not a clause`,
		"1x days":             `at "1x" (character 1): a whole number`,
		"newest 100001":       `at "100001" (character 8): a whole number from 1 to 100000 is needed`,
		"newest":              `at "newest" (character 1): how many is missing`,
		"first, 7":            `at "7" (character 8): of what is missing`,
		"7, 8 x":              `at "7" (character 1): of what is missing`,
		"2 day":               `at "day" (character 3): not a unit; did you mean "days"?`,
		"1 dail":              `at "dail" (character 3): not a unit`,
		"last":                `at "last" (character 1): by what it was proven last is missing`,
		"last proven":         `at "proven" (character 6): by what it was proven last is missing`,
		"last tested boot":    `at "tested" (character 6): "last" is followed by "proven"`,
		"last proven bot":     `at "bot" (character 13): not a level of proof; did you mean "boot"?`,
		"last proven boot 3":  `at "3" (character 18): a clause ends with the level`,
		"first,,newest 1":     `at "" (character 7): a clause is missing`,
	} {
		_, err := Parse(phrase)
		require.ErrorContains(t, err, want, phrase)
	}
	for _, phrase := range []string{"newest 100000", "1 day, 1 hour, 1 week", "newest 1", " 1   daily ", "first"} {
		rule, err := Parse(phrase)
		require.NoError(t, err)
		require.Equal(t, phrase, rule.String())
	}
}

func TestTimeBeforeNow(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	for _, c := range []struct {
		now  time.Time
		n    int
		unit string
		want string
	}{
		{time.Date(2026, 3, 31, 12, 0, 0, 0, zone), 1, "months", "2026-02-28T12:00:00Z"}, // a day that the month lacks
		{time.Date(2028, 3, 31, 12, 0, 0, 0, zone), 1, "months", "2028-02-29T12:00:00Z"},
		{time.Date(2028, 2, 29, 12, 0, 0, 0, zone), 1, "years", "2027-02-28T12:00:00Z"},
		{time.Date(2026, 1, 31, 12, 0, 0, 0, zone), 14, "months", "2024-11-30T12:00:00Z"},
		{time.Date(2026, 3, 30, 12, 0, 0, 0, zone), 2, "days", "2026-03-28T12:00:00Z"}, // across the change: by the calendar
		{time.Date(2026, 3, 30, 12, 0, 0, 0, zone), 48, "hours", "2026-03-28T11:00:00Z"},
		{time.Date(2026, 3, 30, 12, 0, 0, 0, zone), 1, "weeks", "2026-03-23T12:00:00Z"},
	} {
		require.Equal(t, c.want, since(c.now, c.n, c.unit).Format(time.RFC3339), "%d %s before %s", c.n, c.unit, c.now)
	}
}

// The hour that the clock repeats is two; an ISO week may lie in two years.
func TestPeriods(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	first := time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC) // 01:30 in summer time
	second := first.Add(time.Hour)                          // 01:30 in winter time
	require.NotEqual(t, period(first.In(zone), "hourly"), period(second.In(zone), "hourly"))
	require.Equal(t, period(first.In(zone), "daily"), period(second.In(zone), "daily"))
	silvester, newYear := time.Date(2026, 12, 31, 12, 0, 0, 0, zone), time.Date(2027, 1, 1, 12, 0, 0, 0, zone)
	require.Equal(t, period(silvester, "weekly"), period(newYear, "weekly"))
	require.NotEqual(t, period(silvester, "monthly"), period(newYear, "monthly"))
	require.NotEqual(t, period(silvester, "yearly"), period(newYear, "yearly"))
}

// A rule typed wrong, or a clock that jumps, deletes nothing by itself.
func TestTheGuard(t *testing.T) {
	start := time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC)
	var images []Image
	for i := range 30 {
		images = append(images, Image{ID: fmt.Sprint("i", i), Taken: start.AddDate(0, 0, i), Capture: "full", State: "usable"})
	}
	last := images[29].Taken
	for _, c := range []struct {
		rule  string
		now   time.Time
		guard string
	}{
		{"30 days", last.Add(time.Hour), ""},
		{"30 hours", last.Add(time.Hour), "is the rule right?"},
		{"30 days", last.AddDate(10, 0, 0), "is the rule right?"},
		{"30 days", last.AddDate(-1, 0, 0), "is the clock right?"},
		{"newest 28", last.Add(time.Hour), ""},
		{"newest 15", last.Add(time.Hour), ""}, // half is not more than half
		{"newest 14", last.Add(time.Hour), "is the rule right?"},
	} {
		rule, err := Parse(c.rule)
		require.NoError(t, err)
		plan := Make(rule, c.now, images)
		if c.guard == "" {
			require.Empty(t, plan.Guard, c.rule)
		} else {
			require.Contains(t, plan.Guard, c.guard, c.rule)
		}
	}
	rule, err := Parse("newest 1")
	require.NoError(t, err)
	require.Empty(t, Make(rule, last, images[27:]).Guard, "two of three are few")
	require.Empty(t, Make(rule, last, nil).Guard)
	broken := images[29]
	broken.State = "broken"
	require.Empty(t, Make(rule, start, []Image{broken}).Guard, "there is no usable image to lose")
	require.Empty(t, Make(rule, last, images[29:]).Guard, "at its moment is not before it")
	require.NotEmpty(t, Make(rule, last.Add(-1), images[29:]).Guard)
}

func FuzzTry(f *testing.F) {
	f.Add([]byte(`{"zone":"UTC","now":"2026-01-01T00:00:00Z","rule":"newest 1","images":[{"id":"a","taken":"2026-01-01T00:00:00Z","base":"a","state":"usable"}]}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		if plan, err := Try(body); err == nil {
			require.NotNil(t, plan.Decisions)
		}
	})
}

// The quick answer is the same as the long one, and numbers tell periods apart as their names do.
func TestGoingIsWhatMakeDrops(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	rng := rand.New(rand.NewPCG(4, 9))
	for range 400 {
		rule, err := Parse([]string{"newest 3", "2 hourly, 3 daily, 2 weekly, first", "5 days, 2 monthly, 1 yearly"}[rng.IntN(3)])
		require.NoError(t, err)
		now := time.Date(2026, 10, 25, 0, 0, 0, 0, zone).Add(time.Duration(rng.IntN(200)) * time.Hour)
		var images []Image
		for i := range rng.IntN(14) {
			m := Image{ID: fmt.Sprint("i", i), Taken: now.Add(-time.Duration(rng.IntN(900)) * 37 * time.Minute), State: []image.State{"usable", "usable", "usable", "broken", "writing"}[rng.IntN(5)], Pinned: rng.IntN(9) == 0}
			if i > 0 && rng.IntN(2) == 0 {
				m.Base = fmt.Sprint("i", rng.IntN(i))
			}
			images = append(images, m)
		}
		going, guarded := Going(rule, now, images)
		plan := Make(rule, now, images)
		require.Equal(t, strings.Contains(plan.Guard, "it would drop"), guarded)
		for i, d := range plan.Decisions {
			require.Equal(t, d.Verdict == Drop, going[i])
		}
		for _, tier := range tiers {
			a, b := now.Add(time.Duration(rng.IntN(300))*time.Minute), now
			require.Equal(t, period(a, tier) == period(b, tier), periodNumber(clockOf(a), tier) == periodNumber(clockOf(b), tier), "%s %s %s", a, b, tier)
		}
	}
}

// A document that can't be planned says where and why.
func TestTryNamesThePlace(t *testing.T) {
	const head = `{"zone": "Europe/Lisbon", "now": "2026-03-10T12:00:00Z", "rule": "newest 1",`
	one := `{"id": "a", "taken": "2026-03-01T00:00:00Z", "state": "usable"}`
	for document, want := range map[string]string{
		"":                          "line 1: ",
		head + "\n\"images\": [}":   "line 2: invalid character",
		head + "\n\n\"images\": 7}": "line 3: json: cannot unmarshal number",
		head + `"imags": []}`:       `unknown field "imags"`,
		strings.Replace(head, "Lisbon", "Lisboa", 1) + `"images": []}`:            "zone: unknown time zone",
		strings.Replace(head, "newest", "newst", 1) + `"images": []}`:             "rule: ",
		`{"zone": "UTC", "rule": "newest 1", "images": []}`:                       "now: it is missing",
		head + `"images": [` + one + `, ` + one + `]}`:                            `images[1]: id: "a" is there twice`,
		head + `"images": [{"taken": "2026-03-01T00:00:00Z"}]}`:                   "images[0]: id: it is missing",
		head + `"images": [{"id": "a"}]}`:                                         "images[0]: taken: it is missing",
		head + `"images": [` + strings.Replace(one, "usable", "usabel", 1) + `]}`: `state: "usabel" is not one; did you mean "usable"?`,
		head + `"images": [` + one[:len(one)-1] + `, "capture": "ful"}]}`:         `capture: "ful" is not one; did you mean "full"?`,
		head + `"images": [` + one[:len(one)-1] + `, "proven": "reed"}]}`:         `proven: "reed" is not one; did you mean "read"?`,
		head + `"images": [` + one[:len(one)-1] + `, "base": "b"}]}`:              `images[0]: base: no image is called "b"`,
	} {
		_, err := Try([]byte(document))
		require.ErrorContains(t, err, want)
	}
	plan, err := Try([]byte(head + `"images": [` + one[:len(one)-1] + `, "capture": "full", "proven": "read", "base": ""}]}`))
	require.NoError(t, err)
	require.Equal(t, "a keep", plan.Decisions[0].ID+" "+string(plan.Decisions[0].Verdict))
}
