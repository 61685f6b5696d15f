package site

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/field"
	"keenlodge/internal/core/health"
	"keenlodge/internal/core/ignore"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/selection"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
)

// HoldUnusual has rotation wait until a person has looked at what is unusual in an image.
const HoldUnusual = "unusual"

// Policy says what to protect, how, when, into which store, and how its sets rotate.
type Policy struct {
	// Machines are names, or patterns with * and ?; "*" is everything.
	Machines []string `yaml:"machines,omitempty" json:"machines,omitempty" doc:"names, or patterns with * and ?; * is everything"`
	// Tags selects machines beside those named; see package selection.
	Tags   string   `yaml:"tags,omitempty" json:"tags,omitempty" doc:"tag expression, such as: tier=gold and not role=web; machines that it fits are selected too"`
	Except []string `yaml:"except,omitempty" json:"except,omitempty" doc:"names or patterns of machines that are left out"`
	// Active tells which member of a high-availability pair is to be captured.
	Active *Active `yaml:"active,omitempty" json:"active,omitempty" doc:"skips a machine that is not the active member of its pair"`
	// Scope is what images cover; empty is the whole machine, or the disks named.
	Scope image.Scope `yaml:"scope,omitempty" json:"scope,omitempty" enum:"machine,disks,system,files,export,inplace" doc:"what images cover: machine (the default), disks, system (a server's system state, in parts), files (folders of a server) or export (what an appliance hands out of itself); or inplace, to keep snapshots on the machines' own storage, which are no images and lie in no store"`
	// Disks narrows images to some of a machine's disks.
	Disks []string `yaml:"disks,omitempty" json:"disks,omitempty" doc:"targets of the disks to cover, such as vdb; by default all"`
	// Parts and LeaveOut choose of a system state; Folders are those of scope files.
	Parts    []string `yaml:"parts,omitempty" json:"parts,omitempty" doc:"of a system state or an export: these parts, and those that are mandatory; by default all"`
	LeaveOut []string `yaml:"leave_out,omitempty" json:"leave_out,omitempty" doc:"of a system state or an export: parts that are left out"`
	Folders  []string `yaml:"folders,omitempty" json:"folders,omitempty" doc:"of scope files: the folders, as absolute paths"`
	// Ignore leaves out files by patterns as of gitignore(5); Personal takes people's own folders, too.
	Ignore   []string `yaml:"ignore,omitempty" json:"ignore,omitempty" doc:"of files: patterns as in a gitignore file, from / on; what they fit is left out, and with ! taken in again"`
	Personal bool     `yaml:"personal,omitempty" json:"personal,omitempty" doc:"of files: take people's own folders (/home, /root), too"`
	// Unread says what becomes of a run that could not read some files, or some of a server's disks.
	Unread string `yaml:"unread,omitempty" json:"unread,omitempty" enum:"warn,fail" doc:"what files, or places of a server's disks, that can't be read do: warn (the default for files; of disks the image is broken), or fail (the default for disks)"`
	Store  string `yaml:"store,omitempty" json:"store,omitempty" doc:"the store in which its images are kept; none for scope inplace"`
	// Formerly are stores in which it kept its images before.
	Formerly []string `yaml:"formerly,omitempty" json:"formerly,omitempty" doc:"stores in which it kept its images before: these count in its rotation, and go by it, together with those in its store now"`
	// AlsoIn are regions to which each snapshot in place is copied.
	AlsoIn []string `yaml:"also_in,omitempty" json:"also_in,omitempty" doc:"of scope inplace: regions of the machine's source to which each snapshot is copied, where they rotate by the same phrase"`
	// Cycle says when an image is full; what lies between is of kind Capture.
	Cycle   string          `yaml:"cycle,omitempty" json:"cycle,omitempty" doc:"when an image is full: always full (the default), full every 7th, full on sun, full once"`
	Capture image.Capture   `yaml:"capture,omitempty" json:"capture,omitempty" enum:"incremental,differential" doc:"what lies between full ones; default incremental"`
	Quiesce machine.Quiesce `yaml:"quiesce,omitempty" json:"quiesce,omitempty" doc:"default preferred"`
	// LongestFreeze bounds how long a server's file systems stand still.
	LongestFreeze string `yaml:"longest_freeze,omitempty" json:"longest_freeze,omitempty" doc:"how long a server's file systems may stand still, up to 1 minute; default 10 seconds"`
	// Together are groups whose members wait for each other while they are frozen.
	Together []string `yaml:"together,omitempty" json:"together,omitempty" doc:"groups whose machines, as far as it covers them, are frozen together: what is taken of them is of one moment"`
	// Applications are brought to rest before a machine's file systems stand still, in this order.
	Applications []Application `yaml:"applications,omitempty" json:"applications,omitempty" doc:"commands on the machine that bring applications to rest before its file systems stand still, in this order, and have them go on after"`
	Checks       []Health      `yaml:"checks,omitempty" json:"checks,omitempty" doc:"what must hold in the guest before it is captured"`
	Schedules    []Schedule    `yaml:"schedules,omitempty" json:"schedules,omitempty"`
	// Missed says what happens to a moment at which no service ran.
	Missed  string   `yaml:"missed,omitempty" json:"missed,omitempty" enum:"run,skip" doc:"what becomes of a moment at which no service ran: run (the default) once at start, or skip"`
	Windows []string `yaml:"windows,omitempty" json:"windows,omitempty" doc:"hours in which runs may start, such as: only 20:00-06:00, never sun 10:00-12:00"`
	Spread  string   `yaml:"spread,omitempty" json:"spread,omitempty" doc:"time over which the starts of a run's machines are spread, such as 30 minutes"`
	Longest string   `yaml:"longest,omitempty" json:"longest,omitempty" doc:"how long a run may take, such as 4 hours; then it is stopped"`
	// Gentle slows reading down while the guest's own writes take longer than they do without.
	Gentle bool `yaml:"gentle,omitempty" json:"gentle,omitempty" doc:"read a guest that runs no faster than its own writes bear: while they take more than twice as long as before, reading slows down"`
	// Retries are for what may pass by itself; the wait doubles each time.
	Retries   int    `yaml:"retries,omitempty" json:"retries,omitempty" doc:"how often a machine is tried again after what may pass by itself; default 0"`
	RetryWait string `yaml:"retry_wait,omitempty" json:"retry_wait,omitempty" doc:"wait before the first retry, doubled each time; default 1 minute"`
	Hooks     []Hook `yaml:"hooks,omitempty" json:"hooks,omitempty" doc:"scripts and webhooks that are called at moments of a run"`
	Rotation  string `yaml:"rotation" json:"rotation" doc:"rotation phrase, such as: newest 3"`
	// Fold joins a full image that the rule lets go with the one after it, where that leans on it.
	Fold bool `yaml:"fold,omitempty" json:"fold,omitempty" doc:"fold a full image that may go into the incremental after it, so that the count is exact (open layout)"`
	// ByHand keeps images of runs by hand in a set of their own.
	ByHand string `yaml:"by_hand,omitempty" json:"by_hand,omitempty" enum:"apart" doc:"apart: images of runs by hand are no part of the scheduled ones' set"`
	// Prove is the level at which each new image is proven after the run, or empty.
	Prove image.Level `yaml:"prove,omitempty" json:"prove,omitempty" enum:"read,mount,boot,restore" doc:"prove each new image at this level"`
	// Hold has rotation wait for a person.
	Hold string `yaml:"hold,omitempty" json:"hold,omitempty" enum:"unusual" doc:"unusual: nothing is dropped of a machine of which an image is unusual, until a person has looked"`
	// Promise is what it owes each of its machines.
	Promise string `yaml:"promise,omitempty" json:"promise,omitempty" doc:"what it owes each machine, such as: 26 hours, boot weekly, restore monthly, 3 copies, key yearly"`
	// Trials say what is expected of machines that are started from their images; the first that fits a machine holds.
	Trials []expect.Trial `yaml:"trials,omitempty" json:"trials,omitempty" doc:"what is expected of machines that are started from their images; the first that fits a machine holds"`
	// Restored are programs of the machines' own that have to accept what a proof by restore wrote out; all that fit a machine are run.
	Restored []expect.RestoredCheck `yaml:"restored,omitempty" json:"restored,omitempty" doc:"programs of the machine's own that a proof by restore runs on what it wrote out, such as a database's check of its files"`
}

