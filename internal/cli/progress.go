package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"keenlodge/internal/client"
	"keenlodge/internal/core/run"
	"keenlodge/internal/wire"
)

// follow shows a run until it is over: a bar for each machine on a terminal, plain lines elsewhere. It returns errWarned
// or an error by how the run ended.
func follow(ctx context.Context, c *cli.Command, k *client.Client, id string) error {
	var screen interface {
		show(wire.Run)
		end()
	}
	w := c.Root().Writer
	switch {
	case c.String("output") == "json":
		screen = silent{}
	case isTerminal(w):
		screen = newBars(w)
	default:
		screen = &lines{w: w, steps: map[int64]string{}}
	}
	r, err := k.Watch(ctx, id, screen.show)
	screen.end()
	if err != nil {
		return err
	}
	if err := show(c, r, func(w io.Writer) { runSummary(ctx, w, k, r) }); err != nil {
		return err
	}
	switch r.State {
	case run.Done:
		return nil
	case run.Warned:
		return errWarned
	}
	return fmt.Errorf("run %s %s; look at: keenlodge run log %s", r.ID, r.State, r.ID)
}

// waitFor waits for a run's end with nothing to see.
func waitFor(ctx context.Context, k *client.Client, id string) (wire.Run, error) {
	return k.Watch(ctx, id, func(wire.Run) {})
}

type silent struct{}

func (silent) show(wire.Run) {}
func (silent) end()          {}

// lines prints a line whenever a task takes another step.
type lines struct {
	w     io.Writer
	steps map[int64]string
}

func (l *lines) show(r wire.Run) {
	for _, t := range r.Tasks {
		now := t.Step
		if t.Ended != nil {
			now = string(t.State)
		}
		if now == "" || l.steps[t.ID] == now {
			continue
		}
		l.steps[t.ID] = now
		fmt.Fprintf(l.w, "%s  %-16s %-22s %s\n", time.Now().Format("15:04:05"), t.Machine, now, size(t.Done))
	}
}

func (l *lines) end() {}

// bars is a bar for each machine with bytes and rate.
type bars struct {
	all   *mpb.Progress
	bars  map[int64]*mpb.Bar
	tasks map[int64]*wire.Task
}

func newBars(w io.Writer) *bars {
	return &bars{mpb.New(mpb.WithOutput(w), mpb.WithWidth(48), mpb.WithRefreshRate(120*time.Millisecond)), map[int64]*mpb.Bar{}, map[int64]*wire.Task{}}
}

func (b *bars) show(r wire.Run) {
	for _, t := range r.Tasks {
		bar, ok := b.bars[t.ID]
		if !ok {
			b.tasks[t.ID] = new(wire.Task)
			shown := b.tasks[t.ID]
			bar = b.all.New(0, mpb.BarStyle().Lbound("").Filler("━").Tip("━").Padding("┄").Rbound(""),
				mpb.PrependDecorators(decor.Name(t.Machine, decor.WC{W: 18, C: decor.DindentRight})),
				mpb.AppendDecorators(
					decor.CountersKibiByte("% .1f / % .1f", decor.WC{W: 22}),
					decor.Any(func(decor.Statistics) string { return rate(shown) }, decor.WC{W: 14}),
					decor.Any(func(decor.Statistics) string { return "  " + stepText(shown) }, decor.WC{W: 26, C: decor.DindentRight}),
				))
			b.bars[t.ID] = bar
		}
		*b.tasks[t.ID] = t
		bar.SetTotal(max(t.Total, t.Done, 1), false)
		bar.SetCurrent(t.Done)
		if t.Ended != nil {
			if t.State != run.Failed {
				bar.SetTotal(max(t.Done, 1), false)
				bar.SetCurrent(max(t.Done, 1))
			}
			bar.EnableTriggerComplete()
			if t.State == run.Failed {
				bar.Abort(false)
			}
		}
	}
}

func (b *bars) end() {
	for _, bar := range b.bars {
		if !bar.Completed() {
			bar.Abort(false)
		}
	}
	b.all.Wait()
}

func stepText(t *wire.Task) string {
	if t.Ended != nil {
		return stateWords(t.State)
	}
	if t.State == run.Queued {
		return "waits: " + cmp.Or(t.Why, "for its turn")
	}
	return t.Step
}

// rate is the mean of the task so far.
func rate(t *wire.Task) string {
	if t.Started == nil || t.Done == 0 {
		return ""
	}
	end := time.Now()
	if t.Ended != nil {
		end = *t.Ended
	}
	return size(int64(float64(t.Done)/max(0.1, end.Sub(*t.Started).Seconds()))) + "/s"
}

// mark is a state's sign; the word always stands beside it.
func mark(state run.State) string {
	switch state {
	case run.Done:
		return "✓"
	case run.Warned:
		return "!"
	case run.Failed:
		return "✗"
	case run.Skipped, run.Cancelled:
		return "–"
	}
	return "…"
}

