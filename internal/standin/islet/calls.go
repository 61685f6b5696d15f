package islet

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/standin"
)

// longestHold is how long a guest's writes may be held.
const longestHold = 10 * time.Second

// calls adds what it answers.
func (v *islet) calls() {
	v.Get("about", "/about", func(*http.Request) (any, error) {
		return map[string]any{"system": "islet 3.1", "hosts": v.hosts}, nil
	})
	v.Get("guest.list", "/guests", func(*http.Request) (any, error) { return v.guests.All(), nil })
	v.Get("guest.show", "/guests/{guest}", func(r *http.Request) (any, error) { return v.guests.Get(standin.Param(r, "guest")) })
	v.Change("guest.make", http.MethodPost, "/guests", v.makeGuest)
	v.Change("guest.remove", http.MethodDelete, "/guests/{guest}", v.removeGuest)
	v.Change("guest.note", http.MethodPut, "/guests/{guest}/notes/{note}", v.note)
	v.Change("guest.unnote", http.MethodDelete, "/guests/{guest}/notes/{note}", v.unnote)
	v.Task("guest.power", http.MethodPost, "/guests/{guest}/power", "guest", v.switchTo)
	v.Task("guest.move", http.MethodPost, "/guests/{guest}/move", "guest", v.move)
	v.Stream("guest.hold", http.MethodPost, "/guests/{guest}/hold", v.holdWrites)
	v.Stream("guest.release", http.MethodDelete, "/guests/{guest}/hold", v.releaseWrites)
	v.Get("snapshot.list", "/guests/{guest}/snapshots", v.listSnapshots)
	v.Task("snapshot.make", http.MethodPost, "/guests/{guest}/snapshots", "guest", v.makeSnapshot)
	v.Task("snapshot.remove", http.MethodDelete, "/guests/{guest}/snapshots/{moment}", "guest", v.removeSnapshot)
	v.Task("snapshot.back", http.MethodPost, "/guests/{guest}/snapshots/{moment}/back", "guest", v.goBack)
	v.Get("snapshot.changes", "/guests/{guest}/snapshots/{moment}/disks/{disk}/changes", v.changes)
	v.Change("snapshot.lend", http.MethodPost, "/guests/{guest}/snapshots/{moment}/disks/{disk}/lend", v.lend)
	v.Get("volume.list", "/volumes", func(*http.Request) (any, error) { return v.volumes.All(), nil })
	v.Stream("volume.bring", http.MethodPut, "/volumes/{name}", v.bring)
	v.Change("volume.remove", http.MethodDelete, "/volumes/{name}", v.removeVolume)
	// As what runs in a guest would: for whoever tries something out.
	v.Stream("guest.write", http.MethodPut, "/inside/{guest}/{disk}", v.writeInside)
	v.Change("guest.forget", http.MethodDelete, "/inside/{guest}/tides", v.forgetTides)
}

func (v *islet) ofGuest(r *http.Request) (Guest, error) {
	return v.guests.Get(standin.Param(r, "guest"))
}

func (v *islet) makeGuest(r *http.Request) (any, error) {
	g, err := standin.Body[Guest](r)
	if err != nil {
		return nil, err
	}
	if g.Name == "" || strings.ContainsAny(g.Name, "/\x00") || len(g.Name) > 200 {
		return nil, standin.Refuse(http.StatusBadRequest, "a guest can't be called %q", g.Name)
	}
	for _, o := range v.guests.All() {
		if o.Name == g.Name {
			return nil, standin.Refuse(http.StatusConflict, "there is a guest %s already", g.Name)
		}
	}
	if g.ID == "" {
		g.ID = standin.NewID()
	}
	g.Host, g.Power, g.Notes, g.Writes = v.hosts[0].Name, Off, map[string]string{}, 0
	if g.Tags == nil {
		g.Tags = map[string]string{}
	}
	for i, d := range g.Disks {
		row, err := v.volumes.Get(d.Volume)
		if err != nil {
			return nil, err
		}
		if row.Guest != "" {
			return nil, standin.Refuse(http.StatusConflict, "volume %s is a disk of another guest", row.Name)
		}
		row.Guest, g.Disks[i].Size = g.ID, row.Size
		if err := v.volumes.Put(row.ID, row); err != nil {
			return nil, err
		}
	}
	return g, v.guests.Put(g.ID, g)
}

