// Package site is the configuration of a lodge: what the site file says. It reads, checks and compares; it does no I/O.
package site

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/field"
	"keenlodge/internal/core/media"
	"keenlodge/internal/core/suggest"
)

// Site is everything that a lodge is configured with.
type Site struct {
	// Zone is the tz database name of the zone in which schedules and rotations are read.
	Zone string `yaml:"zone" json:"zone,omitempty" doc:"tz database name, for schedules and rotations; left out, it is the host's"`
	// TasksAtOnce is how many machines the lodge captures at the same time, on all its processes.
	TasksAtOnce int `yaml:"tasks_at_once,omitempty" json:"tasks_at_once,omitempty" doc:"how many machines are captured at the same time; default 4"`
	// KeepImages is how long the records of images are kept that left their stores.
	KeepImages string `yaml:"keep_images,omitempty" json:"keep_images,omitempty" doc:"how long the records of images are kept that left their stores; default 1 year"`
	// KeepRuns is how long the records of runs are kept.
	KeepRuns    string                `yaml:"keep_runs,omitempty" json:"keep_runs,omitempty" doc:"how long the records of runs are kept; default 1 year"`
	Webhooks    map[string]Webhook    `yaml:"webhooks,omitempty" json:"webhooks,omitempty"`
	Hypervisors map[string]Hypervisor `yaml:"hypervisors,omitempty" json:"hypervisors,omitempty"`
	Stores      map[string]Store      `yaml:"stores,omitempty" json:"stores,omitempty"`
	Policies    map[string]Policy     `yaml:"policies,omitempty" json:"policies,omitempty"`
	Groups      map[string]Group      `yaml:"groups,omitempty" json:"groups,omitempty"`
	Copies      map[string]Copy       `yaml:"copies,omitempty" json:"copies,omitempty"`
}

// Hypervisor says how a host that runs guests is reached.
type Hypervisor struct {
	// Kind says what it is spoken to as; empty for [Libvirt].
	Kind string `yaml:"kind,omitempty" json:"kind,omitempty" doc:"how it is spoken to: libvirt (default), or agent for servers whose agents call the lodge"`
	URI  string `yaml:"uri,omitempty" json:"uri,omitempty" doc:"libvirt address: qemu:///system, qemu+unix:///session?socket=/path, qemu+ssh://user@host/system or qemu+tls://host/system"`
	// HostKey is what a host that is reached by SSH is known by.
	HostKey string `yaml:"host_key,omitempty" json:"host_key,omitempty" doc:"by SSH: the host's public key (ssh-ed25519 AAAA…); by default what the service's known_hosts files say"`
	// KeyFile, CertFile and CAFile are paths of files that the service can read.
	KeyFile  string `yaml:"key_file,omitempty" json:"key_file,omitempty" doc:"private key (PEM, without a passphrase) that signs in, by SSH or TLS; by SSH the keys of the service's agent by default"`
	CertFile string `yaml:"cert_file,omitempty" json:"cert_file,omitempty" doc:"by TLS: the service's own certificate (PEM)"`
	CAFile   string `yaml:"ca_file,omitempty" json:"ca_file,omitempty" doc:"by TLS: the certificate of the authority that the host's is from (PEM)"`
	// SecretFile is the path of a file that the service can read, and nobody else.
	SecretFile string `yaml:"secret_file,omitempty" json:"secret_file,omitempty" doc:"by HTTPS: a file that holds NAME:SECRET to sign in with, of mode 0600"`
	// Twin is the address of the other node of a pair, Export how exports of an appliance are made.
	Twin   string           `yaml:"twin,omitempty" json:"twin,omitempty" doc:"of an appliance: the address of its other node, where it has two"`
	Export *export.Settings `yaml:"export,omitempty" json:"export,omitempty" doc:"of an appliance: how exports of it are made"`
	// Place is where it is.
	Place string `yaml:"place,omitempty" json:"place,omitempty" doc:"where it is, by a name of your own such as harbour-office; roles can be narrowed to places"`
	// Pool is the storage pool for restored disks; empty for the first active one.
	Pool string `yaml:"pool,omitempty" json:"pool,omitempty" doc:"storage pool for restored disks"`
	// TasksAtOnce is how many of its guests are captured at the same time.
	TasksAtOnce int      `yaml:"tasks_at_once,omitempty" json:"tasks_at_once,omitempty" doc:"how many of its guests are captured at the same time; default 2"`
	Windows     []string `yaml:"windows,omitempty" json:"windows,omitempty" doc:"hours in which runs may start, such as: only 20:00-06:00, never sun 10:00-12:00"`
	Bandwidth   []string `yaml:"bandwidth,omitempty" json:"bandwidth,omitempty" doc:"what may be read from its guests in a second, such as: 40 MiB, 10 MiB mon-fri 08:00-18:00"`
	// Trials says how images may be tried on it; nil is not at all.
	Trials *expect.Trials `yaml:"trials,omitempty" json:"trials,omitempty" doc:"how images may be tried on it, as throwaway guests: how many at once, or more; by default none"`
}

