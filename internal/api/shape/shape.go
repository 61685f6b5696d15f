// Package shape puts what the lodge knows into the shapes that travel (package wire), so that a change of the records is not one of the interface.
package shape

import (
	"keenlodge/internal/copies"
	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/events"
	"keenlodge/internal/inventory"
	"keenlodge/internal/lodge"
	"keenlodge/internal/promises"
	"keenlodge/internal/records"
	"keenlodge/internal/records/trust"
	"keenlodge/internal/source"
	"keenlodge/internal/trials"
	"keenlodge/internal/wire"
)

// Each converts each of a list; the result is never nil.
func Each[A, B any](list []A, convert func(A) B) []B {
	out := make([]B, len(list))
	for i, v := range list {
		out[i] = convert(v)
	}
	return out
}

// Run is a run with its tasks.
func Run(r records.Run) wire.Run {
	return wire.Run{ID: r.ID, Kind: r.Kind, Policy: r.Policy, Cause: r.Cause, Who: r.Who, Request: r.Request, State: r.State, Waits: r.Waits, NotBefore: r.NotBefore,
		Cancel: r.Cancel, Due: r.Due, Made: r.Made, Started: r.Started, Ended: r.Ended, Error: r.Error, Result: r.Result, Note: r.Note, Machines: r.Figures.Machines, Moved: r.Figures.Moved, Stored: r.Figures.Stored, Tasks: Each(r.Tasks, Task)}
}

// Task is a task.
func Task(t records.Task) wire.Task {
	return wire.Task{ID: t.ID, Run: t.Run, Machine: t.Machine, MachineID: t.MachineID, Hypervisor: t.Hypervisor, Store: t.Store, State: t.State, Why: t.Why, Tries: t.Tries,
		Steps: Each(t.Steps, func(s records.TaskStep) wire.TaskStep { return wire.TaskStep(s) }), Step: t.Step, Image: t.Image, Started: t.Started, Ended: t.Ended,
		Done: t.Done, Total: t.Total, NewBytes: t.NewBytes, Stored: t.Stored, Frozen: t.Frozen, Warnings: t.Warnings, Error: t.Error}
}

// Line is a line of a run's log.
func Line(l records.LogLine) wire.LogLine {
	return wire.LogLine{ID: l.ID, At: l.At, Machine: l.Machine, Kind: l.Kind, Text: l.Text}
}

// Image is an image.
func Image(m records.Image) wire.Image {
	return wire.Image{ID: m.ID, Machine: m.Machine, MachineID: m.MachineID, Policy: m.Policy, Store: m.Store, Run: m.Run, Taken: m.Taken, State: m.State, Scope: m.Scope, Capture: m.Capture,
		Since: m.Since, CaptureWhy: m.CaptureWhy, Base: m.Base, Consistency: m.Consistency, Frozen: m.Frozen, Pinned: m.Pinned, PinNote: m.PinNote,
		Disks: Each(m.Disks, func(d records.ImageDisk) wire.ImageDisk { return wire.ImageDisk(d) }), Size: m.Size, Read: m.Read, NewBytes: m.NewBytes, Stored: m.Stored,
		Note: m.Note, SeparateSet: m.SeparateSet, Took: m.Took, Gone: m.Gone, GoneWhy: m.GoneWhy, Proven: m.Proven, ProvenAt: m.ProvenAt, Failed: m.Failed, Odd: m.Unusual, InStore: m.InStore, Leaving: m.Leaving, Locked: m.Locked, CopyOf: m.CopyOf, CopiedBy: m.CopiedBy, Also: []wire.Twin{},
		Firmware: Each(m.Firmware, func(f records.ImageFirmware) wire.ImageFirmware { return wire.ImageFirmware(f) }), Rested: Each(m.Rested, func(r image.Rested) image.Rested { return r }), Files: filesOf(m.Files)}
}

func filesOf(f *records.ImageFiles) *wire.ImageFiles {
	if f == nil {
		return nil
	}
	out := wire.ImageFiles(*f)
	return &out
}

// Proof is a proof.
func Proof(p records.Proof) wire.Proof { return wire.Proof(p) }

// Copy is a copy rule.
func Copy(c copies.Standing) wire.Copy {
	out := wire.Copy{Name: c.Name, Copy: c.Copy, NextDue: c.NextDue, Notice: c.Notice, Says: c.Says, Copies: c.Images, Waiting: c.Waiting, Behind: c.Behind}
	if c.Paused != nil {
		p := Pause(*c.Paused)
		out.Paused = &p
	}
	return out
}

