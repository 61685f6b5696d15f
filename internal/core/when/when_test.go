package when

import (
	"bufio"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/teambition/rrule-go"

	"keenlodge/internal/core/phrase"
)

func TestVectors(t *testing.T) {
	files, err := filepath.Glob("testdata/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			var v struct {
				Phrase, Zone string
				From         time.Time
				Count        int
				Times        []string
				Error        bool
			}
			body, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(body, &v))
			zone, err := time.LoadLocation(v.Zone)
			require.NoError(t, err)
			s, err := Parse(v.Phrase, zone)
			if v.Error {
				var bad *phrase.Error
				require.ErrorAs(t, err, &bad)
				require.Contains(t, v.Phrase[bad.At:], bad.Word)
				return
			}
			require.NoError(t, err)
			var got []string
			for at := v.From; len(got) < v.Count; {
				at = s.Next(at)
				got = append(got, at.Format(time.RFC3339))
			}
			require.Equal(t, v.Times, got)
		})
	}
}

// Every day has its moment once, whatever the zone's clock does.
func TestOneMomentADay(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	for _, name := range []string{"Europe/Lisbon", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca", "Asia/Kathmandu", "UTC"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		for range 20 {
			hour, minute := rng.IntN(24), rng.IntN(60)
			text := time.Date(2026, 1, 1, hour, minute, 0, 0, time.UTC).Format("every day at 15:04")
			s, err := Parse(text, zone)
			require.NoError(t, err)
			at := time.Date(2026, 1, 1, 0, 0, 0, 0, zone).Add(-time.Second)
			for day := range 365 {
				next := s.Next(at)
				require.True(t, next.After(at))
				require.Equal(t, day+1, next.YearDay(), "%s in %s: %s after %s", text, name, next, at)
				at = next
			}
		}
	}
}

func TestBadPhrasesPointAtTheWord(t *testing.T) {
	for text, want := range map[string]string{
		"":                                                   `"every" or "monthly" or "at" or "after" or "cron" or "RRULE:" is expected here`,
		"evry day at 23:00":                                  `at "evry" (character 1): "every" or "monthly"`,
		"every day at 25:00":                                 `at "25:00" (character 14): a time from 00:00 to 23:59`,
		"every day at 23:00 24:00":                           `at "24:00" (character 20): the phrase should end before this`,
		"every day at 23:00 and":                             `at "" (character 23): a time from 00:00 to 23:59`,
		"every day at 1e1:00":                                `a time from`,
		"every day at 23:00 and 7:5":                         `at "7:5"`,
		"every moonday at 03:00":                             `at "moonday" (character 7): "day", weekdays or a number is expected here; did you mean "monday"?`,
		"every 2nd tuesday at 03:00":                         `did you mean "monthly on the 2nd tue at …"?`,
		"every other tuesday at 03:00":                       `at "other" (character 7): "day", weekdays or a number is expected here`,
		"every mon,wedd at 03:00":                            `at "mon" (character 7)`,
		"every 2 weeks on sun,mun at 03:00":                  `at "mun" (character 22): a weekday is expected here, such as mon or mon-fri; did you mean "sun"?`,
		"every 2 weeks on sun at 03:00":                      `"from" and a day are missing`,
		"every 2 weks on sun at 03:00":                       `at "weks" (character 9): days, weeks, months, hours or minutes are expected here; did you mean "weeks"?`,
		"every 0 days at 03:00":                              `at "0" (character 7): a number from 1 to 1000`,
		"every day at 03:00 from 2026-02-30":                 `at "2026-02-30" (character 25): a day of the calendar`,
		"monthly on the 32nd at 04:00":                       `at "32nd" (character 16): a day of the month is expected here, such as 1st or last`,
		"monthly on the lst sun at 04:00":                    `did you mean "1st"?`,
		"monthly on the 6th sun at 04:00":                    `no month has so many of one weekday`,
		"monthly on the 1st sum at 04:00":                    `did you mean "sun"?`,
		"at bot":                                             `at "bot" (character 4): "boot" is expected here; did you mean "boot"?`,
		"after Nightly":                                      `a policy's name is expected here`,
		"after nightly-guests in any cse":                    `did you mean "case"?`,
		"cron 61 * * * *":                                    `at "61" (character 6): the minute is a number from 0 to 59`,
		"cron 0 3 * *":                                       `the weekday is missing`,
		"cron 0 3 * * mno":                                   `did you mean "mon"?`,
		"cron 0 5-3 * * *":                                   `at "5-3" (character 8): the range ends before it begins`,
		"cron 0 3 30 2 *":                                    `it never comes`,
		"RRULE:FREQ=DALY":                                    `at "DALY" (character 12): known are DAILY, WEEKLY, MONTHLY, YEARLY, HOURLY, MINUTELY, SECONDLY; did you mean "DAILY"?`,
		"RRULE:FREQ=MONTHLY;BYDAY=2SX;BYHOUR=4":              `at "2SX" (character 26): a weekday is expected here`,
		"RRULE:FREQ=WEEKLY;INTERVAL=2;BYDAY=SU;BYHOUR=3":     `INTERVAL and COUNT count from a start`,
		"RRULE:FREQ=DAILY":                                   `the time of day is missing`,
		"RRULE:FREQ=MONTHLY;BYHOUR=3":                        `the day is missing`,
		"RRULE:FREQ=HOURLY;BYHOUR=3":                         `counts in time that passes`,
		"RRULE:FREQ=DAILY;BYHOUR=3;BYHOUR=4":                 `at "BYHOUR=4" (character 27)`,
		"RRULE:FREQ=DAILY;BYWEKNO=3;BYHOUR=4":                `at "BYWEKNO" (character 18): this part is not taken here`,
		"RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30;BYHOUR=1": `it never comes`,
		"DTSTART;TZID=Europe/Lisboa:20260301T030000 RRULE:FREQ=DAILY": `at "Europe/Lisboa" (character 14): no such zone`,
		"DTSTART:2026-03-01 RRULE:FREQ=DAILY":                         `at "2026-03-01" (character 9): a start is written as 20260301T030000`,
	} {
		_, err := Parse(text, time.UTC)
		require.ErrorContains(t, err, want, text)
		var bad *phrase.Error
		require.ErrorAs(t, err, &bad)
		require.True(t, strings.HasPrefix(text[bad.At:], bad.Word), text)
	}
}

