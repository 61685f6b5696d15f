package site

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const good = `zone: Europe/Lisbon
hypervisors:
  quay-1:
    uri: qemu:///system
stores:
  quay-shelf:
    medium: dir
    layout: pooled
    folder: /srv/quay-shelf
policies:
  nightly-guests:
    machines:
      - tickets-db
      - "time*"
    tags: tier=bronze and not role=web
    store: quay-shelf
    schedules:
      - every day at 23:00
      - when: monthly on the 1st at 04:00
        capture: full
        note: the month's own
    rotation: newest 3
`

func TestAFileComesBackTheSame(t *testing.T) {
	s, err := Parse("site.yaml", []byte(good))
	require.NoError(t, err)
	text, err := s.Encode()
	require.NoError(t, err)
	again, err := Parse("site.yaml", text)
	require.NoError(t, err)
	require.Equal(t, s, again)
	changes, err := s.Compare(again)
	require.NoError(t, err)
	require.Empty(t, changes)
}

func TestMistakesNameTheLineAndTheCure(t *testing.T) {
	for replaced, want := range map[[2]string]string{
		{"rotation: newest 3", "rotaton: newest 3"}:       `site.yaml:22: the key "rotaton" is not known here; did you mean "rotation"?`,
		{"newest 3", "newst 3"}:                           `site.yaml:22: policy nightly-guests: rotation phrase "newst 3": at "newst" (character 1): not a clause; did you mean "newest"?`,
		{"at 23:00", "at 25:00"}:                          `site.yaml:18: policy nightly-guests: schedule phrase "every day at 25:00"`,
		{"store: quay-shelf", "store: quay-self"}:         `site.yaml:16: policy nightly-guests: no store is called "quay-self"; did you mean "quay-shelf"?`,
		{"zone: Europe/Lisbon", "zone: Europe/Lisboa"}:    `site.yaml:1: zone: "Europe/Lisboa" is not in the tz database`,
		{"folder: /srv/quay-shelf", "folder: quay"}:       `store quay-shelf: folder "quay" is not an absolute path`,
		{"uri: qemu:///system", "uri: [1"}:                `site.yaml:`,
		{"  nightly-guests:", "  Nightly Guests:"}:        `policy Nightly Guests: a name has up to 63 lower-case letters`,
		{"layout: pooled", "layout: pooled\n    seal: 1"}: `the key "seal" is not known here`,
	} {
		text := []byte(replace(t, good, replaced[0], replaced[1]))
		_, err := Parse("site.yaml", text)
		var bad *FileError
		require.ErrorAs(t, err, &bad)
		require.ErrorContains(t, err, want)
	}
}

func TestCompareTellsWhatApplyingWouldChange(t *testing.T) {
	s, err := Parse("site.yaml", []byte(good))
	require.NoError(t, err)
	next, err := Parse("site.yaml", []byte(replace(t, good, "newest 3", "newest 5")))
	require.NoError(t, err)
	delete(next.Hypervisors, "quay-1")
	next.Hypervisors["pier-2"] = Hypervisor{URI: "qemu:///system"}
	changes, err := s.Compare(next)
	require.NoError(t, err)
	require.Equal(t, []Change{
		{"add", "hypervisor", "pier-2", ""},
		{"remove", "hypervisor", "quay-1", ""},
		{"change", "policy", "nightly-guests", `rotation: "newest 3" becomes "newest 5"`},
	}, changes)
}

func TestSelects(t *testing.T) {
	p := Policy{Machines: []string{"tickets-db", "time*"}, Tags: "tier=bronze and role=trainer", Except: []string{"time-old"}}
	require.True(t, p.Selects("quay-1", "timetable", nil))
	require.False(t, p.Selects("quay-1", "time-old", nil))
	require.True(t, p.Selects("quay-1", "berth-sim", map[string]string{"tier": "bronze", "role": "trainer", "x": "y"}))
	require.False(t, p.Selects("quay-1", "berth-sim", map[string]string{"tier": "bronze"}))
	require.Equal(t, []string{"tickets-db"}, p.Exact())
	require.False(t, Policy{Machines: []string{"a"}}.Selects("quay-1", "b", nil))
	require.True(t, Policy{Machines: []string{"*"}}.Selects("quay-1", "b", nil))
}

