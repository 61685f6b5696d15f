package show

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"keenlodge/demo"
	"keenlodge/internal/client"
	"keenlodge/internal/core/event"
	"keenlodge/internal/core/forecast"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	corerun "keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/s3"
	"keenlodge/internal/wire"
)

// runsInDemo is how often nightly-guests runs: once more than its rotation keeps.
const runsInDemo = 4

// Command is "keenlodge demo".
func Command() *ucli.Command {
	return &ucli.Command{
		Name: "demo", Usage: "show the made-up site of Brindle Sound Ferries: real guests, backed up, proven and restored",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "folder", Usage: "where all of it lies; emptied first", Value: "/var/tmp/brindle"},
			&ucli.BoolFlag{Name: "once", Usage: "end when every step is done"},
		},
		Action: func(ctx context.Context, c *ucli.Command) error {
			return run(ctx, c.Root().Writer, c.String("folder"), c.Bool("once"))
		},
	}
}

// show is a demonstration under way.
type show struct {
	w     io.Writer
	p     *demo.Place
	c     *client.Client
	begun time.Time
	last  time.Time
	rows  []string
	// disk gets gate-07's disk, server what is shown of it.
	disk   chan made
	server chan server
	// tried gets how the trial of a group went.
	tried chan tried
}

// done notes a step that held.
func (s *show) done(step, format string, args ...any) {
	s.doneIn(time.Since(s.last), step, format, args...)
	s.last = time.Now()
}

// doneIn notes a step that took so long, beside others.
func (s *show) doneIn(took time.Duration, step, format string, args ...any) {
	took = took.Round(100 * time.Millisecond)
	row := fmt.Sprintf("✓ %-10s %7s  %s", step, took, fmt.Sprintf(format, args...))
	s.rows = append(s.rows, row)
	fmt.Fprintln(s.w, row)
}

func run(ctx context.Context, w io.Writer, folder string, once bool) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	folder, err = filepath.Abs(folder)
	if err != nil {
		return err
	}
	p, err := demo.Open(folder, program)
	if err != nil {
		return err
	}
	defer p.Close()
	if l, err := net.Listen("tcp", wire.DefaultAddress); err == nil {
		l.Close()
		p.Listen = wire.DefaultAddress // a client finds it there with no word said
	}
	s := &show{w: w, p: p, begun: time.Now(), last: time.Now(), tried: make(chan tried, 1)}
	s.prepare(ctx)
	for _, step := range []func(context.Context) error{s.ground, s.guests, s.lodge, s.enroll, s.pierGuests, s.boot, s.backups, s.sweep, s.sealed, s.chain, s.guard, s.proofs, s.restore, s.rehearse, s.hooks, s.pier, s.move, s.copies, s.islet, s.snapshot, s.account, s.appliance, s.trials, s.door, s.gate, s.promises, s.forecast} {
		if err := step(ctx); err != nil {
			return fmt.Errorf("the demonstration stopped: %w; logs are in %s", err, folder)
		}
	}
	s.summary(w)
	if once {
		return nil
	}
	fmt.Fprintln(w, "\nIt stays up until Ctrl-C.")
	<-ctx.Done()
	fmt.Fprintln(w, "stopping …")
	return nil
}

// ground starts what a lodge stands on.
func (s *show) ground(ctx context.Context) error {
	if err := s.p.StartDatabase(ctx); err != nil {
		return err
	}
	s.done("database", "PostgreSQL on loopback, in a folder of its own")
	if err := s.p.Quay.Start(ctx); err != nil {
		return err
	}
	how := "software emulation (no guest runs with KVM here)"
	if s.p.Quay.KVM() {
		how = "KVM"
	}
	s.done("hypervisor", "quay-1: a private libvirt with QEMU, %s", how)
	return nil
}

func (s *show) guests(ctx context.Context) error {
	for _, g := range s.p.Quay.Guests {
		if err := s.p.Quay.MakeGuest(ctx, g); err != nil {
			return err
		}
	}
	s.done("guests", "made %d; they boot from their own disks", len(s.p.Quay.Guests))
	return nil
}

func (s *show) boot(ctx context.Context) error {
	var running []string
	for _, g := range s.p.Quay.Guests {
		if !g.Off {
			running = append(running, g.Name)
		}
	}
	for _, name := range running {
		if err := s.p.Quay.AwaitGuest(ctx, name); err != nil {
			return err
		}
	}
	s.done("boot", "%s answer through their agents; berth-sim is off", strings.Join(running, " and "))
	return nil
}