// What the phrases of the guide mean, in words, as RFC 5545, and back.
func TestFormsAndWords(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	for text, want := range map[string][3]string{ // phrase, a part of the words, the first moment after 10 February 2026 12:00
		"every day at 23:00":                                           {"every day at 23:00", "every day at 23:00", "2026-02-10T23:00:00Z"},
		"every mon,wed,fri at 14:30 and 02:30":                         {"every mon,wed,fri at 02:30 and 14:30", "every week on Monday, Wednesday and Friday at 02:30 and 14:30", "2026-02-11T02:30:00Z"},
		"every monday-fri at 02:30":                                    {"every mon,tue,wed,thu,fri at 02:30", "Thursday and Friday", "2026-02-11T02:30:00Z"},
		"every 12 hours from 00:20":                                    {"every 12 hours from 00:20", "every 12 hours of time that passes", "2026-02-10T12:20:00Z"},
		"every 90 minutes from 2026-02-01 00:20":                       {"every 90 minutes from 2026-02-01 00:20", "every 90 minutes", "2026-02-10T12:20:00Z"},
		"every 2 weeks on sun at 03:00 from 2026-03-01":                {"every 2 weeks on sun at 03:00 from 2026-03-01", "from 1 March 2026 on", "2026-03-01T03:00:00Z"},
		"every 3 days at 03:00 from 2026-02-10":                        {"every 3 days at 03:00 from 2026-02-10", "every 3 days", "2026-02-13T03:00:00Z"},
		"monthly on the 1st at 04:00":                                  {"monthly on the 1st at 04:00", "on the 1st", "2026-03-01T04:00:00Z"},
		"monthly on the 1st,15th at 04:00":                             {"monthly on the 1st and the 15th at 04:00", "on the 1st and 15th", "2026-02-15T04:00:00Z"},
		"monthly on the last day at 04:00":                             {"monthly on the last day at 04:00", "on the last", "2026-02-28T04:00:00Z"},
		"monthly on the last sun at 01:00":                             {"monthly on the last sun at 01:00", "on the last Sunday", "2026-02-22T01:00:00Z"},
		"monthly on the 2nd sat and the 4th sat at 01:00":              {"monthly on the 2nd sat and the 4th sat at 01:00", "the 2nd Saturday and the 4th Saturday", "2026-02-14T01:00:00Z"},
		"every 3 months on the 1st at 04:00 from 2026-01-01":           {"every 3 months on the 1st at 04:00 from 2026-01-01", "every 3 months", "2026-04-01T04:00:00+01:00"},
		"RRULE:FREQ=MONTHLY;BYDAY=2SA;BYHOUR=4;BYMINUTE=0;BYSECOND=0":  {"monthly on the 2nd sat at 04:00", "the 2nd Saturday at 04:00", "2026-02-14T04:00:00Z"},
		"RRULE:FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;BYHOUR=4": {"", "of these the last", "2026-02-27T04:00:00Z"},
		"RRULE:FREQ=YEARLY;BYDAY=20MO;BYHOUR=4":                        {"", "the 20th Monday", "2026-05-18T04:00:00+01:00"},
		"DTSTART:20260210T110000Z RRULE:FREQ=DAILY;COUNT=3":            {"", "3 times in all", "2026-02-11T11:00:00Z"},
		"cron 30 12 * * *":                                             {"every day at 12:30", "every day at 12:30", "2026-02-10T12:30:00Z"},
		"cron */20 9-10 * jan,feb mon-fri":                             {"", "in January and February", "2026-02-11T09:00:00Z"},
		"cron 0 5 13 * fri":                                            {"", "on the 13th", "2026-02-13T05:00:00Z"},
		"at boot":                                                      {"at boot", "host has booted", ""},
		"after nightly-guests":                                         {"after nightly-guests", "ended well", ""},
		"after nightly-guests in any case":                             {"after nightly-guests in any case", "however it ended", ""},
	} {
		s, err := Parse(text, lisbon)
		require.NoError(t, err, text)
		e := s.Explain(time.Date(2026, 2, 10, 12, 0, 0, 0, time.UTC), 1)
		require.Equal(t, want[0], e.Phrase, text)
		require.Contains(t, e.Words, want[1], text)
		if want[2] == "" {
			require.Empty(t, e.Next, text)
			continue
		}
		require.Equal(t, want[2], e.Next[0].Format(time.RFC3339), text)
	}
}