func (v *islet) removeGuest(r *http.Request) (any, error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	if g.Power == On {
		return nil, standin.Refuse(http.StatusConflict, "guest %s runs", g.Name)
	}
	for _, s := range v.snapshots.All() {
		if s.Guest == g.ID {
			return nil, standin.Refuse(http.StatusConflict, "guest %s has snapshot %s", g.Name, s.Name)
		}
	}
	for _, d := range g.Disks {
		row, err := v.volumes.Get(d.Volume)
		if err != nil {
			return nil, err
		}
		row.Guest = ""
		if err := v.volumes.Put(row.ID, row); err != nil {
			return nil, err
		}
	}
	return struct{}{}, v.guests.Delete(g.ID)
}

func (v *islet) note(r *http.Request) (any, error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	text, err := standin.Body[string](r)
	if err != nil {
		return nil, err
	}
	g.Notes = maps.Clone(g.Notes)
	g.Notes[standin.Param(r, "note")] = text
	if len(g.Notes) > 200 {
		return nil, standin.Refuse(http.StatusConflict, "guest %s has 200 notes already", g.Name)
	}
	return struct{}{}, v.guests.Put(g.ID, g)
}

func (v *islet) unnote(r *http.Request) (any, error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	g.Notes = maps.Clone(g.Notes)
	delete(g.Notes, standin.Param(r, "note"))
	return struct{}{}, v.guests.Put(g.ID, g)
}

// switchTo switches a guest on or off.
func (v *islet) switchTo(r *http.Request) (func(context.Context) (any, error), error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	to, err := standin.Body[Power](r)
	if err != nil {
		return nil, err
	}
	if to != On && to != Off {
		return nil, standin.Refuse(http.StatusBadRequest, "power is on or off, and not %q", to)
	}
	return func(context.Context) (any, error) {
		return nil, v.update(g.ID, func(g *Guest) error { g.Power = to; return nil })
	}, nil
}

// update changes a guest.
func (v *islet) update(id string, change func(g *Guest) error) error {
	return v.Do(func() error {
		g, err := v.guests.Get(id)
		if err == nil {
			err = change(&g)
		}
		if err != nil {
			return err
		}
		return v.guests.Put(id, g)
	})
}

// move has another host run a guest. What the one before had lent ends: it is to be asked for again.
func (v *islet) move(r *http.Request) (func(context.Context) (any, error), error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	to, err := standin.Body[string](r)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(v.hosts, func(h Host) bool { return h.Name == to }) {
		return nil, standin.Refuse(http.StatusNotFound, "there is no host %s", to)
	}
	return func(context.Context) (any, error) {
		err := v.update(g.ID, func(g *Guest) error { g.Host = to; return nil })
		if err == nil {
			v.endTickets(func(t *ticket) bool { return t.guest == g.ID })
		}
		return nil, err
	}, nil
}

func (v *islet) listSnapshots(r *http.Request) (any, error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	out := []Snapshot{}
	for _, s := range v.snapshots.All() {
		if s.Guest != g.ID {
			continue
		}
		for _, d := range s.Disks {
			o, l, err := v.at(d)
			if err != nil {
				return nil, err
			}
			s.Grown += o.above(l)
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b Snapshot) int { return a.Made.Compare(b.Made) })
	return out, nil
}

// at is where a snapshot's disk lies.
func (v *islet) at(d MomentDisk) (*volume, *layer, error) {
	o, err := v.volume(d.Volume)
	if err != nil {
		return nil, nil, err
	}
	l, err := o.layer(d.Layer)
	return o, l, err
}

// Wanted asks for a snapshot.
type Wanted struct {
	Name string `json:"name"`
	Note string `json:"note,omitempty"`
}

// makeSnapshot takes all disks of a guest in one moment: its writes are held for as long as that takes.
func (v *islet) makeSnapshot(r *http.Request) (func(context.Context) (any, error), error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	w, err := standin.Body[Wanted](r)
	if err != nil {
		return nil, err
	}
	for _, s := range v.snapshots.All() {
		if s.Guest == g.ID && s.Name == w.Name {
			return nil, standin.Refuse(http.StatusConflict, "guest %s has a snapshot %s already", g.Name, w.Name)
		}
	}
	return func(context.Context) (any, error) {
		var s Snapshot
		h := v.holding(g.ID)
		h.writing.Lock() // nobody writes between one disk and the next, and before it is recorded
		defer h.writing.Unlock()
		return &s, v.Do(func() error {
			g, err := v.guests.Get(g.ID)
			if err != nil {
				return err
			}
			s = Snapshot{ID: standin.NewID(), Guest: g.ID, Name: w.Name, Note: w.Note, Made: time.Now().UTC(), Held: h.is(), Power: g.Power}
			for _, d := range g.Disks {
				o, err := v.volume(d.Volume)
				if err != nil {
					return err
				}
				row, err := v.volumes.Get(d.Volume)
				if err != nil {
					return err
				}
				below, tide, err := o.grow(strings.ToLower(rand.Text()[:10]))
				if err != nil {
					return err
				}
				s.Disks = append(s.Disks, MomentDisk{d.Target, d.Volume, below.name, tide, row.Size})
				row.Layers = o.names()
				if err := v.volumes.Put(row.ID, row); err != nil {
					return err
				}
			}
			return v.snapshots.Put(s.ID, s)
		})
	}, nil
}

