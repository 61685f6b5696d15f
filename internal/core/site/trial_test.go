package site

import (
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/expect"
)

const trialSite = `zone: Europe/Lisbon
hypervisors:
  quay-1:
    uri: qemu:///system
    trials: TRIALS
stores:
  quay-shelf: {medium: dir, layout: pooled, folder: /srv/shelf}
groups:
  ticketing: {machines: MACHINES}
policies:
  nightly-guests:
    machines: ["*"]
    store: quay-shelf
    rotation: newest 3
    promise: PROMISE
    trials:
      - machines: ["tickets-*"]
        ports: [5432]
        commands: [{command: [pg_isready], expect: accepting, within: 1 minute}]
        ledger: 1 minute
      - tags: role=web
        WHAT
    restored:
      - {tags: role=web, command: [check-pages]}
      - RESTORED
`

func trialText(replaced ...string) []byte {
	for from, to := range map[string]string{"TRIALS": "2", "MACHINES": "[tickets-db, timetable]", "PROMISE": "26 hours, boot weekly", "WHAT": "text: \"login:\"", "RESTORED": "{command: [check-tickets], expect: clean}"} {
		replaced = append(replaced, from, to) // of two that are the same the first one counts
	}
	return []byte(strings.NewReplacer(replaced...).Replace(trialSite))
}

// What is expected of a machine is the first that fits it; a number of trials stands for more.
func TestTrialsInASite(t *testing.T) {
	s, err := Parse("site.yaml", trialText())
	require.NoError(t, err)
	require.Equal(t, 2, s.Hypervisors["quay-1"].Trials.AtOnce)
	body, err := yaml.Marshal(s.Hypervisors["quay-1"])
	require.NoError(t, err)
	require.Contains(t, string(body), "trials: 2\n")
	of := s.Policies["nightly-guests"].Trials
	e, ok := expect.Expected(of, "tickets-db", nil)
	require.True(t, ok)
	require.Equal(t, []int{5432}, e.Ports)
	require.Equal(t, time.Minute, e.Lag())
	require.Equal(t, expect.TrialTime, e.Limit())
	require.Equal(t, time.Minute, e.Commands[0].Limit())
	e, ok = expect.Expected(of, "timetable", map[string]string{"role": "web"})
	require.True(t, ok)
	require.Equal(t, "login:", e.Text)
	_, ok = expect.Expected(of, "berth-sim", nil)
	require.False(t, ok)
	restored := s.Policies["nightly-guests"].Restored
	require.Len(t, expect.ChecksOf(restored, "timetable", map[string]string{"role": "web"}), 2, "all that fit are run")
	require.Equal(t, restored[1:], expect.ChecksOf(restored, "tickets-db", nil))
	require.Equal(t, expect.TrialCommand{Command: []string{"check-tickets"}, Expect: "clean"}, restored[1].TrialCommand)

	s, err = Parse("site.yaml", trialText("TRIALS", "{at_once: 1, hours: ['only 00:00-06:00'], memory: 8 GiB, room: 1 GiB}"))
	require.NoError(t, err)
	at := *s.Hypervisors["quay-1"].Trials
	require.EqualValues(t, 8<<30, at.MemoryAll())
	require.EqualValues(t, 1<<30, at.RoomEach())
	body, err = yaml.Marshal(at)
	require.NoError(t, err)
	var again expect.Trials
	require.NoError(t, yaml.Unmarshal(body, &again))
	require.Equal(t, at, again)
	require.EqualValues(t, 4<<30, expect.Trials{}.RoomEach())
}

func TestBadTrials(t *testing.T) {
	for _, c := range [][3]string{
		{"TRIALS", "-1", "trials: -1 is not a number from 0 to 100"},
		{"TRIALS", "{at_once: 1, hours: [at night]}", "at night"},
		{"TRIALS", "{at_once: 1, room: 1 MiB}", `room: "1 MiB" is not a size of at least 64 MiB`},
		{"MACHINES", "[]", "it has no machines; write for example"},
		{"MACHINES", "[a, a]", `"a" is no machine's name, or there twice`},
		{"PROMISE", "boot weakly", `not how often; did you mean "weekly"?`},
		{"WHAT", "ports: [70000]", "70000 is no TCP port"},
		{"WHAT", "clock: later", `clock "later" is not known`},
		{"WHAT", "errors: cry", `errors "cry" is not known`},
		{"WHAT", "system: [up]", `systemctl is-system-running never says "up"`},
		{"WHAT", "within: 2 months", "within:"},
		{"WHAT", "within: 2 days", "a trial may take 1 day at most"},
		{"WHAT", "address: fe80::1", `"fe80::1" is no IPv4 address`},
		{"WHAT", "commands: [{command: []}]", "a command is a list of words"},
		{"RESTORED", "{command: [bin/check]}", "site.yaml:25: policy nightly-guests: a command is a list of words"},
		{"RESTORED", "{command: [check], within: long}", "within: "},
		{"RESTORED", "{command: [check], machines: ['']}", `"" is not a machine's name or a pattern`},
	} {
		_, err := Parse("site.yaml", trialText(c[0], c[1]))
		require.ErrorContains(t, err, c[2], c[1])
	}
	_, err := Parse("site.yaml", trialText("WHAT", "agent: false\n        ledger: 1 minute"))
	require.ErrorContains(t, err, "are asked by the guest's agent; leave out agent: false")
}