func TestDaylightSavingIsExplained(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	now := time.Date(2026, 2, 10, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string][]string{
		"every day at 01:30":           {"on 29 March 2026 clocks go forward by 1 hour: 01:30 does not exist and starts at 02:30", "on 25 October 2026 clocks go back by 1 hour: 01:30 comes twice and starts at the first (01:30 +01:00)"},
		"every day at 23:00":           {"no time of this schedule is skipped or comes twice", "no time of this schedule is skipped or comes twice"},
		"every 12 hours from 00:20":    {"by the clock it then starts at another time: next at 13:20 on 29 March", "next at 12:20 on 25 October"},
		"monthly on the 31st at 04:00": {"a day that a month lacks is passed over: the 31st does not come in February, April, June, September and November", "no time", "no time"},
	} {
		s, err := Parse(text, lisbon)
		require.NoError(t, err)
		notes := s.Explain(now, 0).Notes
		require.Len(t, notes, len(want), text)
		for i, w := range want {
			require.Contains(t, notes[i], w, text)
		}
	}
	s, err := Parse("every day at 01:30", time.UTC)
	require.NoError(t, err)
	require.Equal(t, []string{"the clock of UTC does not change in 2026"}, s.Explain(now, 0).Notes)
}

// randomPhrase makes a phrase of any calendar form.
func randomPhrase(rng *rand.Rand) string {
	pick := func(list ...string) string { return list[rng.IntN(len(list))] }
	at := func() string {
		var times []string
		for range 1 + rng.IntN(3) {
			times = append(times, fmt.Sprintf("%02d:%02d", rng.IntN(24), rng.IntN(60)))
		}
		return " at " + strings.Join(times, " and ")
	}
	days := func() string { return pick("sun", "mon,thu", "sat-mon", "mon-fri", "tue,sun") }
	from := fmt.Sprintf(" from 2026-%02d-%02d", 1+rng.IntN(12), 1+rng.IntN(28))
	switch rng.IntN(8) {
	case 0:
		return "every day" + at()
	case 1:
		return "every " + days() + at()
	case 2:
		return fmt.Sprintf("every %d weeks on %s", 2+rng.IntN(3), days()) + at() + from
	case 3:
		return fmt.Sprintf("every %d days", 2+rng.IntN(9)) + at() + from
	case 4:
		return "monthly on the " + pick("1st", "31st", "last", "2nd,30th", "29th and last") + at()
	case 5:
		return "monthly on the " + pick("last sun", "1st mon", "5th fri", "2nd tue and the 4th tue") + at()
	case 6:
		return fmt.Sprintf("every %d months on the 31st", 2+rng.IntN(5)) + at() + from
	}
	return fmt.Sprintf("every %d %s from 00:%02d", 1+rng.IntN(30), pick("hours", "minutes"), rng.IntN(60))
}

