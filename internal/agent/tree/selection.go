// Package tree reads files of a running server: it walks what was chosen, tells what changed since an earlier image, and says what could not be
// read and what rules left out.
package tree

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"keenlodge/internal/agent/parts"
	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/ignore"
	"keenlodge/internal/line"
)

// Selection is what of a server's files an image is to hold. Paths are relative to the root, without a slash at their begin; "." is the root.
type Selection struct {
	// roots are folders and files that are taken with all below them, and the part to which each belongs, "" for none; one whose part was not chosen
	// is not taken.
	roots map[string]root
	// above are the folders on the way to them.
	above map[string]bool
	rules []rules
	// only are the paths that are wanted, nil for all, onlyAbove the folders on the way to them.
	only, onlyAbove map[string]bool
	// parts were chosen.
	parts []parts.Part
	// folder is that of commands, root the place in the file system that stands for its root.
	folder, root string
	// sum tells one selection from another.
	sum string
}

type root struct {
	part  string
	taken bool
}

// rules leave out what they fit. Those of a part hold for its files only.
type rules struct {
	name, part string
	ignore.Rules
}

// personalName is what the rule is called that leaves them out.
const personalName = "personal folders"

// Offer is what a server lets an agent read, and where its settings lie.
type Offer struct {
	// Paths are all that may be read; empty is everything.
	Paths []string
	// Settings is the folder of parts and commands; Root stands for the root of the file system, "" is that itself.
	Settings, Root string
}

// Select makes a selection of what is asked for, as far as it is offered.
func (o Offer) Select(w line.Files) (*Selection, error) {
	s := &Selection{roots: map[string]root{}, above: map[string]bool{}, folder: o.Settings, root: filepath.Clean("/" + o.Root)}
	if w.System {
		if err := s.selectParts(o, w); err != nil {
			return nil, err
		}
	} else {
		if len(w.Folders) == 0 {
			return nil, errors.New("no folders were asked for")
		}
		for _, f := range w.Folders {
			if !path.IsAbs(f) || strings.ContainsRune(f, 0) {
				return nil, fmt.Errorf("folder %q: it must be an absolute path", f)
			}
			s.roots[relative(f)] = root{taken: true}
		}
	}
	if err := s.addRules("", "", w.Ignore); err != nil {
		return nil, err
	}
	if !w.Personal {
		if err := s.addRules(personalName, "", files.Personal); err != nil {
			return nil, err
		}
	}
	if err := s.narrow(o.Paths); err != nil {
		return nil, err
	}
	for p := range s.roots {
		for p != "." {
			p = path.Dir(p)
			s.above[p] = true
		}
	}
	if len(w.Only) > 0 {
		s.only, s.onlyAbove = map[string]bool{}, map[string]bool{}
		for _, p := range w.Only {
			p = back.Bytes(p)
			for s.only[p] = true; p != "."; {
				p = path.Dir(p)
				s.onlyAbove[p] = true
			}
		}
	}
	body, err := json.Marshal(struct {
		Wanted line.Files
		Offer  Offer
		Parts  []parts.Part
		Roots  []string
	}{w, o, s.parts, slices.Sorted(maps.Keys(s.roots))})
	digest := sha256.Sum256(body)
	s.sum = hex.EncodeToString(digest[:])
	return s, err
}

// relative is an absolute path as paths are kept here.
func relative(p string) string {
	if p = path.Clean(p); p == "/" {
		return "."
	}
	return p[1:]
}

// selectParts takes the paths of parts. A path that belongs to a part which is not chosen is left out of what lies around it.
func (s *Selection) selectParts(o Offer, w line.Files) error {
	all, err := parts.Load(o.Settings)
	if err != nil {
		return err
	}
	if s.parts, err = parts.Choose(all, w.Parts, w.LeaveOut); err != nil {
		return err
	}
	for _, p := range all {
		taken := slices.ContainsFunc(s.parts, func(c parts.Part) bool { return c.Name == p.Name })
		for _, pattern := range p.Paths {
			found, err := filepath.Glob(filepath.Join(s.root, pattern))
			if err != nil {
				return err
			}
			for _, place := range found {
				rel, err := filepath.Rel(s.root, place)
				if err != nil {
					return err
				}
				s.roots[rel] = root{p.Name, taken}
			}
		}
		if taken && len(p.Ignore) > 0 {
			if err := s.addRules("", p.Name, p.Ignore); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Selection) addRules(name, part string, patterns []string) error {
	r, err := ignore.Parse(patterns)
	s.rules = append(s.rules, rules{name, part, r})
	return err
}

// narrow keeps to what is offered.
func (s *Selection) narrow(offered []string) error {
	if len(offered) == 0 {
		return nil
	}
	narrowed := map[string]root{}
	for p, r := range s.roots {
		for _, o := range offered {
			if !path.IsAbs(o) {
				return fmt.Errorf("the agent offers %q, which is no absolute path", o)
			}
			switch o = relative(o); {
			case within(p, o):
				narrowed[p] = r
			case within(o, p):
				if _, named := s.roots[o]; !named {
					narrowed[o] = r
				}
			}
		}
	}
	if s.roots = narrowed; len(narrowed) == 0 && len(s.parts) == 0 {
		return fmt.Errorf("the server's agent offers %s, and nothing of what was asked for", strings.Join(offered, ", "))
	}
	return nil
}

// whole are the paths that are taken with all below them, but for what rules leave out; of parts none, for what they are made of changes.
func (s *Selection) whole() (out []string) {
	if s.only != nil {
		return nil
	}
	for p, r := range s.roots {
		if r.part == "" && r.taken {
			out = append(out, p)
		}
	}
	slices.Sort(out)
	return out
}

// within reports whether a path is another, or lies below it.
func within(p, folder string) bool {
	return p == folder || folder == "." || strings.HasPrefix(p, folder+"/")
}

// leftOutBy says which rule leaves a path out, "" for none.
func (s *Selection) leftOutBy(p, part string, folder bool) string {
	for _, r := range s.rules {
		if r.part != "" && r.part != part {
			continue
		}
		if by, out := r.Match(p, folder); out {
			if r.name != "" {
				return r.name
			}
			return r.Text(by)
		}
	}
	return ""
}

// outputs are the files that commands of the chosen parts make.
func (s *Selection) outputs() (out []output) {
	for _, p := range s.parts {
		for _, name := range p.Outputs() {
			out = append(out, output{p, name, p.Output[name]})
		}
	}
	return out
}

// output is a file that a command makes.
type output struct {
	part          parts.Part
	name, command string
}
