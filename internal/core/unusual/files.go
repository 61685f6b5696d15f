package unusual

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"keenlodge/internal/core/files"
)

// Change is how the files of an image differ from those of the one before, as far as they are a machine's data: what belongs to its system changes whole with
// each update, and is left out.
type Change struct {
	// Files is how many there were before, in Folders.
	Files   int `json:"files"`
	Folders int `json:"folders"`
	Added   int `json:"added"`
	Gone    int `json:"gone"`
	// Rewritten have another size or time than before. Renamed are among the gone ones: in their folder is one that may be the same under another name.
	Rewritten int `json:"rewritten"`
	Renamed   int `json:"renamed"`
	// Ending is what most of the renamed have at the end of their new names that no file had before, and Ended how many have it.
	Ending string `json:"ending,omitempty"`
	Ended  int    `json:"ended,omitempty"`
	// Note is the name of a file that came in many folders, equally large, and Notes in how many.
	Note  string `json:"note,omitempty"`
	Notes int    `json:"notes,omitempty"`
	// Looked is how many files were looked into that were text by their names and were rewritten or renamed; Textless of them are no text.
	Looked   int `json:"looked"`
	Textless int `json:"textless"`
}

// system is where what belongs to a system lies.
var system = []string{"usr/", "bin/", "sbin/", "lib/", "lib32/", "lib64/", "libx32/", "boot/", "etc/", "dev/", "proc/", "sys/", "run/", "tmp/", "snap/", "var/lib/dpkg/", "var/lib/apt/", "var/lib/rpm/",
	"var/lib/systemd/", "var/lib/apk/", "var/cache/", "var/log/", "var/tmp/", "var/spool/", "var/lib/snapd/", "var/lib/ucf/", "Windows/", "Program Files/", "Program Files (x86)/", files.OutputFolder + "/"}

// isData reports whether a path is of a machine's data.
func isData(p string) bool {
	return !slices.ContainsFunc(system, func(s string) bool { return strings.HasPrefix(p, s) })
}

// texts are the endings of files that are text.
var texts = strings.Fields("txt csv tsv json xml yaml yml md rst html htm css js ts py rb pl php sh c h cpp go java rs sql log conf cfg ini tex svg ics vcf eml properties toml list")

// ending is what comes after the last dot of a name, with that, or "".
func ending(p string) string { return strings.ToLower(path.Ext(path.Base(p))) }

// IsTextByName reports whether a file is text, by its name.
func IsTextByName(p string) bool {
	return slices.Contains(texts, strings.TrimPrefix(ending(p), "."))
}

// IsText reports whether a piece of a file is text in any of the encodings that have ASCII in them: what is encrypted or packed has control characters in
// it, one in nine.
func IsText(piece []byte) bool {
	if len(piece) >= 2 && (piece[0] == 0xff && piece[1] == 0xfe || piece[0] == 0xfe && piece[1] == 0xff) { // UTF-16 with its mark
		return true
	}
	odd := 0
	for _, b := range piece {
		if b < ' ' && b != '\t' && b != '\n' && b != '\r' && b != '\f' && b != 0x1b || b == 0x7f {
			odd++
		}
	}
	return odd*50 <= len(piece)
}

// packed are how files begin that were packed, by their endings.
var packed = map[string]string{".gz": "\x1f\x8b", ".tgz": "\x1f\x8b", ".xz": "\xfd7zXZ", ".zst": "\x28\xb5\x2f\xfd", ".bz2": "BZh", ".lz4": "\x04\x22\x4d\x18", ".zip": "PK", ".7z": "7z\xbc\xaf"}

// Readable reports whether a file that was text still is, or was packed as its name says, by the pieces of it that are looked at, of which the first is its
// beginning.
func Readable(p string, pieces ...[]byte) bool {
	if begins, is := packed[ending(p)]; is {
		return len(pieces) == 0 || strings.HasPrefix(string(pieces[0]), begins)
	}
	return !slices.ContainsFunc(pieces, func(piece []byte) bool { return !IsText(piece) })
}

// Suspect is a file that was text, by its name before, and was rewritten or renamed; Size is its size now.
type Suspect struct {
	Path string
	Size int64
}

const (
	// mostSuspects is of how many it is chosen which are looked into, mostLooked how many of these.
	mostSuspects, mostLooked = 4096, 40
	// leastText is how small a file is too small to tell.
	leastText = 64
)