// Schedule says when runs start, and what is special about them.
type Schedule struct {
	When    string        `yaml:"when" json:"when" doc:"schedule phrase, such as: every day at 23:00"`
	Capture image.Capture `yaml:"capture,omitempty" json:"capture,omitempty" doc:"instead of what the policy's cycle says"`
	Disks   []string      `yaml:"disks,omitempty" json:"disks,omitempty" doc:"instead of the policy's; * is all"`
	Note    string        `yaml:"note,omitempty" json:"note,omitempty" doc:"images bear it"`
}

// plainSchedule is a Schedule without its own ways to be written.
type plainSchedule Schedule

// UnmarshalYAML takes a phrase alone, too.
func (s *Schedule) UnmarshalYAML(read func(any) error) error {
	if read(&s.When) == nil {
		return nil
	}
	return read((*plainSchedule)(s))
}

// MarshalYAML writes a phrase alone where there is no more to say.
func (s Schedule) MarshalYAML() (any, error) {
	if s.Capture == "" && s.Note == "" && len(s.Disks) == 0 {
		return s.When, nil
	}
	return plainSchedule(s), nil
}

// UnmarshalJSON takes a phrase alone, too, as records of earlier versions have it.
func (s *Schedule) UnmarshalJSON(body []byte) error {
	if json.Unmarshal(body, &s.When) == nil {
		return nil
	}
	return json.Unmarshal(body, (*plainSchedule)(s))
}

