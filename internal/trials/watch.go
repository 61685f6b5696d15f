package trials

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
)

const (
	// glance is how often a guest is looked at.
	glance = time.Second / 2
	// settle is for how long a guest must be seen in a state that it does not get out of: some of these pass.
	settle = 5 * time.Second
	// starveTime is how long the store may not be readable before a trial ends.
	starveTime = time.Minute
	// hostTime is how long the host may not answer before a trial ends.
	hostTime = 2 * time.Minute
	// mostStarts is how often a guest may start again by itself: some do once, after an update.
	mostStarts = 4
	// mostPictures bounds how many pictures are kept of a trial.
	mostPictures = 6
	// messagesTime is how long the guest's log may take to be read.
	messagesTime = time.Minute
)

// failure is a verdict on the image, as opposed to trouble on the way.
type failure struct {
	cause trial.Cause
	error
}

// watch follows one guest.
type watch struct {
	*member
	h     source.Source
	r     *runs.Run
	t     *runs.Task
	guest source.Trying
	begun time.Time // its power-on

	stopServing func()
	listeners   []interface{ Close() error }
	opened      []store.OpenedDisk
	serving     sync.WaitGroup

	report   trial.Report
	sight    source.Sight
	starved  time.Time // since when it is stopped for want of a disk, the zero time where it is not
	pictures [][]byte
}

func failedBy(c trial.Cause, format string, args ...any) error {
	return failure{c, fmt.Errorf(format, args...)}
}

