// Package back decides how files of an image go back to where files are already: what is new, what replaces what, what stays, and what goes. It reads
// and writes nothing; package unpack carries out what is decided here.
package back

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/zeebo/blake3"

	"keenlodge/internal/core/files"
)

// Existing is a rule for a file that is there already, and is another than that of the image.
type Existing string

// The rules.
const (
	// KeepBoth leaves what is there, and puts the image's beside it under a name that says when it is from.
	KeepBoth Existing = "keep-both"
	// Replace replaces what is there.
	Replace Existing = "replace"
	// Skip leaves what is there.
	Skip Existing = "skip"
	// Newer replaces what is older than the image's, and leaves the rest.
	Newer Existing = "newer"
)

// Rules are all of them; the first is what holds where nothing is said, for it loses nothing.
var Rules = []Existing{KeepBoth, Replace, Skip, Newer}

// Action is what becomes of a path.
type Action string

// The actions.
const (
	// Make makes what is not there, Beside makes it under another name, Replacing in place of what is there.
	Make      Action = "make"
	Beside    Action = "beside"
	Replacing Action = "replace"
	// Amend sets owner, mode, times or attributes of what has the right content.
	Amend Action = "amend"
	// Delete removes what the image has not.
	Delete Action = "delete"
	// Same is there as it is in the image, Leave is another one and stays, Refuse can't be done.
	Same   Action = "same"
	Leave  Action = "leave"
	Refuse Action = "refuse"
)

// Actions are all of them, in the order in which they are told.
var Actions = []Action{Make, Beside, Replacing, Amend, Delete, Same, Leave, Refuse}

// Writes reports whether an action takes something of the image.
func (a Action) Writes() bool { return a == Make || a == Beside || a == Replacing || a == Amend }

// Acts reports whether an action changes anything.
func (a Action) Acts() bool { return a.Writes() || a == Delete }

// Found is what is at a path. Key changes whenever it does.
type Found struct {
	Kind     files.Kind        `json:"kind"`
	Size     int64             `json:"size,omitempty"`
	Modified time.Time         `json:"modified"`
	Mode     uint32            `json:"mode"`
	UID      uint32            `json:"uid"`
	GID      uint32            `json:"gid"`
	Target   string            `json:"target,omitempty"`
	Major    uint32            `json:"major,omitempty"`
	Minor    uint32            `json:"minor,omitempty"`
	Xattrs   map[string]string `json:"-"`
	// Same says, of a hard link of the image, whether this is one to the same file.
	Same bool   `json:"-"`
	Key  string `json:"key"`
}

// Step is what becomes of one path. From is the path in the image, "" of what is deleted. Bytes are what is written, or what goes.
type Step struct {
	Action Action     `json:"action"`
	Path   string     `json:"path"` // from the root of the machine's file system on, without a slash at its begin
	From   string     `json:"from,omitempty"`
	Kind   files.Kind `json:"kind"`
	Bytes  int64      `json:"bytes,omitempty"`
	// Old is what is there.
	Old *Found `json:"old,omitempty"`
	// Clears says that it takes the place of a folder, which goes first.
	Clears bool `json:"clears,omitempty"`
	// Why says why nothing becomes of it, or what is amended.
	Why string `json:"why,omitempty"`
}

// Names of files are bytes, and JSON has texts only: one that is no text travels as base64 behind a NUL, which no name has.

// Text is a name as a text, Bytes what such a text stands for.
func Text(name string) string {
	if utf8.ValidString(name) {
		return name
	}
	return "\x00" + base64.StdEncoding.EncodeToString([]byte(name))
}

// Bytes is the name that a text stands for.
func Bytes(text string) string {
	if coded, ok := strings.CutPrefix(text, "\x00"); ok {
		name, _ := base64.StdEncoding.DecodeString(coded)
		return string(name)
	}
	return text
}

