// Package inplace keeps snapshots in place of a server: of the btrfs subvolumes that it has mounted. They lie in a folder at the top of their file system,
// read-only, one folder for each snapshot. What others made is listed, and never touched.
package inplace

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/files"
	"keenlodge/internal/core/mountinfo"
	"keenlodge/internal/line"
)

const (
	// folder is where snapshots lie, from the top of a file system on; aboutFile tells of one; was begins what a going back has replaced.
	folder, aboutFile, was = files.SnapFolder, "about.json", "was-"
	// firstInode is that of the root of every subvolume (btrfs(5)).
	firstInode = 256
	// toolTime is how long a command may take.
	toolTime = time.Minute
)

var idForm = regexp.MustCompile(`^[0-9a-z]{10}$`)

// subvolume is one that is mounted: Root is its path from the top of its file system, At where it is mounted.
type subvolume struct {
	Root    string `json:"root"`
	At      string `json:"at"`
	Options string `json:"-"`
}

// fileSystem is a btrfs of which something is mounted.
type fileSystem struct {
	source string
	has    []subvolume
}

// about tells of a snapshot, in its folder. Done says that all of it is there; the n-th of Of lies in the folder n.
type about struct {
	ID    string      `json:"id"`
	Ref   string      `json:"ref"`
	Note  string      `json:"note"`
	Taken time.Time   `json:"taken"`
	Of    []subvolume `json:"of"`
	Done  bool        `json:"done"`
}

// mounted lists the file systems of btrfs, and names others that lie on disks.
func mounted() (out []fileSystem, others []string, err error) {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		l, ok := mountinfo.Parse(lines.Text())
		if !ok || !strings.HasPrefix(l.Source, "/dev/") || strings.HasPrefix(l.Root, "/"+folder+"/") {
			continue
		}
		if l.Kind != "btrfs" {
			if text := fmt.Sprintf("%s (%s)", l.Point, l.Kind); !slices.Contains(others, text) {
				others = append(others, text)
			}
			continue
		}
		var st unix.Stat_t
		if unix.Stat(l.Point, &st) != nil || st.Ino != firstInode {
			continue // a folder of one, bound elsewhere
		}
		i := slices.IndexFunc(out, func(o fileSystem) bool { return o.source == l.Source })
		if i < 0 {
			out, i = append(out, fileSystem{source: l.Source}), len(out)
		}
		if !slices.ContainsFunc(out[i].has, func(s subvolume) bool { return s.Root == l.Root }) {
			out[i].has = append(out[i].has, subvolume{l.Root, l.Point, l.Options})
		}
	}
	return out, others, lines.Err()
}

// Keeper keeps them. Folder is one of the agent's; Writable are folders of the server in which the lodge may write, also by going back.
type Keeper struct {
	Folder   string
	Writable []string
	mu       sync.Mutex
}

// allows reports whether all of a folder may be written to.
func (k *Keeper) allows(at string) bool {
	return slices.ContainsFunc(k.Writable, func(w string) bool { return w == "/" || at == w || strings.HasPrefix(at, w+"/") })
}

