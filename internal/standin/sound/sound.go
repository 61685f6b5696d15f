// Package sound is a stand-in of an appliance: a telephone exchange of two nodes, of which one is active. It can only hand out exports of itself, and take
// them back. docs/stand-ins.md describes what it says.
package sound

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"keenlodge/internal/standin"
)

// Kind is what it is called.
const Kind = "sound"

// Nodes are those of the appliance. The first one is active to begin with.
var Nodes = []string{"north", "south"}

func init() {
	standin.Register(Kind, standin.Kind{Doc: "an appliance of two nodes that exports itself", Nodes: Nodes, Make: func(_ context.Context, f *standin.Frame) (io.Closer, error) { return newSound(f) }})
}

// Settings are what an appliance is, and how it misbehaves. Room is what its exports may take, in bytes.
type Settings struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Release string `json:"release"`
	Build   int    `json:"build"`
	Active  string `json:"active"`
	// Imported is the mark of the export that it took back last, "" for none since it was made or reset.
	Imported string `json:"imported"`
	Room     int64  `json:"room"`
	// Damage is what the check of its database finds; "" is nothing.
	Damage string `json:"damage"`
	// Cut is how many bytes the exports lack that it makes, CutSent those that it sends; Turns has it switch to the other node while it makes one.
	Cut     int64           `json:"cut"`
	CutSent int64           `json:"cut_sent"`
	Turns   bool            `json:"turns"`
	Down    map[string]bool `json:"down"`
}

// Part is a part of what an appliance keeps.
type Part struct {
	Name      string `json:"name"`
	About     string `json:"about"`
	Mandatory bool   `json:"mandatory"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256,omitempty"`
}

// keptPart is a part with the file that it lies in.
type keptPart struct {
	Part
	Lies string `json:"lies"`
}

// Export is what an appliance wrote of itself. It lies on one node. Mark is what its maker calls it, By whether it was made by "hand" or "schedule".
type Export struct {
	ID      string    `json:"id"`
	Node    string    `json:"node"`
	Mark    string    `json:"mark"`
	By      string    `json:"by"`
	About   string    `json:"about"`
	Made    time.Time `json:"made"`
	Release string    `json:"release"`
	Build   int       `json:"build"`
	Parts   []Part    `json:"parts"`
	Bytes   int64     `json:"bytes"`
	SHA256  string    `json:"sha256"`
}

type sound struct {
	*standin.Frame
	settings *standin.Table[Settings]
	parts    *standin.Table[keptPart]
	exports  *standin.Table[Export]
}

func newSound(f *standin.Frame) (*sound, error) {
	s := &sound{Frame: f}
	var errs [3]error
	s.settings, errs[0] = standin.NewTable[Settings](f.Journal, "settings")
	s.parts, errs[1] = standin.NewTable[keptPart](f.Journal, "part")
	s.exports, errs[2] = standin.NewTable[Export](f.Journal, "export")
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	if len(s.settings.All()) == 0 {
		first := Settings{ID: standin.NewID(), Name: "sound", Release: "7.4", Build: 118, Active: Nodes[0], Room: 1 << 30, Down: map[string]bool{}}
		if err := f.Do(func() error { return s.set(first) }); err != nil {
			return nil, err
		}
	}
	f.Down = func(node string) bool { return s.is().Down[node] }
	if err := s.tidy(); err != nil {
		return nil, err
	}
	s.calls()
	return s, nil
}

// Close lets nothing go: it holds no file open.
func (s *sound) Close() error { return nil }

// is is what the appliance is now.
func (s *sound) is() Settings { return s.settings.All()[0] }

// now is that for who does not hold the frame's lock.
func (s *sound) now() (v Settings) {
	_ = s.Do(func() error { v = s.is(); return nil }) // it only looks
	return v
}

func (s *sound) set(v Settings) error { return s.settings.Put("own", v) }

func (s *sound) path(parts ...string) string {
	return filepath.Join(append([]string{s.Folder}, parts...)...)
}

