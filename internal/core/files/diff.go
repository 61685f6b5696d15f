package files

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
)

// OutputFolder is where in an image the output of commands lies that tell of a server's system state, as OutputFolder/PART/NAME. It comes first in a
// list; a real folder of that name is left out.
const OutputFolder = ".keenlodge"

// Personal are patterns of people's own folders: what brings a system back must not turn back people's documents.
var Personal = []string{"/home/*/", "/root/", "/srv/home/*/"}

// HeldFolder is where at the top of a file system lies what a restore replaced, for as long as that can be undone. No image has it.
const HeldFolder = ".keenlodge-held"

// SnapFolder is where at the top of a file system its snapshots in place lie. No image has it, either.
const SnapFolder = ".keenlodge-in-place"

// Compare orders paths as a list has them: a folder before what lies in it, and that before what comes after the folder.
func Compare(a, b string) int {
	rank := func(p string) int {
		switch {
		case p == ".":
			return 0
		case p == OutputFolder || strings.HasPrefix(p, OutputFolder+"/"):
			return 1
		}
		return 2
	}
	if a == b {
		return 0
	}
	if c := cmp.Compare(rank(a), rank(b)); c != 0 {
		return c
	}
	for {
		x, restA, moreA := strings.Cut(a, "/")
		y, restB, moreB := strings.Cut(b, "/")
		switch {
		case x != y:
			return strings.Compare(x, y)
		case !moreA || !moreB:
			return len(restA) - len(restB)
		}
		a, b = restA, restB
	}
}

// Difference is an entry that is not the same in two lists: Old is nil where it came, New where it went. What says in what they differ where it is in
// both.
type Difference struct {
	Old, New *Entry
	What     []string
}

// Diff compares two lists, and calls visit for each entry that is not the same in both, in the order of lists. A file counts as changed where its kind,
// size, time, mode, owner or attributes are others: contents are not read.
func Diff(older, newer *ListReader, visit func(Difference) error) error {
	next := func(l *ListReader) (*Entry, error) {
		e, _, err := l.Next()
		if errors.Is(err, io.EOF) {
			return nil, nil
		}
		return &e, err
	}
	a, err := next(older)
	if err != nil {
		return fmt.Errorf("the older list: %w", err)
	}
	b, err := next(newer)
	if err != nil {
		return fmt.Errorf("the newer list: %w", err)
	}
	for a != nil || b != nil {
		way := 0
		switch {
		case a == nil:
			way = 1
		case b == nil:
			way = -1
		default:
			way = Compare(a.Path, b.Path)
		}
		d := Difference{}
		if way <= 0 {
			d.Old = a
			if a, err = next(older); err != nil {
				return fmt.Errorf("the older list: %w", err)
			}
		}
		if way >= 0 {
			d.New = b
			if b, err = next(newer); err != nil {
				return fmt.Errorf("the newer list: %w", err)
			}
		}
		if d.Old != nil && d.New != nil {
			if d.What = Changes(d.Old, d.New); len(d.What) == 0 {
				continue
			}
		}
		if err := visit(d); err != nil {
			return err
		}
	}
	return nil
}

// Changes says in what two entries of one path differ.
func Changes(a, b *Entry) (what []string) {
	for _, c := range []struct {
		name  string
		equal bool
	}{
		{"kind", a.Kind == b.Kind},
		{"size", a.Same != "" || b.Same != "" || a.Size == b.Size},
		{"modified", a.Kind == Unseen || a.Modified.Equal(b.Modified)},
		{"mode", a.Mode == b.Mode},
		{"owner", a.UID == b.UID && a.GID == b.GID},
		{"target", a.Target == b.Target},
		{"device", a.Major == b.Major && a.Minor == b.Minor},
		{"attributes", maps.Equal(a.Xattrs, b.Xattrs)},
	} {
		if !c.equal {
			what = append(what, c.name)
		}
	}
	if a.Kind != b.Kind {
		return what[:1]
	}
	return slices.Clip(what)
}
