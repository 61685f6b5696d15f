// Package expect says what is expected of machines that are started from their images, or written out to be looked at, and what a hypervisor lends to that. It does
// no I/O.
package expect

import (
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/selection"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
)

// Trials says how images may be tried on a hypervisor: started there as throwaway guests.
type Trials struct {
	// AtOnce is how many guests may be tried at the same time; 0 is none.
	AtOnce int `yaml:"at_once" json:"at_once" doc:"how many guests may be tried at the same time"`
	// Hours are those in which trials may start that nobody asked for.
	Hours []string `yaml:"hours,omitempty" json:"hours,omitempty" doc:"hours in which trials may start, such as: only 00:00-06:00; those by hand start at any time"`
	// Memory bounds that of all together, MemoryEach that of one; Room is what each may write.
	Memory     string `yaml:"memory,omitempty" json:"memory,omitempty" doc:"how much memory they may have all together, such as 8 GiB; by default half of what the host has to spare"`
	MemoryEach string `yaml:"memory_each,omitempty" json:"memory_each,omitempty" doc:"how much memory one may have; by default what its machine has"`
	Room       string `yaml:"room,omitempty" json:"room,omitempty" doc:"how much each may write; default 4 GiB"`
	// Pool is the storage pool in which they write.
	Pool string `yaml:"pool,omitempty" json:"pool,omitempty" doc:"storage pool in which they write; by default the one for restored disks"`
}

// plainTrials is a Trials without its own ways to be written.
type plainTrials Trials

// UnmarshalYAML takes a number alone, too.
func (t *Trials) UnmarshalYAML(read func(any) error) error {
	if read(&t.AtOnce) == nil {
		return nil
	}
	return read((*plainTrials)(t))
}

// MarshalYAML writes a number alone where there is no more to say.
func (t Trials) MarshalYAML() (any, error) {
	if len(t.Hours) == 0 && t.Memory == "" && t.MemoryEach == "" && t.Room == "" && t.Pool == "" {
		return t.AtOnce, nil
	}
	return plainTrials(t), nil
}

const (
	mostTrials = 100
	// trialRoom is what a trial may write where the site does not say.
	trialRoom = 4 << 30
	// leastMemory is what a guest needs to be of any use.
	leastMemory = 64 << 20
)

// RoomEach is what each may write, in bytes; MemoryAll and MemoryOne are bounds of memory, 0 for none that is set.
func (t Trials) RoomEach() int64  { return field.BytesOr(t.Room, trialRoom) }
func (t Trials) MemoryAll() int64 { return field.BytesOr(t.Memory, 0) }
func (t Trials) MemoryOne() int64 { return field.BytesOr(t.MemoryEach, 0) }

// Open are the hours in which trials may start.
func (t Trials) Open() when.Windows { return field.WindowsOf(t.Hours) }

// Check finds what is wrong in it, which is at a YAML path of what has a name; errors are of type [*field.Error].
func (t *Trials) Check(name, p string) error {
	if t == nil {
		return nil
	}
	p += ".trials"
	if t.AtOnce < 0 || t.AtOnce > mostTrials {
		return field.At(name, p+".at_once", "trials: %d is not a number from 0 to %d", t.AtOnce, mostTrials)
	}
	if _, err := when.ParseWindows(t.Hours); err != nil {
		return field.At(name, p+".hours", "%v", err)
	}
	for f, text := range map[string]string{"memory": t.Memory, "memory_each": t.MemoryEach, "room": t.Room} {
		n, err := humanize.ParseBytes(text)
		if text != "" && (err != nil || n < leastMemory || n > 1<<50) {
			return field.At(name, p+"."+f, "%s: %q is not a size of at least 64 MiB, such as 4 GiB", f, text)
		}
	}
	return nil
}

// Clocks that a trial may begin with: the present time, or that at which its image was taken.
const (
	ClockNow   = "now"
	ClockImage = "image"
)

