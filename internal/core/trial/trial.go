// Package trial makes a verdict of what was seen of a machine that was started from its image: how far it came, and if it did not come up, why. It knows
// no hypervisor: what it reads are the machine's own words, which are anybody's.
package trial

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/plain"
)

// Cause is why a machine did not pass.
type Cause string

const (
	// NoDisk: its firmware found nothing to start from.
	NoDisk Cause = "no boot disk"
	// Loader: its boot loader goes no further.
	Loader Cause = "boot loader"
	// Panic: its kernel gave up.
	Panic Cause = "kernel panic"
	// Emergency: it waits in a shell for somebody to mend it.
	Emergency Cause = "emergency shell"
	// Passphrase: it asks for one, for its disk is encrypted.
	Passphrase Cause = "passphrase"
	// PoweredOff: it ended by itself. Restarting: it starts again and again.
	PoweredOff Cause = "powered off"
	Restarting Cause = "restarting"
	// Late: it had not come up when the time was over.
	Late Cause = "not up in time"
	// Unexpected: it came up, and something that is expected of it does not hold.
	Unexpected Cause = "not as expected"
)

// Causes lists every cause.
var Causes = []Cause{NoDisk, Loader, Panic, Emergency, Passphrase, PoweredOff, Restarting, Late, Unexpected}

// Stage is how far a machine came.
type Stage string

// The stages, in their order. A machine that comes up need not show each of them.
const (
	BootLoader Stage = "boot loader"
	Kernel     Stage = "kernel"
	Agent      Stage = "agent"
	Login      Stage = "login"
)

// Kind is what sort of thing was looked for.
type Kind string

// What may be looked for. A stage is one of [Stage], by its name.
const (
	OfStage   Kind = "stage"
	OfNetwork Kind = "network"
	OfSystem  Kind = "system"
	OfPort    Kind = "port"
	OfCommand Kind = "command"
	OfText    Kind = "text"
	OfLedger  Kind = "ledger"
	OfErrors  Kind = "errors"
)

// Finding is something that was looked for. Of one that did not hold Text says why.
type Finding struct {
	Kind   Kind   `json:"kind"`
	Name   string `json:"name"`
	Passed bool   `json:"passed"`
	// After is when it held, since power-on, in nanoseconds.
	After time.Duration `json:"after"`
	Text  string        `json:"text,omitempty"`
}

// Exhibit is a file that belongs to a trial: a picture of the screen, what was said on the serial line.
type Exhibit struct {
	Name string `json:"name"`
	// Kind is a media type (RFC 6838).
	Kind  string        `json:"kind"`
	About string        `json:"about"`
	After time.Duration `json:"after"`
}

// Report is what a trial showed. Durations are in nanoseconds, sizes in bytes.
type Report struct {
	Host    string    `json:"host"`
	Version string    `json:"version"`
	Steps   []Finding `json:"steps"`
	Cause   Cause     `json:"cause,omitempty"`
	// Begun is when it was switched on, WrittenOut how long its disks were written out before that, 0 where they stayed in the store.
	Begun      time.Time     `json:"begun,omitzero"`
	WrittenOut time.Duration `json:"writtenOut,omitempty"`
	// Up is how long it took until it answered, or showed what it shows when it is up.
	Up time.Duration `json:"up"`
	// Adapted says in what the guest differs from the machine; Tried is what it tried to reach in its closed network and did not.
	Adapted []string `json:"adapted,omitempty"`
	Tried   []string `json:"tried,omitempty"`
	// Units are those that failed in it, Messages those of level error, New what of both the last passed trial did not have.
	Units    []string `json:"units,omitempty"`
	Messages []string `json:"messages,omitempty"`
	New      []string `json:"new,omitempty"`
	// Lag is by how much the newest line of its ledgers is older than the image, nil where it has none.
	Lag *time.Duration `json:"lag,omitempty"`
	// Read is what was read of its disks from the store, of Disks bytes; Written what it wrote.
	Read     int64     `json:"read"`
	Disks    int64     `json:"disks"`
	Written  int64     `json:"written"`
	Exhibits []Exhibit `json:"exhibits,omitempty"`
}

// sign is a word by which a state is told.
type sign struct {
	cause Cause
	is    *regexp.Regexp
	// settled says that it ends there: nothing that comes after it changes it.
	settled bool
}

// signs are in the order in which they count. They are looked for in the last lines, but for those that are settled.
var signs = []sign{
	{Panic, regexp.MustCompile(`(?i)kernel panic - not syncing|not syncing: VFS|end Kernel panic`), true},
	{Passphrase, regexp.MustCompile(`(?i)please (enter|unlock)[^\n]*(passphrase|password|disk)|enter passphrase for|passphrase:`), false},
	{Emergency, regexp.MustCompile(`(?i)you are in (emergency|rescue) mode|give root password for maintenance|control-d to continue|\(initramfs\)|dropping to a shell|dracut:/[^\n]*#|entering emergency mode`), false},
	{NoDisk, regexp.MustCompile(`(?i)no bootable (device|option)|boot failed: not a bootable disk|could not read the boot disk|operating system not found|non-system disk|missing operating system`), false},
	{Loader, regexp.MustCompile(`(?im)^(grub rescue|grub)> *$|error: (no such (partition|device)|unknown filesystem|file .* not found|disk .* not found|attempt to read|no server|you need to load the kernel)|entering rescue mode|press any key to continue`), false},
}

