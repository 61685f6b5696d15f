package lodge_test

import (
	"errors"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/trials"
)

// trialBench is a lodge whose hypervisor may hold trials, with an image of each guest. expected is what is expected of what is tried.
func trialBench(t *testing.T, expected ...expect.Trial) *bench {
	t.Helper()
	policy := everything("newest 3")
	policy.Trials = expected
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": policy}, func(s *site.Site) {
		h := s.Hypervisors["quay-1"]
		h.Trials = &expect.Trials{AtOnce: 2}
		s.Hypervisors["quay-1"] = h
		s.Groups = map[string]site.Group{"ticketing": {Machines: []string{"tickets-db", "timetable"}}}
	})
	t.Cleanup(func() { os.RemoveAll(b.host.Folder()) })
	b.run("nightly-guests")
	return b
}

// try tries an image of a machine and waits for its end.
func (b *bench) try(machine string) (records.Run, *records.Proof) {
	b.t.Helper()
	m := b.images(machine)[0]
	r, err := b.l.Proofs.Start(b.t.Context(), "operator", proof.Request{Image: m.ID, Level: image.ByBoot})
	require.NoError(b.t, err)
	r = b.await(r.ID)
	_, proofs, err := b.l.Proofs.Of(b.t.Context(), m.ID)
	require.NoError(b.t, err)
	b.noTrial()
	if len(proofs) == 0 {
		return r, nil
	}
	return r, &proofs[0]
}

// noTrial makes sure that nothing of a trial is left.
func (b *bench) noTrial() {
	b.t.Helper()
	require.Empty(b.t, b.host.Trials())
	require.Empty(b.t, b.host.Unused())
	left, err := os.ReadDir(b.host.Folder())
	require.NoError(b.t, err)
	require.Empty(b.t, left)
}

// comesUp has an agent answer in what is tried, at the second look.
func comesUp(t *sourcetest.Trial) {
	t.Serial = "Linux version 6.1.0\ntickets-db login: "
	t.Agent = t.Looks > 1
}

// What passes is a proof with its report and its exhibits; what is expected and does not hold fails it, and is told.
func TestTrials(t *testing.T) {
	t.Parallel()
	b := trialBench(t, expect.Trial{Machines: []string{"tickets-db"}, Commands: []expect.TrialCommand{{Command: []string{"pg_isready"}, Expect: "told", Within: "2 seconds"}}})
	b.host.OnTrial = func(t *sourcetest.Trial) { comesUp(t); t.Commands["pg_isready"] = 0 }
	r, p := b.try("u-tickets")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.True(t, p.Passed)
	require.Equal(t, "quay-1", p.Report.Host)
	require.Equal(t, []string{"its processor is made up"}, p.Report.Adapted)
	var names []string
	for _, f := range p.Report.Steps {
		names = append(names, f.Name)
	}
	require.Equal(t, []string{"kernel", "login", "agent", "pg_isready"}, names)
	require.NotEmpty(t, p.Report.Exhibits)
	for _, e := range p.Report.Exhibits {
		body, kind, err := b.l.Proofs.Exhibit(t.Context(), p.Image, e.Name)
		require.NoError(t, err)
		require.Equal(t, e.Kind, kind)
		if kind != "image/png" {
			require.Contains(t, string(body), "tickets-db login:")
		}
	}
	_, _, err := b.l.Proofs.Exhibit(t.Context(), p.Image, "../../etc/passwd")
	require.ErrorIs(t, err, fault.ErrNotFound)
	m := b.images("u-tickets")[0]
	require.Equal(t, image.ByBoot, m.Proven)

	b.host.OnTrial = func(t *sourcetest.Trial) { comesUp(t); t.Commands["pg_isready"] = 2 }
	r, p = b.try("u-tickets")
	require.Equal(t, run.Failed, r.State)
	require.Equal(t, trial.Unexpected, p.Report.Cause)
	require.Equal(t, "pg_isready: it ended with 2: as it was told", p.Error)
	require.True(t, b.images("u-tickets")[0].Failed, "a failed proof outranks all")

	// What ends, or loses its store, while it is asked is no verdict: what it does not answer says nothing of its image.
	for _, standing := range []source.Standing{source.Gone, source.Starved} {
		b.host.OnTrial = func(t *sourcetest.Trial) {
			comesUp(t)
			if t.Commands["pg_isready"] = 2; t.Looks > 4 {
				t.Standing = standing
			}
		}
		r, p = b.try("u-tickets")
		require.Equal(t, run.Failed, r.State)
		require.NotEqual(t, r.ID, p.Run, "%s: %s", standing, b.lines(r.ID))
	}

	// In the store it is told, too: whoever adopts it knows.
	_, st, err := b.l.Stores.OfImage(t.Context(), m.ID)
	require.NoError(t, err)
	notes, err := st.AllNotes(t.Context())
	require.NoError(t, err)
	require.Len(t, notes[m.ID].Proofs, 2)
	require.Equal(t, trial.Unexpected, notes[m.ID].Proofs[1].Report.Cause)
}