// Libvirt is the kind of hypervisors that are reached through libvirt, Agents that of servers whose agents call the lodge; Servers is what their
// source is called where nobody says otherwise.
const (
	Libvirt = "libvirt"
	Agents  = "agent"
	Servers = "servers"
)

// sources are the kinds that this program knows; their packages register them.
var sources = []string{Libvirt, Agents}

// RegisterSource makes a kind of source known to the check of site files.
func RegisterSource(kind string) {
	if !slices.Contains(sources, kind) {
		sources = append(sources, kind)
	}
}

// SourceKind is the kind of source that the hypervisor is.
func (h Hypervisor) SourceKind() string { return cmp.Or(h.Kind, Libvirt) }

// SourcesOf lists the sources of a kind, by name.
func (s Site) SourcesOf(kind string) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(s.Hypervisors)) {
		if s.Hypervisors[name].SourceKind() == kind {
			out = append(out, name)
		}
	}
	return out
}

// Webhook is an address that is told of runs by policies' hooks, and of whatever else it asks for.
type Webhook struct {
	URL    string       `yaml:"url" json:"url" doc:"https:// address, or http:// on loopback"`
	Events []event.Name `yaml:"events,omitempty" json:"events,omitempty" doc:"what it is told of wherever it happens, besides what hooks of policies tell it"`
}

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
		var at *field.Error
		line := 0
		if errors.As(err, &at) {
			line = lineOf(text, at.Path)
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
		why = fmt.Sprintf("the key %q is not known here%s", m[1], suggest.Hint(m[1], knownKeys()))
	}
	return &FileError{file, line, why}
}

// knownKeys lists every key of a site file.
func knownKeys() []string {
	names := fieldNames(reflect.TypeFor[Site]())
	for _, name := range media.Known() {
		if settings, err := media.Empty(name); err == nil {
			names = append(names, fieldNames(reflect.TypeOf(settings).Elem())...)
		}
	}
	return names
}

// fieldNames lists the keys of a type and of all that lies in it, by their YAML names.
func fieldNames(t reflect.Type) (names []string) {
	switch t.Kind() {
	case reflect.Map, reflect.Slice, reflect.Pointer:
		return fieldNames(t.Elem())
	case reflect.Struct:
		for i := range t.NumField() {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
			names = append(append(names, name), fieldNames(t.Field(i).Type)...)
		}
	}
	return names
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

// Check finds what is wrong in a site by itself, with no look at the world.
func (s Site) Check() error {
	zone, err := time.LoadLocation(s.Zone) // one that is left out is read as UTC, which no rule here depends on
	if err != nil {
		return field.At("zone", "$.zone", `%q is not in the tz database; write for example "Europe/Lisbon"`, s.Zone)
	}
	if s.TasksAtOnce < 0 || s.TasksAtOnce > 1000 {
		return field.At("tasks_at_once", "$.tasks_at_once", "%d is not a number from 1 to 1000", s.TasksAtOnce)
	}
	if _, err := field.SpanOr(s.KeepRuns, keepRuns); err != nil {
		return field.At("keep_runs", "$.keep_runs", "%v", err)
	}
	if _, err := field.SpanOr(s.KeepImages, keepRuns); err != nil {
		return field.At("keep_images", "$.keep_images", "%v", err)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Webhooks)) {
		p := "$.webhooks." + field.Quoted(name)
		if err := field.Name("webhook", name, p); err != nil {
			return err
		}
		if err := s.Webhooks[name].check("webhook "+name, p); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Hypervisors)) {
		p, v := "$.hypervisors."+field.Quoted(name), s.Hypervisors[name]
		if err := field.Name("hypervisor", name, p); err != nil {
			return err
		}
		if err := field.Known("hypervisor "+name, p, "kind", v.Kind, sources); err != nil {
			return err
		}
		if err := field.Place("hypervisor "+name, p, v.Place); err != nil {
			return err
		}
		if v.SourceKind() == Agents && v.URI != "" {
			return field.At("hypervisor "+name, p, `servers have no uri, for their agents call the lodge; leave it out`)
		}
		if v.URI == "" && v.SourceKind() != Agents {
			return field.At("hypervisor "+name, p, `uri is missing; write for example "qemu:///system"`)
		}
		if err := field.Limits("hypervisor "+name, p, v.TasksAtOnce, v.Windows, v.Bandwidth); err != nil {
			return err
		}
		if err := cmp.Or(v.Trials.Check("hypervisor "+name, p), v.Export.Check("hypervisor "+name, p)); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		p, v := "$.stores."+field.Quoted(name), s.Stores[name]
		if err := field.Name("store", name, p); err != nil {
			return err
		}
		if err := v.check("store "+name, p); err != nil {
			return err
		}
	}
	if err := s.checkLikes(); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(s.Policies)) {
		p := "$.policies." + field.Quoted(name)
		if err := field.Name("policy", name, p); err != nil {
			return err
		}
		if err := s.Policies[name].check("policy "+name, p, s, zone); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Groups)) {
		p := "$.groups." + field.Quoted(name)
		if err := field.Name("group", name, p); err != nil {
			return err
		}
		if err := s.Groups[name].check("group "+name, p); err != nil {
			return err
		}
	}
	if err := s.checkSets(); err != nil {
		return err
	}
	s = s.InTurn(func(string) bool { return false })
	if err := s.checkCopies(zone); err != nil {
		return err
	}
	return s.checkChains()
}

