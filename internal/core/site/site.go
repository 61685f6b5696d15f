// Package site is the configuration of a lodge: what the site file says. It reads, checks and compares; it does no I/O.
package site

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/near"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/when"
)

// Site is everything that a lodge is configured with.
type Site struct {
	// Zone is the tz database name of the zone in which schedules and rotations are read.
	Zone        string                `yaml:"zone" json:"zone" doc:"tz database name, for schedules and rotations"`
	Hypervisors map[string]Hypervisor `yaml:"hypervisors,omitempty" json:"hypervisors,omitempty"`
	Stores      map[string]Store      `yaml:"stores,omitempty" json:"stores,omitempty"`
	Policies    map[string]Policy     `yaml:"policies,omitempty" json:"policies,omitempty"`
}

// Hypervisor says how a host that runs guests is reached.
type Hypervisor struct {
	URI string `yaml:"uri" json:"uri" doc:"libvirt address: qemu:///system, or qemu+unix:///session?socket=/path"`
	// Pool is the storage pool for restored disks; empty for the first active one.
	Pool string `yaml:"pool,omitempty" json:"pool,omitempty" doc:"storage pool for restored disks"`
}

// Policy says what to protect, how, when, into which store, and how its sets rotate.
type Policy struct {
	// Machines are names, or patterns with * and ?.
	Machines []string `yaml:"machines,omitempty" json:"machines,omitempty" doc:"names, or patterns with * and ?"`
	// Tags selects machines that bear them all, beside those named.
	Tags  map[string]string `yaml:"tags,omitempty" json:"tags,omitempty" doc:"machines that bear all of these are selected too"`
	Store string            `yaml:"store" json:"store"`
	// Cycle says when an image is full; what lies between is of kind Capture.
	Cycle     string   `yaml:"cycle,omitempty" json:"cycle,omitempty" doc:"when an image is full: always full (the default), full every 7th, full on sun, full once"`
	Capture   string   `yaml:"capture,omitempty" json:"capture,omitempty" enum:"incremental,differential" doc:"what lies between full ones; default incremental"`
	Quiesce   string   `yaml:"quiesce,omitempty" json:"quiesce,omitempty" enum:"required,preferred,off" doc:"default preferred"`
	Schedules []string `yaml:"schedules,omitempty" json:"schedules,omitempty" doc:"schedule phrases, such as: every day at 23:00"`
	Rotation  string   `yaml:"rotation" json:"rotation" doc:"rotation phrase, such as: newest 3"`
	// Fold joins a full image that the rule lets go with the one after it, where that leans on it.
	Fold bool `yaml:"fold,omitempty" json:"fold,omitempty" doc:"fold a full image that may go into the incremental after it, so that the count is exact (open layout)"`
	// ByHand keeps images of runs by hand in a set of their own.
	ByHand string `yaml:"by_hand,omitempty" json:"by_hand,omitempty" enum:"apart" doc:"apart: images of runs by hand are no part of the scheduled ones' set"`
	// Prove is the level at which each new image is proven after the run, or empty.
	Prove string `yaml:"prove,omitempty" json:"prove,omitempty" enum:"read,mount" doc:"prove each new image at this level"`
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,62}$`)

// Choices of a site file's fields.
var (
	quiesces = []string{"required", "preferred", "off"}
	captures = []string{"incremental", "differential"}
	proofs   = []string{"read", "mount"}
)

// FileError is a mistake in a site file.
type FileError struct {
	File string
	Line int // from 1; 0 if unknown
	Why  string
}

func (e *FileError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Why)
	}
	return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Why)
}

var unknownField = regexp.MustCompile(`unknown field "([^"]*)"`)

// Parse reads a site file and checks it. file is its name, for errors, which are of type [*FileError].
func Parse(file string, text []byte) (Site, error) {
	var s Site
	if err := yaml.UnmarshalWithOptions(text, &s, yaml.Strict()); err != nil {
		return s, wrong(file, err)
	}
	if err := s.Check(); err != nil {
		var at *fieldError
		line := 0
		if errors.As(err, &at) {
			line = lineOf(text, at.path)
		}
		return s, &FileError{file, line, err.Error()}
	}
	return s, nil
}

