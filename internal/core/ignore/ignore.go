// Package ignore matches paths with patterns as gitignore(5) defines them: rules in order, of which the last one that fits decides, and what lies
// in a folder that is left out can't be taken in again. Paths are bytes, as file systems keep them.
package ignore

import (
	"fmt"
	"strings"
)

// Rules are patterns in their order.
type Rules struct{ rules []rule }

// rule is one pattern.
type rule struct {
	text     string // as it was written
	pattern  string // without what the fields below say
	takes    bool   // it began with "!": what fits is taken in again
	folders  bool   // it ended with "/": it fits folders only
	anywhere bool   // it has no "/" but at its end: it fits names at any depth
	literal  int    // how much of its begin has no wildcards
}

// Parse reads patterns. Blank ones and comments, which begin with "#", fit nothing, as in a file of git's.
func Parse(patterns []string) (Rules, error) {
	var out Rules
	for i, text := range patterns {
		if strings.ContainsAny(text, "\x00\n") {
			return out, fmt.Errorf("pattern %d, %q: a pattern is one line", i+1, text)
		}
		out.rules = append(out.rules, parse(text))
	}
	return out, nil
}

func parse(text string) rule {
	r := rule{text: text}
	p := trimSpaces(text)
	if strings.HasPrefix(p, "#") {
		p = ""
	}
	if strings.HasPrefix(p, "!") {
		r.takes, p = true, p[1:]
	}
	if strings.HasSuffix(p, "/") {
		r.folders, p = true, p[:len(p)-1]
	}
	r.anywhere = !strings.Contains(p, "/")
	r.pattern = strings.TrimPrefix(p, "/")
	if r.literal = strings.IndexAny(r.pattern, `*?[\`); r.literal < 0 {
		r.literal = len(r.pattern)
	}
	return r
}

// trimSpaces cuts off spaces at the end, but for one after a backslash.
func trimSpaces(p string) string {
	end := len(p)
	for end > 0 && p[end-1] == ' ' {
		end--
	}
	if end == len(p) {
		return p
	}
	backslashes := 0
	for backslashes < end && p[end-1-backslashes] == '\\' {
		backslashes++
	}
	if backslashes%2 == 1 {
		end++
	}
	return p[:end]
}

// Len is how many patterns there are.
func (r Rules) Len() int { return len(r.rules) }

// Text is a pattern as it was written.
func (r Rules) Text(i int) string { return r.rules[i].text }

// Match says what the rules say of a path, without a look at the folders above it: the number of the pattern that decides, or -1, and whether
// the path is left out. A path has no slash at its begin and end.
func (r Rules) Match(path string, folder bool) (by int, out bool) {
	name := path[strings.LastIndexByte(path, '/')+1:]
	for i := len(r.rules) - 1; i >= 0; i-- {
		v := &r.rules[i]
		if v.folders && !folder || v.pattern == "" {
			continue
		}
		against := path
		if v.anywhere {
			against = name
		}
		if v.fits(against) {
			return i, !v.takes
		}
	}
	return -1, false
}

// fits matches the pattern with a path, or with a name. As git does, what follows the literal begin is a pattern of its own, so that two stars stand
// for any folders there, too.
func (v *rule) fits(path string) bool {
	rest, ok := strings.CutPrefix(path, v.pattern[:v.literal])
	return ok && wild(v.pattern[v.literal:], rest)
}

// LeftOut says whether a path is left out, by itself or with a folder above it, and by which pattern.
func (r Rules) LeftOut(path string, folder bool) (by int, out bool) {
	for at := 0; ; {
		n := strings.IndexByte(path[at:], '/')
		if n < 0 {
			return r.Match(path, folder)
		}
		if by, out := r.Match(path[:at+n], true); out {
			return by, true
		}
		at += n + 1
	}
}
