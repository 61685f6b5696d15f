package cli

import (
	"bytes"
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/wire"
)

func TestExpand(t *testing.T) {
	app := &cli.Command{Name: "keenlodge", Commands: []*cli.Command{
		runCommand(), rotationCommand(), imageCommand(), policyCommand(), {Name: "thaw-watch", Hidden: true},
	}}
	for _, c := range []struct {
		in, want []string
		err      string
	}{
		{[]string{"k", "im", "l"}, []string{"k", "image", "list"}, ""},
		{[]string{"k", "--url", "im", "run", "w", "abc"}, []string{"k", "--url", "im", "run", "watch", "abc"}, ""},
		{[]string{"k", "--url=x", "pol", "run", "nightly"}, []string{"k", "--url=x", "policy", "run", "nightly"}, ""},
		{[]string{"k", "image", "-o", "json", "list"}, []string{"k", "image", "-o", "json", "list"}, ""},
		{[]string{"k", "r", "l"}, nil, `"r" may mean run or rotation`},
		{[]string{"k", "imgae"}, nil, `did you mean "image"?`},
		{[]string{"k", "thaw"}, nil, `"thaw" is not a command`},
		{[]string{"k", "run", "zap"}, []string{"k", "run", "zap"}, ""},
		{[]string{"k"}, []string{"k"}, ""},
	} {
		got, err := expand(app, c.in)
		if c.err != "" {
			require.ErrorContains(t, err, c.err)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.want, got)
	}
}

func TestPick(t *testing.T) {
	known := []string{"abc", "abd", "xyz", "ab"}
	got, err := pick("image", "x", known)
	require.NoError(t, err)
	require.Equal(t, "xyz", got)
	got, err = pick("image", "ab", known)
	require.NoError(t, err)
	require.Equal(t, "ab", got, "a whole name goes before a beginning")
	_, err = pick("image", "a", known)
	require.ErrorContains(t, err, `image "a" may be abc, abd, ab; write more of it`)
	_, err = pick("image", "xzy", known)
	require.ErrorContains(t, err, `no image is called "xzy"; did you mean "xyz"?`)
}

func TestTablesLineUp(t *testing.T) {
	var out bytes.Buffer
	table(&out, []string{"NAME", "SIZE>", "STATE"}, [][]string{{"tickets-db", "9 B", "✓ done"}, {"x", "1.5 MiB", "–"}})
	require.Equal(t, "NAME           SIZE  STATE\ntickets-db      9 B  ✓ done\nx           1.5 MiB  –\n", out.String())
}

// Without a terminal a run is told in plain lines, one for each step that a machine takes.
func TestPlainLinesOfARun(t *testing.T) {
	var out bytes.Buffer
	l := &lines{w: &out, steps: map[int64]string{}}
	ended := time.Now()
	task := wire.Task{ID: 1, Machine: "tickets-db", State: "running", Step: "reading vda"}
	l.show(wire.Run{Tasks: []wire.Task{task}})
	task.Done = 1 << 20
	l.show(wire.Run{Tasks: []wire.Task{task}})
	task.State, task.Ended, task.Step = "done", &ended, ""
	l.show(wire.Run{Tasks: []wire.Task{task}})
	require.Regexp(t, `^\S+  tickets-db       reading vda            0 B\n\S+  tickets-db       done                   1.0 MiB\n$`, out.String())
}

// Bars end whatever the run's end was; a machine that fails does not fill its bar.
func TestBarsEnd(t *testing.T) {
	var out bytes.Buffer
	b := newBars(&out)
	now := time.Now()
	tasks := []wire.Task{{ID: 1, Machine: "tickets-db", State: "running", Started: &now, Total: 100, Done: 50, Step: "reading vda"}, {ID: 2, Machine: "timetable", State: "queued"}}
	b.show(wire.Run{Tasks: tasks})
	tasks[0].State, tasks[0].Ended, tasks[0].Done = "done", &now, 100
	tasks[1].State, tasks[1].Ended = "failed", &now
	b.show(wire.Run{Tasks: tasks})
	ended := make(chan bool)
	go func() { b.end(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("the bars never end")
	}
}

// A drawing is well-formed, has a square for each image and night, and escapes what people write.
func TestADrawingOfARule(t *testing.T) {
	rule, err := rotation.Parse("newest 3")
	require.NoError(t, err)
	cyc, err := cycle.Parse("full every 3rd")
	require.NoError(t, err)
	text := drawSimulation(rotation.Scenario{Rule: rule, Cycle: cyc, Capture: "incremental", Leans: true, First: time.Date(2026, 2, 1, 23, 0, 0, 0, time.UTC), Nights: 6})
	require.NoError(t, xml.Unmarshal([]byte(text), new(struct{})))
	require.Contains(t, text, "&#34;full every 3rd&#34;")
	squares := func(fill string) int { return strings.Count(text, `rx="3" fill="`+fill+`"/>`) }
	require.Equal(t, 6, squares("#12626e"), "a new one each night")
	require.Equal(t, 3, squares("#e3b04b"), "the first chain is held for two nights")
	require.Equal(t, 9, squares("#5fa8a0"))
}
