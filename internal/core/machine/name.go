package machine

import (
	"regexp"
	"strings"
)

var nameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// IsName reports whether a machine that the lodge makes can be called so: up to 63 letters, digits, dots, dashes and underscores, the first a letter or digit.
func IsName(name string) bool { return nameForm.MatchString(name) }

// Naming is what a machine's label is made from. Live says that it is there to be captured.
type Naming struct {
	ID, Name, Source string
	Live             bool
}

// Qualified is a name with its source before it, as an ambiguous one is written.
func (n Naming) Qualified() string {
	if n.Source == "" {
		return n.Name
	}
	return n.Source + "/" + n.Name
}

// idShown is how much of an identity tells two machines of one name and source apart.
const idShown = 8

// Labels gives machines their labels, each unique among them: the name of the only one that is there, or the only one at all; otherwise
// the name with its source before it, and with the beginning of its identity behind it where that is ambiguous, too. Pass all machines
// of a name.
func Labels[M any](machines []M, naming func(M) Naming) []string {
	all := make([]Naming, len(machines))
	named, live := map[string]int{}, map[string]int{}
	qualified, liveQualified := map[string]int{}, map[string]int{}
	for i, m := range machines {
		n := naming(m)
		all[i] = n
		named[n.Name]++
		qualified[n.Qualified()]++
		if n.Live {
			live[n.Name]++
			liveQualified[n.Qualified()]++
		}
	}
	out := make([]string, len(machines))
	for i, n := range all {
		q := n.Qualified()
		switch {
		case named[n.Name] == 1, n.Live && live[n.Name] == 1:
			out[i] = n.Name
		case n.Source != "" && (qualified[q] == 1 || n.Live && liveQualified[q] == 1):
			out[i] = q
		default:
			out[i] = q + "@" + short(n.ID)
		}
	}
	return out
}

// short is the beginning of an identity.
func short(id string) string {
	id = id[strings.LastIndex(id, "/")+1:]
	return id[:min(idShown, len(id))]
}