// What becomes of a guest is a verdict on its image where that is to blame, with the cause, and trouble otherwise, which says nothing of it.
func TestWhatBecomesOfATrial(t *testing.T) {
	t.Parallel()
	b := trialBench(t, expect.Trial{Within: "4 seconds"})
	for _, c := range []struct {
		name string
		seen func(*sourcetest.Trial)
		// cause is "" for trouble.
		cause trial.Cause
		says  string
	}{
		{"crash", func(t *sourcetest.Trial) { t.Standing = source.Crashed }, trial.Panic, "its system told its host that it crashed"},
		{"off", func(t *sourcetest.Trial) { t.Standing = source.PoweredOff }, trial.PoweredOff, "powered off by its own system"},
		{"gone", func(t *sourcetest.Trial) { t.Standing = source.Gone }, "", "its hypervisor, or somebody there, has ended it"},
		{"again and again", func(t *sourcetest.Trial) { t.Serial = strings.Repeat("Linux version 6.1.0\n", t.Looks) }, trial.Restarting, "it starts again and again"},
		{"late", func(t *sourcetest.Trial) { t.Serial = "Starting PostgreSQL\n" }, trial.Late, "its agent did not answer within 4s; it said last: Starting PostgreSQL"},
		{"full", func(t *sourcetest.Trial) { t.Written = 5 << 30 }, "", "it has written 5.0 GiB, and may write 4.0 GiB"},
	} {
		b.host.OnTrial = c.seen
		r, p := b.try("u-tickets")
		require.Equal(t, run.Failed, r.State, c.name)
		require.Contains(t, b.lines(r.ID), c.says, c.name)
		if c.cause == "" {
			require.True(t, p == nil || p.Run != r.ID, "%s: %+v", c.name, p)
			continue
		}
		require.Equal(t, r.ID, p.Run, c.name)
		require.Equal(t, c.cause, p.Report.Cause, c.name)
	}

	// A guest without an agent, of which nothing is expected: what can't be told is no verdict.
	b.host.OnTrial = nil
	r, p := b.try("u-timetable")
	require.Nil(t, p)
	require.Contains(t, b.lines(r.ID), "say in the policy's trials what text it shows, or which ports it opens")
}

// A guest whose store goes away for a while is stopped by its host, and goes on; where it stays away that is trouble.
func TestATrialWhoseStoreGoes(t *testing.T) {
	t.Parallel()
	b := trialBench(t)
	var went atomic.Int32
	b.host.OnTrial = func(t *sourcetest.Trial) {
		if went.Store(int32(t.WentOn)); t.WentOn < 3 {
			t.Standing = source.Starved
			return
		}
		t.Standing = source.Up
		comesUp(t)
	}
	r, p := b.try("u-tickets")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.True(t, p.Passed)
	require.EqualValues(t, 3, went.Load())
}

// What would make a trial fail is told at once where it shows; a host that has no place now is waited for, and two trials of one image are two.
func TestWhereTrialsTakePlace(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := trialBench(t)
	b.host.OnTrial = comesUp
	m := b.images("u-tickets")[0]
	start := func() (records.Run, error) {
		return b.l.Proofs.Start(ctx, "operator", proof.Request{Image: m.ID, Level: image.ByBoot})
	}
	var going []string
	hold := make(chan struct{})
	b.host.OnTrial = func(t *sourcetest.Trial) {
		select {
		case <-hold:
			comesUp(t)
		default:
		}
	}
	for range 3 {
		r, err := start()
		require.NoError(t, err)
		going = append(going, r.ID)
	}
	b.until(func() bool {
		return strings.Contains(b.lines(going[2]), "guests are tried there already: 2") || strings.Contains(b.lines(going[1]), "already: 2") || strings.Contains(b.lines(going[0]), "already: 2")
	},
		"the third one waits")
	b.until(func() bool { return len(b.host.Trials()) == 2 }, "two guests") // which take their places first
	close(hold)
	for _, id := range going {
		require.Equal(t, run.Done, b.await(id).State)
	}
	b.noTrial()

	b.host.Spare = &source.Spare{Memory: 8 << 30, Room: 1 << 20, Idle: 1}
	r, _ := b.try("u-tickets")
	require.Contains(t, b.lines(r.ID), "pool of restored disks has 1.0 MiB left")
	b.host.Spare = nil
	b.host.Fault = func(call, _ string) error {
		if call == "can try" {
			return errors.New("it is started by UEFI, and the host has no firmware of that kind; install ovmf there")
		}
		return nil
	}
	r, _ = b.try("u-tickets")
	require.Contains(t, b.lines(r.ID), "tickets-db can't be tried there: it is started by UEFI")
	b.host.Fault = nil

	h := b.site.Hypervisors["quay-1"]
	h.Trials = nil
	b.site.Hypervisors["quay-1"] = h
	b.apply()
	_, err := start()
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, `no hypervisor of the site may hold trials; write for example "trials: 2"`)
}

