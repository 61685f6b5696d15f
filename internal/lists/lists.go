// Package lists keeps the lists of images' files, so that a name is found in years of images within a moment: the newest list of a machine whole, each
// older one as what differs. They can be thrown away, and are made again when images are opened.
package lists

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/reader"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listed"
	"keenlodge/internal/stores"
	"keenlodge/internal/vault"
)

// mostEntries bounds a list that is kept: the larger ones of the world are not searched.
const mostEntries = 5_000_000

// Lists keeps lists.
type Lists struct {
	rec    *records.Records
	stores *stores.Stores
	vault  *vault.Vault
	log    *slog.Logger
}

// New makes a Lists.
func New(rec *records.Records, ss *stores.Stores, v *vault.Vault, log *slog.Logger) *Lists {
	return &Lists{rec, ss, v, log}
}

// Has reports whether an image has a list.
func (l *Lists) Has(ctx context.Context, image string) (bool, error) {
	return l.rec.HasList(ctx, image)
}

// Keep keeps the list of an image of a machine. What is read is what [files.NewListReader] reads, in any order; a prefix for paths may stand before each
// of several. look, if not nil, looks into files that changed and were text.
func (l *Lists) Keep(ctx context.Context, machine, image string, parts map[string]io.Reader, look Looking) error {
	if has, err := l.Has(ctx, image); err != nil || has {
		return err
	}
	all := []files.Entry{}
	for prefix, in := range parts {
		r, err := files.NewListReader(in)
		if err != nil {
			return err
		}
		for {
			e, _, err := r.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err == nil && len(all) == mostEntries {
				err = fmt.Errorf("image %s has more than %d files, which are not listed", image, mostEntries)
			}
			if err == nil {
				err = context.Cause(ctx)
			}
			if err != nil {
				return err
			}
			if e.Kind != files.Unseen && e.Path != "." {
				same := e.Same
				if same != "" {
					same = prefix + same
				}
				all = append(all, files.Entry{Path: prefix + e.Path, Kind: e.Kind, Size: e.Size, Modified: e.Modified, Target: e.Target, Same: same})
			}
		}
	}
	slices.SortFunc(all, func(a, b files.Entry) int { return files.Compare(a.Path, b.Path) })
	now := []byte(files.ListHead)
	for i := range all {
		e := &all[i]
		if e.Same != "" { // another name of a file, which is as large as that
			if first, is := slices.BinarySearchFunc(all, e.Same, func(e files.Entry, path string) int { return files.Compare(e.Path, path) }); is {
				e.Size = all[first].Size
			}
			e.Same = ""
		}
		now = files.AppendEntry(now, e)
	}
	var tally *unusual.Tally
	added, err := l.rec.AddList(ctx, machine, image, int64(len(all)), func(newest []byte, follows bool) (older, newer []byte, err error) {
		if newest != nil {
			see := func(files.Difference) {}
			if follows {
				tally = &unusual.Tally{}
				see = tally.See
			}
			if older, err = l.asOlder(newest, now, see); err != nil {
				l.log.Warn("the lists of a machine's files can't be read, and are made anew", "machine", machine, "error", err)
				older, tally = nil, nil
			}
		}
		newer, err = l.seal(now)
		return older, newer, err
	})
	if err == nil && added && tally == nil { // others were listed in between, of another policy
		tally, err = l.tally(ctx, machine, image)
	}
	if err != nil || !added || tally == nil {
		return err
	}
	if err := l.compare(ctx, machine, image, tally, all, look); err != nil {
		return fmt.Errorf("whether the files of image %s changed as usual: %w", image, err)
	}
	return nil
}