// Active tells the active member of a high-availability pair. The other one is skipped, with a reason.
type Active struct {
	Tags    string   `yaml:"tags,omitempty" json:"tags,omitempty" doc:"tag expression that the active member fits"`
	Command []string `yaml:"command,omitempty" json:"command,omitempty" doc:"command in the guest that ends with 0 on the active member"`
}

// Health is a condition in the guest.
type Health = health.Condition

var (
	// between lists what an image that is not full can be.
	between = image.Captures[1:]
	// kindsByHand and whenMissed list what a policy may say of runs by hand and of moments at which no service ran.
	kindsByHand = []string{"apart"}
	kindsOfHold = []string{HoldUnusual}
	whenMissed  = []string{"run", "skip"}
	// ofUnread lists what files that can't be read may do.
	ofUnread = []string{UnreadWarns, UnreadFails}
)

// What files, or places of a server's disks, that can't be read do.
const UnreadWarns, UnreadFails = "warn", "fail"

// Limits of tasks at once where the site names none.
const (
	lodgeTasks      = 4
	hypervisorTasks = 2
	storeTasks      = 4
	keepRuns        = 365 * 24 * time.Hour
)

// Tasks is how many machines are captured at the same time.
func (s Site) Tasks() int { return orDefault(s.TasksAtOnce, lodgeTasks) }

// Tasks is how many of its guests are captured at the same time.
func (h Hypervisor) Tasks() int { return orDefault(h.TasksAtOnce, hypervisorTasks) }

// Tasks is how many images are written into it at the same time.
func (s Store) Tasks() int { return orDefault(s.TasksAtOnce, storeTasks) }

// RunsKept is how long the records of runs are kept.
func (s Site) RunsKept() time.Duration { return field.SpanOf(s.KeepRuns, keepRuns) }

// ImagesKept is how long the records of images are kept that left their stores.
func (s Site) ImagesKept() time.Duration { return field.SpanOf(s.KeepImages, keepRuns) }

func orDefault(n, standard int) int {
	if n == 0 {
		return standard
	}
	return n
}

// LongestRun is how long a run may take, 0 for ever.
func (v Policy) LongestRun() time.Duration { return field.SpanOf(v.Longest, 0) }

// SpreadOver is the time over which starts are spread.
func (v Policy) SpreadOver() time.Duration { return field.SpanOf(v.Spread, 0) }

// Wait is the time before the n-th retry, from 1 on.
func (v Policy) Wait(n int) time.Duration {
	return field.SpanOf(v.RetryWait, time.Minute) << min(n-1, 10)
}

// mostFrozen bounds how long file systems may be asked to stand still, usualFreeze is what holds where nothing is asked.
const mostFrozen, usualFreeze = time.Minute, 10 * time.Second

// Owes is what it owes each of its machines, as Check has accepted it.
func (v Policy) Owes() promise.Promise {
	p, err := promise.Parse(v.Promise)
	if err != nil {
		return promise.Promise{}
	}
	return p
}

