package promise

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/trial"
)

func ExampleParse() {
	p, _ := Parse("26 hours, boot weekly")
	for _, item := range p.Judge(Known{}, time.Now()) {
		fmt.Println(item.Clause, item.Standing+":", item.Why)
	}
	// Output:
	// age overdue: it has no usable image
	// boot overdue: no image of it was proven by boot yet
}

func TestParse(t *testing.T) {
	p, err := Parse("26 hours, boot weekly, restore monthly, read every 3 days, 3 copies, 2 media, 1 elsewhere, key yearly")
	require.NoError(t, err)
	require.Equal(t, 26*time.Hour, p.Age)
	require.Equal(t, map[image.Level]time.Duration{image.ByBoot: 7 * 24 * time.Hour, image.ByRestore: 31 * 24 * time.Hour, image.ByRead: 72 * time.Hour}, p.Proofs)
	require.Equal(t, []int{3, 2, 1}, []int{p.Copies, p.Media, p.Elsewhere})
	require.Equal(t, 366*24*time.Hour, p.Key)
	p, err = Parse("back in 4 hours, drill quarterly")
	require.NoError(t, err)
	require.Equal(t, []time.Duration{4 * time.Hour, 92 * 24 * time.Hour}, []time.Duration{p.Back, p.Drill})
	p, err = Parse(" 1 copy ,1 medium")
	require.NoError(t, err)
	require.Equal(t, []int{1, 1}, []int{p.Copies, p.Media})
	p, err = Parse(" ")
	require.NoError(t, err)
	require.True(t, p.Empty())
	for text, want := range map[string]string{
		"back 4 hours":                `write for example "back in 4 hours"`,
		"back in a while":             `is followed by a length of time`,
		"drill":                       "how often is missing",
		"26 hours,":                   `a clause is missing`,
		"boot":                        `how often is missing; write one of daily, monthly`,
		"bot weekly":                  `at "bot" (character 1): not a clause; did you mean "boot"?`,
		"boot weakly":                 `at "weakly" (character 6): not how often; did you mean "weekly"?`,
		"boot weekly monthly":         `at "monthly" (character 13): a clause has two words`,
		"boot every":                  `"every" is followed by a length of time`,
		"26 hours, boot every 0 days": `"every" is followed by a length of time`,
		"3":                           `of what is missing`,
		"0 copies":                    `a whole number from 1 to 20 is needed`,
		"21 media":                    `a whole number from 1 to 20 is needed`,
		"3 copyes":                    `at "copyes" (character 3): not a unit; did you mean "copies"?`,
		"3 copies 2 media":            `at "2" (character 10): a clause has two words`,
		"boot weekly, boot daily":     `at "boot" (character 14): it is promised twice`,
		"26 hours, 3 days":            `it is promised twice`,
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, want, text)
	}
}

var now = time.Date(2026, 3, 14, 8, 30, 0, 0, time.UTC)

func ago(d time.Duration) time.Time { return now.Add(-d) }

const day = 24 * time.Hour

// held are so many copies, of which some are elsewhere.
func held(copies, elsewhere int) (out []Held) {
	for i := range copies {
		h := Held{Store: fmt.Sprint("shelf-", i), Medium: "dir", Newest: ago(time.Hour)}
		if i < elsewhere {
			h.Place, h.Elsewhere = "north-pier", true
		}
		out = append(out, h)
	}
	return out
}