func (s *show) lodge(ctx context.Context) error {
	if _, err := s.p.StartService(ctx); err != nil {
		return err
	}
	var err error
	if s.c, err = s.p.Client(); err != nil {
		return err
	}
	_, site, err := s.p.Site()
	if err != nil {
		return err
	}
	applied, err := s.c.ApplySite(ctx, site, false)
	if err != nil {
		return err
	}
	machines, _, err := s.c.Machines(ctx, wire.MachineFilter{})
	if err != nil {
		return err
	}
	s.done("site", "applied: %d changes, %d machines found", len(applied.Changes), len(machines))
	return nil
}

// await waits for a run's end; anything but done stops the show.
func (s *show) await(ctx context.Context, r wire.Run, err error) (wire.Run, error) {
	if err != nil {
		return r, err
	}
	r, err = s.c.Watch(ctx, r.ID, func(wire.Run) {})
	if err == nil && r.State != corerun.Done {
		err = fmt.Errorf("run %s (%s) ended as %s: %s", r.ID, r.Kind, r.State, r.Error)
		for _, t := range r.Tasks {
			err = errors.Join(err, fmt.Errorf("%s: %s %s", t.Machine, t.Error, strings.Join(t.Warnings, "; ")))
		}
	}
	return r, err
}

func (s *show) backups(ctx context.Context) error {
	made := 0
	for n := 0; n < runsInDemo; {
		r, err := s.c.RunPolicy(ctx, "nightly-guests", "")
		r, err = s.await(ctx, r, err)
		made++
		if r.State == corerun.Warned && made < 2*runsInDemo {
			// A host that has no time for its guests lets a freeze run into its limit: said, and done again.
			fmt.Fprintf(s.w, "! backup             again, for it was done with warnings: %v\n", err)
			continue
		}
		if err != nil {
			return err
		}
		n++
		var read, stored, frozen int64
		for _, t := range r.Tasks {
			read, stored, frozen = read+t.Done, stored+t.Stored, max(frozen, t.Frozen)
		}
		s.done("backup", "run %d of nightly-guests (%s): %d machines, read %.1f MiB, stored %.1f MiB, frozen at most %s", n, map[bool]string{true: "full", false: "changes only"}[n == 1], len(r.Tasks),
			float64(read)/(1<<20), float64(stored)/(1<<20), time.Duration(frozen).Round(time.Millisecond))
	}
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Gone: true})
	if err != nil {
		return err
	}
	gone := slices.DeleteFunc(slices.Clone(images), func(m wire.Image) bool { return m.Gone == nil })
	if len(images) != made*len(s.p.Quay.Guests) || len(images)-len(gone) != 3*len(s.p.Quay.Guests) {
		return fmt.Errorf("rotation newest 3 should have left 3 images a machine of %d, but %d of %d are gone", made, len(gone), len(images))
	}
	s.done("rotation", "newest 3: %d images made, the %d oldest dropped, %d stay", len(images), len(gone), len(images)-len(gone))
	return nil
}

// sweep gives back what the dropped images alone needed, and reads every byte of the rest.
func (s *show) sweep(ctx context.Context) error {
	plan, err := s.c.PlanSweep(ctx, "quay-shelf")
	if err != nil {
		return err
	}
	r, err := s.c.SweepStore(ctx, "quay-shelf")
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	s.done("sweep", "quay-shelf: %d images need %d pieces; %.1f MiB were of no image, %.1f MiB given back", plan.Images, plan.Blocks, float64(plan.Dead)/(1<<20), float64(plan.Gives)/(1<<20))
	r, err = s.c.CheckStore(ctx, "quay-shelf", wire.CheckBody{Read: true})
	if r, err = s.await(ctx, r, err); err != nil {
		return err
	}
	var report store.Report
	if err := json.Unmarshal(r.Result, &report); err != nil {
		return err
	}
	s.done("check", "quay-shelf: every byte of %d packs read, nothing is damaged", report.Packs)
	return nil
}

// Passphrase opens the demonstration's sealed store. It is here for all to read: never do so elsewhere.
const Passphrase = "ebb and flow at the pier"