// KeepOpened keeps the list of an image whose disks are open, of all their file systems: those of the machine's own tree by their paths in that, others by
// NAME:/path.
func (l *Lists) KeepOpened(ctx context.Context, machine, image string, systems []reader.FileSystem, tree bool, o Opened) error {
	if has, err := l.Has(ctx, image); err != nil || has {
		return err
	}
	parts := map[string]io.Reader{}
	add := func(prefix string, w reader.Where) error {
		w.Path, w.Below = "/", true
		in, err := o.List(ctx, w)
		if err == nil {
			defer in.Close()
			var body []byte
			if body, err = io.ReadAll(io.LimitReader(in, mostBytes)); err == nil {
				parts[prefix] = bytes.NewReader(body)
			}
		}
		return err
	}
	if tree {
		if err := add("", reader.Where{}); err != nil {
			return err
		}
	}
	for _, f := range systems {
		if f.Why == "" && (f.Mounted == "" || !tree) {
			if err := add(f.Name+":/", reader.Where{FileSystem: f.Name}); err != nil {
				return err
			}
		}
	}
	return l.Keep(ctx, machine, image, parts, lookInto(o))
}

// mostBytes bounds what is read of one list.
const mostBytes = 1 << 30

// asOlder is what is kept of a list that was the newest: what differs in it from the one that is now, which see is shown. What is not in it is told as unseen.
func (l *Lists) asOlder(was, now []byte, see func(files.Difference)) ([]byte, error) {
	older, err := l.open(was)
	if err != nil {
		return nil, err
	}
	newer, err := files.NewListReader(bytes.NewReader(now))
	if err != nil {
		return nil, err
	}
	differs := []byte(files.ListHead)
	if err := files.Diff(older, newer, func(d files.Difference) error {
		see(d)
		if d.Old == nil {
			d.Old = &files.Entry{Path: d.New.Path, Kind: files.Unseen}
		}
		differs = files.AppendEntry(differs, d.Old)
		return nil
	}); err != nil {
		return nil, err
	}
	return l.seal(differs)
}

// seal makes of a list what is kept.
func (l *Lists) seal(list []byte) ([]byte, error) {
	w, err := zstd.NewWriter(nil)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	return l.vault.Seal(w.EncodeAll(list, nil))
}

func (l *Lists) open(body []byte) (*files.ListReader, error) {
	packed, err := l.vault.Unseal(body)
	if err != nil {
		return nil, err
	}
	r, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderMaxMemory(4<<30))
	if err != nil {
		return nil, err
	}
	return files.NewListReader(r.IOReadCloser())
}

// Version is a file as it was in some images, of which Newest and Oldest are told, and how many have it so.
type Version struct {
	Entry          files.Entry
	Newest, Oldest records.Image
	Images         int
}

// Found is a file with its versions, the newest first.
type Found struct {
	Path     string
	Versions []Version
}

// Result is what was found in the images of a machine. Missing are images that have no list.
type Result struct {
	Files    []Found
	Searched int
	Missing  []records.Image
	// More says that there are more files than were asked for.
	More bool
}

// pattern fits names: with wildcards as path.Match has them, or else what has the text in it, whatever the case. One with a slash is for paths: for whole
// ones where it begins with that, or else for their ends.
type pattern struct {
	text                string
	wild, whole, rooted bool
}

func parse(text string) (pattern, error) {
	p := pattern{text: text, wild: strings.ContainsAny(text, "*?["), whole: strings.Contains(text, "/"), rooted: strings.HasPrefix(text, "/")}
	if text == "" {
		return p, errors.New("say which name")
	}
	if p.whole {
		p.text = strings.TrimPrefix(text, "/")
	}
	if !p.wild {
		p.text = strings.ToLower(p.text)
	}
	_, err := path.Match(p.text, "")
	return p, err
}

func (p pattern) fits(name string) bool {
	if !p.whole {
		name = name[strings.LastIndexByte(name, '/')+1:]
	}
	for p.wild {
		if ok, _ := path.Match(p.text, name); ok {
			return true
		}
		_, rest, more := strings.Cut(name, "/")
		if name = rest; !more || p.rooted {
			return false
		}
	}
	return strings.Contains(strings.ToLower(name), p.text)
}