// What is no copy is seen: what is old, what failed, the same disk under two names, a second medium in the same building.
func TestCount(t *testing.T) {
	found := Count([]Held{
		{Store: "quay-shelf", Medium: "dir", Place: "harbour-office", Carrier: "disk 8:1", Newest: ago(2 * time.Hour), Proven: image.ByBoot},
		{Store: "annex", Medium: "dir", Place: "harbour-office", Carrier: "disk 8:1", Newest: ago(3 * time.Hour)},
		{Store: "vault", Medium: "sftp", Place: "harbour-office", Carrier: "vault.brindle.example", Newest: ago(time.Hour)},
		{Store: "north-pier", Medium: "s3", Place: "north-pier", Carrier: "objects.brindle.example", Newest: ago(30 * time.Hour)},
		{Store: "islet", Medium: "s3", Place: "islet", Newest: ago(4 * time.Hour), Failed: true},
		{Store: "somewhere", Medium: "dir", Newest: ago(5 * time.Hour)},
	}, "harbour-office", 26*time.Hour, now)
	copies, media, elsewhere := counts(found)
	require.Equal(t, []int{3, 2, 0}, []int{copies, media, elsewhere})
	p, err := Parse("3 copies, 2 media, 1 elsewhere")
	require.NoError(t, err)
	items := p.Judge(Known{Held: found}, now)
	require.Equal(t, []Standing{Kept, Kept, Overdue}, []Standing{items[0].Standing, items[1].Standing, items[2].Standing})
	require.Contains(t, items[0].Why, "annex does not count: it lies where quay-shelf does, and is lost with that")
	require.Contains(t, items[0].Why, "quay-shelf at harbour-office, 2 h old, proven there by boot")
	require.Contains(t, items[0].Why, "north-pier does not count: its newest image is 30 h old")
	require.Contains(t, items[0].Why, "islet does not count: the newest proof of its image failed")
	require.Contains(t, items[2].Why, "0 of 1: vault is at harbour-office, where the machine is")
	require.Contains(t, items[2].Why, "where somewhere is nobody said (place)")
}

// Each clause stands by what is known, to the second.
func TestJudge(t *testing.T) {
	p, err := Parse("26 hours, boot weekly, 2 copies, 1 elsewhere, key yearly")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		k    Known
		want []Standing
		says string
	}{
		"all is kept": {Known{Newest: ago(9 * time.Hour), Since: ago(90 * day), Proven: map[image.Level]time.Time{image.ByBoot: ago(6 * day)}, Held: held(2, 1), Sealed: true, KeyProven: ago(100 * day)},
			[]Standing{Kept, Kept, Kept, Kept, Kept}, "proven by boot 6 days ago"},
		"just": {Known{Newest: ago(26 * time.Hour), Since: ago(90 * day), Proven: map[image.Level]time.Time{image.ByBoot: ago(7 * day)}, Held: held(3, 2), Sealed: true, KeyProven: ago(366 * day)},
			[]Standing{Kept, Kept, Kept, Kept, Kept}, "its newest image is 26 h old"},
		"just not": {Known{Newest: ago(26*time.Hour + 1), Since: ago(90 * day), Proven: map[image.Level]time.Time{image.ByBoot: ago(7*day + 1)}, Held: held(1, 0), Sealed: true, KeyProven: ago(366*day + 1)},
			[]Standing{Overdue, Overdue, Overdue, Overdue, Overdue}, "its newest image is 26 h old, and may be 26 h"},
		"nothing yet":           {Known{Since: now}, []Standing{Overdue, Kept, Overdue, Overdue, Impossible}, "not proven by boot yet; due in 7 days"},
		"never proven for long": {Known{Newest: ago(time.Hour), Since: ago(8 * day), Held: held(2, 1), Sealed: true}, []Standing{Kept, Overdue, Kept, Kept, Overdue}, "no image of it was proven by boot yet"},
		"failed": {Known{Newest: ago(time.Hour), Since: ago(8 * day), Proven: map[image.Level]time.Time{image.ByBoot: ago(day)}, Failed: map[image.Level]Failure{image.ByBoot: {ago(3 * time.Hour), "it stays in its boot loader"}}, Held: held(2, 1), Sealed: true, KeyProven: ago(day)},
			[]Standing{Kept, Failed, Kept, Kept, Kept}, "its newest proof by boot failed 3 h ago: it stays in its boot loader"},
		"impossible": {Known{Newest: ago(time.Hour), Since: ago(8 * day), Impossible: map[image.Level]string{image.ByBoot: "no hypervisor of the site may hold trials"}, Held: held(2, 1), Sealed: true, KeyProven: ago(day)},
			[]Standing{Kept, Impossible, Kept, Kept, Kept}, "no hypervisor of the site may hold trials"},
	} {
		items := p.Judge(c.k, now)
		var got []Standing
		words := ""
		for _, i := range items {
			got = append(got, i.Standing)
			words += i.Why + "\n"
		}
		require.Equal(t, c.want, got, name)
		require.Contains(t, words, c.says, name)
	}
	require.Equal(t, Failed, Worst([]Item{{Standing: Overdue}, {Standing: Failed}, {Standing: Kept}}))
	require.Equal(t, Kept, Worst(nil))
	require.Empty(t, Promise{}.Judge(Known{}, now))
}