// MarshalJSON implements [json.Marshaler].
func (s Step) MarshalJSON() ([]byte, error) {
	type plain Step
	p := plain(s)
	p.Path, p.From = Text(p.Path), Text(p.From)
	return json.Marshal(p)
}

// UnmarshalJSON implements [json.Unmarshaler].
func (s *Step) UnmarshalJSON(body []byte) error {
	type plain Step
	err := json.Unmarshal(body, (*plain)(s))
	s.Path, s.From = Bytes(s.Path), Bytes(s.From)
	return err
}

// MarshalJSON implements [json.Marshaler].
func (f Found) MarshalJSON() ([]byte, error) {
	type plain Found
	p := plain(f)
	p.Target = Text(p.Target)
	return json.Marshal(p)
}

// UnmarshalJSON implements [json.Unmarshaler].
func (f *Found) UnmarshalJSON(body []byte) error {
	type plain Found
	err := json.Unmarshal(body, (*plain)(f))
	f.Target = Bytes(f.Target)
	return err
}

// MarshalJSON implements [json.Marshaler].
func (r Root) MarshalJSON() ([]byte, error) {
	type plain Root
	return json.Marshal(plain{Text(r.From), Text(r.To)})
}

// UnmarshalJSON implements [json.Unmarshaler].
func (r *Root) UnmarshalJSON(body []byte) error {
	type plain Root
	err := json.Unmarshal(body, (*plain)(r))
	r.From, r.To = Bytes(r.From), Bytes(r.To)
	return err
}

// Decide says what becomes of an entry of an image at a path, where something may be found. moment is when the image is of.
func Decide(e *files.Entry, at string, found *Found, rule Existing, moment time.Time) Step {
	s := Step{Path: at, From: e.Path, Kind: e.Kind, Old: found}
	as := func(a Action, why string) Step {
		if s.Action, s.Why = a, why; a == Make || a == Beside || a == Replacing {
			s.Bytes = e.Stored()
		}
		return s
	}
	switch {
	case e.Kind == files.Unseen || e.Unread != "" && e.Kind == files.File:
		return as(Refuse, "it is not in the image as it was: "+e.Unread)
	case found == nil:
		return as(Make, "")
	case e.Kind == files.Dir && found.Kind != files.Dir:
		why := fmt.Sprintf("a %s is in the folder's place", found.Kind)
		switch rule {
		case Replace:
			return as(Replacing, "")
		case KeepBoth:
			return as(Refuse, why)
		}
		return as(Leave, why)
	case found.Kind == files.Dir && e.Kind != files.Dir:
		if rule == KeepBoth {
			s.Path = besideName(at, moment)
			return as(Beside, "")
		}
		if rule == Replace {
			return as(Refuse, "a folder is in its place; move it away, or let both be kept")
		}
		return as(Leave, "a folder is in its place")
	}
	if Alike(e, found) {
		what := amended(e, found)
		switch {
		case len(what) == 0, e.Kind == files.Dir && rule != Replace:
			return as(Same, "")
		case rule == Replace:
			return as(Amend, strings.Join(what, ", "))
		}
		return as(Leave, "only "+strings.Join(what, ", ")+" differ")
	}
	switch {
	case rule == Skip:
		return as(Leave, "another one is there")
	case rule == Newer && !e.Modified.After(found.Modified):
		return as(Leave, "what is there is as new or newer")
	case rule == KeepBoth:
		s.Path = besideName(at, moment)
		return as(Beside, "")
	}
	return as(Replacing, "")
}

// NamedBeside says what becomes of what is put beside another where something has that name, too: it may have been put there before.
func NamedBeside(s Step, e *files.Entry, found *Found) Step {
	s.Action, s.Bytes, s.Old = Same, 0, found
	if !Alike(e, found) {
		s.Action, s.Why = Refuse, "there is another one of that name, too"
	}
	return s
}

