// Package fitting makes the disks of an image fit for where they go: disks of another size, a machine of another identity. It says first how each disk
// will be divided ([Plan]); what has to be written inside of file systems is done in a reader guest, into overlays that lie in the scratch folder, so that
// what comes out is a disk as any other ([Fitted]) and nothing is half done anywhere.
package fitting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/layout"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/reader"
	"keenlodge/internal/scratch"
)

// Plan is how one disk will be divided.
type Plan struct {
	Target string
	layout.Plan
}

// sector is what a disk's size is a multiple of, in bytes.
const sector = 512

// Plans says how the disks will be divided, in their order. What can't be is [fault.ErrInvalid], and says with which figures it could.
// sizes are those of disks that are to have another one, in bytes, by target.
func Plans(disks []reader.Disk, sizes map[string]int64) (out []Plan, err error) {
	var targets []string
	for _, d := range disks {
		targets = append(targets, d.Name)
		size := d.Size()
		if asked, ok := sizes[d.Name]; ok {
			size = asked / sector * sector
		}
		p := Plan{Target: d.Name, Plan: layout.Plan{From: layout.Disk{Size: size}, Size: size}}
		if size != d.Size() {
			if size < 1<<20 {
				return nil, fmt.Errorf("%w: disk %s can't be of %d bytes; it takes 1 MiB at least", fault.ErrInvalid, d.Name, sizes[d.Name])
			}
			l, err := layout.Read(d)
			if err != nil {
				return nil, fmt.Errorf("%w: disk %s can't have another size: %w", fault.ErrInvalid, d.Name, err)
			}
			if p.Plan, err = l.Fit(size, func(q layout.Part) int64 { return layout.Least(d, q) }, ""); err != nil {
				return nil, fmt.Errorf("%w: disk %s: %w", fault.ErrInvalid, d.Name, err)
			}
		}
		out = append(out, p)
	}
	for _, name := range slices.Sorted(maps.Keys(sizes)) {
		if !slices.Contains(targets, name) {
			return nil, fmt.Errorf("%w: the image has no disk %s%s", fault.ErrInvalid, name, suggest.Hint(name, targets))
		}
	}
	return out, nil
}

// Fitted are disks that fit. Close them.
type Fitted struct {
	// Disks are in the order of the image's.
	Disks []reader.Disk
	// Done is what was done to them, in words.
	Done []string
	room *scratch.Room
	ends []func() error
	// stays is the guest that made them fit, if it goes on to give identities.
	stays *Clones
}

// Close forgets what was written for them.
func (f *Fitted) Close() (err error) {
	for _, end := range f.ends {
		err = errors.Join(err, end())
	}
	if f.room != nil {
		err = errors.Join(err, f.room.Close())
	}
	return err
}

// Fit makes disks fit, as they were planned ([Plans]). clones says that identities are given to what is on them then ([Fitted.Clones]).
func Fit(ctx context.Context, start reader.Starter, at scratch.Folder, disks []reader.Disk, plans []Plan, clones bool) (f *Fitted, err error) {
	f = &Fitted{Disks: slices.Clone(disks)}
	shrink, grow, need := reader.Fit{}, reader.Fit{}, int64(0)
	var old []reader.Disk
	for i, p := range plans {
		for _, s := range p.Steps {
			name := s.To.Name(p.Target)
			switch s.Way {
			case layout.Shrink:
				shrink.Shrink = append(shrink.Shrink, reader.Resize{FileSystem: name, Bytes: s.To.Length})
				need += s.Least
			case layout.Grow:
				grow.Grow = append(grow.Grow, name)
			case layout.Copy:
				part, err := s.From.Of(disks[i])
				if err != nil {
					return nil, err
				}
				old = append(old, reader.Disk{Name: reader.OldDisk + name, Disk: part})
				grow.Copies = append(grow.Copies, reader.Copies{From: reader.OldDisk + name, To: name})
				need += s.Least
			}
		}
	}
	if f.room, err = at.Room(need); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, f.Close())
			f = nil
		}
	}()
	if len(shrink.Shrink) > 0 {
		if err := f.work(ctx, start, "smaller", nil, shrink, false); err != nil {
			return f, err
		}
	}
	for i, p := range plans {
		if p.Changes() {
			if f.Disks[i].Disk, err = p.Compose(f.Disks[i].Disk); err != nil {
				return f, fmt.Errorf("disk %s: %w", p.Target, err)
			}
		}
	}
	if len(grow.Copies)+len(grow.Grow) > 0 {
		return f, f.work(ctx, start, "fitted", old, grow, clones)
	}
	return f, nil
}