func wrong(file string, err error) error {
	var y yaml.Error
	if !errors.As(err, &y) {
		return &FileError{file, 0, err.Error()}
	}
	line := 0
	if t := y.GetToken(); t != nil && t.Position != nil {
		line = t.Position.Line
	}
	why := y.GetMessage()
	if m := unknownField.FindStringSubmatch(why); m != nil {
		why = fmt.Sprintf("the key %q is not known here%s", m[1], near.Hint(m[1], []string{"zone", "hypervisors", "stores", "policies",
			"uri", "pool", "medium", "layout", "folder", "endpoint", "bucket", "region", "path_style", "host", "port", "user", "host_key",
			"sealed", "compress", "grace", "floor", "floor_inodes", "sweep_window", "sweep_bandwidth", "machines", "tags", "store", "cycle", "capture", "quiesce", "schedules", "rotation", "fold", "by_hand", "prove"}))
	}
	return &FileError{file, line, why}
}

// lineOf finds the line of a YAML path, or 0.
func lineOf(text []byte, at string) int {
	p, err := yaml.PathString(at)
	if err != nil {
		return 0
	}
	node, err := p.ReadNode(strings.NewReader(string(text)))
	if err != nil {
		return 0
	}
	return node.GetToken().Position.Line
}

// fieldError is a mistake at a YAML path.
type fieldError struct {
	path, name, why string
}

func (e *fieldError) Error() string { return e.name + ": " + e.why }

func at(name, path string, format string, args ...any) error {
	return &fieldError{path, name, fmt.Sprintf(format, args...)}
}

// Check finds what is wrong in a site by itself, with no look at the world.
func (s Site) Check() error {
	zone, err := time.LoadLocation(s.Zone)
	if s.Zone == "" || err != nil {
		return at("zone", "$.zone", `%q is not in the tz database; write for example "Europe/Lisbon"`, s.Zone)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Hypervisors)) {
		p := "$.hypervisors." + quoted(name)
		if err := checkName("hypervisor", name, p); err != nil {
			return err
		}
		if s.Hypervisors[name].URI == "" {
			return at("hypervisor "+name, p, `uri is missing; write for example "qemu:///system"`)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		p, v := "$.stores."+quoted(name), s.Stores[name]
		if err := checkName("store", name, p); err != nil {
			return err
		}
		if err := v.check("store "+name, p); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Policies)) {
		p := "$.policies." + quoted(name)
		if err := checkName("policy", name, p); err != nil {
			return err
		}
		if err := s.Policies[name].check("policy "+name, p, s, zone); err != nil {
			return err
		}
	}
	return nil
}

// quoted makes a map key safe in a YAML path.
func quoted(name string) string {
	return "'" + strings.ReplaceAll(name, "'", `\'`) + "'"
}

func checkName(kind, name, p string) error {
	if nameForm.MatchString(name) {
		return nil
	}
	return at(kind+" "+name, p, "a name has up to 63 lower-case letters, digits, dots and dashes, and begins with a letter or digit")
}

func (v Policy) check(name, p string, s Site, zone *time.Location) error {
	if len(v.Machines) == 0 && len(v.Tags) == 0 {
		return at(name, p, `it selects no machine; write "machines" or "tags"`)
	}
	for _, m := range v.Machines {
		if _, err := path.Match(m, ""); err != nil || m == "" {
			return at(name, p+".machines", "%q is not a machine's name or a pattern", m)
		}
	}
	if _, ok := s.Stores[v.Store]; !ok {
		return at(name, p+".store", "no store is called %q%s", v.Store, near.Hint(v.Store, slices.Sorted(maps.Keys(s.Stores))))
	}
	if v.Quiesce != "" && !slices.Contains(quiesces, v.Quiesce) {
		return at(name, p+".quiesce", "quiesce %q is not known%s", v.Quiesce, near.Hint(v.Quiesce, quiesces))
	}
	if err := v.checkCycle(name, p, s); err != nil {
		return err
	}
	if v.ByHand != "" && v.ByHand != "apart" {
		return at(name, p+".by_hand", `by_hand %q is not known; known is "apart"`, v.ByHand)
	}
	if v.Prove != "" && !slices.Contains(proofs, v.Prove) {
		return at(name, p+".prove", "proof level %q is not known%s", v.Prove, near.Hint(v.Prove, proofs))
	}
	if _, err := rotation.Parse(v.Rotation); err != nil {
		return at(name, p+".rotation", "%v", err)
	}
	for i, phrase := range v.Schedules {
		if _, err := when.Parse(phrase, zone); err != nil {
			return at(name, fmt.Sprintf("%s.schedules[%d]", p, i), "%v", err)
		}
	}
	return nil
}