// tool runs btrfs(8).
func tool(ctx context.Context, args ...string) ([]byte, error) {
	ctx, done := context.WithTimeout(ctx, toolTime)
	defer done()
	cmd := exec.CommandContext(ctx, "btrfs", args...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("btrfs %s: %w: %s", strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return out, nil
}

// each mounts the top of each file system for a while. Where a process died in the middle of that, the next one ends it.
func (k *Keeper) each(of []fileSystem, do func(f fileSystem, top string) error) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	top := filepath.Join(k.Folder, "top")
	if err := os.MkdirAll(top, 0o700); err != nil {
		return err
	}
	for _, f := range of {
		for unix.Unmount(top, unix.MNT_DETACH) == nil { // of a process that died
		}
		if err := unix.Mount(f.source, top, "btrfs", unix.MS_NOATIME, "subvolid=5"); err != nil {
			return fmt.Errorf("mount the top of %s: %w", f.source, err)
		}
		err := do(f, top)
		if err := errors.Join(err, unix.Unmount(top, unix.MNT_DETACH)); err != nil {
			return err
		}
	}
	return nil
}

// Take takes a snapshot of every subvolume that is mounted, one right after the other. It is taken once, however often it is asked for. If it fails, nothing
// stays.
func (k *Keeper) Take(ctx context.Context, s line.Snap) (out line.Snapped, err error) {
	if !idForm.MatchString(s.ID) {
		return out, fmt.Errorf("%.40q is no snapshot's ID", s.ID)
	}
	of, others, err := mounted()
	if err != nil {
		return out, err
	}
	if len(of) == 0 {
		return out, errors.New("nothing that is mounted on it is btrfs, whose subvolumes can be kept in place")
	}
	out.Left, out.Ref = others, rand.Text()
	var first, last time.Time
	err = k.each(of, func(f fileSystem, top string) error {
		at := filepath.Join(top, folder, s.ID)
		if a, err := readAbout(at); err == nil && a.Done {
			out.Ref, out.Taken = a.Ref, a.Taken
			for _, v := range a.Of {
				out.Of = append(out.Of, v.At)
			}
			return nil
		}
		if _, err := k.remove(ctx, at); err != nil { // of one that was not brought to its end
			return err
		}
		a := about{ID: s.ID, Ref: out.Ref, Note: s.Note, Taken: time.Now(), Of: f.has}
		if err := errors.Join(os.MkdirAll(at, 0o700), a.write(at)); err != nil {
			return err
		}
		for n, v := range f.has {
			if last = time.Now(); first.IsZero() {
				first = last
			}
			if _, err := tool(ctx, "subvolume", "snapshot", "-r", filepath.Join(top, v.Root), filepath.Join(at, strconv.Itoa(n))); err != nil {
				return err
			}
			out.Of = append(out.Of, v.At)
		}
		a.Done, out.Taken = true, a.Taken
		return a.write(at)
	})
	if err != nil {
		_, undone := k.Remove(context.WithoutCancel(ctx), line.Unsnap{ID: s.ID})
		return out, errors.Join(err, undone)
	}
	out.Apart = last.Sub(first)
	return out, nil
}

func readAbout(at string) (a about, err error) {
	body, err := os.ReadFile(filepath.Join(at, aboutFile))
	if err == nil {
		err = json.Unmarshal(body, &a)
	}
	return a, err
}

// write writes it so that it is there whole or as it was.
func (a about) write(at string) error {
	body, err := json.Marshal(a)
	if err != nil {
		return err
	}
	path := filepath.Join(at, aboutFile)
	if err := os.WriteFile(path+".new", body, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// List lists them, and those that others made.
func (k *Keeper) List(ctx context.Context) (line.Snaps, error) {
	out := line.Snaps{Snaps: []line.SnapKept{}}
	of, _, err := mounted()
	if err != nil || len(of) == 0 {
		return out, err
	}
	err = k.each(of, func(f fileSystem, top string) error {
		found, err := os.ReadDir(filepath.Join(top, folder))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, d := range found {
			if strings.HasPrefix(d.Name(), was) {
				if err := tidy(ctx, f, top, d.Name()); err != nil {
					return err
				}
				continue
			}
			a, err := readAbout(filepath.Join(top, folder, d.Name()))
			if err != nil || !idForm.MatchString(d.Name()) || slices.ContainsFunc(out.Snaps, func(s line.SnapKept) bool { return s.ID == d.Name() }) {
				continue
			}
			out.Snaps = append(out.Snaps, line.SnapKept{ID: d.Name(), Ref: a.Ref, Name: folder + "/" + d.Name(), Note: a.Note, Taken: a.Taken})
		}
		listed, err := tool(ctx, "subvolume", "list", "-s", top)
		for text := range strings.Lines(string(listed)) {
			if s, ok := foreign(text); ok {
				out.Snaps = append(out.Snaps, s)
			}
		}
		return err
	})
	return out, err
}

// foreign reads a line of "btrfs subvolume list -s" about a snapshot that is not ours.
func foreign(text string) (s line.SnapKept, ok bool) {
	before, path, ok := strings.Cut(strings.TrimSpace(text), " path ")
	_, made, dated := strings.Cut(before, " otime ")
	taken, err := time.ParseInLocation(time.DateTime, strings.TrimSpace(made), time.Local)
	path = strings.TrimPrefix(path, "<FS_TREE>/")
	if !ok || !dated || err != nil || strings.HasPrefix(path, folder+"/") {
		return s, false
	}
	return line.SnapKept{Name: path, Taken: taken}, true
}

// tidy removes what a going back has replaced, once nothing has it mounted.
func tidy(ctx context.Context, f fileSystem, top, name string) error {
	body, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil || strings.Contains(string(body), " /"+folder+"/"+name+" ") {
		return err
	}
	_, err = tool(ctx, "subvolume", "delete", filepath.Join(top, folder, name))
	return err
}

// Remove removes a snapshot, if it is the one of that ref, where one is named.
func (k *Keeper) Remove(ctx context.Context, s line.Unsnap) (there bool, err error) {
	of, _, err := mounted()
	if err != nil || !idForm.MatchString(s.ID) {
		return false, err
	}
	err = k.each(of, func(_ fileSystem, top string) error {
		at := filepath.Join(top, folder, s.ID)
		if a, err := readAbout(at); err == nil && s.Ref != "" && a.Ref != s.Ref {
			return nil
		}
		found, err := k.remove(ctx, at)
		there = there || found
		return err
	})
	return there, err
}

// remove removes the folder of a snapshot, with what is in it.
func (k *Keeper) remove(ctx context.Context, at string) (bool, error) {
	found, err := os.ReadDir(at)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	for _, d := range found {
		if d.IsDir() {
			_, err = tool(ctx, "subvolume", "delete", filepath.Join(at, d.Name()))
		}
		if err != nil {
			return true, err
		}
	}
	return true, os.RemoveAll(at) // what tells of it goes last
}

// Back has each subvolume of a snapshot be as it was then, by one that takes its place at once. What is in use goes on with what it has until it is mounted
// anew, which is told.
func (k *Keeper) Back(ctx context.Context, s line.Unsnap) (told []string, err error) {
	of, _, err := mounted()
	if err != nil {
		return nil, err
	}
	there := map[string]about{} // by file system
	err = k.each(of, func(f fileSystem, top string) error {
		a, err := readAbout(filepath.Join(top, folder, s.ID))
		if errors.Is(err, fs.ErrNotExist) || err == nil && (!a.Done || a.Ref != s.Ref) {
			return nil
		}
		if err == nil {
			there[f.source], err = a, k.fits(ctx, top, a)
		}
		return err
	})
	if err == nil && len(there) == 0 {
		err = fmt.Errorf("there is no snapshot %s on it any more; what there is: keenlodge snapshot list", s.ID)
	}
	if err != nil {
		return nil, err
	}
	err = k.each(of, func(f fileSystem, top string) error {
		for n, v := range there[f.source].Of {
			text, err := back(ctx, f, top, filepath.Join(top, folder, s.ID), n, v, s.ID)
			if err != nil {
				return fmt.Errorf("go back at %s: %w", v.At, err)
			}
			told = append(told, text)
		}
		return nil
	})
	return told, err
}

// fits says why a file system can't go back to a snapshot: before anything is done.
func (k *Keeper) fits(ctx context.Context, top string, a about) error {
	for _, v := range a.Of {
		if !k.allows(v.At) {
			return fmt.Errorf("the server's agent allows nothing to be written to %s (keenlodge agent run --writable)", v.At)
		}
		if v.Root == "/" {
			return fmt.Errorf("what is mounted at %s is the top of its file system, and no subvolume that another could take the place of; its snapshot is in %s/%s there, from which files are copied with cp --reflink", v.At, folder, a.ID)
		}
		below, err := tool(ctx, "subvolume", "list", "-o", filepath.Join(top, v.Root))
		if err != nil {
			return err
		}
		if text := strings.TrimSpace(string(below)); text != "" {
			_, name, _ := strings.Cut(text, " path ")
			return fmt.Errorf("%s has subvolumes of its own below it, such as %s, which are in no snapshot of it and would be gone from there; move them beside it first", v.At, strings.Split(name, "\n")[0])
		}
	}
	return nil
}

// back has a subvolume be as it was: the n-th of a snapshot.
func back(ctx context.Context, f fileSystem, top, at string, n int, v subvolume, id string) (told string, err error) {
	old := filepath.Join(top, folder, was+id+"-"+strconv.Itoa(n))
	if _, err := os.Stat(old); err == nil {
		return "", fmt.Errorf("what an earlier going back to this snapshot replaced is in use still; restart the server first")
	}
	if _, err := tool(ctx, "subvolume", "snapshot", filepath.Join(at, strconv.Itoa(n)), old); err != nil {
		return "", err
	}
	// At no moment is there nothing of that name, from which the server would have to start.
	if err := unix.Renameat2(unix.AT_FDCWD, old, unix.AT_FDCWD, filepath.Join(top, v.Root), unix.RENAME_EXCHANGE); err != nil {
		_, undone := tool(ctx, "subvolume", "delete", old)
		return "", errors.Join(fmt.Errorf("exchange it: %w", err), undone)
	}
	i := slices.IndexFunc(f.has, func(m subvolume) bool { return m.At == v.At })
	if i < 0 {
		return v.At + " is as it was then; it is not mounted", nil
	}
	if err := unix.Unmount(v.At, 0); err != nil {
		return fmt.Sprintf("%s is in use: it is as it was then from the next start of the server on", v.At), nil
	}
	cmd := exec.CommandContext(ctx, "mount", "-t", "btrfs", "-o", f.has[i].Options+",subvol="+v.Root, f.source, v.At)
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("mount it again: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return v.At + " is as it was then", tidy(ctx, f, top, filepath.Base(old))
}