var loaderError = regexp.MustCompile(`(?m)^error: .+`)

// lastLines is how much of what a machine says shows what it waits for now, in lines.
const lastLines = 25

// Stuck says in which state a machine is that it does not get out of by itself, by what it says on its serial line and shows on its screen; words are the
// line by which that is told. "" is none.
func Stuck(serial, screen string) (c Cause, words string) {
	for _, s := range signs {
		for _, text := range []string{serial, screen} {
			text = clean(text)
			if !s.settled {
				text = last(text, lastLines)
			}
			at := s.is.FindStringIndex(text)
			if at == nil {
				continue
			}
			if why := loaderError.FindStringIndex(text); s.cause == Loader && why != nil { // which says more than the prompt that follows it
				at = why
			}
			return s.cause, lineAt(text, at[0])
		}
	}
	return "", ""
}

var (
	sawLoader = regexp.MustCompile(`(?i)\bGRUB\b|booting from hard disk|systemd-boot|booting '|ISOLINUX|SYSLINUX|BdsDxe: starting`)
	sawKernel = regexp.MustCompile(`(?m)Linux version \d|^\[ +\d+\.\d+\]|systemd\[1\]|Decompressing Linux|^EXT4-fs|^Run /init as init process`)
	sawLogin  = regexp.MustCompile(`(?m)\blogin: *$`)
)

// Stages are those that a machine's words show.
func Stages(serial, screen string) (out []Stage) {
	text := clean(serial) + "\n" + clean(screen)
	for _, s := range []struct {
		stage Stage
		is    *regexp.Regexp
	}{{BootLoader, sawLoader}, {Kernel, sawKernel}, {Login, sawLogin}} {
		if s.is.MatchString(text) {
			out = append(out, s.stage)
		}
	}
	return out
}

// Starts is how often a machine's boot loader or kernel began, by its words on the serial line.
func Starts(serial string) int {
	return max(strings.Count(serial, "Linux version "), strings.Count(serial, "Booting from Hard Disk"), strings.Count(serial, "Welcome to GRUB"))
}

// Shows reports whether a text is among a machine's words.
func Shows(serial, screen, text string) bool {
	return strings.Contains(clean(serial), text) || strings.Contains(clean(screen), text)
}

var escapes = regexp.MustCompile(`\x1b(\[[0-9;?]*[A-Za-z]|[()][A-Za-z0-9]|[=>])`)

// clean is a text without what moves cursors and colours it (ECMA-48).
func clean(text string) string {
	return strings.ReplaceAll(escapes.ReplaceAllString(text, ""), "\r", "")
}

// Clean is what a machine said, fit to be kept and shown.
func Clean(text string) string { return plain.Text(clean(text), len(text)) }

func last(text string, lines int) string {
	all := strings.Split(strings.TrimRight(text, "\n"), "\n")
	return strings.Join(all[max(0, len(all)-lines):], "\n")
}

func lineAt(text string, at int) string {
	begin := strings.LastIndexByte(text[:at], '\n') + 1
	end := len(text)
	if i := strings.IndexByte(text[at:], '\n'); i >= 0 {
		end = at + i
	}
	return plain.Text(strings.TrimSpace(text[begin:end]), 200)
}

var changing = regexp.MustCompile(`0x[0-9a-fA-F]+|[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}|\d+`)

// New are the units and messages that an earlier trial did not have: but for numbers, which are other ones each time.
func New(now, before []string) (out []string) {
	known := map[string]bool{}
	for _, m := range before {
		known[changing.ReplaceAllString(m, "#")] = true
	}
	for _, m := range now {
		shape := changing.ReplaceAllString(m, "#")
		if !known[shape] {
			known[shape] = true
			out = append(out, m)
		}
	}
	return out
}

// mostMessages bounds how many units and messages are kept of a trial.
const mostMessages = 200

// Lines are the lines of an output, each once, fit to be kept.
func Lines(output string) (out []string) {
	for l := range strings.Lines(output) {
		l = plain.Text(strings.TrimSpace(l), 300)
		if l != "" && !slices.Contains(out, l) && len(out) < mostMessages {
			out = append(out, l)
		}
	}
	return out
}

// Failed is the first step that did not hold, nil where all did.
func (r Report) Failed() *Finding {
	for i := range r.Steps {
		if !r.Steps[i].Passed {
			return &r.Steps[i]
		}
	}
	return nil
}
