// Package browse looks into images: it lists what is in them and reads single files, of images of files by their lists, and of disks in a reader
// guest, which is kept for some minutes in case somebody looks on.
package browse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
	"keenlodge/internal/lists"
	"keenlodge/internal/opening"
	"keenlodge/internal/reader"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
)

const (
	// keptFor is how long a reader guest is kept after it was used last, lookEvery how often that is looked after.
	keptFor, lookEvery = 5 * time.Minute, 10 * time.Second
	// mostGuests is how many reader guests are up at once; one that nobody uses makes room.
	mostGuests = 3
)

// Browser looks into images.
type Browser struct {
	stores    *stores.Stores
	log       *slog.Logger
	folder    string
	announced string // as which this process is announced in stores
	lists     *lists.Lists

	mu      sync.Mutex
	guests  map[string]*guest // by image
	closing bool
}

// guest is a reader guest of an image, or one that is being started.
type guest struct {
	ready chan struct{} // closed when it is up, or failed
	*reader.Guest
	err   error
	large bool
	using int
	// listing is 1 while its files are listed, which holds nobody up.
	listing int
	used    time.Time
	end     []func() error // of what it reads
}

// New makes a Browser, whose guests have what is theirs in a folder; program is what this process is called.
func New(ss *stores.Stores, ls *lists.Lists, log *slog.Logger, folder, program string) *Browser {
	return &Browser{stores: ss, lists: ls, log: log, folder: folder, announced: program, guests: map[string]*guest{}}
}

// Place is where in an image something lies.
type Place = reader.Where

// ParsePlace reads a place: a path such as /etc/hosts, or one in a file system that is named, such as vdb1:/records. A name that is no text is
// written as lists show it.
func ParsePlace(text string) (Place, error) {
	name, path, named := strings.Cut(text, ":")
	if !named || strings.HasPrefix(text, "/") {
		name, path = "", text
	}
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	path = files.FromReadable(path)
	if strings.ContainsRune(path, 0) || len(path) > files.MaxPath {
		return Place{}, fmt.Errorf("%w: %.100q is no place in an image; write a path such as /etc/hosts, or vdb1:/records for one in a file system", fault.ErrInvalid, text)
	}
	return Place{FileSystem: name, Path: path}, nil
}

// Serve ends guests that nobody uses, until ctx ends, and all of them then.
func (b *Browser) Serve(ctx context.Context) error {
	if found, err := reader.Clean(b.folder); err != nil {
		b.log.Warn("what a dead process's reader guests left could not be removed", "error", err)
	} else if len(found) > 0 {
		b.log.Info("removed what a dead process's reader guests left", "found", found)
	}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			b.mu.Lock()
			b.closing = true
			b.mu.Unlock()
			b.drop(func(*guest) bool { return true })
			return nil
		case <-tick.C:
			b.drop(func(g *guest) bool { return g.using == 0 && time.Since(g.used) > keptFor })
		}
	}
}

// drop ends the guests for which which is true, and those that ended by themselves.
func (b *Browser) drop(which func(*guest) bool) {
	b.mu.Lock()
	var out []*guest
	for id, g := range b.guests {
		if g.up() && (which(g) || g.over()) {
			delete(b.guests, id)
			out = append(out, g)
		}
	}
	b.mu.Unlock()
	for _, g := range out {
		b.close(g)
	}
}

// up reports whether a guest has been started, well or not.
func (g *guest) up() bool {
	select {
	case <-g.ready:
		return true
	default:
		return false
	}
}

// over reports whether a guest that was started has ended.
func (g *guest) over() bool {
	if g.Guest == nil {
		return true
	}
	select {
	case <-g.Ended():
		return true
	default:
		return false
	}
}

func (b *Browser) close(g *guest) {
	if g.Guest != nil {
		if err := g.Guest.Close(); err != nil {
			b.log.Warn("a reader guest left something behind", "error", err)
		}
	}
	for _, end := range g.end {
		if err := end(); err != nil {
			b.log.Warn("an image that was looked into could not be closed", "error", err)
		}
	}
}

// guestOf is the guest of an image of disks, started if it is not up. It is not ended before release is called.
func (b *Browser) guestOf(ctx context.Context, st store.Store, m *image.Manifest) (g *guest, release func(), err error) {
	return b.guestThat(ctx, st, m, false)
}

