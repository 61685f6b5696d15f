package drill

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/trial"
)

var began = time.Date(2026, 11, 3, 3, 10, 0, 0, time.UTC)

func machine(owed Allowance) Comeback {
	taken := began.Add(-5 * time.Hour)
	return Comeback{Machine: "tickets-db", Taken: &taken, Owed: owed}
}

// cameUp is a trial that was switched on 20 s into the drill, answered 30 s later and held all that is expected 10 s after that.
func cameUp() Seen {
	lag := time.Minute
	return Seen{Passed: true, Report: &trial.Report{Begun: began.Add(20 * time.Second), Up: 30 * time.Second, Lag: &lag,
		Steps:    []trial.Finding{{Name: "agent", Passed: true, After: 30 * time.Second}, {Name: "port 5432", Passed: true, After: 40 * time.Second}},
		Exhibits: []trial.Exhibit{{Name: "a", Kind: "image/png"}, {Name: "b", Kind: "image/png"}, {Name: "c", Kind: "text/plain"}, {Name: "d", Kind: "image/png"}}}}
}

func TestJudge(t *testing.T) {
	m := machine(Allowance{})
	m.Judge(began, cameUp())
	require.Equal(t, Back, m.Standing)
	require.Equal(t, []time.Duration{20 * time.Second, 50 * time.Second, time.Minute, 5*time.Hour + time.Minute}, []time.Duration{m.Begun, m.Answered, m.Held, m.Age})
	require.Equal(t, []string{"b", "d"}, []string{m.Pictures[0].Name, m.Pictures[1].Name})

	for _, c := range []struct {
		owed Allowance
		want Standing
		why  string
	}{
		{Allowance{Back: time.Minute, Age: 6 * time.Hour}, Back, ""},
		{Allowance{Back: 59 * time.Second}, Late, "it took 60 s, 1 s longer than is owed"},
		{Allowance{Age: 5 * time.Hour}, Old, "its data was 5 h old, 60 s older than is owed"},
		{Allowance{Back: time.Second, Age: time.Hour}, Late, "its data was 5 h old, 4 h older than is owed; it took 60 s, 59 s longer than is owed"},
	} {
		m := machine(c.owed)
		m.Judge(began, cameUp())
		require.Equal(t, c.want, m.Standing)
		require.Equal(t, c.why, m.Why)
	}

	failed := cameUp()
	failed.Passed, failed.Why = false, "port 5432: refused"
	m = machine(Allowance{})
	m.Judge(began, failed)
	require.Equal(t, Missing, m.Standing)
	require.Zero(t, m.Held, "what does not hold is not back")
	require.Equal(t, 50*time.Second, m.Answered)
	m = machine(Allowance{})
	m.Judge(began, Seen{Why: "no hypervisor can hold the trial"})
	require.Equal(t, Missing, m.Standing)
}

func TestSum(t *testing.T) {
	r := Result{Machines: []Comeback{{Standing: Back, Held: time.Minute, Age: time.Hour}, {Standing: Late, Held: time.Hour, Age: 50 * time.Hour}, {Standing: Missing}, {Standing: Impossible}}}
	s := r.Sum()
	require.Equal(t, Missing, s.Standing)
	require.Equal(t, "1 back, 1 late, 1 impossible, 1 not back; the last of them was back after 60 min, with data up to 2 days old", s.String())
	require.Equal(t, Back, Result{}.Sum().Standing)
}