// Complete fills in what was left out and has an obvious value: the zone, and a store's layout.
func (s Site) Complete(zone string) Site {
	if s.Zone == "" {
		s.Zone = zone
	}
	s.Stores = maps.Clone(s.Stores)
	for name, v := range s.Stores {
		s.Stores[name] = v.Complete()
	}
	return s.InTurn(func(string) bool { return false })
}

// Policy finds a policy; one that is not there is [fault.ErrNotFound], with the nearest name that is.
func (s Site) Policy(name string) (Policy, error) {
	spec, ok := s.Policies[name]
	if !ok {
		return spec, fault.Unknown("policy", name, slices.Sorted(maps.Keys(s.Policies)))
	}
	return spec, nil
}

// Store finds a store; one that is not there is [fault.ErrNotFound], with the nearest name that is.
func (s Site) Store(name string) (Store, error) {
	spec, ok := s.Stores[name]
	if !ok {
		return spec, fault.Unknown("store", name, slices.Sorted(maps.Keys(s.Stores)))
	}
	return spec, nil
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
	if s.TasksAtOnce != next.TasksAtOnce {
		changes = append(changes, Change{"change", "tasks_at_once", "", fmt.Sprintf("tasks_at_once: %d becomes %d", s.Tasks(), next.Tasks())})
	}
	if s.KeepImages != next.KeepImages {
		changes = append(changes, Change{"change", "keep_images", "", fmt.Sprintf("keep_images: %q becomes %q", s.KeepImages, next.KeepImages)})
	}
	if s.KeepRuns != next.KeepRuns {
		changes = append(changes, Change{"change", "keep_runs", "", fmt.Sprintf("keep_runs: %q becomes %q", s.KeepRuns, next.KeepRuns)})
	}
	for _, k := range []struct {
		kind     string
		old, new map[string]any
	}{
		{"webhook", anyMap(s.Webhooks), anyMap(next.Webhooks)},
		{"hypervisor", anyMap(s.Hypervisors), anyMap(next.Hypervisors)},
		{"store", anyMap(s.Stores), anyMap(next.Stores)},
		{"policy", anyMap(s.Policies), anyMap(next.Policies)},
		{"group", anyMap(s.Groups), anyMap(next.Groups)},
		{"copy rule", anyMap(s.Copies), anyMap(next.Copies)},
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

// Unchanged is an error that says what differs between two configurations, or nil.
func (s Site) Unchanged(is Site) error {
	changes, err := s.Compare(is)
	if err != nil || len(changes) == 0 {
		return err
	}
	var told []string
	for _, c := range changes {
		told = append(told, strings.TrimSpace(c.What+" "+c.Kind+" "+c.Name))
	}
	return fmt.Errorf("%w: somebody else has changed the site meanwhile (%s), so nothing was changed; look at it, and apply again", fault.ErrConflict, strings.Join(told, ", "))
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
			out = append(out, fmt.Sprintf("%s: %s becomes %s", k, quoteValue(a[k]), quoteValue(b[k])))
		}
	}
	return strings.Join(out, "; "), nil
}

func quoteValue(v any) string {
	if v == nil {
		return "nothing"
	}
	switch v.(type) {
	case map[string]any, []any:
		if body, err := json.Marshal(v); err == nil {
			return string(body)
		}
	}
	return fmt.Sprintf("%q", fmt.Sprint(v))
}