// found is the snapshot that a call is about.
func (v *islet) found(r *http.Request) (g Guest, s Snapshot, err error) {
	if g, err = v.ofGuest(r); err != nil {
		return g, s, err
	}
	s, err = v.snapshots.Get(standin.Param(r, "moment"))
	if err == nil && s.Guest != g.ID {
		err = standin.Refuse(http.StatusNotFound, "guest %s has no such snapshot", g.Name)
	}
	return g, s, err
}

// removeSnapshot merges what lies above a snapshot into it.
func (v *islet) removeSnapshot(r *http.Request) (func(context.Context) (any, error), error) {
	_, s, err := v.found(r)
	if err != nil {
		return nil, err
	}
	return func(context.Context) (any, error) {
		type merged struct {
			o    *volume
			gone *layer
		}
		var all []merged
		h := v.holding(s.Guest)
		h.writing.Lock() // what is written meanwhile would be lost with the layer that goes
		defer h.writing.Unlock()
		err := v.Do(func() error {
			if s, err = v.snapshots.Get(s.ID); err != nil {
				return err
			}
			for _, d := range s.Disks {
				o, l, err := v.at(d)
				if err != nil {
					return err
				}
				gone, err := o.merge(l)
				if err != nil {
					return err
				}
				all = append(all, merged{o, gone})
				if err := v.record(d.Volume, o, gone.name, l.name); err != nil {
					return err
				}
			}
			return v.snapshots.Delete(s.ID)
		})
		for _, m := range all {
			if err == nil {
				err = m.o.remove(m.gone)
			}
		}
		v.endTickets(func(t *ticket) bool { return t.snapshot == s.ID })
		return nil, err
	}, nil
}

// record keeps what the layers of a volume are now; snapshots that had the one that went have the other.
func (v *islet) record(id string, o *volume, went, now string) error {
	row, err := v.volumes.Get(id)
	if err != nil {
		return err
	}
	row.Layers = o.names()
	if err := v.volumes.Put(id, row); err != nil || went == "" {
		return err
	}
	for _, s := range v.snapshots.All() {
		changed := false
		s.Disks = slices.Clone(s.Disks)
		for i := range s.Disks {
			if s.Disks[i].Volume == id && s.Disks[i].Layer == went {
				s.Disks[i].Layer, changed = now, true
			}
		}
		if changed {
			if err := v.snapshots.Put(s.ID, s); err != nil {
				return err
			}
		}
	}
	return nil
}

// goBack has a guest that is off be as it was at a snapshot. Later snapshots go, and so does what is known of changes.
func (v *islet) goBack(r *http.Request) (func(context.Context) (any, error), error) {
	g, s, err := v.found(r)
	if err != nil {
		return nil, err
	}
	if g.Power == On {
		return nil, standin.Refuse(http.StatusConflict, "guest %s runs; power it off first", g.Name)
	}
	return func(context.Context) (any, error) {
		var gone []func() error
		err := v.Do(func() error {
			for _, d := range s.Disks {
				o, l, err := v.at(d)
				if err != nil {
					return err
				}
				layers, err := o.back(l, strings.ToLower(rand.Text()[:10]))
				if err != nil {
					return err
				}
				gone = append(gone, func() error { return o.remove(layers...) })
				if err := v.record(d.Volume, o, "", ""); err != nil {
					return err
				}
			}
			for _, later := range v.snapshots.All() {
				if later.Guest == g.ID && later.Made.After(s.Made) {
					if err := v.snapshots.Delete(later.ID); err != nil {
						return err
					}
				}
			}
			return nil
		})
		for _, remove := range gone {
			if err == nil {
				err = remove()
			}
		}
		return nil, err
	}, nil
}