// sealed makes the off-site store in an object service, which nobody can read without a key, and backs a machine up into it.
func (s *show) sealed(ctx context.Context) error {
	address, err := s.p.ServeObjects("north-pier")
	if err != nil {
		return err
	}
	_, err = s.c.AddStore(ctx, "north-pier", wire.StoreAddition{
		Spec:   site.Store{Medium: "s3", Layout: "pooled", Settings: &s3.Settings{Endpoint: address, Bucket: "north-pier", PathStyle: true, Region: "sound"}, Place: "north-pier", Sealed: true, Like: "quay-shelf"},
		Access: wire.Credentials{"access_key": demo.ObjectsKey, "secret_key": demo.ObjectsSecret},
		Keys:   []store.NewKey{{Label: "safe in the harbour office", Passphrase: Passphrase}},
	})
	if err != nil {
		return err
	}
	if _, err := s.setPolicy(ctx, "monthly-berth", site.Policy{Machines: []string{"berth-sim"}, Store: "north-pier", Rotation: "newest 2", Prove: "read"}); err != nil {
		return err
	}
	r, err := s.c.RunPolicy(ctx, "monthly-berth", "")
	if r, err = s.await(ctx, r, err); err != nil {
		return err
	}
	s.done("sealed", "north-pier, an object service: berth-sim stored in %.1f MiB that nobody can read without a key", float64(r.Tasks[0].Stored)/(1<<20))
	return nil
}

// setPolicy adds a policy to the site, or changes it.
func (s *show) setPolicy(ctx context.Context, name string, p site.Policy) (wire.Applied, error) {
	all, err := s.c.Site(ctx)
	if err != nil {
		return wire.Applied{}, err
	}
	all.Policies[name] = p
	return s.c.ApplySite(ctx, all, false)
}

// runOf runs a policy by hand and waits for its end. A run with warnings is no error here.
func (s *show) runOf(ctx context.Context, policy, note string) (wire.Run, error) {
	r, err := s.c.RunPolicy(ctx, policy, note)
	if r, err = s.await(ctx, r, err); err != nil && r.State == corerun.Warned {
		err = nil
	}
	return r, err
}

// chain keeps images that anyone can open: a full one and what changed since, until a whole chain may go.
func (s *show) chain(ctx context.Context) error {
	_, err := s.setPolicy(ctx, "hourly-tickets", site.Policy{Machines: []string{"tickets-db"}, Store: "plain-shelf", Cycle: "full every 3rd", Rotation: "newest 3", Prove: "read", Quiesce: "preferred"})
	if err != nil {
		return err
	}
	for n := range 6 {
		if _, err := s.runOf(ctx, "hourly-tickets", ""); err != nil {
			return err
		}
		if n != 4 {
			continue
		}
		sets, err := s.c.PreviewRotation(ctx, "hourly-tickets", "")
		if err != nil {
			return err
		}
		if n := len(sets[0].Images); n != 5 || sets[0].Images[0].Verdict != rotation.Held {
			return fmt.Errorf("the first chain on plain-shelf should be held after five runs, but there are %d images, and the oldest is %q", n, sets[0].Images[0].Verdict)
		}
		s.done("open", "plain-shelf: full, two increments, full, increment as qcow2 files; newest 3 holds the first chain: %s", sets[0].Images[0].Why)
	}
	all, _, err := s.c.Images(ctx, wire.ImageFilter{Policy: "hourly-tickets", Gone: true})
	if err != nil {
		return err
	}
	gone := slices.DeleteFunc(slices.Clone(all), func(m wire.Image) bool { return m.Gone == nil })
	if len(all) != 6 || len(gone) != 3 {
		return fmt.Errorf("of six images on plain-shelf the first chain, three, should be gone; %d of %d are", len(gone), len(all))
	}
	s.done("chain", "plain-shelf: the sixth image lets the first chain go as a whole, %d images; for 24 hours it can be brought back", len(gone))
	return nil
}

// guard shows a rule typed wrong: it deletes nothing.
func (s *show) guard(ctx context.Context) error {
	p := site.Policy{Machines: []string{"timetable"}, Store: "plain-shelf", Rotation: "newest 9", Quiesce: "off"}
	if _, err := s.setPolicy(ctx, "weekly-timetable", p); err != nil {
		return err
	}
	for n := range 4 {
		note := ""
		if n == 1 {
			note = "before the harbour upgrade"
		}
		if _, err := s.runOf(ctx, "weekly-timetable", note); err != nil {
			return err
		}
	}
	p.Rotation = "newest 1"
	told, err := s.setPolicy(ctx, "weekly-timetable", p)
	if err != nil {
		return err
	}
	r, err := s.runOf(ctx, "weekly-timetable", "")
	if err != nil {
		return err
	}
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Policy: "weekly-timetable"})
	if err != nil {
		return err
	}
	if r.State != corerun.Warned || len(images) != 5 || len(told.Rotation) != 1 {
		return fmt.Errorf("the guard should have held the rotation of weekly-timetable back, but its run is %s and %d images are left", r.State, len(images))
	}
	s.done("guard", "weekly-timetable: \"newest 1\" would drop 4 of 5 images, so nothing went; it waits for: keenlodge rotation confirm weekly-timetable")
	return nil
}

