package event

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/run"
)

func TestSentences(t *testing.T) {
	for _, s := range run.States {
		e, ok := Ended(run.Backup, "first000", "nightly-guests", s, "")
		require.Equal(t, s == run.Done || s == run.Warned || s == run.Failed, ok, s)
		require.Equal(t, ok, e.Name != "", s)
		require.Equal(t, "nightly-guests", e.Subject())
	}
	e, _ := Ended(run.Sweep, "first000", "", run.Failed, "the barn is on fire")
	require.Equal(t, Event{Name: RunFailed, Run: "first000", Text: "sweep first000 ended: failed: the barn is on fire"}, e)
	require.Equal(t, "first000", e.Subject())
	e, _ = Ended(run.Backup, "first000", "nightly-guests", run.Done, "")
	require.Equal(t, "backup first000 of policy nightly-guests ended: done", e.Text)
	require.Equal(t, "i1", Broken("i1", "timetable", "nightly-guests", "quay-shelf").Subject())

	var many []string
	for i := range 22 {
		many = append(many, fmt.Sprint("m", i))
	}
	require.Equal(t, Event{Name: MachinesFound, Source: "quay-1", Machine: "m0", Text: "new on quay-1: m0"}, Found("quay-1", many[:1]))
	require.Equal(t, "new on quay-1: m0, m1", Found("quay-1", many[:2]).Text)
	require.NotContains(t, Found("quay-1", many[:20]).Text, "more")
	require.Contains(t, Found("quay-1", many).Text, "m18, m19 and 2 more")
	require.Equal(t, "quay-1", Found("quay-1", many).Subject())
	require.Empty(t, Event{}.Subject())
}
