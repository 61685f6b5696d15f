package selection

import (
	"path"
	"strings"
)

// Matcher selects machines by names or patterns and by tags, made ready for many machines.
type Matcher struct {
	machines, except []string
	tags             Expression
}

// Match makes a selection ready: machines of these names or patterns, and those whose tags fit an expression, but for those of other names or patterns. An
// expression that can't be read fits nothing.
func Match(machines, except []string, tags string) Matcher {
	e, err := Parse(tags)
	if err != nil {
		e = Expression{}
	}
	return Matcher{machines, except, e}
}

// Selects reports whether a machine is selected.
func (m Matcher) Selects(source, name string, tags map[string]string) bool {
	return !Fits(m.except, source, name) && (Fits(m.machines, source, name) || m.tags.Matches(tags))
}

// Fits reports whether a machine, or whatever has a name, is one of some names or patterns with * and ?; a pattern with a slash has the source
// before it.
func Fits(patterns []string, source, name string) bool {
	for _, pattern := range patterns {
		whole := name
		if strings.Contains(pattern, "/") {
			whole = source + "/" + name
		}
		if pattern == whole || pattern == "*" {
			return true
		}
		if strings.ContainsAny(pattern, `*?[\\`) {
			if ok, _ := path.Match(pattern, whole); ok {
				return true
			}
		}
	}
	return false
}

// Excludes reports whether no machine fits two expressions, as far as their words tell: both ask for other values of one tag, as tier=gold and tier=silver do.
func Excludes(a, b string) bool {
	keyA, valueA, okA := strings.Cut(strings.TrimSpace(a), "=")
	keyB, valueB, okB := strings.Cut(strings.TrimSpace(b), "=")
	return okA && okB && keyA == keyB && valueA != valueB && !strings.ContainsAny(keyA+valueA+valueB, "!*?[\\ ()=")
}