// A group starts in its order and is asked as a whole; where one does not come up, nothing is said of those that wait for it.
func TestAGroup(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := trialBench(t, expect.Trial{Machines: []string{"timetable"}, Text: "the timetable is served"})
	var order atomic.Value
	order.Store("")
	b.host.OnTrial = func(t *sourcetest.Trial) {
		if t.Looks == 1 {
			order.Store(order.Load().(string) + " " + t.Definition)
		}
		t.Agent = t.Looks > 2
		t.Serial = "the timetable is served\n"
	}
	r, err := b.l.Trials.StartGroup(ctx, run.Hand, "operator", "ticketing")
	require.NoError(t, err)
	r = b.await(r.ID)
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, " fake guest tickets-db fake guest timetable", order.Load())
	groups, err := b.l.Trials.Groups(ctx)
	require.NoError(t, err)
	require.Equal(t, image.ByBoot, groups[0].Members[1].Image.Proven)
	b.noTrial()

	b.host.OnTrial = func(t *sourcetest.Trial) {
		if t.Standing = source.Up; strings.Contains(t.Definition, "tickets-db") {
			t.Standing = source.Crashed
		}
	}
	r, err = b.l.Trials.StartGroup(ctx, run.Hand, "operator", "ticketing")
	require.NoError(t, err)
	r = b.await(r.ID)
	require.Contains(t, b.lines(r.ID), "it starts after another: tickets-db did not come up")
	groups, err = b.l.Trials.Groups(ctx)
	require.NoError(t, err)
	require.True(t, groups[0].Members[0].Image.Failed)
	require.False(t, groups[0].Members[1].Image.Failed)
	_, err = b.l.Trials.StartGroup(ctx, run.Hand, "operator", "tickets")
	require.ErrorContains(t, err, `no group is called "tickets"`)
	b.site.Groups["pier"] = site.Group{Machines: []string{"crew-rota"}}
	b.apply()
	_, err = b.l.Trials.StartGroup(ctx, run.Hand, "operator", "pier")
	require.ErrorContains(t, err, "group pier can't be tried without crew-rota")
}

// A policy that has each new image tried rotates its set once that has passed, and not before.
func TestRotationWaitsForTheTrial(t *testing.T) {
	t.Parallel()
	policy := growing("tickets-db", "newest 1")
	policy.Prove = image.ByBoot
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": policy}, func(s *site.Site) {
		h := s.Hypervisors["quay-1"]
		h.Trials = &expect.Trials{AtOnce: 1}
		s.Hypervisors["quay-1"] = h
	})
	t.Cleanup(func() { os.RemoveAll(b.host.Folder()) })
	b.host.OnTrial = comesUp
	b.run("nightly-guests")
	trialOver := func(n int) {
		b.until(func() bool {
			runs, err := b.rec.Runs(t.Context(), records.RunFilter{Policy: "nightly-guests"})
			require.NoError(t, err)
			over := 0
			for _, r := range runs {
				if r.Kind == run.Trial && r.Over() {
					over++
				}
			}
			return over == n
		}, "the end of the trial")
	}
	trialOver(1)
	b.host.OnTrial = func(t *sourcetest.Trial) { t.Standing = source.Crashed }
	b.run("nightly-guests")
	trialOver(2)
	require.Len(t, b.images("u-tickets"), 2, "the newer one did not come up, so the older one stays")
	b.host.OnTrial = comesUp
	b.run("nightly-guests")
	trialOver(3)
	b.until(func() bool { return len(b.images("u-tickets")) == 1 }, "the rotation")
}

// The service dies in the middle of a trial: the next one ends the guest and takes its files.
func TestATrialWhoseServiceDies(t *testing.T) {
	t.Parallel()
	b := trialBench(t)
	m := b.images("u-tickets")[0]
	r, err := b.l.Trials.Start(t.Context(), run.Hand, "operator", trials.Request{Images: []string{m.ID}})
	require.NoError(t, err)
	b.until(func() bool { return len(b.host.Trials()) == 1 }, "the trial")
	b.host.SetFault(func(call, _ string) error { // as a process that died does nothing more
		if call == "clear trial" {
			return errors.New("killed")
		}
		return nil
	})
	b.stop()
	require.NotEmpty(t, b.host.Unused())
	b.host.SetFault(nil)
	b.start()
	b.until(func() bool { return len(b.host.Unused()) == 0 && len(b.host.Trials()) == 0 }, "the clearing")
	b.await(r.ID)
	b.host.OnTrial = comesUp
	again, p := b.try("u-tickets")
	require.Equal(t, run.Done, again.State)
	require.True(t, p.Passed)
}