// Find finds files by a name in the images of a machine that are not gone, at most so many.
func (l *Lists) Find(ctx context.Context, machine, name string, most int) (out Result, err error) {
	p, err := parse(name)
	if err != nil {
		return out, fmt.Errorf("%w: %q can't be searched for: %w", fault.ErrInvalid, name, err)
	}
	images, err := l.rec.Images(ctx, records.ImageFilter{MachineID: machine})
	if err != nil {
		return out, err
	}
	kept, err := l.rec.ListsOf(ctx, machine)
	if err != nil {
		return out, err
	}
	states, err := l.replay(ctx, kept, p)
	if err != nil {
		return out, err
	}
	found := map[string]*Found{}
	for _, m := range images { // the newest first
		state, ok := states[m.ID]
		if !ok {
			out.Missing = append(out.Missing, m)
			continue
		}
		out.Searched++
		for path, e := range state {
			f := found[path]
			if f == nil {
				if len(found) == most {
					out.More = true
					continue
				}
				f = &Found{Path: path}
				found[path] = f
			}
			if n := len(f.Versions); n > 0 && len(files.Changes(&f.Versions[n-1].Entry, e)) == 0 {
				v := &f.Versions[n-1]
				v.Oldest, v.Images = m, v.Images+1
				continue
			}
			f.Versions = append(f.Versions, Version{*e, m, m, 1})
		}
	}
	for _, f := range found {
		out.Files = append(out.Files, *f)
	}
	slices.SortFunc(out.Files, func(a, b Found) int { return files.Compare(a.Path, b.Path) })
	return out, nil
}

// replay gives what fits in each image's list.
func (l *Lists) replay(ctx context.Context, kept []listed.List, p pattern) (map[string]map[string]*files.Entry, error) {
	states := map[string]map[string]*files.Entry{}
	now := map[string]*files.Entry{}
	for _, k := range kept {
		changed := false
		err := l.each(ctx, k, func(e *files.Entry) {
			if !p.fits(e.Path) {
				return
			}
			if !changed {
				now, changed = maps.Clone(now), true
			}
			if e.Kind == files.Unseen {
				delete(now, e.Path)
			} else {
				now[e.Path] = e
			}
		})
		switch {
		case ctx.Err() != nil:
			return nil, context.Cause(ctx)
		case err != nil:
			l.log.Warn("lists of files can't be read, and are passed over", "image", k.Image, "error", err)
			return states, nil // what was listed before leans on it
		}
		if !k.Gone {
			states[k.Image] = now
		}
	}
	return states, nil
}

const (
	// keepEvery is how often images of files are listed that were made meanwhile, keepAtOnce how many of them then.
	keepEvery, keepAtOnce = 20 * time.Second, 20
	// dropEvery is how often what is of no use any more is looked for.
	dropEvery = time.Hour
)

// Serve lists images of files as they come, and drops what is of no use any more, until ctx ends.
func (l *Lists) Serve(ctx context.Context) error {
	tick := time.NewTicker(keepEvery)
	defer tick.Stop()
	failed := map[string]bool{}
	var dropped time.Time
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		ids, err := l.rec.Unlisted(ctx, keepAtOnce+len(failed)) // none is passed over for those that can't be
		if err == nil && time.Since(dropped) > dropEvery {
			dropped = time.Now()
			err = l.rec.DropLists(ctx)
		}
		if err != nil && ctx.Err() == nil && !records.Away(err) {
			l.log.Warn("lists of files could not be looked after", "error", err)
		}
		for _, id := range ids {
			if failed[id] {
				continue
			}
			if err := l.KeepFiles(ctx, id); err != nil && ctx.Err() == nil {
				failed[id] = true
				l.log.Warn("an image's files could not be listed", "image", id, "error", err)
			}
		}
	}
}

// KeepFiles keeps the list of an image of files.
func (l *Lists) KeepFiles(ctx context.Context, id string) error {
	rec, st, err := l.stores.OfImage(ctx, id)
	if err != nil {
		return err
	}
	m, err := st.ReadImage(ctx, id)
	if err != nil {
		return err
	}
	in, err := st.ListFiles(ctx, m)
	if err != nil {
		return err
	}
	defer in.Close()
	look := lookIntoFiles(st, m)
	if st.Header().Layout == site.Open { // whose archive would have to be unpacked whole for that
		look = nil
	}
	return l.Keep(ctx, rec.MachineID, id, map[string]io.Reader{"": in}, look)
}