// Trial is what is expected of a machine that is started from its image.
type Trial struct {
	// Machines and Tags say which of the policy's machines are meant; none is all.
	Machines []string `yaml:"machines,omitempty" json:"machines,omitempty" doc:"names or patterns of the machines that are meant; left out, it is all of the policy's"`
	Tags     string   `yaml:"tags,omitempty" json:"tags,omitempty" doc:"tag expression that they fit"`
	// Within is how long all of it may take.
	Within string `yaml:"within,omitempty" json:"within,omitempty" doc:"how long it may take until all holds; default 10 minutes"`
	Clock  string `yaml:"clock,omitempty" json:"clock,omitempty" enum:"now,image" doc:"what time it is in the guest: now (the default), or when its image was taken"`
	// Agent says whether QEMU's guest agent has to answer.
	Agent *bool `yaml:"agent,omitempty" json:"agent,omitempty" doc:"whether QEMU's guest agent has to answer; by default where it did when the image was taken"`
	// System is what systemctl is-system-running has to say.
	System []string `yaml:"system,omitempty" json:"system,omitempty" doc:"what systemctl is-system-running may say, such as [running, degraded]; left out, it is not asked"`
	// Address is the machine's.
	Address string `yaml:"address,omitempty" json:"address,omitempty" doc:"its IPv4 address, where it has no agent that tells it and sends nothing by itself"`
	// Ports have to be open, asked from beside the guest.
	Ports    []int          `yaml:"ports,omitempty" json:"ports,omitempty" doc:"TCP ports that have to be open"`
	Commands []TrialCommand `yaml:"commands,omitempty" json:"commands,omitempty" doc:"commands in the guest that have to succeed"`
	// Text has to show on the serial line or the screen.
	Text string `yaml:"text,omitempty" json:"text,omitempty" doc:"text that has to show on the serial line or on a screen of text"`
	// Ledger bounds how old the newest line of a ledger may be, against the image.
	Ledger string `yaml:"ledger,omitempty" json:"ledger,omitempty" doc:"how much older than the image the newest line of its ledgers may be, such as 1 minute; then there must be one"`
	// Errors says what units that failed, and messages of level error, do that the last passed trial had not.
	Errors string `yaml:"errors,omitempty" json:"errors,omitempty" enum:"fail,warn,ignore" doc:"what failed units and messages of level error do that the last passed trial did not have: fail, warn (the default) or ignore"`
}

// TrialCommand is a command that has to succeed in the guest.
type TrialCommand struct {
	Command []string `yaml:"command" json:"command" doc:"command in the guest, run by its agent, until it ends with 0"`
	Expect  string   `yaml:"expect,omitempty" json:"expect,omitempty" doc:"text that its output has to contain"`
	Within  string   `yaml:"within,omitempty" json:"within,omitempty" doc:"how long it may take, with what goes before that; default 2 minutes"`
}

// RestoredCheck is a program of a machine's own that has to accept its files, as a proof by restore wrote them out. It runs as root in a guest that is thrown
// away, in the machine's own tree, which it may write to; there are no services, and no network.
type RestoredCheck struct {
	Machines     []string `yaml:"machines,omitempty" json:"machines,omitempty" doc:"names or patterns of the machines that are meant; left out, it is all of the policy's"`
	Tags         string   `yaml:"tags,omitempty" json:"tags,omitempty" doc:"tag expression that they fit"`
	TrialCommand `yaml:",inline"`
}

// ChecksOf are those of some checks that fit a machine, in their order.
func ChecksOf(of []RestoredCheck, machine string, tags map[string]string) (out []RestoredCheck) {
	for _, c := range of {
		if fits(c.Machines, c.Tags, machine, tags) {
			out = append(out, c)
		}
	}
	return out
}

// fits reports whether a machine is among those that patterns of names and a tag expression mean; none of either is all.
func fits(machines []string, expression, machine string, tags map[string]string) bool {
	named := len(machines) == 0 || slices.ContainsFunc(machines, func(pattern string) bool { ok, _ := path.Match(pattern, machine); return ok })
	parsed, err := selection.Parse(expression)
	return named && err == nil && (expression == "" || parsed.Matches(tags))
}

// What is made of failed units and messages that are new.
const (
	ErrorsFail   = "fail"
	ErrorsWarn   = "warn"
	ErrorsIgnore = "ignore"
)

// TrialTime is how long a trial may take that says nothing else.
const TrialTime = 10 * time.Minute

// Limit is how long all of it may take.
func (t Trial) Limit() time.Duration { return field.SpanOf(t.Within, TrialTime) }

