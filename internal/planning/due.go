// Package planning knows what is due: it starts runs at their moments, and waits, skips, pauses and chains them as the site says; and it
// plays what will come, as a forecast and as a calendar.
package planning

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/when"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/stores"
)

const (
	// lookForDue is how often the scheduler looks for what is due where no earlier moment is known.
	lookForDue = time.Second
	// lateAfter is how late a moment may be found before it counts as missed: it is more than a service takes to start again.
	lateAfter = time.Minute
	// jumpAfter is how far the wall clock may run apart from the passing of time between two looks before it counts as set.
	jumpAfter = 3 * time.Second
)

// Request says what is special about a run of a policy; the run has it as its request.
type Request struct {
	// When is the schedule phrase that started it, empty for a run by hand.
	When    string        `json:"when,omitempty"`
	Capture image.Capture `json:"capture,omitempty"`
	Disks   []string      `json:"disks,omitempty"`
	// Missed says that its moment was missed: it runs only where the windows are open at once.
	Missed bool `json:"missed,omitempty"`
}

// Planning starts what is due.
type Planning struct {
	rec    *records.Records
	log    *slog.Logger
	stores *stores.Stores
}

// New makes a Planning.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores) *Planning {
	return &Planning{rec, log, ss}
}

// Schedule starts what is due, at its moment, and watches the clock, until ctx ends.
func (pl *Planning) Schedule(ctx context.Context) error {
	// Another clock may have set the moments, so those that lie too far ahead are brought back.
	if err := pl.pullForward(ctx, "the service started"); err != nil && ctx.Err() == nil {
		pl.log.Error("the scheduler could not go through the policies", "error", err)
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
			if err := pl.pullForward(ctx, fmt.Sprintf("the clock was set back by %s", -jump.Round(time.Second))); err != nil && ctx.Err() == nil {
				pl.log.Error("the scheduler could not go through the policies", "error", err)
			}
		}
		last = now
		if err := pl.fireDue(ctx, now); err != nil && ctx.Err() == nil {
			pl.log.Error("the scheduler could not look for what is due", "error", err)
		}
		pause := lookForDue
		if next, err := pl.rec.NextDue(ctx); err == nil && next != nil {
			pause = min(pause, max(5*time.Millisecond, time.Until(*next)))
		}
		wait.Reset(pause)
	}
}

// fireDue starts what is due at a moment.
func (pl *Planning) fireDue(ctx context.Context, now time.Time) error {
	_, err := pl.rec.FireDue(ctx, now, func(s site.Site, due []records.Due) []records.Firing {
		zone := s.Location()
		out := make([]records.Firing, len(due))
		for i, d := range due {
			spec, _ := s.Planned(d.Policy) // it was in the records a moment ago; nothing is never due
			out[i] = decide(zone, spec, d, now)
			out[i].Run.Kind = kindOf(s, d.Policy)
		}
		return out
	})
	return err
}

// kindOf is what a run of a policy, or of a copy rule, does.
func kindOf(s site.Site, name string) run.Kind {
	if _, ok := s.Copies[name]; ok {
		return run.Copy
	}
	return run.Backup
}

// names lists the site's policies and copy rules.
func names(s site.Site) []string { return append(sortedKeys(s.Policies), sortedKeys(s.Copies)...) }

// decide says what becomes of a due policy: a run, or a record that it was skipped, and why.
func decide(zone *time.Location, spec site.Policy, d records.Due, now time.Time) records.Firing {
	at := d.At
	r := records.Run{ID: runs.NewID(), Kind: run.Backup, Policy: d.Policy, Cause: run.Schedule, State: run.Queued, Due: &at}
	schedule, merged, _ := spec.Due(d.At.Add(-1), now, zone)
	request := Request{When: schedule.When, Capture: schedule.Capture, Disks: schedule.Disks, Missed: now.Sub(d.At) > lateAfter}
	r.Request, _ = json.Marshal(request) // a struct of strings
	r.Note = schedule.Note
	for _, m := range merged {
		if m.Note != "" && r.Note == "" {
			r.Note = m.Note
		}
	}
	switch {
	case d.Paused:
		r.State, r.Error = run.Skipped, "it is paused"+PauseWords(d.Pause, zone)
	case request.Missed && spec.Missed == "skip":
		r.State, r.Error = run.Skipped, fmt.Sprintf("its moment was missed by %s: no service ran; its entry says to skip such", now.Sub(d.At).Round(time.Second))
	}
	return records.Firing{Run: r, Next: spec.Next(now, zone)}
}

// PauseWords is until when and why something is paused, as the end of a sentence.
func PauseWords(p records.Pause, zone *time.Location) string {
	text := ""
	if p.Until != nil {
		text = " until " + p.Until.In(zone).Format("2006-01-02 15:04")
	}
	if p.Why != "" {
		text += ": " + p.Why
	}
	return text
}