// guestThat is [Browser.guestOf], of a large guest where that is asked for: another one is ended for it, unless somebody uses that.
func (b *Browser) guestThat(ctx context.Context, st store.Store, m *image.Manifest, large bool) (g *guest, release func(), err error) {
	for {
		b.mu.Lock()
		if b.closing {
			b.mu.Unlock()
			return nil, nil, fmt.Errorf("%w: the service is being stopped", fault.ErrConflict)
		}
		g = b.guests[m.ID]
		if g != nil && large && !g.large && (g.using > g.listing || !g.up()) {
			b.mu.Unlock()
			return nil, nil, fmt.Errorf("%w: image %s is being looked into just now, in a guest that can unlock nothing; try again in a moment", fault.ErrConflict, m.ID)
		}
		if g != nil && g.up() && (g.over() || large && !g.large) {
			delete(b.guests, m.ID)
			go b.close(g)
			g = nil
		}
		if g != nil {
			break
		}
		if len(b.guests) < mostGuests {
			g = &guest{ready: make(chan struct{}), large: large, used: time.Now()}
			b.guests[m.ID] = g
			go b.start(context.WithoutCancel(ctx), st, m, g)
			break
		}
		b.mu.Unlock()
		if !b.makeRoom() {
			return nil, nil, fmt.Errorf("%w: %d images are being looked into just now, and this process opens no more at once; try again in a while", fault.ErrConflict, mostGuests)
		}
	}
	g.using++
	b.mu.Unlock()
	release = func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		g.using--
		g.used = time.Now()
	}
	select {
	case <-g.ready:
	case <-ctx.Done():
		release()
		return nil, nil, context.Cause(ctx)
	}
	if g.err != nil {
		release()
		return nil, nil, g.err
	}
	return g, release, nil
}

// makeRoom ends the guest that was not used for the longest time, if one is not used at all.
func (b *Browser) makeRoom() bool {
	b.mu.Lock()
	oldest := ""
	for id, g := range b.guests {
		if g.up() && g.using == 0 && (oldest == "" || g.used.Before(b.guests[oldest].used)) {
			oldest = id
		}
	}
	g := b.guests[oldest]
	delete(b.guests, oldest)
	b.mu.Unlock()
	if g != nil {
		b.close(g)
	}
	return g != nil
}

// start starts a guest.
func (b *Browser) start(ctx context.Context, st store.Store, m *image.Manifest, g *guest) {
	defer close(g.ready)
	end, err := st.Reading(ctx, b.announced) // no sweep takes what the guest reads
	if err == nil {
		g.end = append(g.end, func() error { return end(ctx) })
	}
	var disks []reader.Disk
	if err == nil {
		var closeDisks func() error
		if disks, closeDisks, err = opening.OpenDisks(ctx, st, m); err == nil {
			g.end = append([]func() error{closeDisks}, g.end...)
		}
	}
	if err == nil {
		g.Guest, err = b.stores.Reader(ctx, disks, g.large)
	}
	if err == nil { // while somebody looks at a folder or two, all of them are listed, to be searched later
		b.mu.Lock()
		g.using, g.listing = g.using+1, 1
		b.mu.Unlock()
		go b.keepList(ctx, m.ID, g)
	}
	if err != nil {
		g.err = fmt.Errorf("%w: look into image %s: %w", fault.ErrUnavailable, m.ID, err)
	}
}

// keepList keeps the list of an image that was opened.
func (b *Browser) keepList(ctx context.Context, id string, g *guest) {
	defer func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		g.using, g.listing = g.using-1, 0
	}()
	m, err := b.stores.Image(ctx, id)
	if err == nil {
		o := g.Opened()
		err = b.lists.KeepOpened(ctx, m.MachineID, id, o.FileSystems, o.Tree, g)
	}
	if err != nil && !g.over() {
		b.log.Warn("an image's files could not be listed", "image", id, "error", err)
	}
}

// Keep lists all files of an image, so that they are found by name.
func (b *Browser) Keep(ctx context.Context, id string) error {
	rec, st, err := b.stores.OfImage(ctx, id)
	if err != nil {
		return err
	}
	m, err := st.ReadImage(ctx, id)
	if err != nil {
		return err
	}
	if m.Files != nil {
		return b.lists.KeepFiles(ctx, id)
	}
	g, release, err := b.guestOf(ctx, st, m)
	if err != nil {
		return err
	}
	defer release()
	o := g.Opened()
	return known(b.lists.KeepOpened(ctx, rec.MachineID, m.ID, o.FileSystems, o.Tree, g))
}