// Limit is how long it may take.
func (c TrialCommand) Limit() time.Duration { return field.SpanOf(c.Within, 2*time.Minute) }

// Lag is how much older than its image a ledger's newest line may be, 0 where nothing is asked.
func (t Trial) Lag() time.Duration { return field.SpanOf(t.Ledger, 0) }

// Expected is the first of some expectations that fits a machine; ok is false if none does, and then it is the default.
func Expected(of []Trial, machine string, tags map[string]string) (t Trial, ok bool) {
	for _, t := range of {
		if fits(t.Machines, t.Tags, machine, tags) {
			return t, true
		}
	}
	return Trial{}, false
}

// Check finds what is wrong in it.
func (c RestoredCheck) Check(name, p string) error {
	if err := checkMeant(name, p, c.Machines, c.Tags); err != nil {
		return err
	}
	return c.TrialCommand.check(name, p)
}

// checkMeant refuses names and tags of machines that mean nothing.
func checkMeant(name, p string, machines []string, tags string) error {
	for _, m := range machines {
		if _, err := path.Match(m, ""); err != nil || m == "" {
			return field.At(name, p+".machines", "%q is not a machine's name or a pattern", m)
		}
	}
	if _, err := selection.Parse(tags); err != nil {
		return field.At(name, p+".tags", "%v", err)
	}
	return nil
}

func (c TrialCommand) check(name, p string) error {
	if len(c.Command) == 0 || !path.IsAbs(c.Command[0]) && strings.ContainsRune(c.Command[0], '/') {
		return field.At(name, p+".command", "a command is a list of words, the first a program's name or absolute path")
	}
	if _, err := field.SpanOr(c.Within, 0); err != nil {
		return field.At(name, p+".within", "within: %v", err)
	}
	return nil
}

// CheckAll finds what is wrong in expectations, which are at a YAML path of what has a name.
func CheckAll(name, p string, trials []Trial) error {
	for i, t := range trials {
		if err := t.check(name, fmt.Sprintf("%s.trials[%d]", p, i)); err != nil {
			return err
		}
	}
	return nil
}

func (t Trial) check(name, p string) error {
	if err := checkMeant(name, p, t.Machines, t.Tags); err != nil {
		return err
	}
	for f, text := range map[string]string{"within": t.Within, "ledger": t.Ledger} {
		if _, err := field.SpanOr(text, 0); err != nil {
			return field.At(name, p+"."+f, "%s: %v", f, err)
		}
	}
	if d := t.Limit(); d > 24*time.Hour {
		return field.At(name, p+".within", "within: a trial may take 1 day at most")
	}
	words := map[string][]string{"clock": {ClockNow, ClockImage}, "errors": {ErrorsFail, ErrorsWarn, ErrorsIgnore}}
	said := map[string]string{"clock": t.Clock, "errors": t.Errors}
	for _, f := range slices.Sorted(maps.Keys(words)) {
		if err := field.Known(name, p, f, said[f], words[f]); err != nil {
			return err
		}
	}
	for _, s := range t.System {
		if !slices.Contains(systemStates, s) {
			return field.At(name, p+".system", "systemctl is-system-running never says %q%s", s, suggest.Hint(s, systemStates))
		}
	}
	if a, err := netip.ParseAddr(t.Address); t.Address != "" && (err != nil || !a.Is4()) {
		return field.At(name, p+".address", "%q is no IPv4 address, such as 192.0.2.21", t.Address)
	}
	for _, port := range t.Ports {
		if port < 1 || port > 65535 {
			return field.At(name, p+".ports", "%d is no TCP port", port)
		}
	}
	for i, c := range t.Commands {
		if err := c.check(name, fmt.Sprintf("%s.commands[%d]", p, i)); err != nil {
			return err
		}
	}
	if t.Agent != nil && !*t.Agent && (len(t.Commands) > 0 || len(t.System) > 0 || t.Ledger != "") {
		return field.At(name, p+".agent", "commands, system and ledger are asked by the guest's agent; leave out agent: false")
	}
	return nil
}

// systemStates are what systemctl is-system-running may say (systemctl(1)) of a system that is up.
var systemStates = []string{"running", "degraded", "maintenance"}
