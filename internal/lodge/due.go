package lodge

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"

	"keenlodge/internal/core/site"
	"keenlodge/internal/core/when"
	"keenlodge/internal/records"
)

const (
	// lookForDue is how often the scheduler looks for what is due where no earlier moment is known.
	lookForDue = time.Second
	// lateAfter is how late a moment may be found before it counts as missed: it is more than a service takes to start again.
	lateAfter = time.Minute
	// jumpAfter is how far the wall clock may run apart from the passing of time between two looks before it counts as set.
	jumpAfter = 3 * time.Second
)

// BackupRequest says what is special about a run of a policy.
type BackupRequest struct {
	// When is the schedule phrase that started it, empty for a run by hand.
	When    string        `json:"when,omitempty"`
	Capture image.Capture `json:"capture,omitempty"`
	Disks   []string      `json:"disks,omitempty"`
	// Missed says that its moment was missed: it runs only where the windows are open at once.
	Missed bool `json:"missed,omitempty"`
}

// schedule starts what is due, at its moment, and watches the clock.
func (l *Lodge) schedule(ctx context.Context) error {
	// Another clock may have set the moments, so those that lie too far ahead are brought back.
	if err := l.hasten(ctx, "the service started"); err != nil && ctx.Err() == nil {
		l.log.Error("the scheduler could not go through the policies", "error", err)
	}
	wait := time.NewTimer(0)
	defer wait.Stop()
	for last := time.Now(); ; {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-wait.C:
		}
		now := time.Now()
		// Round drops the monotonic reading: the difference of the two is by how far the clock was set.
		if jump := now.Round(0).Sub(last.Round(0)) - now.Sub(last); jump < -jumpAfter {
			if err := l.hasten(ctx, fmt.Sprintf("the clock was set back by %s", -jump.Round(time.Second))); err != nil && ctx.Err() == nil {
				l.log.Error("the scheduler could not go through the policies", "error", err)
			}
		}
		last = now
		if err := l.fireDue(ctx, now); err != nil && ctx.Err() == nil {
			l.log.Error("the scheduler could not look for what is due", "error", err)
		}
		pause := lookForDue
		if next, err := l.rec.NextDue(ctx); err == nil && next != nil {
			pause = min(pause, max(5*time.Millisecond, time.Until(*next)))
		}
		wait.Reset(pause)
	}
}

// fireDue starts what is due at a moment.
func (l *Lodge) fireDue(ctx context.Context, now time.Time) error {
	_, err := l.rec.FireDue(ctx, now, func(s site.Site, due []records.Due) []records.Firing {
		zone := s.Location()
		out := make([]records.Firing, len(due))
		for i, d := range due {
			out[i] = decide(zone, s.Policies[d.Policy], d, now)
		}
		return out
	})
	return err
}

// decide says what becomes of a due policy: a run, or a record that it was skipped, and why.
func decide(zone *time.Location, spec site.Policy, d records.Due, now time.Time) records.Firing {
	at := d.At
	run := records.Run{ID: newRunID(), Kind: "backup", Policy: d.Policy, Cause: "schedule", State: "queued", Due: &at}
	schedule, merged, _ := spec.Due(d.At.Add(-1), now, zone)
	request := BackupRequest{When: schedule.When, Capture: schedule.Capture, Disks: schedule.Disks, Missed: now.Sub(d.At) > lateAfter}
	run.Request, _ = json.Marshal(request) // a struct of strings
	run.Note = schedule.Note
	for _, m := range merged {
		if m.Note != "" && run.Note == "" {
			run.Note = m.Note
		}
	}
	switch {
	case d.Paused:
		run.State, run.Error = "skipped", "the policy is paused"+pauseWords(d.Pause, zone)
	case request.Missed && spec.Missed == "skip":
		run.State, run.Error = "skipped", fmt.Sprintf("its moment was missed by %s: no service ran; the policy says to skip such", now.Sub(d.At).Round(time.Second))
	}
	return records.Firing{Run: run, Next: spec.Next(now, zone)}
}

func pauseWords(p records.Pause, zone *time.Location) string {
	text := ""
	if p.Until != nil {
		text = " until " + p.Until.In(zone).Format("2006-01-02 15:04")
	}
	if p.Why != "" {
		text += ": " + p.Why
	}
	return text
}

// hasten brings next moments back that lie later than they should.
func (l *Lodge) hasten(ctx context.Context, why string) error {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	moved, err := l.rec.Hasten(ctx, func(p site.Policy) time.Time { return p.Next(now, s.Location()) })
	if len(moved) > 0 {
		l.log.Warn("next moments of policies were brought back", "because", why, "policies", moved)
	}
	return err
}