// of finds an image.
func (b *Browser) of(ctx context.Context, id string) (store.Store, *image.Manifest, error) {
	_, st, err := b.stores.OfImage(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	m, err := st.ReadImage(ctx, id)
	return st, m, err
}

// known is an error of a guest in the words of faults.
func known(err error) error {
	if err == nil {
		return nil
	}
	var refused *line.Refusal
	if errors.As(err, &refused) && refused.Kind == line.Unknown {
		return fmt.Errorf("%w: %w", fault.ErrNotFound, err)
	}
	return fmt.Errorf("%w: %w", fault.ErrUnavailable, err)
}

// FileSystems are what was found on an image's disks; an image of files has none.
func (b *Browser) FileSystems(ctx context.Context, id string) (reader.Opened, error) {
	st, m, err := b.of(ctx, id)
	if err != nil || m.Files != nil {
		return reader.Opened{Tree: true, FileSystems: []reader.FileSystem{}}, err
	}
	g, release, err := b.guestOf(ctx, st, m)
	if err != nil {
		return reader.Opened{}, err
	}
	defer release()
	return g.Opened(), nil
}

// Unlock opens what is locked on an image's disks, with a key that is kept nowhere but in the guest, for as long as that is up.
func (b *Browser) Unlock(ctx context.Context, id, name string, key []byte) (reader.Opened, error) {
	st, m, err := b.of(ctx, id)
	if err == nil && m.Files != nil {
		err = fmt.Errorf("%w: image %s holds files, and nothing that is locked", fault.ErrConflict, id)
	}
	if err != nil {
		return reader.Opened{}, err
	}
	g, release, err := b.guestThat(ctx, st, m, true)
	if err != nil {
		return reader.Opened{}, err
	}
	defer release()
	if err := g.Unlock(ctx, reader.Unlock{FileSystem: name, Key: key}); err != nil {
		return reader.Opened{}, known(err)
	}
	return g.Opened(), nil
}

// closing is a reader that tells when it is closed.
type closing struct {
	io.Reader
	ends []func() error
}

func (c *closing) Close() (err error) {
	for _, end := range c.ends {
		err = errors.Join(err, end())
	}
	c.ends = nil
	return err
}

// flowing is what a guest sends for a call: it ends with ctx, for a guest may hang over what it opens, and lets go of the guest when it is closed.
func flowing(ctx context.Context, in io.ReadCloser, release func()) io.ReadCloser {
	stop := context.AfterFunc(ctx, func() { in.Close() })
	return &closing{in, []func() error{in.Close, func() error { stop(); release(); return nil }}}
}

// List lists a folder, or one file, as [files.NewListReader] reads it. Close it.
func (b *Browser) List(ctx context.Context, id string, at Place) (io.ReadCloser, error) {
	st, m, err := b.of(ctx, id)
	if err != nil {
		return nil, err
	}
	if m.Files != nil {
		return listFiles(ctx, st, m, at)
	}
	g, release, err := b.guestOf(ctx, st, m)
	if err != nil {
		return nil, err
	}
	in, err := g.List(ctx, at)
	if err != nil {
		release()
		return nil, known(err)
	}
	return flowing(ctx, in, release), nil
}

// Read reads a range of a file; a length below 0 is all of the rest. Close what is returned, which has so many bytes.
func (b *Browser) Read(ctx context.Context, id string, at Place, offset, length int64) (e files.Entry, n int64, in io.ReadCloser, err error) {
	st, m, err := b.of(ctx, id)
	if err != nil {
		return e, 0, nil, err
	}
	if m.Files != nil {
		return readFile(ctx, st, m, at, offset, length)
	}
	g, release, err := b.guestOf(ctx, st, m)
	if err != nil {
		return e, 0, nil, err
	}
	found, from, err := g.Read(ctx, reader.Read{Where: at, Offset: offset, Length: length})
	if err != nil {
		release()
		return e, 0, nil, known(err)
	}
	return found.Entry, found.Length, flowing(ctx, from, release), nil
}

// Disk opens a disk of an image, so that no sweep takes it from who reads it; close tells that nobody does any more.
func (b *Browser) Disk(ctx context.Context, id, target string) (d disk.Disk, close func() error, err error) {
	st, m, err := b.of(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	i := slices.IndexFunc(m.Disks, func(d image.Disk) bool { return d.Target == target })
	if i < 0 {
		return nil, nil, fmt.Errorf("%w: image %s has no disk %q", fault.ErrNotFound, id, target)
	}
	end, err := st.Reading(ctx, b.announced)
	if err != nil {
		return nil, nil, err
	}
	opened, err := st.OpenDisk(ctx, m, m.Disks[i])
	if err != nil {
		return nil, nil, errors.Join(err, end(ctx))
	}
	return opened, func() error { return errors.Join(opened.Close(), end(context.WithoutCancel(ctx))) }, nil
}

// Folder is where reader guests have what is theirs, below a host's state folder.
func Folder(state string) string { return filepath.Join(state, "reader") }