// zones lists the tz database's.
func zones(t *testing.T) (out []string) {
	f, err := os.Open("/usr/share/zoneinfo/tzdata.zi")
	require.NoError(t, err)
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		switch words := strings.Fields(lines.Text()); words[0] {
		case "Z":
			out = append(out, words[1])
		case "L":
			out = append(out, words[2])
		}
	}
	require.Greater(t, len(out), 400)
	return out
}

// In every zone, times rise strictly, each wall-clock time has its moment and no moment comes twice, and the way through RFC 5545's
// text, and through our own words, gives the same times.
func TestEveryZone(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	for i, name := range zones(t) {
		if testing.Short() && i%10 > 0 {
			continue
		}
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		for range 2 {
			text := randomPhrase(rng)
			s, err := Parse(text, zone)
			require.NoError(t, err, text)
			lines, ok := s.RFC5545()
			require.True(t, ok)
			again, err := Parse(strings.ReplaceAll(lines, "\n", " "), zone)
			require.NoError(t, err, "%s: %s", text, lines)
			words, ok := s.Phrase()
			require.True(t, ok, text)
			spoken, err := Parse(words, zone)
			require.NoError(t, err, words)
			from := time.Date(2026, 1, 1, 0, 0, 0, 0, zone).Add(time.Duration(rng.IntN(400*24)) * time.Hour)
			at := from
			var got []time.Time
			for range 60 {
				next := s.Next(at)
				require.True(t, next.After(at), "%s in %s: %s after %s", text, name, next, at)
				require.True(t, next.Equal(again.Next(at)), "%s in %s as %s after %s: %s, %s", text, name, lines, at, next, again.Next(at))
				require.True(t, next.Equal(spoken.Next(at)), "%s in %s as %s", text, name, words)
				require.True(t, s.Has(next))
				if at = next; at.Year() > 2040 {
					break
				}
				got = append(got, at)
			}
			requireEachOnce(t, s, text, from, got)
		}
	}
}

// requireEachOnce compares with the simplest way to say it: every wall-clock time, in any order, as the moment that time.Date and the
// rules for changes make of it.
func requireEachOnce(t *testing.T, s Schedule, text string, from time.Time, got []time.Time) {
	r, ok := s.merged()
	require.True(t, ok)
	if elapsed[r.freq] > 0 {
		for i := range got[1:] {
			require.Equal(t, time.Duration(r.interval)*elapsed[r.freq], got[i+1].Sub(got[i]), text)
		}
		return
	}
	want := map[int64]bool{}
	last := got[len(got)-1]
	for wall := range r.walk(asUTC(from).AddDate(0, 0, -3)) {
		if wall.After(asUTC(last).AddDate(0, 0, 3)) {
			break
		}
		at := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), 0, 0, s.zone)
		start, _ := at.ZoneBounds()
		if !asUTC(at).Equal(wall) { // skipped: the offset before the change
			_, before := at.Zone()
			if asUTC(at).After(wall) { // time.Date took the offset before, and came out after the change
				_, before = start.Add(-time.Second).In(s.zone).Zone()
			}
			at = wall.Add(-time.Duration(before) * time.Second)
		} else if !start.IsZero() { // the first of two
			_, before := start.Add(-time.Second).In(s.zone).Zone()
			if earlier := wall.Add(-time.Duration(before) * time.Second); earlier.Before(start) && asUTC(earlier.In(s.zone)).Equal(wall) {
				at = earlier
			}
		}
		if at.After(from) && !at.After(last) {
			want[at.Unix()] = true
		}
	}
	require.Len(t, want, len(got), "%s in %s from %s", text, s.zone, from)
	for _, at := range got {
		require.True(t, want[at.Unix()], "%s in %s: %s", text, s.zone, at)
	}
}