// Tally counts how files differ. Its zero value is ready.
type Tally struct {
	c        Change
	folders  map[string]*folder
	notes    map[note]int
	suspects []Suspect
	// gone and added count endings.
	goneEnd, addedEnd map[string]int
}

type folder struct{ gone, added []*files.Entry }

type note struct {
	name string
	size int64
}

// See counts a difference.
func (t *Tally) See(d files.Difference) {
	if t.folders == nil {
		t.folders, t.notes, t.goneEnd, t.addedEnd = map[string]*folder{}, map[note]int{}, map[string]int{}, map[string]int{}
	}
	is := func(e *files.Entry) bool { return e != nil && e.Kind == files.File && isData(e.Path) }
	was, came := is(d.Old), is(d.New)
	in := func(p string) *folder {
		f := t.folders[path.Dir(p)]
		if f == nil {
			f = &folder{}
			t.folders[path.Dir(p)] = f
		}
		return f
	}
	switch {
	case was && came:
		if slices.Contains(d.What, "size") || slices.Contains(d.What, "modified") {
			t.c.Rewritten++
			t.suspect(d.Old.Path, d.New)
		}
	case was:
		t.c.Gone++
		t.goneEnd[ending(d.Old.Path)]++
		f := in(d.Old.Path)
		f.gone = append(f.gone, d.Old)
	case came:
		t.c.Added++
		t.addedEnd[ending(d.New.Path)]++
		f := in(d.New.Path)
		f.added = append(f.added, d.New)
		t.notes[note{path.Base(d.New.Path), d.New.Size}]++
	}
}

func (t *Tally) suspect(was string, now *files.Entry) {
	if IsTextByName(was) && now.Size >= leastText && len(t.suspects) < mostSuspects {
		t.suspects = append(t.suspects, Suspect{now.Path, now.Size})
	}
}

// Sum is what was counted, with the files that are worth a look. now are the files as they are.
func (t *Tally) Sum(now []files.Entry) (Change, []Suspect) {
	ends, folders := map[string]int{}, map[string]bool{}
	for i := range now {
		if e := &now[i]; e.Kind == files.File && isData(e.Path) {
			t.c.Files++
			ends[ending(e.Path)]++
			folders[path.Dir(e.Path)] = true
		}
	}
	t.c.Files += t.c.Gone - t.c.Added
	t.c.Folders = len(folders)
	renamed := map[string]int{}
	for _, f := range t.folders {
		for was, is := range f.renamed() {
			t.c.Renamed++
			t.suspect(was.Path, is)
			if end := ending(is.Path); end != "" && end != ending(was.Path) && ends[end] == t.addedEnd[end] && t.goneEnd[end] == 0 {
				renamed[end]++
			}
		}
	}
	for end, n := range renamed {
		if n > t.c.Ended || n == t.c.Ended && end < t.c.Ending {
			t.c.Ending, t.c.Ended = end, n
		}
	}
	for what, n := range t.notes {
		if n > t.c.Notes || n == t.c.Notes && what.name < t.c.Note {
			t.c.Note, t.c.Notes = what.name, n
		}
	}
	if t.c.Notes < 2 {
		t.c.Note, t.c.Notes = "", 0
	}
	slices.SortFunc(t.suspects, func(a, b Suspect) int { return strings.Compare(a.Path, b.Path) })
	var chosen []Suspect
	for i := range min(mostLooked, len(t.suspects)) {
		chosen = append(chosen, t.suspects[i*len(t.suspects)/min(mostLooked, len(t.suspects))])
	}
	return t.c, chosen
}