// What two policies owe a machine is owed in the stricter form of each; proofs are planned before they are owed, and not all at once.
func TestStricterAndDue(t *testing.T) {
	a, err := Parse("26 hours, boot monthly, 2 copies")
	require.NoError(t, err)
	b, err := Parse("2 hours, boot weekly, read daily")
	require.NoError(t, err)
	both := a.Stricter(b)
	require.Equal(t, 2*time.Hour, both.Age)
	require.Equal(t, map[image.Level]time.Duration{image.ByBoot: 7 * day, image.ByRead: day}, both.Proofs)
	require.Equal(t, 2, both.Copies)
	require.Equal(t, "26 hours, boot monthly, 2 copies; 2 hours, boot weekly, read daily", both.String())
	require.Equal(t, b.String(), Promise{}.Stricter(b).String())

	last := ago(0)
	days := map[int]bool{}
	for n := range uint32(1000) {
		due := b.Due(image.ByBoot, last, n)
		require.True(t, due.After(last.Add(4*day)) && due.Before(last.Add(7*day)), due)
		days[due.YearDay()*24+due.Hour()] = true
	}
	require.Greater(t, len(days), 30, "they are spread")
	require.True(t, b.Due(image.ByBoot, time.Time{}, 7).IsZero())
	require.True(t, b.Due(image.ByMount, last, 7).IsZero())
}

func TestStatus(t *testing.T) {
	lag := 6 * time.Second
	boot := Shown{Level: image.ByBoot, Passed: true, Ended: ago(9 * time.Hour), Report: &trial.Report{Up: 41 * time.Second, Lag: &lag, Steps: []trial.Finding{{Kind: trial.OfStage, Name: "agent", Passed: true}, {Kind: trial.OfPort, Name: "port 5432", Passed: true, Text: "open"}, {Kind: trial.OfCommand, Name: "/usr/bin/pg_isready -q", Passed: true, Text: "accepting connections"}}}}
	read := Shown{Level: image.ByRead, Passed: true, Ended: ago(time.Hour)}
	require.Equal(t, "not proven", Status(nil, now))
	require.Equal(t, "boots in 41 s, pg_isready holds, its data 6 s behind, proven 9 h ago", Status([]Shown{boot}, now))
	require.Equal(t, "boots in 41 s, pg_isready holds, its data 6 s behind, proven 9 h ago", Status([]Shown{read, boot}, now), "the best of them")
	require.Equal(t, "every piece was read and matched, proven 60 min ago", Status([]Shown{read}, now))
	failed := Shown{Level: image.ByBoot, Ended: ago(2 * time.Hour), Why: "its kernel gave up"}
	earlier := Shown{Level: image.ByBoot, Ended: ago(5 * time.Hour), Why: "its kernel gave up"}
	require.Equal(t, "✗ has failed by boot for 5 h: its kernel gave up", Status([]Shown{failed, earlier, boot}, now))
}

// What a drill showed is judged by how long it took, and by how long ago it was.
func TestJudgeDrills(t *testing.T) {
	p, err := Parse("back in 1 hour, drill yearly")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		drilled *Drilled
		since   time.Time
		want    []Standing
	}{
		"none yet":       {nil, ago(100 * day), []Standing{Overdue, Kept}},
		"none for long":  {nil, ago(367 * day), []Standing{Overdue, Overdue}},
		"back":           {&Drilled{At: ago(366 * day), Back: time.Hour}, ago(900 * day), []Standing{Kept, Kept}},
		"late, and long": {&Drilled{At: ago(366*day + 1), Back: time.Hour + 1}, ago(900 * day), []Standing{Overdue, Overdue}},
		"it did not":     {&Drilled{At: ago(day), Why: "its kernel gave up"}, ago(900 * day), []Standing{Failed, Kept}},
	} {
		var got []Standing
		for _, i := range p.Judge(Known{Since: c.since, Drilled: c.drilled}, now) {
			got = append(got, i.Standing)
		}
		require.Equal(t, c.want, got, name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("26 hours, boot weekly, restore monthly, 3 copies, 2 media, 1 elsewhere, key yearly")
	f.Add("boot every 3 days")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(p.String())
		require.NoError(t, err)
		require.Equal(t, p, again)
		p.Judge(Known{}, now)
	})
}