// ofDisk is the disk of a snapshot that a call is about.
func (v *islet) ofDisk(r *http.Request) (Guest, Snapshot, MomentDisk, error) {
	g, s, err := v.found(r)
	if err != nil {
		return g, s, MomentDisk{}, err
	}
	for _, d := range s.Disks {
		if d.Target == standin.Param(r, "disk") {
			return g, s, d, nil
		}
	}
	return g, s, MomentDisk{}, standin.Refuse(http.StatusNotFound, "snapshot %s has no disk %s", s.Name, standin.Param(r, "disk"))
}

// changes tells what was written after a tide. It may be more than what was written until the snapshot.
func (v *islet) changes(r *http.Request) (any, error) {
	_, _, d, err := v.ofDisk(r)
	if err != nil {
		return nil, err
	}
	o, err := v.volume(d.Volume)
	if err != nil {
		return nil, err
	}
	since := r.URL.Query().Get("since")
	found, ok := o.changed(since)
	if !ok {
		return nil, standin.Refuse(http.StatusGone, "what was written after tide %s is not known: the host was cut off its power, or the guest went back", since)
	}
	return found, nil
}

func (v *islet) forgetTides(r *http.Request) (any, error) {
	g, err := v.ofGuest(r)
	if err != nil {
		return nil, err
	}
	for _, d := range g.Disks {
		o, err := v.volume(d.Volume)
		if err != nil {
			return nil, err
		}
		o.forget()
	}
	return struct{}{}, nil
}

// bring makes a volume of the disk that is sent.
func (v *islet) bring(_ http.ResponseWriter, r *http.Request) (any, error) {
	row := Volume{ID: standin.NewID(), Name: standin.Param(r, "name"), Layers: []string{"base"}}
	return &row, v.Brought(r, func(from disk.Disk) error {
		row.Size = from.Size()
		o, err := openVolume(v.folder(row.ID), row.Size, row.Layers)
		if err != nil {
			return err
		}
		if err = standin.Fill(r.Context(), from, o.write); err == nil {
			err = v.Do(func() error {
				for _, other := range v.volumes.All() {
					if other.Name == row.Name {
						return standin.Refuse(http.StatusConflict, "there is a volume %s already", row.Name)
					}
				}
				v.mu.Lock()
				v.opened[row.ID] = o
				v.mu.Unlock()
				return v.volumes.Put(row.ID, row)
			})
		}
		if err != nil {
			return errors.Join(err, o.close(), os.RemoveAll(o.folder))
		}
		return nil
	})
}

func (v *islet) removeVolume(r *http.Request) (any, error) {
	for _, row := range v.volumes.All() {
		if row.Name != standin.Param(r, "name") {
			continue
		}
		if row.Guest != "" {
			return nil, standin.Refuse(http.StatusConflict, "volume %s is a disk of a guest", row.Name)
		}
		v.mu.Lock()
		o := v.opened[row.ID]
		delete(v.opened, row.ID)
		v.mu.Unlock()
		return struct{}{}, errors.Join(v.volumes.Delete(row.ID), o.close(), os.RemoveAll(o.folder))
	}
	return nil, standin.Refuse(http.StatusNotFound, "there is no volume %s", standin.Param(r, "name"))
}

// writeInside writes to a disk, as what runs in a guest would.
func (v *islet) writeInside(_ http.ResponseWriter, r *http.Request) (any, error) {
	body, at, err := standin.Written(r)
	if err != nil {
		return nil, err
	}
	var g Guest
	if err := v.Do(func() (err error) { g, err = v.ofGuest(r); return err }); err != nil {
		return nil, err
	}
	for _, d := range g.Disks {
		if d.Target == standin.Param(r, "disk") {
			return struct{}{}, v.write(g, d, body, at)
		}
	}
	return nil, standin.Refuse(http.StatusNotFound, "guest %s has no disk %s", g.Name, standin.Param(r, "disk"))
}

// write waits until a guest's writes are not held.
func (v *islet) write(g Guest, d Disk, p []byte, at int64) error {
	if g.Power != On {
		return standin.Refuse(http.StatusConflict, "guest %s does not run", g.Name)
	}
	o, err := v.volume(d.Volume)
	if err != nil {
		return err
	}
	h := v.holding(g.ID)
	if err := h.wait(v.ctx); err != nil {
		return err
	}
	defer h.writing.RUnlock()
	if err := o.write(p, at); err != nil {
		return fmt.Errorf("guest %s, disk %s: %w", g.Name, d.Target, err)
	}
	return nil
}