// FreezeLimit is how long a server's file systems may stand still.
func (v Policy) FreezeLimit() time.Duration { return field.SpanOf(v.LongestFreeze, usualFreeze) }

// Hours are the windows that must be open for a run of a policy to start: its own, its store's, and those of the hypervisors named.
func (s Site) Hours(policy string, hypervisors ...string) []when.Windows {
	p, _ := s.Planned(policy) // nothing has no hours
	out := []when.Windows{field.WindowsOf(p.Windows), field.WindowsOf(s.Stores[p.Store].Windows)}
	for _, h := range hypervisors {
		out = append(out, field.WindowsOf(s.Hypervisors[h].Windows))
	}
	return out
}

// PaceOf reads bandwidths that Check has accepted.
func PaceOf(phrases []string) when.Pace {
	p, err := when.ParsePace(phrases)
	if err != nil {
		return when.Pace{}
	}
	return p
}

// Parsed are the policy's schedules, in its order, as Check has accepted them.
func (v Policy) Parsed(zone *time.Location) []when.Schedule {
	var out []when.Schedule
	for _, s := range v.Schedules {
		if parsed, err := when.Parse(s.When, zone); err == nil {
			out = append(out, parsed)
		}
	}
	return out
}

// Next is the first scheduled moment strictly after t, or the zero time.
func (v Policy) Next(t time.Time, zone *time.Location) (first time.Time) {
	for _, s := range v.Parsed(zone) {
		if at := s.Next(t); !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	return first
}

// Due finds the schedule that counts of those that have a moment after one moment and not after another; ok is false if none has.
// merged are the others of these.
func (v Policy) Due(after, until time.Time, zone *time.Location) (due Schedule, merged []Schedule, ok bool) {
	for i, s := range v.Parsed(zone) {
		at := s.Next(after)
		if at.IsZero() || at.After(until) {
			continue
		}
		switch this := v.Schedules[i]; {
		case !ok:
			due, ok = this, true
		case cycle.Strength(this.Capture) > cycle.Strength(due.Capture):
			merged, due = append(merged, due), this
		default:
			merged = append(merged, this)
		}
	}
	return due, merged, ok
}

func (v Policy) check(name, p string, s Site, zone *time.Location) error {
	if err := v.checkSelection(name, p); err != nil {
		return err
	}
	if v.Covers() == image.InPlace {
		if err := v.checkInPlace(name, p); err != nil {
			return err
		}
	} else if len(v.AlsoIn) > 0 {
		return field.At(name, p+".also_in", "also_in is for scope inplace; what is in stores is copied by copy rules")
	} else if _, ok := s.Stores[v.Store]; !ok {
		return field.At(name, p+".store", "no store is called %q%s", v.Store, suggest.Hint(v.Store, slices.Sorted(maps.Keys(s.Stores))))
	}
	for i, store := range v.Formerly {
		here := fmt.Sprintf("%s.formerly[%d]", p, i)
		if _, ok := s.Stores[store]; !ok {
			return field.At(name, here, "no store is called %q%s", store, suggest.Hint(store, slices.Sorted(maps.Keys(s.Stores))))
		}
		if store == v.Store || slices.Contains(v.Formerly[:i], store) {
			return field.At(name, here, "store %s is named twice; name others, in which its images were before", store)
		}
	}
	if err := v.checkScope(name, p); err != nil {
		return err
	}
	if err := v.checkApplications(name, p); err != nil {
		return err
	}
	if err := v.checkCycle(name, p, s); err != nil {
		return err
	}
	for _, err := range []error{field.Known(name, p, "quiesce", v.Quiesce, machine.Quiesces), field.Known(name, p, "by_hand", v.ByHand, kindsByHand), field.Known(name, p, "hold", v.Hold, kindsOfHold),
		field.Known(name, p, "prove", v.Prove, image.Provable), field.Known(name, p, "missed", v.Missed, whenMissed)} {
		if err != nil {
			return err
		}
	}
	if _, err := rotation.Parse(v.Rotation); err != nil {
		return field.At(name, p+".rotation", "%v", err)
	}
	for f, text := range map[string]string{"longest": v.Longest, "spread": v.Spread, "retry_wait": v.RetryWait} {
		if _, err := field.SpanOr(text, 0); err != nil {
			return field.At(name, p+"."+f, "%s: %v", f, err)
		}
	}
	if d, err := field.SpanOr(v.LongestFreeze, usualFreeze); err != nil || d > mostFrozen {
		return field.At(name, p+".longest_freeze", "longest_freeze: %q is not a time up to 1 minute, such as \"10 seconds\"", v.LongestFreeze)
	}
	if v.Retries < 0 || v.Retries > 20 {
		return field.At(name, p+".retries", "retries: %d is not a number from 0 to 20", v.Retries)
	}
	if err := v.checkSchedules(name, p, s, zone); err != nil {
		return err
	}
	for i, group := range v.Together {
		if _, ok := s.Groups[group]; !ok {
			return field.At(name, fmt.Sprintf("%s.together[%d]", p, i), "no group is called %q%s", group, suggest.Hint(group, slices.Sorted(maps.Keys(s.Groups))))
		}
	}
	for i, h := range v.Checks {
		if err := h.Check(name, fmt.Sprintf("%s.checks[%d]", p, i)); err != nil {
			return err
		}
	}
	if err := v.checkTrials(name, p); err != nil {
		return err
	}
	if _, err := promise.Parse(v.Promise); err != nil {
		return field.At(name, p+".promise", "%v", err)
	}
	return v.checkHooks(name, p, s)
}

func (v Policy) checkSelection(name, p string) error {
	if len(v.Machines) == 0 && v.Tags == "" {
		return field.At(name, p, `it selects no machine; write "machines" or "tags"`)
	}
	for f, list := range map[string][]string{"machines": v.Machines, "except": v.Except} {
		for _, m := range list {
			if _, err := path.Match(m, ""); err != nil || m == "" {
				return field.At(name, p+"."+f, "%q is not a machine's name or a pattern", m)
			}
		}
	}
	if _, err := selection.Parse(v.Tags); err != nil {
		return field.At(name, p+".tags", "%v", err)
	}
	if v.Active == nil {
		return nil
	}
	if (v.Active.Tags == "") == (len(v.Active.Command) == 0) {
		return field.At(name, p+".active", "active needs either tags or a command")
	}
	if _, err := selection.Parse(v.Active.Tags); err != nil {
		return field.At(name, p+".active.tags", "%v", err)
	}
	return nil
}

// checkInPlace refuses what makes no sense for snapshots in place.
func (v Policy) checkInPlace(name, p string) error {
	for f, used := range map[string]bool{"store": v.Store != "", "formerly": len(v.Formerly) > 0, "disks": len(v.Disks) > 0, "cycle": v.Cycle != "", "capture": v.Capture != "", "fold": v.Fold, "by_hand": v.ByHand != "", "prove": v.Prove != "",
		"hold": v.Hold != "", "promise": v.Promise != "", "trials": len(v.Trials) > 0, "restored": len(v.Restored) > 0, "gentle": v.Gentle, "unread": v.Unread != ""} {
		if used {
			return field.At(name, p+"."+f, "%s means nothing for scope inplace: snapshots in place are no images, and lie in no store; leave it out", f)
		}
	}
	return nil
}

// Covers is the scope of its images.
func (v Policy) Covers() image.Scope {
	switch {
	case v.Scope != "":
		return v.Scope
	case len(v.Disks) > 0:
		return image.SomeDisks
	}
	return image.WholeMachine
}

// checkScope refuses what makes no sense for what its images cover.
func (v Policy) checkScope(name, p string) error {
	if err := field.Known(name, p, "scope", v.Scope, append(slices.Clone(image.Scopes), image.InPlace)); err != nil {
		return err
	}
	if err := field.Known(name, p, "unread", v.Unread, ofUnread); err != nil {
		return err
	}
	scope := v.Covers()
	disks := len(v.Disks) > 0 || slices.ContainsFunc(v.Schedules, func(s Schedule) bool { return len(s.Disks) > 0 })
	parts, files := scope == image.SystemState || scope == image.Exported, scope == image.SystemState || scope == image.SomeFiles
	for f, used := range map[string]bool{"parts": len(v.Parts) > 0 && !parts, "leave_out": len(v.LeaveOut) > 0 && !parts,
		"folders": len(v.Folders) > 0 && scope != image.SomeFiles, "ignore": len(v.Ignore) > 0 && !files, "personal": v.Personal && !files,
		"disks": disks && (scope.OfFiles() || v.Scope == image.WholeMachine), "gentle": v.Gentle && scope.OfFiles()} {
		if used {
			return field.At(name, p+"."+f, "%s means nothing for images of scope %s; leave it out, or change scope", f, scope)
		}
	}
	if scope == image.SomeDisks && len(v.Disks) == 0 {
		return field.At(name, p+".disks", `disks are missing; write for example disks: [vdb]`)
	}
	if scope == image.SomeFiles && len(v.Folders) == 0 {
		return field.At(name, p+".folders", `folders are missing; write for example folders: [/srv]`)
	}
	for _, f := range v.Folders {
		if !path.IsAbs(f) || path.Clean(f) != f || strings.ContainsRune(f, 0) {
			return field.At(name, p+".folders", "%q is no absolute path, such as /srv/tickets", f)
		}
	}
	for f, names := range map[string][]string{"parts": v.Parts, "leave_out": v.LeaveOut} {
		for _, n := range names {
			if !field.IsName(n) {
				return field.At(name, p+"."+f, "%q is no part's name; look at: keenlodge machine parts NAME", n)
			}
		}
	}
	if _, err := ignore.Parse(v.Ignore); err != nil {
		return field.At(name, p+".ignore", "%v", err)
	}
	if scope.OfFiles() && v.Prove != "" && !v.Prove.Fits(scope) {
		return field.At(name, p+".prove", "images of scope %s have no file systems that could be mounted, and nothing that could start; write prove: read or prove: restore", scope)
	}
	return nil
}

func (v Policy) checkTrials(name, p string) error {
	if len(v.Trials) > 0 && v.Covers().OfFiles() {
		return field.At(name, p+".trials", "images of scope %s hold files, and nothing that could be started; leave trials out", v.Covers())
	}
	for i, c := range v.Restored {
		here := fmt.Sprintf("%s.restored[%d]", p, i)
		if v.Covers().OfFiles() {
			return field.At(name, here, "images of scope %s hold no whole machine, in which a program of its own could run; leave restored out", v.Covers())
		}
		if err := c.Check(name, here); err != nil {
			return err
		}
	}
	return expect.CheckAll(name, p, v.Trials)
}

func (v Policy) checkSchedules(name, p string, s Site, zone *time.Location) error {
	for i, schedule := range v.Schedules {
		here := fmt.Sprintf("%s.schedules[%d]", p, i)
		parsed, err := when.Parse(schedule.When, zone)
		if err != nil {
			return field.At(name, here, "%v", err)
		}
		if err := field.Known(name, here, "capture", schedule.Capture, image.Captures); err != nil {
			return err
		}
		if after, _ := parsed.After(); after != "" {
			if s.isUnplanned(after) {
				return field.At(name, here, "no policy is called %q%s", after, suggest.Hint(after, slices.Sorted(maps.Keys(s.Policies))))
			}
		}
	}
	if _, err := when.ParseWindows(v.Windows); err != nil {
		return field.At(name, p+".windows", "%v", err)
	}
	hours := []when.Windows{field.WindowsOf(v.Windows), field.WindowsOf(s.Stores[v.Store].Windows)}
	if _, ok := hours[0].Opens(time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC), hours[1:]...); !ok {
		return field.At(name, p+".windows", "its windows and those of store %s are never open at once", v.Store)
	}
	return nil
}