// tidy makes the folders, and removes what nothing knows: it was being made when the process died.
func (s *sound) tidy() error {
	keep := map[string]bool{}
	for _, p := range s.parts.All() {
		keep[s.path("parts", p.Lies)] = true
	}
	for _, e := range s.exports.All() {
		keep[s.path("exports", e.ID)] = true
	}
	var errs []error
	for _, folder := range []string{"parts", "exports", "imports"} {
		errs = append(errs, os.MkdirAll(s.path(folder), 0o700))
		found, err := os.ReadDir(s.path(folder))
		errs = append(errs, err)
		for _, f := range found {
			if at := s.path(folder, f.Name()); !keep[at] {
				errs = append(errs, os.Remove(at))
			}
		}
	}
	return errors.Join(errs...)
}

// calls adds what it answers.
func (s *sound) calls() {
	s.Get("about", "/about", func(r *http.Request) (any, error) {
		v := s.is()
		return map[string]any{"system": "sound", "id": v.ID, "name": v.Name, "release": v.Release, "build": v.Build, "node": standin.Node(r), "active": standin.Node(r) == v.Active, "fresh": len(s.parts.All()) == 0, "imported": v.Imported, "free": s.free(v)}, nil
	})
	s.Get("part.list", "/parts", func(r *http.Request) (any, error) { return s.listed(), s.active(r) })
	s.Task("health", http.MethodPost, "/health", "", func(r *http.Request) (func(context.Context) (any, error), error) {
		return func(context.Context) (any, error) {
			found := []string{}
			err := s.Do(func() error {
				if d := s.is().Damage; d != "" {
					found = append(found, d)
				}
				return nil
			})
			return map[string]any{"healthy": len(found) == 0, "found": found}, err
		}, s.active(r)
	})
	s.Get("export.list", "/exports", func(r *http.Request) (any, error) {
		return slices.DeleteFunc(s.exports.Listed(), func(e Export) bool { return e.Node != standin.Node(r) }), nil
	})
	s.Task("export.make", http.MethodPost, "/exports/{mark}", "mark", s.makeExport)
	s.Stream("export.read", http.MethodGet, "/exports/{id}/content", s.readExport)
	s.Task("export.send", http.MethodPost, "/exports/{id}/send", "id", s.sendExport)
	s.Change("export.remove", http.MethodDelete, "/exports/{id}", func(r *http.Request) (any, error) {
		e, err := s.export(r)
		if err != nil {
			return nil, err
		}
		if err := os.Remove(s.path("exports", e.ID)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		return struct{}{}, s.exports.Delete(e.ID)
	})
	s.Stream("import.bring", http.MethodPut, "/imports/{mark}", s.bringImport)
	s.Task("import.apply", http.MethodPost, "/imports/{mark}/apply", "mark", s.applyImport)
	s.Change("import.remove", http.MethodDelete, "/imports/{mark}", func(r *http.Request) (any, error) {
		if err := os.Remove(s.imported(r)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		return struct{}{}, nil
	})
	s.Task("reset", http.MethodPost, "/reset", "", s.reset)
	// For whoever tries something out.
	s.Stream("inside.part", http.MethodPut, "/inside/parts/{name}", s.bringPart)
	s.Change("inside.settings", http.MethodPut, "/inside/settings", func(r *http.Request) (any, error) {
		v := s.is() // what is not named stays
		v.Down = maps.Clone(v.Down)
		if err := json.NewDecoder(r.Body).Decode(&v); err != nil {
			return nil, standin.Refuse(http.StatusBadRequest, "what was sent can't be read: %v", err)
		}
		if !slices.Contains(Nodes, v.Active) {
			return nil, standin.Refuse(http.StatusBadRequest, "there is no node %q", v.Active)
		}
		return v, s.set(v)
	})
}

// active refuses what only the active node does.
func (s *sound) active(r *http.Request) error {
	if v := s.is(); standin.Node(r) != v.Active {
		return standin.Refuse(http.StatusConflict, "node %s is passive; the active one is %s", cmp.Or(standin.Node(r), "(none)"), v.Active)
	}
	return nil
}

// listed are its parts as they are told.
func (s *sound) listed() []Part {
	out := []Part{}
	for _, p := range s.parts.All() {
		out = append(out, p.Part)
	}
	return out
}

// free is what exports may take still, in bytes, on the node that has least.
func (s *sound) free(v Settings) int64 {
	taken := map[string]int64{}
	for _, e := range s.exports.All() {
		taken[e.Node] += e.Bytes
	}
	return max(0, v.Room-max(taken[Nodes[0]], taken[Nodes[1]]))
}