// Alike reports whether what is there has the content that the image has, as far as that shows without reading it.
func Alike(e *files.Entry, f *Found) bool {
	switch {
	case e.Kind != f.Kind:
		return false
	case e.Kind == files.Dir, e.Kind == files.Fifo:
		return true
	case e.Kind == files.Link:
		return e.Target == f.Target
	case e.Kind == files.Char, e.Kind == files.Block:
		return e.Major == f.Major && e.Minor == f.Minor
	case e.Same != "":
		return f.Same
	}
	return e.Size == f.Size && e.Modified.Equal(f.Modified)
}

// amended says in what else they differ.
func amended(e *files.Entry, f *Found) (what []string) {
	if e.Same != "" {
		return nil
	}
	if e.UID != f.UID || e.GID != f.GID {
		what = append(what, "owner")
	}
	if e.Mode != f.Mode && e.Kind != files.Link {
		what = append(what, "mode")
	}
	if e.Kind != files.File && !e.Modified.Equal(f.Modified) {
		what = append(what, "time")
	}
	if !maps.Equal(e.Xattrs, f.Xattrs) {
		what = append(what, "attributes")
	}
	return what
}

// maxName is how long a name may be, in bytes.
const maxName = 255

// besideName is a name for what is put beside another: it says when it is from, and keeps the ending, by which programs go.
func besideName(p string, moment time.Time) string {
	folder, name := path.Split(p)
	end := path.Ext(name)
	if end == name || len(end) > 20 { // a hidden file, or no ending
		end = ""
	}
	from := ".from-" + moment.UTC().Format("20060102-150405")
	stem := strings.TrimSuffix(name, end)
	stem = stem[:min(len(stem), maxName-len(from)-len(end))]
	return folder + stem + from + end
}

// Counts are how many paths have an action, and their bytes.
type Counts struct {
	Paths int64 `json:"paths"`
	Bytes int64 `json:"bytes"`
}

// Plan is what becomes of all paths, in the order in which it is carried out; paths with [Same] are only counted.
type Plan struct {
	Steps  []Step
	Counts map[Action]Counts
}

// Add adds a step.
func (p *Plan) Add(s Step) {
	if p.Counts == nil {
		p.Counts = map[Action]Counts{}
	}
	c := p.Counts[s.Action]
	p.Counts[s.Action] = Counts{c.Paths + 1, c.Bytes + s.Bytes}
	if s.Action != Same {
		p.Steps = append(p.Steps, s)
	}
}