// stateWords is a state with its sign.
func stateWords(s run.State) string { return mark(s) + " " + string(s) }

// runSummary prints a run's outcome: a row a machine, then what went wrong.
func runSummary(ctx context.Context, w io.Writer, k *client.Client, r wire.Run) {
	what := string(r.Kind)
	back := r.Kind == run.Files || r.Kind == run.Undo
	if r.Policy != "" && !back {
		what += " of " + map[bool]string{false: "policy ", true: ""}[r.Kind == run.Copy] + r.Policy
	}
	fmt.Fprintf(w, "%s run %s (%s) %s after %s\n", mark(r.State), r.ID, what, r.State, elapsed(r.Started, r.Ended))
	var rows [][]string
	for _, t := range r.Tasks {
		rows = append(rows, []string{t.Machine, stateWords(t.State), orDash(t.Image), elapsed(t.Started, t.Ended), size(t.Done), size(t.NewBytes), size(t.Stored), frozen(t.Frozen)})
	}
	if len(rows) > 0 {
		fmt.Fprintln(w)
		table(w, []string{"MACHINE", "RESULT", "IMAGE", "TOOK>", "READ>", "NEW>", "STORED>", "FROZEN>"}, rows)
	}
	for _, t := range r.Tasks {
		for _, warning := range t.Warnings {
			fmt.Fprintf(w, "! %s: %s\n", t.Machine, warning)
		}
		if t.Why != "" {
			fmt.Fprintf(w, "– %s: %s\n", t.Machine, t.Why)
		}
		if t.Error != "" {
			fmt.Fprintf(w, "✗ %s: %s\n", t.Machine, t.Error)
		}
	}
	if r.Error != "" {
		fmt.Fprintf(w, "%s %s\n", mark(r.State), r.Error)
	}
	if r.Waits != "" {
		fmt.Fprintf(w, "… it waits: %s\n", r.Waits)
	}
	if r.Kind == "backup" {
		return
	}
	log, err := k.RunLog(ctx, r.ID)
	if err != nil {
		fmt.Fprintf(os.Stderr, "keenlodge: %v\n", err)
		return
	}
	if len(r.Tasks) > 1 { // what each of several machines showed stands together
		for _, t := range r.Tasks {
			fmt.Fprintf(w, "  %s\n", t.Machine)
			for _, l := range log {
				if l.Kind == run.Evidence && l.Machine == t.Machine {
					fmt.Fprintf(w, "    %s\n", l.Text)
				}
			}
		}
	}
	for _, l := range log {
		switch {
		case l.Kind == run.Evidence && (len(r.Tasks) < 2 || l.Machine == ""):
			fmt.Fprintf(w, "  %s\n", l.Text)
		case l.Kind == run.Warning && back:
			fmt.Fprintf(w, "! %s\n", l.Text)
		}
	}
}

// runDetails prints all that is known of a run: who started it, its outcome, and how long each step of each machine took.
func runDetails(ctx context.Context, w io.Writer, k *client.Client, r wire.Run) {
	for _, row := range [][2]string{{"started by", causeWords(r)}, {"was due", moment(r.Due)}, {"queued", moment(&r.Made)}, {"started", moment(r.Started)}, {"ended", moment(r.Ended)}, {"note", orDash(r.Note)}} {
		fmt.Fprintf(w, "%-12s %s\n", row[0], row[1])
	}
	fmt.Fprintln(w)
	runSummary(ctx, w, k, r)
	for _, t := range r.Tasks {
		if len(t.Steps) == 0 {
			continue
		}
		tries := ""
		if t.Tries > 1 {
			tries = fmt.Sprintf(", tried %d times", t.Tries)
		}
		fmt.Fprintf(w, "\n%s%s\n", t.Machine, tries)
		var rows [][]string
		for _, s := range t.Steps {
			rows = append(rows, []string{"  " + s.At.Local().Format("15:04:05"), s.Name, time.Duration(s.Took).Round(time.Millisecond).String()})
		}
		table(w, []string{"  AT", "STEP", "TOOK>"}, rows)
	}
	fmt.Fprintf(w, "\nits log: keenlodge run log %s\n", r.ID)
}

// causeWords tells who or what started a run.
func causeWords(r wire.Run) string {
	if r.Who != "" {
		return string(r.Cause) + ", " + r.Who
	}
	return string(r.Cause)
}

// startedOrWaits tells when a run started, or what it waits for.
func startedOrWaits(r wire.Run) string {
	if r.Started == nil && r.Waits != "" {
		return "waits: " + r.Waits
	}
	return moment(r.Started)
}

func frozen(nanoseconds int64) string {
	if nanoseconds == 0 {
		return "–"
	}
	return time.Duration(nanoseconds).Round(time.Millisecond).String()
}