// newest is a machine's newest image.
func (s *show) newest(ctx context.Context, machine string) (string, error) {
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Machine: machine, Policy: "nightly-guests"})
	if err == nil && len(images) == 0 {
		err = fmt.Errorf("there is no image of %s", machine)
	}
	if err != nil {
		return "", err
	}
	return images[0].ID, nil
}

func (s *show) proofs(ctx context.Context) error {
	id, err := s.newest(ctx, "tickets-db")
	if err != nil {
		return err
	}
	s.beginTrials(ctx)
	for _, level := range []image.Level{image.ByRead, image.ByMount, image.ByRestore} {
		r, err := s.c.Prove(ctx, id, level)
		if _, err = s.await(ctx, r, err); err != nil {
			return err
		}
		m, err := s.c.Image(ctx, id)
		if err != nil {
			return err
		}
		s.done("proof", "%s of tickets-db by %s: %s", id, level, m.Proofs[0].Evidence[len(m.Proofs[0].Evidence)-1])
	}
	return nil
}

func (s *show) restore(ctx context.Context) error {
	id, err := s.newest(ctx, "tickets-db")
	if err != nil {
		return err
	}
	r, err := s.c.Restore(ctx, id, wire.RestoreBody{As: "tickets-db-again", Start: true})
	if r, err = s.await(ctx, r, err); err != nil {
		return err
	}
	log, err := s.c.RunLog(ctx, r.ID)
	if err != nil {
		return err
	}
	var evidence []string
	for _, l := range log {
		if l.Kind == corerun.Evidence {
			evidence = append(evidence, l.Text)
		}
	}
	if len(evidence) < 2 {
		return errors.New("the restored guest's ledger was not found")
	}
	s.done("restore", "tickets-db-again started; %s", evidence[len(evidence)-1])
	return nil
}

// rehearse shows a run that would not go well, before it does not.
func (s *show) rehearse(ctx context.Context) error {
	rehearsed := func(policy string) (failed []wire.RehearsalCheck, all int, err error) {
		r, err := s.c.RehearsePolicy(ctx, policy, wire.RehearseRequest{Freeze: true})
		if err == nil {
			r, err = s.c.Watch(ctx, r.ID, func(wire.Run) {})
		}
		if err != nil {
			return nil, 0, err
		}
		var found wire.Rehearsal
		if err := json.Unmarshal(r.Result, &found); err != nil {
			return nil, 0, fmt.Errorf("rehearsal %s of %s: %s: %w", r.ID, policy, r.Error, err)
		}
		for _, c := range found.Checks {
			if c.State == wire.Failed {
				failed = append(failed, c)
			}
		}
		return failed, len(found.Checks), nil
	}
	failed, n, err := rehearsed("nightly-guests")
	if err != nil || len(failed) > 0 {
		return fmt.Errorf("nightly-guests should rehearse well: %v, %w", failed, err)
	}
	s.done("rehearsal", "nightly-guests: all but the writing, %d checks, none failed", n)
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	p := all.Policies["weekly-timetable"]
	p.Checks = []site.Health{{Mounted: "/srv/timetable"}}
	if _, err := s.setPolicy(ctx, "weekly-timetable", p); err != nil {
		return err
	}
	failed, _, err = rehearsed("weekly-timetable")
	if err != nil || len(failed) != 1 {
		return fmt.Errorf("one check of weekly-timetable's rehearsal should fail: %v, %w", failed, err)
	}
	s.done("rehearsal", "weekly-timetable would fail: %s", failed[0].Text)
	return nil
}