// renamed pairs what went from a folder with what came in it: by their names first, where the new one goes on from the old one, and the rest by their sizes,
// for what encrypts a file adds a little to it.
func (f *folder) renamed() map[*files.Entry]*files.Entry {
	out := map[*files.Entry]*files.Entry{}
	taken := map[*files.Entry]bool{}
	byName := map[string]*files.Entry{}
	for _, e := range f.gone {
		byName[path.Base(e.Path)] = e
	}
	for _, e := range f.added {
		name := path.Base(e.Path)
		for at := strings.LastIndexByte(name, '.'); at > 0; at = strings.LastIndexByte(name[:at], '.') {
			if was := byName[name[:at]]; was != nil && out[was] == nil {
				out[was], taken[e] = e, true
				break
			}
		}
	}
	bySize := func(a, b *files.Entry) int {
		if a.Size != b.Size {
			return int(min(1, max(-1, a.Size-b.Size)))
		}
		return strings.Compare(a.Path, b.Path)
	}
	gone := slices.DeleteFunc(slices.SortedFunc(slices.Values(f.gone), bySize), func(e *files.Entry) bool { return out[e] != nil })
	added := slices.DeleteFunc(slices.SortedFunc(slices.Values(f.added), bySize), func(e *files.Entry) bool { return taken[e] })
	for i, j := 0, 0; i < len(gone) && j < len(added); {
		switch was, is := gone[i].Size, added[j].Size; {
		case is < was:
			j++
		case is > was+was/50+grows:
			i++
		default:
			out[gone[i]] = added[j]
			i, j = i+1, j+1
		}
	}
	return out
}

// grows is by how much a file may have grown under another name and be told to be the same, in bytes, and a fiftieth of its size.
const grows = 4 << 10

const (
	// leastFiles is of how few nothing is said.
	leastFiles = 20
	// With an ending that no file had before, so many of the renamed tell enough by themselves; of renamed at least such a share of all files.
	sameEnding, renamedShare = 0.8, 0.1
	// lostShare is which share of files has to be rewritten, or gone, to be told of.
	lostShare = 0.4
	// noteShare is in which share of the folders the same file has come.
	noteShare = 0.5
	// leastLooked is how many texts must be no text any more, textlessShare which share of those that were looked into, and beyond what is usual.
	leastLooked, textlessShare, textlessMore = 5, 0.5, 0.3
	// beyond is how many times as much as ever before is unusual.
	beyond = 3
)

// CompareFiles says what is unusual in how an image's files differ from those of the image before. before are the same of earlier images of the machine,
// newest first.
func CompareFiles(now Change, before []Change) (signs []Sign) {
	before = before[:min(len(before), Most)]
	share := func(n int) float64 { return float64(n) / float64(max(1, now.Files)) }
	// more reports whether there is more of something than there ever was, of which enough is known.
	more := func(of func(Change) int) bool {
		if len(before) < Fewest {
			return false
		}
		most := 0
		for _, b := range before {
			most = max(most, of(b))
		}
		return of(now) > beyond*most
	}
	say := func(k Kind, format string, args ...any) {
		signs = append(signs, Sign{k, fmt.Sprintf(format, args...)})
	}
	if now.Renamed >= leastFiles && share(now.Renamed) >= renamedShare {
		switch {
		case float64(now.Ended) >= sameEnding*float64(now.Renamed):
			say(Renamed, "renamed: %d of %d data files have another name than in the image before, and %d of them end in %q now, as no file did", now.Renamed, now.Files, now.Ended, now.Ending)
		case more(func(c Change) int { return c.Renamed }):
			say(Renamed, "renamed: %d of %d data files seem to have another name than in the image before, more than ever", now.Renamed, now.Files)
		}
	}
	if now.Rewritten >= leastFiles && share(now.Rewritten) >= lostShare && more(func(c Change) int { return c.Rewritten }) {
		say(Rewritten, "rewritten: %d of %d data files are others than in the image before, more than ever", now.Rewritten, now.Files)
	}
	if lost := func(c Change) int { return c.Gone - c.Renamed }; lost(now) >= leastFiles && share(lost(now)) >= lostShare && more(lost) {
		say(Deleted, "gone: %d of %d data files of the image before are not there any more, more than ever", lost(now), now.Files)
	}
	if now.Notes >= leastFiles && float64(now.Notes) >= noteShare*float64(now.Folders) {
		say(Noted, "the same file, %q, came in %d of %d folders", now.Note, now.Notes, now.Folders)
	}
	usual := 0.0
	for _, b := range before {
		usual = max(usual, float64(b.Textless)/float64(max(1, b.Looked)))
	}
	if is := float64(now.Textless) / float64(max(1, now.Looked)); now.Textless >= leastLooked && is >= textlessShare && is-usual >= textlessMore {
		say(NoText, "no text any more: of %d changed files that were text, by their names, %d are none now", now.Looked, now.Textless)
	}
	return signs
}
