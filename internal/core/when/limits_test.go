package when

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Each number of a phrase is taken up to its limits and refused beyond them, at its word.
func TestLimits(t *testing.T) {
	const daily, monthly, yearly = "RRULE:FREQ=DAILY;BYHOUR=4;", "RRULE:FREQ=MONTHLY;BYHOUR=4;", "RRULE:FREQ=YEARLY;BYHOUR=4;"
	const from = "DTSTART:20260301T030000 RRULE:FREQ=DAILY"
	for _, c := range []struct{ good, bad, want string }{
		{"every 1000 hours from 00:20", "every 1001 hours from 00:20", `at "1001" (character 7): a number from 1 to 1000`},
		{"every 1 hour from 00:20", "every 1 hour from 24:00", `at "24:00" (character 19)`},
		{"every hour from 1970-01-01 00:20", "every hour from 1969-12-31 00:20", `at "1969-12-31" (character 17)`},
		{"every day at 9:59", "every day at 009:59", `at "009:59"`},
		{"every day at 23:59", "every day at 23:60", `at "23:60"`},
		{"every 2 days at 03:00 from 2026-01-01", "every 2 days at 03:00", "without them nobody knows"},
		{"every 1 days at 03:00", "every 1 fortnight at 03:00", `at "fortnight"`},
		{"monthly on the 5th sun at 01:00", "monthly on the 6th sun at 01:00", "no month has so many"},
		{"monthly on the 31st at 01:00", "monthly on the 0th at 01:00", `at "0th"`},
		{"monthly on the 1st mon and last mon at 01:00", "monthly on the 1st and the last mon at 01:00", "can't be mixed"},
		{"after a", "after -a", "a policy's name is expected"},
		{"after a in any case", "after a in any case now", `at "now" (character 21): the phrase should end`},
		{"cron 59 23 31 12 7", "cron 60 23 31 12 7", "from 0 to 59"},
		{"cron 0 0 1 1 0", "cron 0 24 1 1 0", "from 0 to 23"},
		{"cron 0 0 1 1 sat", "cron 0 0 0 1 0", "from 1 to 31"},
		{"cron 0 0 1 dec 0", "cron 0 0 1 13 0", "from 1 to 12"},
		{"cron */59 * * * *", "cron */60 * * * *", "a number from 1 to 59"},
		{"cron 5/10 * * * *", "cron /10 * * * *", "from 0 to 59"},
		{"cron 0 0 * * 1-1", "cron 0 0 * * 8", "from 0 to 7"},
		{"cron 0 0 * * *", "cron 0 0 * * * *", "the phrase should end before this"},
		{from + ";INTERVAL=100000;COUNT=2", from + ";INTERVAL=100001", "a number from 1 to 100000"},
		{from + ";COUNT=100000", from + ";COUNT=0", "a number from 1 to 100000"},
		{from + ";UNTIL=20270101", from + ";UNTIL=20270101;COUNT=3", "by COUNT or by UNTIL, not by both"},
		{from + ";UNTIL=20270101T000000", from + ";UNTIL=2027", "an end is written as"},
		{"RRULE:FREQ=DAILY;BYHOUR=0,23", "RRULE:FREQ=DAILY;BYHOUR=24", `at "24" (character 25): a number from 0 to 23`},
		{daily + "BYMINUTE=0,59", daily + "BYMINUTE=5,60", `at "60" (character 38): a number from 0 to 59`},
		{daily + "BYSECOND=59", daily + "BYSECOND=60", "a number from 0 to 59"},
		{daily + "BYMONTH=1,12", daily + "BYMONTH=13", "a number from 1 to 12"},
		{monthly + "BYMONTHDAY=-31", monthly + "BYMONTHDAY=0", "a number from -31 to 31"},
		{monthly + "BYMONTHDAY=31", monthly + "BYMONTHDAY=32", "a number from -31 to 31"},
		{monthly + "BYDAY=MO;BYSETPOS=-366,1", monthly + "BYDAY=MO;BYSETPOS=367", "a number from -366 to 366"},
		{yearly + "BYDAY=52MO", yearly + "BYDAY=54MO", "a number from -53 to 53"},
		{yearly + "BYDAY=-53MO,+53TU", yearly + "BYDAY=0MO", "a number from -53 to 53"},
		{yearly + "BYDAY=1MO", yearly + "BYDAY=M", "a weekday is expected here"},
		{"RRULE:FREQ=WEEKLY;BYDAY=MO;BYHOUR=4;WKST=SU", daily + "WKST=XX", "a weekday is expected here, such as MO"},
		{yearly + "BYMONTHDAY=1", yearly + "BYMONTH=3", "the day is missing"},
		{monthly + "BYDAY=MO", daily + "BYDAY=2MO", "a numbered weekday is one of a month or a year"},
		{monthly + "BYDAY=2MO", "RRULE:FREQ=WEEKLY;BYHOUR=4;BYDAY=2MO", "a numbered weekday is one of a month or a year"},
		{monthly + "BYMONTHDAY=3", "RRULE:FREQ=WEEKLY;BYHOUR=4;BYDAY=MO;BYMONTHDAY=3", "a week has no days of the month"},
		{from + ";BYHOUR=3,4;BYSETPOS=1", from + ";BYSETPOS=1", "it chooses among what other BY parts name"},
		{"RRULE:FREQ=HOURLY;INTERVAL=6", "RRULE:FREQ=HOURLY;BYDAY=MO", "counts in time that passes"},
		{"RRULE:FREQ=HOURLY", "RRULE:INTERVAL=6", "FREQ is missing"},
		{"RRULE:FREQ=MINUTELY;INTERVAL=90", daily + "COUNT=2", "count from a start"},
		{from, "DTSTART:20260301T030000", "RRULE: is expected here"},
		{"DTSTART;TZID=UTC:20260301T030000 RRULE:FREQ=DAILY", "DTSTART;TZID=Local:20260301T030000 RRULE:FREQ=DAILY", `at "Local" (character 14)`},
		{"DTSTART;TZID=Asia/Tokyo:20260301T030000 RRULE:FREQ=DAILY", "DTSTART;TZID=:20260301T030000 RRULE:FREQ=DAILY", "no such zone"},
		{from, "DTSTART;VALUE=DATE:20260301 RRULE:FREQ=DAILY", "only TZID may stand in DTSTART"},
		{from, "DTSTART", "a start is written as DTSTART;TZID="},
		{from, from + ";", "NAME=value"},
	} {
		_, err := Parse(c.good, time.UTC)
		require.NoError(t, err, c.good)
		_, err = Parse(c.bad, time.UTC)
		require.ErrorContains(t, err, c.want, c.bad)
	}
	for text, want := range map[string]time.Duration{"1 second": time.Second, "292 years": 292 * 365 * 24 * time.Hour, "1000 weeks": 7000 * 24 * time.Hour, "2 weeks": 14 * 24 * time.Hour, " 3  day ": 72 * time.Hour, "90 minutes": 90 * time.Minute} {
		got, err := ParseSpan(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, text := range []string{"", "1", "0 days", "-1 days", "1001 days", "293 years", "1 dayz", "1 day more", "one day"} {
		_, err := ParseSpan(text)
		require.ErrorContains(t, err, "no length of time", text)
	}
	for _, text := range []string{"1 PiB", "1 B"} {
		p, err := ParsePace([]string{text})
		require.NoError(t, err)
		require.True(t, p.Limits())
	}
	for _, text := range []string{"2 PiB", "0 B", "1 MiB at noon"} {
		_, err := ParsePace([]string{text})
		require.Error(t, err, text)
	}
	require.False(t, Pace{}.Limits())
}

// A rule's ends are exact: the last moment is one, what comes after it is none.
func TestEnds(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	for text, want := range map[string][]string{
		"DTSTART:20260301T030000 RRULE:FREQ=DAILY;COUNT=2":                             {"2026-03-01T03:00:00Z", "2026-03-02T03:00:00Z"},
		"DTSTART:20260301T030000 RRULE:FREQ=DAILY;UNTIL=20260302T030000":               {"2026-03-01T03:00:00Z", "2026-03-02T03:00:00Z"},
		"DTSTART:20260301T030000 RRULE:FREQ=DAILY;UNTIL=20260302T025959":               {"2026-03-01T03:00:00Z"},
		"DTSTART:20260701T235959 RRULE:FREQ=DAILY;UNTIL=20260702":                      {"2026-07-01T23:59:59+01:00", "2026-07-02T23:59:59+01:00"},
		"DTSTART:20260701T030000 RRULE:FREQ=DAILY;UNTIL=20260702T020000Z":              {"2026-07-01T03:00:00+01:00", "2026-07-02T03:00:00+01:00"},
		"DTSTART:20260701T030000Z RRULE:FREQ=DAILY;COUNT=1":                            {"2026-07-01T04:00:00+01:00"},
		"DTSTART:20260701T030000 RRULE:FREQ=HOURLY;INTERVAL=5;COUNT=2":                 {"2026-07-01T03:00:00+01:00", "2026-07-01T08:00:00+01:00"},
		"DTSTART:20260701T030000Z RRULE:FREQ=HOURLY;INTERVAL=5;UNTIL=20260701T080000Z": {"2026-07-01T04:00:00+01:00", "2026-07-01T09:00:00+01:00"},
		"DTSTART:20260701T030000Z RRULE:FREQ=HOURLY;INTERVAL=5;UNTIL=20260701T075959Z": {"2026-07-01T04:00:00+01:00"},
		"DTSTART:20260301T030000 RRULE:FREQ=DAILY;BYHOUR=3,5,7;BYSETPOS=2,-1;COUNT=3":  {"2026-03-01T05:00:00Z", "2026-03-01T07:00:00Z", "2026-03-02T05:00:00Z"},
		// Two days of a week that begins on another day: every second week counts from the one in which the start lies (RFC 5545, 3.3.10).
		"DTSTART:19970805T090000 RRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO": {"1997-08-05T09:00:00+01:00", "1997-08-10T09:00:00+01:00", "1997-08-19T09:00:00+01:00", "1997-08-24T09:00:00+01:00"},
		"DTSTART:19970805T090000 RRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU": {"1997-08-05T09:00:00+01:00", "1997-08-17T09:00:00+01:00", "1997-08-19T09:00:00+01:00", "1997-08-31T09:00:00+01:00"},
		"DTSTART:20240229T090000 RRULE:FREQ=YEARLY;COUNT=2":                                {"2024-02-29T09:00:00Z", "2028-02-29T09:00:00Z"},
		"DTSTART:20260131T090000 RRULE:FREQ=MONTHLY;COUNT=2":                               {"2026-01-31T09:00:00Z", "2026-03-31T09:00:00+01:00"},
		"DTSTART:20260101T090000 RRULE:FREQ=YEARLY;BYDAY=-1SU;COUNT=1":                     {"2026-12-27T09:00:00Z"},
		"DTSTART:20260101T090000 RRULE:FREQ=MONTHLY;BYMONTHDAY=-1,1;COUNT=3":               {"2026-01-01T09:00:00Z", "2026-01-31T09:00:00Z", "2026-02-01T09:00:00Z"},
	} {
		s, err := Parse(text, lisbon)
		require.NoError(t, err, text)
		var got []string
		for at := s.Next(time.Date(1997, 1, 1, 0, 0, 0, 0, time.UTC)); !at.IsZero() && len(got) < 9; at = s.Next(at) {
			require.True(t, s.Has(at))
			require.False(t, s.Has(at.Add(1)))
			got = append(got, at.In(lisbon).Format(time.RFC3339))
		}
		require.Equal(t, want, got, text)
	}
}

// What a schedule means is said in one sentence, in the words of a person.
func TestWords(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	const clock = ", by the clock of Europe/Lisbon"
	for text, want := range map[string]string{
		"every day at 01:30 and 14:00":                                                     "every day at 01:30 and 14:00" + clock,
		"every mon-fri at 02:30":                                                           "every week on Monday, Tuesday, Wednesday, Thursday and Friday at 02:30" + clock,
		"every 2 weeks on sun at 03:00 from 2026-03-01":                                    "every 2 weeks on Sunday at 03:00, from 1 March 2026 on" + clock,
		"every 3 days at 03:00 from 2026-03-01":                                            "every 3 days at 03:00, from 1 March 2026 on" + clock,
		"monthly on the 1st and 15th at 04:00":                                             "every month on the 1st and 15th at 04:00" + clock,
		"monthly on the last day at 04:00":                                                 "every month on the last day at 04:00" + clock,
		"monthly on the 2nd sat and the last sat at 01:00":                                 "every month on the 2nd Saturday and the last Saturday at 01:00" + clock,
		"every 3 months on the 31st at 04:00 from 2026-01-31":                              "every 3 months on the 31st at 04:00, from 31 January 2026 on" + clock,
		"every hour from 00:20":                                                            "every hour of time that passes, counted from 1 January 2000 00:20",
		"every 90 minutes from 2026-02-01 00:20":                                           "every 90 minutes of time that passes, counted from 1 February 2026 00:20",
		"cron */10 9 * * *":                                                                "every day at 09:00, 09:10, 09:20, 09:30, 09:40 and 09:50" + clock,
		"cron 0 */3 * * *":                                                                 "every day, 8 times a day" + clock,
		"cron 0 5 13 * fri":                                                                "on the 13th at 05:00" + clock + ", and on Friday at 05:00" + clock,
		"cron 0 5 */5 * fri":                                                               "on Friday, when that is on the 1st, 6th, 11th, 16th, 21st, 26th and 31st at 05:00" + clock,
		"cron 5 4 * jan,jul *":                                                             "every day in January and July at 04:05" + clock,
		"DTSTART:20260210T110000Z RRULE:FREQ=DAILY;COUNT=3":                                "every day at 11:00, from 10 February 2026 on, 3 times in all, by the clock of UTC",
		"DTSTART:20260210T110000 RRULE:FREQ=YEARLY;UNTIL=20300101":                         "every year on 10 February at 11:00, from 10 February 2026 on, until 1 January 2030 23:59" + clock,
		"DTSTART:20260210T110000 RRULE:FREQ=YEARLY;BYMONTH=3,5":                            "every year on the 10th in March and May at 11:00, from 10 February 2026 on" + clock,
		"DTSTART:20260210T110000 RRULE:FREQ=WEEKLY;INTERVAL=2":                             "every 2 weeks on Tuesday at 11:00, from 10 February 2026 on" + clock,
		"DTSTART:19990110T110000 RRULE:FREQ=MONTHLY":                                       "every month on the 10th at 11:00" + clock,
		"RRULE:FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=-1,2;BYHOUR=4;BYSECOND=30":                "every month on Monday and Tuesday, of these the last and 2nd at 04:00:30" + clock,
		"RRULE:FREQ=YEARLY;BYDAY=20MO,-1SU;BYHOUR=4":                                       "every year on the 20th Monday and the last Sunday at 04:00" + clock,
		"RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29,-2;BYHOUR=4":                            "every year on the 2nd from the end and 29th in February at 04:00" + clock,
		"DTSTART:20260210T110000 RRULE:FREQ=SECONDLY;INTERVAL=7200;UNTIL=20260301T000000Z": "every 7200 seconds of time that passes, counted from 10 February 2026 11:00, until 1 March 2026 00:00",
		"at boot":                          "when the service starts for the first time after its host has booted",
		"after nightly-guests":             "when a run of policy nightly-guests has ended well (done, or done with warnings)",
		"after nightly-guests in any case": "when a run of policy nightly-guests has ended, however it ended",
	} {
		s, err := Parse(text, lisbon)
		require.NoError(t, err, text)
		require.Equal(t, want, s.Words(), text)
	}
}

// Windows open and close to the second, over midnight, over a change of the clock, and up to nine days ahead.
func TestEdgesOfWindows(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	at := func(text string) time.Time {
		v, err := time.ParseInLocation("2006-01-02 15:04:05", text, lisbon)
		require.NoError(t, err)
		return v
	}
	for _, c := range []struct {
		windows string
		from    string
		opens   string // "" if it is never
		closes  string
	}{
		{"only 20:00-06:00", "2026-02-10 19:59:59", "2026-02-10 20:00:00", "2026-02-10 19:59:59"},
		{"only 20:00-06:00", "2026-02-10 20:00:00", "2026-02-10 20:00:00", "2026-02-11 06:00:00"},
		{"only 20:00-24:00", "2026-02-10 23:59:59", "2026-02-10 23:59:59", "2026-02-11 00:00:00"},
		{"only 00:00-24:00", "2026-02-10 23:59:59", "2026-02-10 23:59:59", ""},
		{"never 00:00-00:01", "2026-02-10 00:00:59", "2026-02-10 00:01:00", "2026-02-10 00:00:59"},
		{"only mon 20:00-06:00", "2026-02-10 06:00:00", "2026-02-16 20:00:00", "2026-02-10 06:00:00"},
		{"only mon 20:00-06:00", "2026-02-10 05:59:59", "2026-02-10 05:59:59", "2026-02-10 06:00:00"},
		{"never mon 20:00-06:00", "2026-02-09 20:00:00", "2026-02-10 06:00:00", "2026-02-09 20:00:00"},
		{"only 01:30-03:00", "2026-03-29 00:00:00", "2026-03-29 02:00:00", "2026-03-29 00:00:00"}, // the clock goes from 1 to 2
		{"only 01:00-02:00", "2026-10-25 00:00:00", "2026-10-25 01:00:00", "2026-10-25 00:00:00"},
	} {
		w, err := ParseWindows([]string{c.windows})
		require.NoError(t, err)
		got := func(when time.Time, ok bool) string {
			if !ok {
				return ""
			}
			return when.Format(time.DateTime)
		}
		require.Equal(t, c.opens, got(w.Opens(at(c.from))), "%s from %s", c.windows, c.from)
		require.Equal(t, c.closes, got(w.Closes(at(c.from))), "%s from %s", c.windows, c.from)
	}
	w, err := ParseWindows([]string{"only 01:00-02:00"})
	require.NoError(t, err)
	closes, ok := w.Closes(at("2026-10-25 01:30:00"))
	require.True(t, ok)
	require.Equal(t, time.Date(2026, 10, 25, 2, 0, 0, 0, time.UTC), closes.UTC(), "the hour comes twice, and both are in the window")
}