// work has something done in a guest, and lays what it writes over the disks. Others are there to be read. The guest may stay, for identities: then nothing
// is laid, for it goes on writing.
func (f *Fitted) work(ctx context.Context, start reader.Starter, name string, others []reader.Disk, do reader.Fit, stays bool) error {
	disks := f.overlaid(name)
	g, err := start(ctx, slices.Concat(disks, others), len(do.Copies) > 0)
	if err != nil {
		return err
	}
	done, err := g.Fit(ctx, do)
	f.Done = append(f.Done, done...)
	if err == nil && stays {
		f.stays = &Clones{f: f, g: g, disks: disks}
		f.ends = append(f.ends, g.Close)
		return nil
	}
	defer g.Close()
	if err == nil {
		err = g.Finish(ctx)
	}
	if err != nil {
		return err
	}
	f.Disks, err = f.lay(disks)
	return err
}

// overlaid are the disks, with files in which what is written to them stays.
func (f *Fitted) overlaid(name string) []reader.Disk {
	disks := slices.Clone(f.Disks)
	for i := range disks {
		disks[i].Overlay = filepath.Join(f.room.Folder, name+"-"+disks[i].Name)
	}
	return disks
}

// lay lays what was written over disks.
func (f *Fitted) lay(disks []reader.Disk) (out []reader.Disk, err error) {
	for _, d := range disks {
		file, err := os.Open(d.Overlay)
		if err != nil {
			return nil, err
		}
		f.ends = append(f.ends, file.Close)
		over, err := qcow2.Open(file, d.Disk)
		if err != nil {
			return nil, fmt.Errorf("what was written to disk %s: %w", d.Name, err)
		}
		out = append(out, reader.Disk{Name: d.Name, Disk: disk.Over(over, d.Disk)})
	}
	return out, nil
}

// Clones gives the machine on disks one identity after another. Close it before the disks.
type Clones struct {
	f     *Fitted
	g     *reader.Guest
	disks []reader.Disk
	n     int
	cards map[string]string // those that the last one had, by those of the image
}

// Clones begins that. It reads and writes nothing of the disks but what the identities take.
func (f *Fitted) Clones(ctx context.Context, start reader.Starter) (*Clones, error) {
	if f.stays != nil {
		return f.stays, nil
	}
	disks := f.overlaid("identity")
	g, err := start(ctx, disks, false)
	if err != nil {
		return nil, err
	}
	return &Clones{f: f, g: g, disks: disks}, nil
}

// Next are the disks with another identity, whose cards are by those of the image, and what was done for it, in words.
func (c *Clones) Next(ctx context.Context, id reader.Identity) (disks []reader.Disk, done []string, err error) {
	cards := id.Cards
	id.Cards = map[string]string{}
	for card, is := range cards {
		id.Cards[cmp.Or(c.cards[card], card)] = is
	}
	if done, err = c.g.Fit(ctx, reader.Fit{Identity: &id}); err != nil {
		return nil, done, err
	}
	if err := c.g.Rest(ctx); err != nil {
		return nil, done, err
	}
	c.cards = cards
	c.n++
	own := slices.Clone(c.disks)
	for i, d := range own { // the guest goes on writing to its own
		own[i].Overlay = fmt.Sprintf("%s-%d", d.Overlay, c.n)
		if err := duplicate(d.Overlay, own[i].Overlay); err != nil {
			return nil, done, err
		}
	}
	disks, err = c.f.lay(own)
	return disks, done, err
}

// Close ends the guest.
func (c *Clones) Close() error { return c.g.Close() }

// duplicate copies a file.
func duplicate(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