// carryOut starts the guest, watches it come up, and asks what is expected of it. Its error is a [failure] where it is a verdict.
func (w *watch) carryOut(ctx context.Context) error {
	trier, err := source.As[source.Trier](w.h, "try images")
	if err != nil {
		return err
	}
	w.report.Host = w.p.host
	for _, d := range w.m.Disks {
		w.report.Disks += d.Size
	}
	if about, err := source.As[source.Describer](w.h, "describe itself"); err == nil {
		if facts, err := about.Describe(ctx); err == nil {
			w.report.Version = facts.Version
		}
	}
	if err := w.t.Begin(ctx, "starting it on "+w.p.host+" as a throwaway guest"); err != nil {
		return err
	}
	wanted, err := w.place(ctx, w)
	if err != nil {
		return err
	}
	if w.expect.Clock == expect.ClockImage {
		wanted.Clock = w.m.Taken
	}
	if w.p.net != nil {
		wanted.Plug = func() (here, there int, err error) {
			plug, err := w.p.net.Plug(w.m.Machine)
			if err != nil {
				return 0, 0, err
			}
			return plug.Here, plug.There, nil
		}
	}
	w.begun = time.Now()
	w.report.Begun, w.report.WrittenOut = w.begun, w.took
	if w.guest, err = trier.Try(ctx, wanted); err != nil {
		return err
	}
	w.report.Adapted = w.guest.Adapted()
	for _, what := range w.report.Adapted {
		w.t.Log(ctx, "%s", what)
	}
	limit, end := context.WithTimeout(ctx, w.expect.Limit())
	defer end()
	verdict := w.comeUp(limit)
	if verdict == nil {
		close(w.up)
		verdict = w.others(ctx)
	}
	if verdict == nil {
		verdict = w.ask(limit)
		if verdict != nil { // one that is gone, or stopped for want of a disk, answers nothing, which says nothing of its image
			if limit.Err() != nil && !errors.As(verdict, new(failure)) {
				verdict = failedBy(trial.Late, "not all of it held within %s: %w", w.expect.Limit(), verdict)
			}
			if gone := w.there(ctx); gone != nil {
				verdict = gone
			}
		}
		close(w.asked)
		w.stay(ctx)
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	w.picture(ctx, "at the end")
	if seen, err := w.guest.Look(ctx); err == nil && seen.Standing != source.Gone {
		w.sight = seen
	}
	w.report.Read, w.report.Written = w.read.Load(), w.sight.Written
	if w.p.net != nil {
		w.report.Tried = w.p.net.Tried(w.m.Machine)
	}
	return verdict
}

// step notes something that held.
func (w *watch) step(ctx context.Context, k trial.Kind, name, format string, args ...any) {
	s := trial.Finding{Kind: k, Name: name, Passed: true, After: time.Since(w.begun), Text: plain.Text(fmt.Sprintf(format, args...), 400)}
	w.report.Steps = append(w.report.Steps, s)
	w.t.Log(ctx, "%s", told(s))
}

// lacks notes something that did not hold, and is the verdict for that.
func (w *watch) lacks(ctx context.Context, k trial.Kind, name, format string, args ...any) error {
	s := trial.Finding{Kind: k, Name: name, After: time.Since(w.begun), Text: plain.Text(fmt.Sprintf(format, args...), 400)}
	w.report.Steps = append(w.report.Steps, s)
	return failedBy(trial.Unexpected, "%s: %s", s.Name, s.Text)
}

// told is a step as evidence.
func told(s trial.Finding) string {
	text := fmt.Sprintf("%s after %s", s.Name, s.After.Round(100*time.Millisecond))
	if s.Text != "" {
		text += ": " + s.Text
	}
	return text
}

// has reports whether a step was noted.
func (w *watch) has(name string) bool {
	return slices.ContainsFunc(w.report.Steps, func(s trial.Finding) bool { return s.Name == name })
}

// agentExpected reports whether QEMU's guest agent has to answer; possible whether it may.
func (w *watch) agentExpected() (expected, possible bool) {
	if w.expect.Agent != nil {
		return *w.expect.Agent, *w.expect.Agent
	}
	if len(w.expect.Commands) > 0 || len(w.expect.System) > 0 || w.expect.Ledger != "" {
		return true, true
	}
	froze := slices.Contains([]image.Consistency{image.Application, image.FileSystem}, w.m.Consistency)
	return w.agent && froze && w.p.s.Hypervisors[w.m.Hypervisor].SourceKind() != site.Agents, w.agent // a server's own agent is another one
}

// comeUp waits until the guest is up.
func (w *watch) comeUp(ctx context.Context) error {
	inside, err := source.As[source.Insider](w.h, "ask a machine from inside")
	if err != nil {
		return err
	}
	agent, possible := w.agentExpected()
	var silent, stuck time.Time
	stuckAt, said := trial.Cause(""), ""
	for {
		seen, err := w.guest.Look(ctx)
		switch {
		case ctx.Err() != nil:
			return w.late(ctx, agent)
		case err != nil:
			if silent.IsZero() {
				silent = time.Now()
			}
			if time.Since(silent) > hostTime {
				return fmt.Errorf("hypervisor %s does not answer any more: %w", w.p.host, err)
			}
		default:
			silent = time.Time{}
			if seen.Standing != source.Gone && seen.Standing != source.PoweredOff {
				w.sight = seen
			} else {
				w.sight.Standing, w.sight.Serial = seen.Standing, seen.Serial
			}
			if err := w.stands(ctx); err != nil {
				return err
			}
		}
		w.stages(ctx)
		if cause, words := trial.Stuck(w.sight.Serial, w.sight.Screen); cause == "" || cause != stuckAt {
			stuckAt, said, stuck = cause, words, time.Now() // what it says first is the reason; later there may be a prompt only
		} else if time.Since(stuck) > settle {
			return failedBy(cause, "%s: it says %q", stuckWords[cause], said)
		}
		if possible && stuckAt == "" && inside.Ping(ctx, w.guest.Name()) == nil {
			w.step(ctx, trial.OfStage, string(trial.Agent), "")
			w.report.Up = time.Since(w.begun)
			return nil
		}
		if !agent && stuckAt == "" {
			if up := w.shows(ctx); up {
				w.report.Up = time.Since(w.begun)
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return w.late(ctx, agent)
		case <-time.After(glance):
		}
	}
}

// stuckWords say what a cause is.
var stuckWords = map[trial.Cause]string{
	trial.NoDisk: "its firmware found nothing to start from", trial.Loader: "it stays in its boot loader", trial.Panic: "its kernel gave up",
	trial.Emergency: "it waits in an emergency shell for somebody to mend it", trial.Passphrase: "it asks for a passphrase, for its disk is encrypted, and a trial has none",
}

// stands makes something of how the guest stands.
func (w *watch) stands(ctx context.Context) error {
	if w.sight.Written > w.p.spec.Trials.RoomEach() {
		return fmt.Errorf("it has written %s, and may write %s (room, in the site's trials)", humanize.IBytes(uint64(w.sight.Written)), humanize.IBytes(uint64(w.p.spec.Trials.RoomEach())))
	}
	switch w.sight.Standing {
	case source.Up:
		w.starved = time.Time{}
	case source.PoweredOff:
		return failedBy(trial.PoweredOff, "it was powered off by its own system %s after the start", time.Since(w.begun).Round(time.Second))
	case source.Gone:
		return errors.New("it ended in the middle of the trial: its hypervisor, or somebody there, has ended it; try it again")
	case source.Crashed:
		return failedBy(trial.Panic, "its system told its host that it crashed")
	case source.Starved:
		if w.starved.IsZero() {
			w.starved = time.Now()
		}
		if time.Since(w.starved) > starveTime {
			return w.wanting()
		}
		return w.guest.GoOn(ctx)
	}
	if trial.Starts(w.sight.Serial) >= mostStarts {
		return failedBy(trial.Restarting, "it starts again and again: %d times in %s", trial.Starts(w.sight.Serial), time.Since(w.begun).Round(time.Second))
	}
	return nil
}

// wanting is the trouble of a guest that is stopped for want of a disk.
func (w *watch) wanting() error {
	why := w.troubled()
	if why == nil {
		why = errors.New("what it writes finds no room on its host, or its host can't reach the disks")
	}
	return fmt.Errorf("it is stopped since %s, for its disks can't be read or written; try it again when they can: %w", w.starved.Format(time.RFC3339), why)
}

// there looks whether the guest is there and runs, and returns what became of it otherwise: trouble, or a verdict that outranks what was asked.
func (w *watch) there(ctx context.Context) error {
	seen, err := w.guest.Look(ctx)
	if err != nil {
		return fmt.Errorf("hypervisor %s does not answer any more: %w", w.p.host, err)
	}
	w.sight = seen
	if err := w.stands(ctx); err != nil {
		return err
	}
	if seen.Standing == source.Starved {
		return w.wanting()
	}
	return nil
}

// stages notes how far the guest has come, with a picture of each.
func (w *watch) stages(ctx context.Context) {
	for _, s := range trial.Stages(w.sight.Serial, w.sight.Screen) {
		if !w.has(string(s)) {
			w.step(ctx, trial.OfStage, string(s), "")
			w.picture(ctx, "at the "+string(s))
		}
	}
	if len(w.pictures) == 0 && time.Since(w.begun) > 3*time.Second {
		w.picture(ctx, "at the start")
	}
}

// shows reports whether a guest without an agent shows that it is up: by the text that it is to show, a port that is to be open, and where neither is
// expected by asking who logs in, or by using its network.
func (w *watch) shows(ctx context.Context) bool {
	switch {
	case w.expect.Text != "":
		return trial.Shows(w.sight.Serial, w.sight.Screen, w.expect.Text)
	case len(w.expect.Ports) > 0:
		return w.portOpen(ctx, w.expect.Ports[0], glance) == nil
	case w.has(string(trial.Login)):
		return true
	}
	if w.p.net == nil {
		return false
	}
	for _, a := range w.p.net.Addresses(w.m.Machine) {
		w.step(ctx, trial.OfNetwork, "network", "it uses its network as %s", a)
		return true
	}
	return false
}

// late is the verdict for a guest that was not up in time.
func (w *watch) late(ctx context.Context, agent bool) error {
	last := plain.LastLine(trial.Clean(w.sight.Serial), 200)
	if last == "" {
		last = plain.LastLine(w.sight.Screen, 200)
	}
	if last == "" {
		last = "nothing"
	}
	if !agent && w.expect.Text == "" && len(w.expect.Ports) == 0 {
		return fmt.Errorf("nothing was seen of it within %s by which it could be told whether it is up (it said last: %s); say in the policy's trials what text it shows, or which ports it opens", w.expect.Limit(), last)
	}
	what := "its agent did not answer"
	if !agent {
		what = "it did not show what is expected of it"
	}
	return failedBy(trial.Late, "%s within %s; it said last: %s", what, w.expect.Limit(), last)
}

// others waits until all of the party are up: they are asked as a whole.
func (w *watch) others(ctx context.Context) error {
	for _, o := range w.p.members {
		if err := o.await(ctx); err != nil {
			return fmt.Errorf("it came up, and was not asked, for its group is asked together: %w", err)
		}
	}
	return nil
}

// stay waits until the others have been asked, too: they may need this one for it.
func (w *watch) stay(ctx context.Context) {
	for _, o := range w.p.members {
		select {
		case <-o.asked:
		case <-o.ended:
		case <-ctx.Done():
		}
	}
}

// again tries something until it holds or the time is over, and returns why it does not.
func (w *watch) again(ctx context.Context, limit time.Duration, try func(ctx context.Context) error) error {
	ctx, end := context.WithTimeout(ctx, limit)
	defer end()
	var last error
	for {
		err := try(ctx)
		if err == nil {
			return nil
		}
		if ctx.Err() == nil || last == nil {
			last = err
		}
		if seen, err := w.guest.Look(ctx); err == nil {
			w.sight = seen
			if gone := w.stands(ctx); gone != nil {
				return gone
			}
		}
		select {
		case <-ctx.Done():
			return last
		case <-time.After(glance):
		}
	}
}

// ask asks for all that is expected of a guest that is up. It goes on after what does not hold: what else does not is worth knowing, too.
func (w *watch) ask(ctx context.Context) error {
	if err := w.t.Begin(ctx, "asking what is expected of it"); err != nil {
		return err
	}
	var first error
	note := func(err error) {
		if first == nil {
			first = err
		}
	}
	inside, err := source.As[source.Insider](w.h, "ask a machine from inside")
	if err != nil {
		return err
	}
	if len(w.expect.System) > 0 {
		note(w.askSystem(ctx, inside))
	}
	for _, port := range w.expect.Ports {
		err := w.again(ctx, portTime, func(ctx context.Context) error { return w.portOpen(ctx, port, dialTime) })
		if name := fmt.Sprintf("port %d", port); err != nil {
			note(w.lacks(ctx, trial.OfPort, name, "%v", err))
		} else {
			w.step(ctx, trial.OfPort, name, "open")
		}
	}
	for _, c := range w.expect.Commands {
		note(w.askCommand(ctx, inside, c))
	}
	if w.expect.Text != "" {
		err := w.again(ctx, portTime, func(context.Context) error {
			if trial.Shows(w.sight.Serial, w.sight.Screen, w.expect.Text) {
				return nil
			}
			return errors.New("neither the serial line nor the screen shows it")
		})
		if name := fmt.Sprintf("text %q", w.expect.Text); err != nil {
			note(w.lacks(ctx, trial.OfText, name, "%v", err))
		} else {
			w.step(ctx, trial.OfText, name, "shown")
		}
	}
	if w.has(string(trial.Agent)) {
		note(w.askLedgers(ctx, inside))
		note(w.askErrors(ctx, inside))
	}
	return first
}

const (
	// portTime is how long a port may take to open, dialTime one try of that.
	portTime, dialTime = 2 * time.Minute, 5 * time.Second
	// systemTime is how long a system may say that it is starting.
	systemTime = 5 * time.Minute
)

func (w *watch) askSystem(ctx context.Context, inside source.Insider) error {
	said := ""
	err := w.again(ctx, systemTime, func(ctx context.Context) error {
		_, out, err := inside.Execute(ctx, w.guest.Name(), []string{"systemctl", "is-system-running"}, dialTime)
		if err != nil {
			return err
		}
		said = plain.Text(strings.TrimSpace(out), 100)
		if !slices.Contains(w.expect.System, said) {
			return fmt.Errorf("systemctl is-system-running says %q, and not %s", said, strings.Join(w.expect.System, " or "))
		}
		return nil
	})
	if err != nil {
		return w.lacks(ctx, trial.OfSystem, "system", "%v", err)
	}
	w.step(ctx, trial.OfSystem, "system", "%s", said)
	return nil
}

// portOpen connects to a port of the guest, at any of its addresses.
func (w *watch) portOpen(ctx context.Context, port int, limit time.Duration) error {
	if w.p.net == nil {
		return errors.New("on a host elsewhere there is no closed network from which to ask")
	}
	addresses := w.addresses(ctx)
	if len(addresses) == 0 {
		return errors.New("it has shown no address in its network so far; where it has no agent and says nothing by itself, the policy's trials can name its address")
	}
	ctx, end := context.WithTimeout(ctx, limit)
	defer end()
	var errs []error
	for _, a := range addresses {
		conn, err := w.p.net.Dial(ctx, netip.AddrPortFrom(a, uint16(port)))
		if err == nil {
			return conn.Close()
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// addresses are those that the guest has: as its agent tells, as seen in its network, and as expected.
func (w *watch) addresses(ctx context.Context) (out []netip.Addr) {
	if w.has(string(trial.Agent)) {
		if asked, ok := w.h.(source.Addresser); ok {
			out, _ = asked.Addresses(ctx, w.guest.Name()) // where it does not tell, what is seen is all there is
		}
	}
	if at, err := netip.ParseAddr(w.expect.Address); err == nil {
		out = append(out, at)
	}
	for _, a := range w.p.net.Addresses(w.m.Machine) {
		if !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

func (w *watch) askCommand(ctx context.Context, inside source.Insider, c expect.TrialCommand) error {
	name, said := strings.Join(c.Command, " "), ""
	err := w.again(ctx, c.Limit(), func(ctx context.Context) error {
		code, out, err := inside.Execute(ctx, w.guest.Name(), c.Command, c.Limit())
		if err != nil {
			return err
		}
		said = plain.Text(strings.TrimSpace(out), 400)
		if code != 0 {
			return fmt.Errorf("it ended with %d: %s", code, said)
		}
		if !strings.Contains(out, c.Expect) {
			return fmt.Errorf("%q is not in what it says: %s", c.Expect, said)
		}
		return nil
	})
	if err != nil {
		return w.lacks(ctx, trial.OfCommand, name, "%v", err)
	}
	first, _, _ := strings.Cut(said, "\n")
	w.step(ctx, trial.OfCommand, name, "%s", first)
	return nil
}

func (w *watch) askLedgers(ctx context.Context, inside source.Insider) error {
	mounts, err := inside.GuestMounts(ctx, w.guest.Name())
	if err != nil {
		if w.expect.Ledger != "" {
			return w.lacks(ctx, trial.OfLedger, "ledger", "its file systems could not be listed: %v", err)
		}
		return nil
	}
	until := w.begun // what it has written since is of the trial, and not of the image
	if w.expect.Clock == expect.ClockImage {
		until = w.m.Taken
	}
	found, err := source.Ledgers(ctx, inside, w.guest.Name(), mounts, until)
	if err != nil {
		return w.lacks(ctx, trial.OfLedger, "ledger", "%v", err)
	}
	if len(found) == 0 && w.expect.Ledger != "" {
		return w.lacks(ctx, trial.OfLedger, "ledger", "there is none at the top of a file system")
	}
	for _, l := range found {
		if l.Before.IsZero() {
			if w.expect.Ledger != "" {
				return w.lacks(ctx, trial.OfLedger, "ledger", "%s: it has no line from before the image was taken", strings.TrimSuffix(l.Point, "/"))
			}
			continue
		}
		lag := max(0, w.m.Taken.Sub(l.Before))
		if w.report.Lag == nil || lag > *w.report.Lag {
			w.report.Lag = &lag
		}
		if limit := w.expect.Lag(); limit > 0 && lag > limit {
			return w.lacks(ctx, trial.OfLedger, "ledger", "%s: %s, which is %s older than the image; it may be %s", strings.TrimSuffix(l.Point, "/"), l, lag.Round(time.Second), limit)
		}
		w.step(ctx, trial.OfLedger, "ledger", "%s: %s", strings.TrimSuffix(l.Point, "/"), l)
	}
	return nil
}

// askErrors reads which units failed and what was logged of level error, where the guest has systemd.
func (w *watch) askErrors(ctx context.Context, inside source.Insider) error {
	if w.expect.Errors == expect.ErrorsIgnore {
		return nil
	}
	read := func(command ...string) []string {
		code, out, err := inside.Execute(ctx, w.guest.Name(), command, messagesTime)
		if err != nil || code != 0 {
			return nil // it has none
		}
		return trial.Lines(out)
	}
	w.report.Units = read("systemctl", "list-units", "--failed", "--plain", "--no-legend", "--no-pager")
	w.report.Messages = read("journalctl", "--boot", "--priority", "err", "--output", "cat", "--quiet", "--no-pager")
	before, err := w.p.tr.rec.LastTrial(ctx, w.rec.MachineID)
	if err != nil {
		return err
	}
	if before == nil {
		return nil // this one is what the next is compared with
	}
	w.report.New = append(trial.New(w.report.Units, before.Report.Units), trial.New(w.report.Messages, before.Report.Messages)...)
	if len(w.report.New) == 0 {
		return nil
	}
	const most = 3
	text := fmt.Sprintf("%d that the last passed trial, of image %s, did not have: %s", len(w.report.New), before.Image, strings.Join(w.report.New[:min(most, len(w.report.New))], "; "))
	if w.expect.Errors == expect.ErrorsFail {
		return w.lacks(ctx, trial.OfErrors, "units and messages", "%s", text)
	}
	w.t.Warn("units and messages of level error: %s", text)
	return nil
}

// picture takes a picture of the screen. A guest may have none.
func (w *watch) picture(ctx context.Context, about string) {
	if len(w.pictures) >= mostPictures || w.sight.Standing == source.PoweredOff || w.sight.Standing == source.Gone {
		return
	}
	body, err := w.guest.Picture(ctx)
	if err != nil {
		w.p.tr.log.Info("no picture of a guest that is tried", "machine", w.m.Machine, "error", err)
		return
	}
	if len(body) > store.MaxExhibit {
		return
	}
	w.pictures = append(w.pictures, body)
	w.report.Exhibits = append(w.report.Exhibits, trial.Exhibit{Kind: "image/png", About: "the screen " + about, After: time.Since(w.begun)})
}

// record keeps what was seen, and is the verdict as an error.
func (w *watch) record(ctx context.Context, began time.Time, verdict error) error {
	var failed failure
	if errors.As(verdict, &failed) {
		w.report.Cause = failed.cause
	}
	if serial := trial.Clean(w.sight.Serial); strings.TrimSpace(serial) != "" {
		w.report.Exhibits = append(w.report.Exhibits, trial.Exhibit{Kind: "text/plain; charset=utf-8", About: "the serial line", After: time.Since(w.begun)})
		w.pictures = append(w.pictures, []byte(serial))
	}
	for i := range w.report.Exhibits {
		end := ".txt"
		if w.report.Exhibits[i].Kind == "image/png" {
			end = ".png"
		}
		name, err := w.st.KeepExhibit(ctx, w.m.ID, end, w.pictures[i])
		if err != nil {
			w.t.Warn("what belongs to the proof could not be kept in the store: %v", err)
			w.report.Exhibits = w.report.Exhibits[:i]
			break
		}
		w.report.Exhibits[i].Name = name
	}
	p := records.Proof{Image: w.m.ID, Run: w.r.ID, Level: image.ByBoot, Began: began, Program: w.p.tr.program, Report: &w.report, Evidence: w.words()}
	if _, err := w.p.tr.proofs.Record(ctx, w.st, w.r, w.m.Machine, p, verdict); err != nil {
		return errors.Join(err, verdict)
	}
	if verdict == nil && w.p.tr.Passed != nil {
		return w.p.tr.Passed(ctx, w.r, w.rec)
	}
	return verdict
}

// words are what was seen, in lines.
func (w *watch) words() (out []string) {
	rp := &w.report
	out = append(out, fmt.Sprintf("started as a throwaway guest on %s (%s), with %s of memory, in a closed network", rp.Host, rp.Version, humanize.IBytes(uint64(w.memory))))
	out = append(out, rp.Adapted...)
	for _, s := range rp.Steps {
		if s.Passed {
			out = append(out, told(s))
		}
	}
	if rp.Lag != nil {
		out = append(out, fmt.Sprintf("the newest line of its ledgers is %s older than the image", rp.Lag.Round(time.Second)))
	}
	for _, what := range rp.Tried {
		out = append(out, "it tried to reach, and did not: "+what)
	}
	if w.written != nil {
		return append(out, fmt.Sprintf("its disks were written out before, whole, in %s; %s were written", rp.WrittenOut.Round(100*time.Millisecond), humanize.IBytes(uint64(rp.Written))))
	}
	return append(out, fmt.Sprintf("%s of %s were read from the store (%.1f %%), %s were written", humanize.IBytes(uint64(rp.Read)), humanize.IBytes(uint64(rp.Disks)),
		100*float64(rp.Read)/float64(max(1, rp.Disks)), humanize.IBytes(uint64(rp.Written))))
}