func (v Policy) checkCycle(name, p string, s Site) error {
	rule, err := cycle.Parse(v.Cycle)
	switch {
	case err != nil:
		return at(name, p+".cycle", "%v", err)
	case v.Capture != "" && !slices.Contains(captures, v.Capture):
		return at(name, p+".capture", "capture %q is not known%s", v.Capture, near.Hint(v.Capture, captures))
	case v.Capture != "" && rule.AlwaysFull():
		return at(name, p+".capture", `every image is full by the cycle %q, so none is %s; write for example cycle: "full every 7th"`, rule, v.Capture)
	case v.Fold && s.Stores[v.Store].Layout != "open":
		return at(name, p+".fold", "store %s is pooled: every image in it stands alone, and there is nothing to fold", v.Store)
	case v.Fold && (rule.AlwaysFull() || v.Capture == "differential"):
		return at(name, p+".fold", "only incremental images can be folded into, one after the other; this policy makes none")
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

// Between is the kind of capture that lies between full ones.
func (v Policy) Between() string {
	if v.Capture == "" {
		return "incremental"
	}
	return v.Capture
}

// Encode writes the site file. Parse reads it back to the same site.
func (s Site) Encode() ([]byte, error) {
	return yaml.MarshalWithOptions(s, yaml.Indent(2), yaml.IndentSequence(true))
}

// Location is the site's zone; Check has made sure that it exists.
func (s Site) Location() *time.Location {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return time.UTC
	}
	return zone
}

// Selects reports whether the policy covers a machine.
func (v Policy) Selects(name string, tags map[string]string) bool {
	for _, m := range v.Machines {
		if ok, _ := path.Match(m, name); ok {
			return true
		}
	}
	for key, value := range v.Tags {
		if tags[key] != value {
			return false
		}
	}
	return len(v.Tags) > 0
}

// Exact lists the selections that name one machine, which should exist.
func (v Policy) Exact() []string {
	var names []string
	for _, m := range v.Machines {
		if !strings.ContainsAny(m, `*?[\`) {
			names = append(names, m)
		}
	}
	return names
}

// Change is one difference between two sites, in words.
type Change struct {
	What string `json:"what" enum:"add,change,remove"`
	Kind string `json:"kind"`
	Name string `json:"name"`
	// Detail tells a changed field with its old and new value.
	Detail string `json:"detail,omitempty"`
}

// Compare lists what applying next over s would change; it is empty if they agree.
func (s Site) Compare(next Site) ([]Change, error) {
	changes := []Change{}
	if s.Zone != next.Zone {
		changes = append(changes, Change{"change", "zone", next.Zone, fmt.Sprintf("zone: %q becomes %q", s.Zone, next.Zone)})
	}
	for _, k := range []struct {
		kind     string
		old, new map[string]any
	}{
		{"hypervisor", anyMap(s.Hypervisors), anyMap(next.Hypervisors)},
		{"store", anyMap(s.Stores), anyMap(next.Stores)},
		{"policy", anyMap(s.Policies), anyMap(next.Policies)},
	} {
		names := slices.Sorted(maps.Keys(k.new))
		for name := range k.old {
			if _, ok := k.new[name]; !ok {
				names = append(names, name)
			}
		}
		slices.Sort(names)
		for _, name := range names {
			was, had := k.old[name]
			is, has := k.new[name]
			switch {
			case !had:
				changes = append(changes, Change{"add", k.kind, name, ""})
			case !has:
				changes = append(changes, Change{"remove", k.kind, name, ""})
			default:
				detail, err := differences(was, is)
				if err != nil {
					return nil, err
				}
				if detail != "" {
					changes = append(changes, Change{"change", k.kind, name, detail})
				}
			}
		}
	}
	return changes, nil
}

func anyMap[V any](m map[string]V) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// differences lists the fields in which two values of one type differ, by their YAML names.
func differences(was, is any) (string, error) {
	fields := func(v any) (map[string]any, error) {
		body, err := yaml.Marshal(v)
		if err != nil {
			return nil, err
		}
		out := map[string]any{}
		return out, yaml.Unmarshal(body, &out)
	}
	a, err := fields(was)
	if err != nil {
		return "", err
	}
	b, err := fields(is)
	if err != nil {
		return "", err
	}
	keys := slices.Collect(maps.Keys(a))
	for k := range b {
		if _, ok := a[k]; !ok {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	var out []string
	for _, k := range keys {
		if one, two := fmt.Sprint(a[k]), fmt.Sprint(b[k]); one != two {
			out = append(out, fmt.Sprintf("%s: %s becomes %s", k, told(a[k]), told(b[k])))
		}
	}
	return strings.Join(out, "; "), nil
}

func told(v any) string {
	if v == nil {
		return "nothing"
	}
	return fmt.Sprintf("%q", fmt.Sprint(v))
}