// checkChains refuses policies that wait for each other's end.
func (s Site) checkChains() error {
	follows := map[string][]string{}
	for _, name := range append(slices.Sorted(maps.Keys(s.Policies)), slices.Sorted(maps.Keys(s.Copies))...) {
		p, _ := s.Planned(name)
		for _, parsed := range p.Parsed(time.UTC) {
			if after, _ := parsed.After(); after != "" {
				follows[name] = append(follows[name], after)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(follows)) {
		if loop := loopFrom(follows, []string{name}); loop != nil {
			in := "policies"
			if _, ok := s.Copies[name]; ok {
				in = "copies"
			}
			kind := map[string]string{"policies": "policy ", "copies": "copy rule "}[in]
			return field.At(kind+name, "$."+in+"."+field.Quoted(name)+".schedules", "its chain comes back to itself: %s", strings.Join(loop, " after "))
		}
	}
	return nil
}

// loopFrom follows a chain until it comes back to where it began.
func loopFrom(follows map[string][]string, way []string) []string {
	for _, next := range follows[way[len(way)-1]] {
		if next == way[0] {
			return append(way, next)
		}
		if slices.Contains(way, next) {
			continue // a loop that this one only leads to; it is told of its members
		}
		if loop := loopFrom(follows, append(slices.Clone(way), next)); loop != nil {
			return loop
		}
	}
	return nil
}

func (v Policy) checkCycle(name, p string, s Site) error {
	rule, err := cycle.Parse(v.Cycle)
	leans := slices.ContainsFunc(v.Schedules, func(s Schedule) bool { return s.Capture == "incremental" || s.Capture == "differential" })
	switch {
	case err != nil:
		return field.At(name, p+".cycle", "%v", err)
	case field.Known(name, p, "capture", v.Capture, between) != nil:
		return field.Known(name, p, "capture", v.Capture, between)
	case v.Capture != "" && rule.AlwaysFull():
		return field.At(name, p+".capture", `every image is full by the cycle %q, so none is %s; write for example cycle: "full every 7th"`, rule, v.Capture)
	case v.Fold && s.Stores[v.Store].Layout != "open":
		return field.At(name, p+".fold", "store %s is pooled: every image in it stands alone, and there is nothing to fold", v.Store)
	case v.Fold && (rule.AlwaysFull() && !leans || v.Capture == "differential"):
		return field.At(name, p+".fold", "only incremental images can be folded into, one after the other; this policy makes none")
	}
	return nil
}

// CycleRule is the parsed cycle; Check has made sure that it is one.
func (v Policy) CycleRule() cycle.Rule {
	rule, err := cycle.Parse(v.Cycle)
	if err != nil {
		return cycle.Always
	}
	return rule
}

// Kinds are the kinds of its images that are taken since an earlier one, if any are.
func (v Policy) Kinds() (kinds []image.Capture) {
	if !v.CycleRule().AlwaysFull() {
		kinds = append(kinds, v.Between())
	}
	for _, s := range v.Schedules {
		if slices.Contains(between, s.Capture) && !slices.Contains(kinds, s.Capture) {
			kinds = append(kinds, s.Capture)
		}
	}
	return kinds
}

// Builds reports whether any of its images may be taken since an earlier one.
func (v Policy) Builds() bool { return len(v.Kinds()) > 0 }

// Between is the kind of capture that lies between full ones.
func (v Policy) Between() image.Capture {
	if v.Capture == "" {
		return "incremental"
	}
	return v.Capture
}

// Selects reports whether the policy covers a machine. A pattern with a slash is matched with the source's name before the machine's.
func (v Policy) Selects(source, name string, tags map[string]string) bool {
	return v.Matcher().Selects(source, name, tags)
}

// Matcher makes the policy's selection ready.
func (v Policy) Matcher() selection.Matcher {
	return selection.Match(v.Machines, v.Except, v.Tags)
}

// Matchers lists the policies, by name, with what each selects.
func (s Site) Matchers() (names []string, matchers []selection.Matcher) {
	names = slices.Sorted(maps.Keys(s.Policies))
	for _, name := range names {
		matchers = append(matchers, s.Policies[name].Matcher())
	}
	return names, matchers
}

// NamesOnly reports whether it selects machines by their names alone, with no pattern and no tag.
func (v Policy) NamesOnly() bool {
	return v.Tags == "" && !slices.ContainsFunc(v.Machines, func(m string) bool { return strings.ContainsAny(m, `*?[\`) })
}

// Exact lists the selections that name one machine, which should exist.
func (v Policy) Exact() []string {
	var names []string
	for _, m := range v.Machines {
		if !strings.ContainsAny(m, `*?[\`) && !slices.Contains(v.Except, m) {
			names = append(names, m)
		}
	}
	return names
}

// RotationRule is the parsed rotation; Check has made sure that it is one.
func (v Policy) RotationRule() rotation.Rule {
	rule, err := rotation.Parse(v.Rotation)
	if err != nil {
		return rotation.Rule{}
	}
	return rule
}

// InStores lists the stores in which its images lie that its rotation counts: its store, and those before.
func (v Policy) InStores() []string { return append([]string{v.Store}, v.Formerly...) }