// Boot starts the policies that are to run at boot, once for each boot of a host. id names the boot.
func (l *Lodge) Boot(ctx context.Context, id string) error {
	first, err := l.rec.Boot(ctx, id)
	if err != nil || !first {
		return err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	var runs []records.Run
	for _, name := range keys(s.Policies) {
		for i, parsed := range s.Policies[name].Parsed(s.Location()) {
			if parsed.AtBoot() {
				runs = append(runs, startedBy("boot", name, s.Policies[name].Schedules[i]))
				break
			}
		}
	}
	return l.startRuns(ctx, runs)
}

// startedBy is a run that something else than the clock starts.
func startedBy(cause run.Cause, policy string, s site.Schedule) records.Run {
	body, _ := json.Marshal(BackupRequest{When: s.When, Capture: s.Capture, Disks: s.Disks}) // a struct of strings
	return records.Run{ID: newRunID(), Kind: "backup", Policy: policy, Cause: cause, State: "queued", Request: body, Note: s.Note}
}

// startRuns queues runs, but for those of paused policies, which are recorded as skipped.
func (l *Lodge) startRuns(ctx context.Context, runs []records.Run) error {
	if len(runs) == 0 {
		return nil
	}
	runs, err := l.heedPauses(ctx, runs)
	if err != nil {
		return err
	}
	return l.rec.QueueRuns(ctx, runs)
}

func (l *Lodge) heedPauses(ctx context.Context, runs []records.Run) ([]records.Run, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	pauses, err := l.pauses(ctx)
	if err != nil {
		return nil, err
	}
	for i := range runs {
		if p := pauses[runs[i].Policy]; p.Holds(time.Now()) {
			runs[i].State, runs[i].Error = "skipped", "the policy is paused"+pauseWords(p, s.Location())
		}
	}
	return runs, nil
}

// followers are the runs that a run's end starts: those of policies that come after its own.
func (l *Lodge) followers(ctx context.Context, run records.Run, state run.State) ([]records.Run, error) {
	if run.Kind != "backup" || state == "skipped" {
		return nil, nil
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	var out []records.Run
	for _, name := range keys(s.Policies) {
		for _, schedule := range s.Policies[name].Schedules {
			if !strings.HasPrefix(schedule.When, "after") {
				continue // of thousands of policies few are in a chain
			}
			parsed, err := when.Parse(schedule.When, s.Location())
			if err != nil {
				continue // Check has refused such a site
			}
			after, anyway := parsed.After()
			if after == run.Policy && (anyway || state == "done" || state == "warned") {
				out = append(out, startedBy("chain", name, schedule))
				break
			}
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return l.heedPauses(ctx, out)
}

// endRun records how a run ended, and starts what comes after it.
func (l *Lodge) endRun(ctx context.Context, run records.Run, state run.State, text string) error {
	next, err := l.followers(ctx, run, state)
	if err != nil {
		l.log.Error("what comes after a run could not be started", "run", run.ID, "error", err)
	}
	return l.rec.EndRun(ctx, run.ID, state, text, next...)
}

// hold tells how long a queued run has to wait for its windows; a run by hand waits for none. A run whose moment was missed does not
// wait: over says that it was ended as skipped.
func (l *Lodge) hold(ctx context.Context, run records.Run) (wait time.Duration, over bool, err error) {
	if run.Kind != "backup" || run.Cause == "hand" || run.State != "queued" {
		return 0, false, nil
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return 0, false, err
	}
	hosts, err := l.hostsOf(ctx, s, run.Policy)
	if err != nil {
		return 0, false, err
	}
	hours := s.Hours(run.Policy, hosts...)
	now := time.Now().In(s.Location())
	opens, ok := hours[0].Opens(now, hours[1:]...)
	if ok && !opens.After(now) {
		return 0, false, nil
	}
	request, err := request[BackupRequest](run)
	if err != nil {
		return 0, false, err
	}
	closed := fmt.Sprintf("the windows of policy %s, its store%s are not open at once now", run.Policy, andHosts(hosts))
	switch {
	case !ok:
		return 0, true, l.rec.EndRun(ctx, run.ID, "skipped", closed+", and never will be; change one of them")
	case request.Missed:
		return 0, true, l.rec.EndRun(ctx, run.ID, "skipped", "its moment was missed, for no service ran, and "+closed)
	}
	if err := l.rec.HoldRun(ctx, run.ID, fmt.Sprintf("the window opens at %s", opens.Format("15:04 on 2006-01-02")), opens); err != nil {
		return 0, false, err
	}
	return time.Until(opens), false, nil
}

// hostsOf are the hypervisors of the machines that a policy covers, as far as they have windows.
func (l *Lodge) hostsOf(ctx context.Context, s site.Site, policy string) ([]string, error) {
	limited := map[string]bool{}
	for name, h := range s.Hypervisors {
		if len(h.Windows) > 0 {
			limited[name] = true
		}
	}
	if len(limited) == 0 {
		return nil, nil
	}
	machines, err := l.rec.Machines(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]bool{}
	for _, m := range machines {
		if limited[m.Hypervisor] && m.State != "gone" && s.Policies[policy].Selects(m.Name, m.Tags) {
			found[m.Hypervisor] = true
		}
	}
	return keys(found), nil
}

func andHosts(hosts []string) string {
	if len(hosts) == 0 {
		return ""
	}
	return " and hypervisor " + strings.Join(hosts, ", ")
}

// bootID names the present boot of this host.
func bootID() (string, error) {
	body, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(body)), err
}