// pullForward brings next moments back that lie later than they should.
func (pl *Planning) pullForward(ctx context.Context, why string) error {
	s, err := pl.rec.Site(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	moved, err := pl.rec.PullForward(ctx, func(p site.Policy) time.Time { return p.Next(now, s.Location()) })
	if len(moved) > 0 {
		pl.log.Warn("next moments of policies were brought back", "because", why, "policies", moved)
	}
	return err
}

// Boot starts the policies that are to run at boot, once for each boot of a host.
func (pl *Planning) Boot(ctx context.Context) error {
	id, err := bootID()
	if err != nil {
		return fmt.Errorf("it can't be told whether the host has booted: %w", err)
	}
	first, err := pl.rec.Boot(ctx, id)
	if err != nil || !first {
		return err
	}
	s, err := pl.rec.Site(ctx)
	if err != nil {
		return err
	}
	var started []records.Run
	for _, name := range names(s) {
		spec, err := s.Planned(name)
		if err != nil {
			return err
		}
		for i, parsed := range spec.Parsed(s.Location()) {
			if parsed.AtBoot() {
				started = append(started, startedBy(kindOf(s, name), run.Boot, name, spec.Schedules[i]))
				break
			}
		}
	}
	return pl.startRuns(ctx, started)
}

// startedBy is a run that something else than the clock starts.
func startedBy(kind run.Kind, cause run.Cause, policy string, s site.Schedule) records.Run {
	body, _ := json.Marshal(Request{When: s.When, Capture: s.Capture, Disks: s.Disks}) // a struct of strings
	return records.Run{ID: runs.NewID(), Kind: kind, Policy: policy, Cause: cause, State: run.Queued, Request: body, Note: s.Note}
}

// startRuns queues runs, but for those of paused policies, which are recorded as skipped.
func (pl *Planning) startRuns(ctx context.Context, started []records.Run) error {
	if len(started) == 0 {
		return nil
	}
	started, err := pl.heedPauses(ctx, started)
	if err != nil {
		return err
	}
	return pl.rec.QueueRuns(ctx, started)
}

func (pl *Planning) heedPauses(ctx context.Context, started []records.Run) ([]records.Run, error) {
	s, err := pl.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	pauses, err := pl.Pauses(ctx)
	if err != nil {
		return nil, err
	}
	for i := range started {
		if p := pauses[started[i].Policy]; p.Holds(time.Now()) {
			started[i].State, started[i].Error = run.Skipped, "it is paused"+PauseWords(p, s.Location())
		}
	}
	return started, nil
}

// Followers are the runs that a run's end starts: those of policies that come after its own.
func (pl *Planning) Followers(ctx context.Context, ended records.Run, state run.State) ([]records.Run, error) {
	if state == run.Skipped {
		return nil, nil
	}
	s, err := pl.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	var out []records.Run
	for _, name := range names(s) {
		spec, err := s.Planned(name)
		if err != nil {
			return nil, err
		}
		for _, schedule := range spec.Schedules {
			if !strings.HasPrefix(strings.TrimSpace(schedule.When), "after") {
				continue // of thousands of policies few are in a chain, and parsing is dear
			}
			parsed, err := when.Parse(schedule.When, s.Location())
			if err != nil {
				continue // Check has refused such a site
			}
			after, anyway := parsed.After()
			if after == ended.Policy && (anyway || state == run.Done || state == run.Warned) {
				out = append(out, startedBy(kindOf(s, name), run.Chain, name, schedule))
				break
			}
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return pl.heedPauses(ctx, out)
}

// drainedFor is after how long a run asks again that waits for a store to be moved.
const drainedFor = 2 * time.Second

// WaitForWindow says how long a queued run has to wait for its windows; a run by hand waits for none. A run whose moment was missed
// does not wait: it is skipped.
func (pl *Planning) WaitForWindow(ctx context.Context, r records.Run) (runs.Wait, error) {
	var none runs.Wait
	s, err := pl.rec.Site(ctx)
	if err != nil {
		return none, err
	}
	if by, err := pl.rec.Drained(ctx, s.Copies[r.Policy].From, s.Copies[r.Policy].To, s.Policies[r.Policy].Store); err != nil || by != "" {
		return runs.Wait{Until: time.Now().Add(drainedFor), Why: fmt.Sprintf("its store changes over to another place when it is free (run %s)", by)}, err
	}
	if r.Cause == run.Hand {
		return none, nil
	}
	hosts, err := pl.HostsOf(ctx, s, r.Policy)
	if err != nil {
		return none, err
	}
	hours := s.Hours(r.Policy, hosts...)
	now := time.Now().In(s.Location())
	opens, ok := hours[0].Opens(now, hours[1:]...)
	if ok && !opens.After(now) {
		return none, nil
	}
	request, err := runs.Request[Request](r)
	if err != nil {
		return none, err
	}
	closed := fmt.Sprintf("the windows of %s, its store%s are not open at once now", r.Policy, AndHosts(hosts))
	switch {
	case !ok:
		return runs.Wait{Skip: closed + ", and never will be; change one of them"}, nil
	case request.Missed:
		return runs.Wait{Skip: "its moment was missed, for no service ran, and " + closed}, nil
	}
	return runs.Wait{Until: opens, Why: fmt.Sprintf("the window opens at %s", opens.Format("15:04 on 2006-01-02"))}, nil
}

// HostsOf are the hypervisors of the machines that a policy covers, as far as they have windows.
func (pl *Planning) HostsOf(ctx context.Context, s site.Site, policy string) ([]string, error) {
	limited := map[string]bool{}
	for name, h := range s.Hypervisors {
		if len(h.Windows) > 0 {
			limited[name] = true
		}
	}
	if len(limited) == 0 {
		return nil, nil
	}
	machines, err := pl.rec.Machines(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]bool{}
	for _, m := range machines {
		if limited[m.Hypervisor] && m.Live() && s.Policies[policy].Selects(m.Hypervisor, m.Name, m.Tags) {
			found[m.Hypervisor] = true
		}
	}
	return sortedKeys(found), nil
}

// AndHosts names hypervisors as the end of a list.
func AndHosts(hosts []string) string {
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

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