// Rules mean what the best known library makes of them.
func TestRulesAgreeWithAnotherReader(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 13))
	maybe := func(text string) string {
		if rng.IntN(2) == 0 {
			return ""
		}
		return text
	}
	for range 600 {
		freq := []string{"DAILY", "WEEKLY", "MONTHLY", "YEARLY"}[rng.IntN(4)]
		text := "FREQ=" + freq + maybe(fmt.Sprintf(";INTERVAL=%d", 1+rng.IntN(4))) + maybe([]string{";COUNT=17", ";UNTIL=20290101T000000Z"}[rng.IntN(2)])
		text += maybe(fmt.Sprintf(";BYMONTH=%d,%d", 1+rng.IntN(6), 7+rng.IntN(6)))
		switch {
		case freq == "MONTHLY" && rng.IntN(2) == 0, freq == "YEARLY" && !strings.Contains(text, "BYMONTH") && rng.IntN(2) == 0:
			text += fmt.Sprintf(";BYDAY=%dTU,-%dSU", 1+rng.IntN(4), 1+rng.IntN(4))
		default:
			text += maybe(";BYDAY=MO,WE,SU")
			if freq != "WEEKLY" && (freq != "YEARLY" || !strings.Contains(text, "BYDAY")) {
				text += maybe(";BYMONTHDAY=1,8,15,22,-1,-3")
			}
		}
		text += maybe(fmt.Sprintf(";BYHOUR=%d,%d", rng.IntN(12), 12+rng.IntN(12))) + maybe(";BYMINUTE=5,35")
		// Of a week that the start cuts, the other reader counts positions from the start on; the RFC is silent.
		if strings.Contains(text, "BYDAY") && freq != "WEEKLY" && rng.IntN(3) == 0 {
			text += ";BYSETPOS=1,-1"
		}
		text += maybe(";WKST=SU")
		start := time.Date(2026, time.Month(1+rng.IntN(12)), 1+rng.IntN(28), rng.IntN(24), rng.IntN(60), 0, 0, time.UTC)
		lines := "DTSTART:" + start.Format(utcForm) + " RRULE:" + text
		option, err := rrule.StrToROption(text)
		require.NoError(t, err, text)
		option.Dtstart = start
		other, err := rrule.NewRRule(*option)
		require.NoError(t, err, text)
		want := other.Between(start.Add(-time.Second), start.AddDate(4, 0, 0), true)
		want = want[:min(len(want), 100)]
		s, err := Parse(lines, time.UTC)
		if len(want) == 0 && err != nil {
			require.ErrorContains(t, err, "it never comes", lines)
			continue
		}
		require.NoError(t, err, lines)
		var got []time.Time
		for at := start.Add(-time.Second); len(got) < len(want); {
			if at = s.Next(at); at.IsZero() {
				break
			}
			got = append(got, at)
		}
		require.Equal(t, want, got, lines)
	}
}