// Digest tells one plan from another: it is another one as soon as anything changed that the plan acts on.
func (p *Plan) Digest() string {
	h := blake3.New()
	for _, s := range p.Steps {
		if s.Action.Acts() {
			fmt.Fprintf(h, "%q %q %q %d", s.Action, s.Path, s.From, s.Bytes)
			if s.Old != nil {
				fmt.Fprintf(h, " %q", s.Old.Key)
			}
			h.Write([]byte{'\n'})
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// Order asks for files to go back. Restores are known by their ID.
type Order struct {
	ID       string   `json:"id"`
	Roots    []Root   `json:"roots"`
	Existing Existing `json:"existing"`
	// Delete removes what lies in a folder of the roots and is not in the image's, at and below paths of the image that it holds whole. Spare are
	// patterns as of gitignore(5), from the root of the image on, that it does not touch: what the image left out is not missing.
	Delete bool     `json:"delete,omitempty"`
	Whole  []string `json:"whole,omitempty"`
	Spare  []string `json:"spare,omitempty"`
	// Look says that the plan is to be looked at only: it may be of what nothing may be written to, and is never carried out.
	Look bool `json:"look,omitempty"`
	// Keep keeps what is replaced or deleted for a day.
	Keep bool `json:"keep,omitempty"`
	// Moment is when the image is of.
	Moment time.Time `json:"moment"`
}

// Holds reports whether the image holds a path with all below it.
func (o *Order) Holds(p string) bool {
	return slices.ContainsFunc(o.Whole, func(w string) bool { return below(p, w) })
}

// Progress is how far a restore has come.
type Progress struct {
	Paths int64 `json:"paths"`
	Bytes int64 `json:"bytes"`
}

// Stopped is why a restore ended before its end, at a path, or between two where that is "".
func (p Progress) Stopped(at string, err error) error {
	where := ""
	if at != "" {
		where = ", at /" + files.Readable(at)
	}
	return fmt.Errorf("the restore stopped%s, after %d paths (%d bytes): %w; what was written stays, and the same restore goes on from there", where, p.Paths, p.Bytes, err)
}

// Failure is a path that could not be had.
type Failure struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Done is what was carried out. Failed are the first paths with which that did not work, of Failures.
type Done struct {
	Counts   map[Action]Counts `json:"counts"`
	Failures int64             `json:"failures"`
	Failed   []Failure         `json:"failed,omitempty"`
	// Kept is until when it can be undone, zero where it can't.
	Kept time.Time `json:"kept,omitzero"`
}

// mostFailed bounds the failures that are named.
const mostFailed = 100

// Add counts a step that was carried out.
func (d *Done) Add(s Step) {
	if d.Counts == nil {
		d.Counts = map[Action]Counts{}
	}
	c := d.Counts[s.Action]
	d.Counts[s.Action] = Counts{c.Paths + 1, c.Bytes + s.Bytes}
}

// Fail notes a path with which it did not work.
func (d *Done) Fail(path string, why error) {
	if d.Failures++; len(d.Failed) < mostFailed {
		d.Failed = append(d.Failed, Failure{path, why.Error()})
	}
}

// Lack notes what the image did not give: steps that are left of those of a plan, by their paths in the image.
func (d *Done) Lack(steps []Step, left map[string]Step) {
	for _, s := range steps { // in their order
		if _, missing := left[s.From]; missing && s.Action.Writes() {
			d.Fail("/"+files.Readable(s.Path), errors.New("the image did not give it"))
		}
	}
}

// Join adds what was done later.
func (d *Done) Join(more Done) {
	if d.Counts == nil {
		d.Counts = map[Action]Counts{}
	}
	for a, c := range more.Counts {
		was := d.Counts[a]
		d.Counts[a] = Counts{was.Paths + c.Paths, was.Bytes + c.Bytes}
	}
	d.Failed = append(d.Failed, more.Failed...)
	d.Failed = d.Failed[:min(len(d.Failed), mostFailed)]
	d.Failures += more.Failures
	d.Kept = more.Kept
}

// Paths are how many were carried out.
func (d *Done) Paths() (n int64) {
	for _, c := range d.Counts {
		n += c.Paths
	}
	return n
}

// Root says where a path of the image, with all below it, goes to.
type Root struct {
	From string `json:"from"` // as entries have it
	To   string `json:"to"`   // from the root of the machine's file system on, without a slash at its begin; "." is that root
}

// below reports whether a path of an image lies in a folder, or is it.
func below(p, folder string) bool {
	return p == folder || folder == "." || strings.HasPrefix(p, folder+"/")
}

// Locate says where an entry of the image goes to.
func Locate(roots []Root, p string) (to string, ok bool) {
	best := -1
	for i, r := range roots {
		if below(p, r.From) && (best < 0 || len(r.From) > len(roots[best].From)) {
			best = i
		}
	}
	if best < 0 {
		return "", false
	}
	r := roots[best]
	rest := p
	if r.From != "." {
		rest = strings.TrimPrefix(strings.TrimPrefix(p, r.From), "/")
	} else if p == "." {
		rest = ""
	}
	return path.Join(r.To, rest), true
}

// Check says what is wrong with a rule.
func (x Existing) Check() error {
	if !slices.Contains(Rules, x) {
		return fmt.Errorf("%q is no rule for what is there already: %v", x, Rules)
	}
	return nil
}