// What can't work is refused when it is written, not in the night.
func TestWhatNeverWorksIsRefused(t *testing.T) {
	for more, want := range map[string]string{
		"    windows: [only 20:00-06:00, never 19:00-07:00]":                             "it never opens",
		"    windows: [only 25:00-06:00]":                                                `at "25:00-06:00" (character 6): hours are expected here`,
		"    schedules: [cron 0 3 30 2 *]":                                               "it never comes",
		"    schedules: [after nightly-guests]":                                          "policy nightly-guests: its chain comes back to itself: nightly-guests after nightly-guests",
		"    schedules: [after nightly-gests]":                                           `no policy is called "nightly-gests"; did you mean "nightly-guests"?`,
		"    schedules: [{when: every day at 23:00, capture: ful}]":                      `capture "ful" is not known; did you mean "full"?`,
		"    schedules: [{when: every day at 23:00, kapture: full}]":                     `the key "kapture" is not known here; did you mean "capture"?`,
		"    schedules: ['DTSTART;TZID=Europe/Lisboa:20260301T030000 RRULE:FREQ=DAILY']": "no such zone in the tz database",
		"    longest: 4 hors":                                                            `longest: "4 hors" is no length of time`,
		"    retries: 21":                                                                "is not a number from 0 to 20",
		"    missed: later":                                                              `missed "later" is not known`,
		"    checks: [{free: 5, command: [a]}]":                                          "a check is either a command, or mounted, free or both",
		"    checks: [{command: [a], else: stopp}]":                                      `did you mean "stop"?`,
		"    active: {}":                                                                 "active needs either tags or a command",
		"    active: {tags: ha=active or}":                                               "a tag is expected here",
		"    hooks: [{at: [begn], script: /bin/true}]":                                   `no moment is called "begn"; did you mean "begun"?`,
		"    hooks: [{at: [begun], script: true.sh}]":                                    `script "true.sh" is not an absolute path`,
		"    hooks: [{at: [begun], webhook: desk}]":                                      `no webhook is called "desk"`,
		"    hooks: [{at: [begun]}]":                                                     "a hook is either a script or a webhook",
		"webhooks: {desk: {url: 'http://192.0.2.7/x'}}":                                  "is not encrypted and not on loopback",
		"webhooks: {desk: {url: 'https://a:b@desk.brindle.example/x'}}":                  "with no password in it",
		"webhooks: {desk: {url: 'https://desk.brindle.example', events: [image-broke]}}": `no event is called "image-broke"; did you mean "image-broken"?`,
		"keep_runs: forever":                                                             `"forever" is no length of time`,
		"tasks_at_once: -1":                                                              "is not a number from 1 to 1000",
	} {
		text := good + more + "\n"
		if more[:4] == "    " && strings.Contains(more, "schedules:") {
			text = good[:strings.Index(good, "    schedules:")] + more + "\n    rotation: newest 3\n"
		}
		_, err := Parse("site.yaml", []byte(text))
		require.ErrorContains(t, err, want, more)
	}
	apart := strings.Replace(good, "    folder: /srv/quay-shelf\n", "    folder: /srv/quay-shelf\n    windows: [only 08:00-18:00]\n", 1)
	_, err := Parse("site.yaml", []byte(apart+"    windows: [only 20:00-06:00]\n"))
	require.ErrorContains(t, err, "its windows and those of store quay-shelf are never open at once")
	chain := good + "  weekly-system:\n    machines: [timetable]\n    store: quay-shelf\n    rotation: newest 1\n    schedules: [after monthly-whole]\n" +
		"  monthly-whole:\n    machines: [timetable]\n    store: quay-shelf\n    rotation: newest 1\n    schedules: [after weekly-system in any case]\n"
	_, err = Parse("site.yaml", []byte(chain))
	require.ErrorContains(t, err, "its chain comes back to itself: monthly-whole after weekly-system after monthly-whole")
}

// Where several schedules come due at once, the one that covers most counts.
func TestDueTakesTheStrongest(t *testing.T) {
	p := Policy{Schedules: []Schedule{{When: "every day at 23:00", Capture: "incremental"}, {When: "every sun at 23:00", Capture: "full", Note: "week"}, {When: "every day at 05:00"}}}
	at := time.Date(2026, 2, 15, 23, 0, 0, 0, time.UTC) // a Sunday
	due, merged, ok := p.Due(at.Add(-1), at, time.UTC)
	require.True(t, ok)
	require.EqualValues(t, "full", due.Capture)
	require.Equal(t, []Schedule{p.Schedules[0]}, merged)
	due, merged, ok = p.Due(at, at.Add(24*time.Hour), time.UTC)
	require.True(t, ok)
	require.Equal(t, "every day at 05:00", due.When)
	require.Len(t, merged, 1)
	_, _, ok = p.Due(at, at.Add(time.Hour), time.UTC)
	require.False(t, ok)
	require.Equal(t, at.Add(6*time.Hour), p.Next(at, time.UTC))
	require.Equal(t, 4*time.Minute, Policy{}.Wait(3))
}

func replace(t *testing.T, text, old, new string) string {
	for i := 0; i+len(old) <= len(text); i++ {
		if text[i:i+len(old)] == old {
			return text[:i] + new + text[i+len(old):]
		}
	}
	t.Fatalf("%q is not in the text", old)
	return ""
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Parse("site.yaml", text)
		if err != nil {
			return
		}
		encoded, err := s.Encode()
		require.NoError(t, err)
		_, err = Parse("site.yaml", encoded)
		require.NoError(t, err)
	})
}