func TestWindows(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	at := func(text string) time.Time {
		v, err := time.ParseInLocation("2006-01-02 15:04", text, lisbon)
		require.NoError(t, err)
		return v
	}
	w, err := ParseWindows([]string{"only mon-fri 20:00-06:00", "never 23:00-23:30", "only sun 24:00-24:00"}[:2])
	require.NoError(t, err)
	for text, open := range map[string]bool{
		"2026-02-09 19:59": false, "2026-02-09 20:00": true, "2026-02-09 23:10": false, "2026-02-10 05:59": true, "2026-02-10 06:00": false,
		"2026-02-14 03:00": true /* Friday's */, "2026-02-14 21:00": false, "2026-02-16 03:00": false, /* Sunday's */
	} {
		require.Equal(t, open, w.Open(at(text)), text)
	}
	opens, ok := w.Opens(at("2026-02-14 07:00"))
	require.True(t, ok)
	require.Equal(t, at("2026-02-16 20:00"), opens)
	closes, ok := w.Closes(at("2026-02-09 20:00"))
	require.True(t, ok)
	require.Equal(t, at("2026-02-09 23:00"), closes)
	other, err := ParseWindows([]string{"only 08:00-22:00"})
	require.NoError(t, err)
	opens, ok = w.Opens(at("2026-02-10 03:00"), other)
	require.True(t, ok)
	require.Equal(t, at("2026-02-10 20:00"), opens, "where both are open")
	noon, err := ParseWindows([]string{"only 12:00-13:00"})
	require.NoError(t, err)
	_, ok = w.Opens(at("2026-02-10 03:00"), noon)
	require.False(t, ok)
	require.True(t, Windows{}.Open(at("2026-02-10 03:00")))
	for text, want := range map[string]string{
		"only mon 20:00":       `window phrase "only mon 20:00": at "20:00" (character 10): hours are expected here, such as 20:00-06:00`,
		"onl 20:00-06:00":      `"only" or "never" is expected here; did you mean "only"?`,
		"only mno 20:00-06:00": `at "mno" (character 6): a weekday is expected here, such as mon or mon-fri; did you mean "mon"?`,
		"only 20:00-26:00":     `at "20:00-26:00" (character 6): hours are expected here`,
		"only 26:00-06:00":     `at "26:00-06:00" (character 6): hours are expected here`,
		"only 24:00-06:00":     `at "24:00-06:00" (character 6): hours are expected here`,
		"only 20:00-20:00":     `hours are expected here`,
		"never 00:00-24:00":    `it never opens`,
		"only 20:00-06:00 mon": `the phrase should end before this`,
	} {
		_, err := ParseWindows([]string{text})
		require.ErrorContains(t, err, want)
	}
	// In the night in which the hour from 1 to 2 does not exist, a window of that hour opens for no time at all.
	gap, err := ParseWindows([]string{"only sun 01:00-02:00"})
	require.NoError(t, err)
	opens, ok = gap.Opens(at("2026-03-29 00:00"))
	require.True(t, ok)
	require.Equal(t, at("2026-04-05 01:00"), opens)
}

func TestPace(t *testing.T) {
	p, err := ParsePace([]string{"200 MiB", "10 MiB mon-fri 08:00-18:00", "unlimited sun 00:00-24:00"})
	require.NoError(t, err)
	require.Equal(t, int64(10<<20), p.At(time.Date(2026, 2, 10, 9, 0, 0, 0, time.UTC)))
	require.Equal(t, int64(200<<20), p.At(time.Date(2026, 2, 10, 19, 0, 0, 0, time.UTC)))
	require.Zero(t, p.At(time.Date(2026, 2, 15, 9, 0, 0, 0, time.UTC)))
	for text, want := range map[string]string{"10": `a length is expected here`, "10 MiB mno 08:00-18:00": `did you mean "mon"?`, "unlimted": `did you mean "unlimited"?`, "0 MiB": `a length`} {
		_, err := ParsePace([]string{text})
		require.ErrorContains(t, err, want, text)
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"every mon,wed at 02:30 and 14:30", "monthly on the last sun at 01:00", "every 2 weeks on sun at 03:00 from 2026-03-01", "cron 30 12 * * *",
		"DTSTART;TZID=Europe/Lisbon:20260301T030000 RRULE:FREQ=MONTHLY;BYDAY=2SA;BYSETPOS=1", "every 12 hours from 00:20", "after nightly in any case"} {
		f.Add(text)
	}
	from := time.Date(2026, 3, 20, 0, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(text, time.UTC)
		if err != nil {
			var bad *phrase.Error
			require.ErrorAs(t, err, &bad)
			require.True(t, strings.HasPrefix(text[bad.At:], bad.Word))
			return
		}
		next := s.Next(from)
		require.True(t, next.IsZero() || next.After(from))
		if lines, ok := s.RFC5545(); ok && len(lines) < 4000 {
			again, err := Parse(strings.ReplaceAll(lines, "\n", " "), time.UTC)
			require.NoError(t, err, lines)
			require.True(t, next.Equal(again.Next(from)), "%s: %s", text, lines)
		}
	})
}

// ExampleSchedule_Next lists the next moments of a phrase.
func ExampleSchedule_Next() {
	lisbon, _ := time.LoadLocation("Europe/Lisbon")
	s, _ := Parse("monthly on the last sun at 01:00", lisbon)
	at := time.Date(2026, 2, 10, 12, 0, 0, 0, time.UTC)
	for range 2 {
		at = s.Next(at)
		fmt.Println(at.Format(time.RFC3339))
	}
	// Output:
	// 2026-02-22T01:00:00Z
	// 2026-03-29T02:00:00+01:00
}