// hooks has a script and a webhook told of a run, and runs the one policy after the other.
func (s *show) hooks(ctx context.Context) error {
	script := s.p.Path("tell-the-bridge")
	text := "#!/bin/sh\necho \"$KEENLODGE_MOMENT $KEENLODGE_MACHINE $KEENLODGE_STATE\" >> " + s.p.Path("bridge") + "\n"
	if err := os.WriteFile(script, []byte(text), 0o755); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	events := make(chan string, 10)
	desk := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var e struct {
			Type string `json:"type"`
		}
		if json.NewDecoder(r.Body).Decode(&e) == nil && r.Header.Get("Signature") != "" {
			events <- e.Type
		}
	})}
	go desk.Serve(listener)
	defer desk.Close()
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	all.Webhooks = map[string]site.Webhook{"harbour-desk": {URL: "http://" + listener.Addr().String() + "/runs", Events: []event.Name{event.RunWarned}}}
	p := all.Policies["monthly-berth"]
	p.Hooks = []site.Hook{{At: []site.Moment{site.Begun, site.MachineDone, site.Done}, Script: script}, {At: []site.Moment{site.Done}, Webhook: "harbour-desk"}}
	all.Policies["monthly-berth"] = p
	q := all.Policies["weekly-timetable"]
	q.Checks = nil
	q.Schedules = []site.Schedule{{When: "after monthly-berth", Note: "after the month's own"}}
	all.Policies["weekly-timetable"] = q
	if _, err := s.c.ApplySite(ctx, all, false); err != nil {
		return err
	}
	if _, err := s.runOf(ctx, "monthly-berth", ""); err != nil {
		return err
	}
	told, err := os.ReadFile(s.p.Path("bridge"))
	if err != nil {
		return err
	}
	select {
	case e := <-events:
		s.done("hooks", "a script was told %q, the harbour desk's webhook %s, signed", strings.Join(strings.Fields(string(told)), " "), e)
	case <-time.After(20 * time.Second):
		return errors.New("the harbour desk's webhook was not told within 20 s")
	}
	for end := time.Now().Add(30 * time.Second); ; {
		runs, _, err := s.c.Runs(ctx, wire.RunFilter{Page: wire.Page{Limit: 10}})
		if err != nil {
			return err
		}
		i := slices.IndexFunc(runs, func(r wire.Run) bool { return r.Policy == "weekly-timetable" && r.Cause == "chain" && r.Over() })
		if i >= 0 {
			s.done("chain", "weekly-timetable ran after monthly-berth by itself: run %s is %s", runs[i].ID, runs[i].State)
			break
		}
		if time.Now().After(end) {
			return errors.New("weekly-timetable did not run after monthly-berth within 30 s")
		}
		time.Sleep(100 * time.Millisecond)
	}
	select {
	case e := <-events:
		s.done("event", "the harbour desk asked for the event run-warned, and was told %s", e)
		return nil
	case <-time.After(20 * time.Second):
		return errors.New("the harbour desk was not told of the run that warned within 20 s")
	}
}

// forecast schedules the rest of the site and looks ahead.
func (s *show) forecast(ctx context.Context) error {
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	for name, when := range map[string]string{"hourly-tickets": "every 4 hours from 00:20", "monthly-berth": "monthly on the last sun at 01:00"} {
		p := all.Policies[name]
		p.Schedules = []site.Schedule{{When: when}}
		all.Policies[name] = p
	}
	if _, err := s.c.ApplySite(ctx, all, false); err != nil {
		return err
	}
	f, err := s.c.Forecast(ctx, nil, 30)
	if err != nil {
		return err
	}
	runs := 0
	for _, p := range f.Policies {
		for _, d := range p.Days {
			runs += len(d.Runs)
		}
	}
	floors := "no floor is hit"
	if slices.ContainsFunc(f.Stores, func(d forecast.StoreDays) bool { return d.Hit != "" }) {
		floors = "a floor is hit"
	}
	s.done("forecast", "30 days of %d policies: %d runs, %d times at which policies meet; %s", len(f.Policies), runs, len(f.Crowds), floors)
	return nil
}

// summary prints what was done, and what to try.
func (s *show) summary(w io.Writer) {
	k := s.p.Program
	if rel, err := filepath.Rel(mustGetwd(), k); err == nil && !strings.HasPrefix(rel, "..") {
		k = "./" + rel
	}
	fmt.Fprintf(w, `
Brindle Sound Ferries is up after %s. All %d steps held.

  console   %s
  sign in   with the token in %s

Twelve commands to try, after
  export KEENLODGE_URL=%[3]s KEENLODGE_TOKEN_FILE=%[4]s

  %[6]s image list                          which images exist, and what is proven
  %[6]s policy run nightly --wait           a backup with live progress
  %[6]s promise list                        what is owed to each machine, and what of it is kept
  %[6]s rotation preview hourly             what the next rotation would drop, and why
  %[6]s rotation confirm weekly-timetable   what the guard holds back, to let it happen
  %[6]s image history                       what is gone, why, and until when it comes back
  %[6]s policy rehearse nightly             what a run would do, and whether it would go well
  %[6]s policy forecast --days 14           what will come of it
  %[6]s machine parts gate-07               what a server's system state is, and how large
  %[6]s run log                             what the newest run did, step by step
  %[6]s store show quay-shelf               what the store holds, and what it saved
  %[6]s audit list                          who did what, and what was refused
`, time.Since(s.begun).Round(time.Second), len(s.rows), s.p.URL(), s.p.TokenFile(), s.p.TokenFile(), k)
}

func mustGetwd() string {
	folder, err := os.Getwd()
	if err != nil {
		return "/"
	}
	return folder
}