// Group is a group with its members' images.
func Group(g trials.Group) wire.Group {
	return wire.Group{Name: g.Name, Note: g.Note, Members: Each(g.Members, func(m trials.Member) wire.GroupMember {
		out := wire.GroupMember{Machine: m.Name, Why: m.Why}
		if m.Image != nil {
			out.Image, out.Taken, out.Proven, out.Failed = m.Image.ID, &m.Image.Taken, m.Image.Proven, m.Image.Failed
		}
		return out
	})}
}

// Oddity is something unusual in an image.
func Oddity(o trust.Oddity) wire.Oddity {
	return wire.Oddity{Kind: o.Kind, Text: o.Text, Found: o.Found}
}

// Looked says who looked at what is unusual in an image, nil for nobody.
func Looked(m records.Image) *wire.LookedAt {
	if m.LookedAt == nil {
		return nil
	}
	return &wire.LookedAt{Who: m.LookedBy, At: *m.LookedAt, Note: m.LookedNote}
}

// Drill is what a drill showed.
func Drill(d drill.Result) wire.Drill {
	return wire.Drill{Result: d, Of: d.Of(), Sum: d.Sum()}
}

// ListedDrill is a drill in a list.
func ListedDrill(d drill.Listed) wire.Drill {
	return wire.Drill{Result: d.Result, Of: d.Of, Sum: d.Sum}
}

// OwedMachine is what is owed to a machine.
func OwedMachine(m promises.Machine, status string) wire.OwedMachine {
	return wire.OwedMachine{MachineID: m.ID, Machine: m.Label, Policies: m.Policies, Promise: m.Owed.String(), Standing: m.Worst(), Items: m.Items, Held: Each(m.Held(), func(h promise.Held) promise.Held { return h }), Status: status}
}

// Machine is a machine as the inventory sees it.
func Machine(v inventory.View) wire.Machine {
	out := wire.Machine{ID: v.ID, Name: v.Name, Label: v.Label, Hypervisor: v.Hypervisor, UUID: v.UUID, State: v.State, Tags: v.Tags,
		Disks: Each(v.Disks, func(d records.MachineDisk) wire.MachineDisk { return wire.MachineDisk(d) }), Seen: v.Seen,
		AlsoOn: v.AlsoOn, Notice: v.Notice, Retired: v.Retired, Keep: v.Keep, CoveredBy: v.CoveredBy}
	if v.NewestImage != nil {
		out.Newest = &wire.NewestImage{ID: *v.NewestImage, Taken: *v.NewestTaken, Proven: image.Level(v.NewestProven), Failed: v.NewestFailed}
	}
	return out
}

// Pause is a pause.
func Pause(p records.Pause) wire.Pause { return wire.Pause(p) }

// Policy is a policy as the lodge sees it.
func Policy(p lodge.PolicyView) wire.Policy {
	out := wire.Policy{Name: p.Name, Policy: p.Policy, NextDue: p.NextDue, Notice: p.Notice, Covers: p.Covers, Covered: p.Covered, FreshnessLimit: p.FreshnessLimit, Says: p.Says}
	if p.Paused != nil {
		pause := Pause(*p.Paused)
		out.Paused = &pause
	}
	return out
}

// Event is what changed.
func Event(e events.Event) wire.Event {
	out := wire.Event{Runs: Each(e.Runs, Run), Tasks: Each(e.Tasks, Task), Changed: []wire.Changed{}}
	for c, changed := range map[wire.Changed]bool{wire.RunsChanged: e.ManyRuns, wire.ImagesChanged: e.Images, wire.SiteChanged: e.Site} {
		if changed {
			out.Changed = append(out.Changed, c)
		}
	}
	return out
}

// Lane is a machine with its images.
func Lane(v lodge.LaneView) wire.Lane {
	return wire.Lane{Machine: Machine(v.View), Images: Each(v.Images, func(m records.Image) wire.LaneImage {
		return wire.LaneImage{ID: m.ID, Taken: m.Taken, State: m.State, Consistency: m.Consistency, Proven: m.Proven, Failed: m.Failed, Gone: m.Gone, GoneWhy: m.GoneWhy, Read: m.Read, Stored: m.Stored}
	}), Late: v.Late, FreshnessLimit: v.FreshnessLimit, Next: v.Next}
}

// Part is a part of a machine's system state.
func Part(p source.PartOf) wire.Part {
	return wire.Part{Name: p.Name, About: p.About, Mandatory: p.Mandatory, Paths: Each(p.Paths, same), Files: p.Files, Bytes: p.Bytes, Output: Each(p.Output, same), Trouble: Each(p.Trouble, same)}
}

func same(s string) string { return s }
