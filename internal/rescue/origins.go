package rescue

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"time"

	"keenlodge/internal/client"
	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/pinned"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/open"
	"keenlodge/internal/store/pooled"
	"keenlodge/internal/wire"
)

// origin is where images come from: a lodge, or a store by itself.
type origin interface {
	// images lists those that a machine can be made of, the newest first. unread says why some are not among them that may be some.
	images(ctx context.Context) (all []found, unread, err error)
	// open opens the disks of an image.
	open(ctx context.Context, id string) (*whole, error)
	String() string
	io.Closer
}

// found is an image as it is listed. Size is what its disks have, in bytes.
type found struct {
	id, machine, note string
	taken             time.Time
	size              int64
}

// whole is an image that is open. Uefi is how its machine boots. Close it.
type whole struct {
	found
	uefi  bool
	disks []namedDisk
	ends  []func() error
}

type namedDisk struct {
	target string
	disk.Disk
}

func (w *whole) Close() (err error) {
	for _, end := range w.ends {
		err = errors.Join(err, end())
	}
	return err
}

// lodge is a lodge that answers.
type lodge struct {
	k   *client.Client
	url string
}

// toLodge connects to a lodge, at an address such as https://lodge.example:7433, with a code that it gave. Pin is the fingerprint by which it is trusted,
// "" for one that the medium knows nothing of.
func toLodge(ctx context.Context, address, pin, code string) (*lodge, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is no lodge's address; write it as https://HOST:7433", address)
	}
	k := client.New(address, "")
	if u.Scheme == "https" {
		var pins []string
		if pin != "" {
			pins = []string{pin}
		}
		k.Trust(pinned.Config(u.Hostname(), pins, nil))
	}
	_, err = k.Redeem(ctx, code)
	var p *client.Problem
	if errors.As(err, &p) && p.Status == http.StatusNotFound {
		return nil, fmt.Errorf("the lodge at %s knows no codes: it is older than this medium; make the medium where that lodge runs (keenlodge rescue make)", address)
	}
	if err != nil {
		return nil, err
	}
	return &lodge{k, address}, nil
}

func (l *lodge) String() string { return "the lodge at " + l.url }

func (l *lodge) Close() error { return nil }

// mostImages is how many images are looked at, the newest.
const mostImages = 2000

func (l *lodge) images(ctx context.Context) (out []found, unread, err error) {
	all, _, err := l.k.Images(ctx, wire.ImageFilter{Page: wire.Page{Limit: mostImages}})
	for _, m := range all {
		if m.Scope == image.WholeMachine && (m.State == image.Usable || m.State == image.Doubtful) && len(m.Disks) > 0 {
			out = append(out, found{id: m.ID, machine: m.Machine, taken: m.Taken, size: m.Size, note: string(m.Consistency)})
		}
	}
	return out, nil, err
}

func (l *lodge) open(ctx context.Context, id string) (_ *whole, err error) {
	m, err := l.k.Image(ctx, id)
	if err != nil {
		return nil, err
	}
	h, err := l.k.Hardware(ctx, id)
	if err != nil {
		return nil, err
	}
	w := &whole{found: found{id: m.ID, machine: m.Machine, taken: m.Taken, size: m.Size}, uefi: h.UEFI}
	for _, d := range m.Disks {
		o, err := l.k.OpenDisk(ctx, id, d.Target)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("disk %s: %w", d.Target, err), w.Close())
		}
		w.ends = append(w.ends, o.Close)
		w.disks = append(w.disks, namedDisk{d.Target, o.Whole()})
	}
	return w, nil
}

// bare is a store with nothing over it.
type bare struct {
	store.Store
	disk string // of this machine, on which it lies, "" for elsewhere
	ends []func() error
}

// toStore opens the store on a medium. key is asked for what opens a sealed one.
func toStore(ctx context.Context, m medium.Medium, key func() (chunk.Opener, error)) (_ *bare, err error) {
	defer func() {
		if err != nil {
			err = errors.Join(err, m.Close())
		}
	}()
	h, err := store.ReadHeader(ctx, m)
	if err != nil {
		return nil, err
	}
	if h.Layout == site.Open {
		s, err := open.Open(ctx, m)
		return &bare{Store: s}, err
	}
	var secret *chunk.Secret
	if h.Sealed {
		with, err := key()
		if err != nil {
			return nil, err
		}
		opened, err := pooled.Unlock(ctx, m, with)
		if err != nil {
			return nil, err
		}
		secret = &opened
	}
	s, err := pooled.Open(ctx, m, secret)
	return &bare{Store: s}, err
}

func (b *bare) String() string { return "the store at " + b.Medium().String() }

func (b *bare) Close() error {
	err := b.Store.Close()
	for _, end := range b.ends {
		err = errors.Join(err, end())
	}
	return err
}

func (b *bare) images(ctx context.Context) (out []found, unread, err error) {
	ids, err := b.ImageIDs(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		m, err := b.ReadImage(ctx, id)
		if err != nil {
			unread = errors.Join(unread, fmt.Errorf("%s: %w", id, err))
			continue
		}
		if m.Scope != image.WholeMachine || len(m.Disks) == 0 {
			continue
		}
		f := found{id: m.ID, machine: m.Machine, taken: m.Taken, note: string(m.Consistency)}
		for _, d := range m.Disks {
			f.size += d.Size
		}
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b found) int { return cmp.Or(b.taken.Compare(a.taken), cmp.Compare(a.id, b.id)) })
	return out, unread, nil
}

func (b *bare) open(ctx context.Context, id string) (_ *whole, err error) {
	m, err := b.ReadImage(ctx, id)
	if err != nil {
		return nil, err
	}
	w := &whole{found: found{id: m.ID, machine: m.Machine, taken: m.Taken}, uefi: machine.HardwareOf(m.Definition).UEFI}
	for _, d := range m.Disks {
		o, err := b.OpenDisk(ctx, m, d)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("disk %s: %w", d.Target, err), w.Close())
		}
		w.ends = append(w.ends, o.Close)
		w.size += d.Size
		w.disks = append(w.disks, namedDisk{d.Target, o})
	}
	return w, nil
}
