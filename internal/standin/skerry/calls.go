package skerry

import (
	"context"
	"errors"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/standin"
)

const (
	// pageMost is how many rows a list has at once; mostRead how many bytes are read at once.
	pageMost = 500
	mostRead = 8 << 20
)

// calls adds what it answers.
func (s *skerry) calls() {
	s.Get("about", "/about", func(*http.Request) (any, error) {
		return map[string]any{"system": "skerry 2", "regions": Regions}, nil
	})
	s.Get("instance.list", "/regions/{region}/instances", func(r *http.Request) (any, error) {
		return page(r, s.instances.Listed(), func(i Instance) (string, string) { return i.Region, i.ID }, nil)
	})
	s.Get("instance.show", "/regions/{region}/instances/{id}", func(r *http.Request) (any, error) { return s.instance(r) })
	s.Change("instance.make", http.MethodPost, "/regions/{region}/instances", s.makeInstance)
	s.Change("instance.remove", http.MethodDelete, "/regions/{region}/instances/{id}", s.removeInstance)
	s.Task("instance.power", http.MethodPost, "/regions/{region}/instances/{id}/power", "id", s.switchTo)
	s.Change("instance.swap", http.MethodPut, "/regions/{region}/instances/{id}/volumes", s.swap)
	s.Change("instance.tag", http.MethodPut, "/regions/{region}/instances/{id}/tags", func(r *http.Request) (any, error) {
		i, err := s.instance(r)
		if err == nil {
			i.Tags, err = standin.Body[map[string]string](r)
		}
		if err != nil {
			return nil, err
		}
		return i, s.instances.Put(i.ID, i)
	})
	s.Get("volume.list", "/regions/{region}/volumes", func(r *http.Request) (any, error) {
		return page(r, s.volumes.Listed(), func(v Volume) (string, string) { return v.Region, v.ID }, nil)
	})
	s.Get("volume.show", "/regions/{region}/volumes/{id}", func(r *http.Request) (any, error) { return s.volume(r) })
	s.Change("volume.make", http.MethodPost, "/regions/{region}/volumes", s.makeVolume)
	s.Stream("volume.bring", http.MethodPut, "/regions/{region}/volumes/{name}", s.bring)
	s.Change("volume.remove", http.MethodDelete, "/regions/{region}/volumes/{id}", s.removeVolume)
	s.Get("moment.list", "/regions/{region}/moments", func(r *http.Request) (any, error) {
		tag, about := r.URL.Query().Get("tag"), r.URL.Query().Get("about")
		return page(r, s.moments.Listed(), func(m Moment) (string, string) { return m.Region, m.ID }, func(m Moment) bool {
			_, tagged := m.Tags[tag]
			return (tag == "" || tagged) && (about == "" || m.Instance == about || m.Volume == about)
		})
	})
	s.Get("moment.show", "/regions/{region}/moments/{id}", func(r *http.Request) (any, error) { return s.moment(r) })
	s.Change("moment.make", http.MethodPost, "/regions/{region}/moments", s.makeMoment)
	s.Change("moment.remove", http.MethodDelete, "/regions/{region}/moments/{id}", s.removeMoment)
	s.Task("moment.copy", http.MethodPost, "/regions/{region}/moments/{id}/copies", "id", s.copyMoment)
	s.Get("snapshot.ranges", "/regions/{region}/moments/{id}/snapshots/{part}/ranges", s.ranges)
	s.Stream("snapshot.read", http.MethodGet, "/regions/{region}/moments/{id}/snapshots/{part}/content", s.readSnapshot)
	// For whoever tries something out.
	s.Stream("inside.write", http.MethodPut, "/inside/{region}/{id}", s.writeInside)
	s.Change("limits", http.MethodPut, "/limits/{region}", func(r *http.Request) (any, error) {
		l, err := standin.Body[limits](r)
		if err != nil {
			return nil, err
		}
		return struct{}{}, s.limits.Put(standin.Param(r, "region"), l)
	})
}

// Page is a part of a list. After is what to ask the next one after, "" on the last.
type Page[T any] struct {
	Items []T    `json:"items"`
	After string `json:"after,omitempty"`
}

func page[T any](r *http.Request, all []T, of func(T) (region, id string), also func(T) bool) (any, error) {
	region, after := standin.Param(r, "region"), r.URL.Query().Get("after")
	if !slices.Contains(Regions, region) {
		return nil, standin.Refuse(http.StatusNotFound, "there is no region %s", region)
	}
	out := Page[T]{Items: []T{}}
	for _, row := range all {
		in, id := of(row)
		if in != region || id <= after || also != nil && !also(row) {
			continue
		}
		if len(out.Items) == pageMost {
			_, out.After = of(out.Items[pageMost-1])
			break
		}
		out.Items = append(out.Items, row)
	}
	return out, nil
}

// in finds a row of a call's region.
func in[T any](r *http.Request, t *standin.Table[T], region func(T) string) (T, error) {
	row, err := t.Get(standin.Param(r, "id"))
	if err == nil && region(row) != standin.Param(r, "region") {
		err = standin.Refuse(http.StatusNotFound, "it is in region %s", region(row))
	}
	return row, err
}

func (s *skerry) instance(r *http.Request) (Instance, error) {
	return in(r, s.instances, func(i Instance) string { return i.Region })
}

func (s *skerry) volume(r *http.Request) (Volume, error) {
	return in(r, s.volumes, func(v Volume) string { return v.Region })
}

func (s *skerry) moment(r *http.Request) (Moment, error) {
	return in(r, s.moments, func(m Moment) string { return m.Region })
}

func (s *skerry) makeInstance(r *http.Request) (any, error) {
	i, err := standin.Body[Instance](r)
	if err != nil {
		return nil, err
	}
	if i.Name == "" || !slices.Contains(Regions, standin.Param(r, "region")) {
		return nil, standin.Refuse(http.StatusBadRequest, "an instance has a name, and a region that there is")
	}
	i.ID, i.Region, i.Runs = standin.NewID(), standin.Param(r, "region"), false
	if i.Tags == nil {
		i.Tags = map[string]string{}
	}
	for k, a := range i.Volumes {
		if i.Volumes[k].Size, err = s.attach(i, a.Volume); err != nil {
			return nil, err
		}
	}
	return i, s.instances.Put(i.ID, i)
}

// attach gives a volume to an instance.
func (s *skerry) attach(i Instance, volume string) (size int64, err error) {
	v, err := s.volumes.Get(volume)
	if err != nil {
		return 0, err
	}
	if v.Instance != "" || v.Region != i.Region {
		return 0, standin.Refuse(http.StatusConflict, "volume %s is another instance's, or in another region", v.Name)
	}
	v.Instance = i.ID
	return v.Size, s.volumes.Put(v.ID, v)
}

func (s *skerry) detach(volume string) error {
	v, err := s.volumes.Get(volume)
	if err != nil {
		return err
	}
	v.Instance = ""
	return s.volumes.Put(v.ID, v)
}

func (s *skerry) removeInstance(r *http.Request) (any, error) {
	i, err := s.instance(r)
	if err == nil && i.Runs {
		err = standin.Refuse(http.StatusConflict, "instance %s runs", i.Name)
	}
	for _, a := range i.Volumes {
		if err == nil {
			err = s.detach(a.Volume)
		}
	}
	if err != nil {
		return nil, err
	}
	return struct{}{}, s.instances.Delete(i.ID)
}

// switchTo switches an instance on or off.
func (s *skerry) switchTo(r *http.Request) (func(context.Context) (any, error), error) {
	i, err := s.instance(r)
	if err != nil {
		return nil, err
	}
	on, err := standin.Body[bool](r)
	if err != nil {
		return nil, err
	}
	return func(context.Context) (any, error) {
		return nil, s.Do(func() error {
			i, err := s.instances.Get(i.ID)
			if err != nil {
				return err
			}
			i.Runs = on
			return s.instances.Put(i.ID, i)
		})
	}, nil
}

// swap gives an instance that is stopped other volumes in place of those at the same devices.
func (s *skerry) swap(r *http.Request) (any, error) {
	i, err := s.instance(r)
	if err == nil && i.Runs {
		err = standin.Refuse(http.StatusConflict, "instance %s runs", i.Name)
	}
	if err != nil {
		return nil, err
	}
	next, err := standin.Body[[]Attached](r)
	if err != nil {
		return nil, err
	}
	i.Volumes = slices.Clone(i.Volumes)
	for _, n := range next {
		at := slices.IndexFunc(i.Volumes, func(a Attached) bool { return a.Device == n.Device })
		if at < 0 {
			return nil, standin.Refuse(http.StatusNotFound, "instance %s has no volume at %s", i.Name, n.Device)
		}
		size, err := s.attach(i, n.Volume)
		if err == nil {
			err = s.detach(i.Volumes[at].Volume)
		}
		if err != nil {
			return nil, err
		}
		i.Volumes[at] = Attached{n.Device, n.Volume, size}
	}
	return i, s.instances.Put(i.ID, i)
}

// NewVolume asks for a volume: of a size, or of what a snapshot holds.
type NewVolume struct {
	Name     string            `json:"name"`
	Size     int64             `json:"size,omitempty"`
	Tags     map[string]string `json:"tags,omitempty"`
	Snapshot string            `json:"snapshot,omitempty"`
}

func (s *skerry) makeVolume(r *http.Request) (any, error) {
	n, err := standin.Body[NewVolume](r)
	if err != nil {
		return nil, err
	}
	v := Volume{ID: standin.NewID(), Region: standin.Param(r, "region"), Name: n.Name, Size: n.Size, Tags: n.Tags, Made: time.Now().UTC()}
	if v.Tags == nil {
		v.Tags = map[string]string{}
	}
	if n.Snapshot == "" {
		if v.Size <= 0 || !slices.Contains(Regions, v.Region) {
			return nil, standin.Refuse(http.StatusBadRequest, "a volume has a size, and a region that there is")
		}
		if err := s.cells.make(v.ID, v.Size); err != nil {
			return nil, err
		}
		return v, s.volumes.Put(v.ID, v)
	}
	for _, m := range s.moments.All() {
		for _, x := range m.Snapshots {
			if x.ID == n.Snapshot && m.Region == v.Region {
				v.Size = x.Size
				if err := s.cells.copy(x.ID, v.ID); err != nil {
					return nil, err
				}
				return v, s.volumes.Put(v.ID, v)
			}
		}
	}
	return nil, standin.Refuse(http.StatusNotFound, "there is no snapshot %s in %s", n.Snapshot, v.Region)
}

// bring makes a volume of the disk that is sent.
func (s *skerry) bring(_ http.ResponseWriter, r *http.Request) (any, error) {
	v := Volume{ID: standin.NewID(), Region: standin.Param(r, "region"), Name: standin.Param(r, "name"), Tags: map[string]string{}, Made: time.Now().UTC()}
	for _, tag := range r.URL.Query()["tag"] {
		key, value, _ := strings.Cut(tag, "=")
		v.Tags[key] = value
	}
	return &v, s.Brought(r, func(from disk.Disk) error {
		v.Size = from.Size()
		err := s.cells.make(v.ID, v.Size)
		if err == nil {
			err = standin.Fill(r.Context(), from, func(p []byte, at int64) error { return s.cells.write(v.ID, v.Size, p, at) })
		}
		if err == nil {
			err = s.Do(func() error {
				if slices.ContainsFunc(s.volumes.All(), func(o Volume) bool { return o.Region == v.Region && o.Name == v.Name }) {
					return standin.Refuse(http.StatusConflict, "there is a volume %s already", v.Name)
				}
				return s.volumes.Put(v.ID, v)
			})
		}
		if err != nil {
			return errors.Join(err, s.cells.remove(v.ID))
		}
		return nil
	})
}

func (s *skerry) removeVolume(r *http.Request) (any, error) {
	v, err := s.volume(r)
	if err == nil && v.Instance != "" {
		err = standin.Refuse(http.StatusConflict, "volume %s is an instance's", v.Name)
	}
	if err != nil {
		return nil, err
	}
	return struct{}{}, errors.Join(s.volumes.Delete(v.ID), s.cells.remove(v.ID))
}

// NewMoment asks for a snapshot of each volume of an instance, or of one volume, in one moment. ID is the caller's choice: asked for twice, it is made once.
type NewMoment struct {
	ID       string            `json:"id,omitempty"`
	Name     string            `json:"name"`
	Instance string            `json:"instance,omitempty"`
	Volume   string            `json:"volume,omitempty"`
	Tags     map[string]string `json:"tags,omitempty"`
}

func (s *skerry) makeMoment(r *http.Request) (any, error) {
	n, err := standin.Body[NewMoment](r)
	if err != nil {
		return nil, err
	}
	if was, err := s.moments.Get(n.ID); err == nil {
		return was, nil
	}
	if n.ID == "" {
		n.ID = standin.NewID()
	}
	m := Moment{ID: n.ID, Region: standin.Param(r, "region"), Name: n.Name, Instance: n.Instance, Volume: n.Volume, Tags: n.Tags, Made: time.Now().UTC(), Ready: true}
	if m.Tags == nil {
		m.Tags = map[string]string{}
	}
	of := []Attached{{Device: "vda", Volume: n.Volume}}
	if n.Instance != "" {
		i, err := s.instances.Get(n.Instance)
		if err != nil {
			return nil, err
		}
		of = i.Volumes
	}
	most, err := s.limits.Get(m.Region)
	if err != nil {
		most.Snapshots = quota
	}
	if s.count[m.Region]+len(of) > most.Snapshots {
		return nil, standin.Refuse(http.StatusConflict, "quota: region %s has %d snapshots of %d", m.Region, s.count[m.Region], most.Snapshots)
	}
	for _, a := range of {
		v, err := s.volumes.Get(a.Volume)
		if err != nil {
			return nil, err
		}
		if v.Region != m.Region {
			return nil, standin.Refuse(http.StatusNotFound, "volume %s is in region %s", v.Name, v.Region)
		}
		x := Snapshot{ID: standin.NewID(), Volume: v.ID, Device: a.Device, Size: v.Size}
		if err := s.cells.copy(v.ID, x.ID); err != nil {
			return nil, err
		}
		m.Snapshots = append(m.Snapshots, x)
	}
	s.counted(m.Region, len(m.Snapshots))
	return m, s.moments.Put(m.ID, m)
}

// counted counts snapshots that are made, or go.
func (s *skerry) counted(region string, n int) {
	s.count[region] += n
	s.Journal.OnRollBack(func() { s.count[region] -= n })
}

// removeMoment removes a moment, if it bears the tag that a caller names.
func (s *skerry) removeMoment(r *http.Request) (any, error) {
	m, err := s.moment(r)
	if err != nil {
		return nil, err
	}
	if key, value, ok := strings.Cut(r.URL.Query().Get("if"), "="); ok && m.Tags[key] != value {
		return nil, standin.Refuse(http.StatusPreconditionFailed, "moment %s does not bear the tag %s=%s", m.ID, key, value)
	}
	s.counted(m.Region, -len(m.Snapshots))
	return struct{}{}, s.moments.Delete(m.ID) // its maps go at the next start: a change that is taken back must find them
}

// NewCopy asks for a moment in another region, with an ID and tags of its own.
type NewCopy struct {
	To   string            `json:"to"`
	ID   string            `json:"id,omitempty"`
	Tags map[string]string `json:"tags,omitempty"`
}

// copyMoment makes the same moment in another region.
func (s *skerry) copyMoment(r *http.Request) (func(context.Context) (any, error), error) {
	m, err := s.moment(r)
	if err != nil {
		return nil, err
	}
	n, err := standin.Body[NewCopy](r)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(Regions, n.To) || n.To == m.Region {
		return nil, standin.Refuse(http.StatusNotFound, "there is no other region %s", n.To)
	}
	if n.ID == "" {
		n.ID = standin.NewID()
	}
	return func(context.Context) (any, error) {
		c := m
		c.ID, c.Region, c.Tags = n.ID, n.To, n.Tags
		if c.Tags == nil {
			c.Tags = map[string]string{}
		}
		c.Snapshots = slices.Clone(m.Snapshots)
		return &c, s.Do(func() error {
			if _, err := s.moments.Get(c.ID); err == nil {
				return nil // it was asked for before
			}
			for i := range c.Snapshots {
				c.Snapshots[i].ID = standin.NewID()
				if err := s.cells.copy(m.Snapshots[i].ID, c.Snapshots[i].ID); err != nil {
					return err
				}
			}
			s.counted(n.To, len(c.Snapshots))
			return s.moments.Put(c.ID, c)
		})
	}, nil
}

// snapshot is the one that a call is about.
func (s *skerry) snapshot(r *http.Request) (Snapshot, error) {
	m, err := s.moment(r)
	if err != nil {
		return Snapshot{}, err
	}
	for _, x := range m.Snapshots {
		if x.ID == standin.Param(r, "part") {
			return x, nil
		}
	}
	return Snapshot{}, standin.Refuse(http.StatusNotFound, "moment %s has no snapshot %s", m.ID, standin.Param(r, "part"))
}

// ranges tells where a snapshot has something, or something else than an earlier one.
func (s *skerry) ranges(r *http.Request) (any, error) {
	x, err := s.snapshot(r)
	if err != nil {
		return nil, err
	}
	since := r.URL.Query().Get("since")
	found, err := s.cells.ranges(x.ID, since, x.Size)
	if errors.Is(err, os.ErrNotExist) {
		return nil, standin.Refuse(http.StatusGone, "snapshot %s, of which it is to be told what changed since, is there no more", since)
	}
	return found, err
}

func (s *skerry) readSnapshot(w http.ResponseWriter, r *http.Request) (any, error) {
	at, bad := strconv.ParseInt(r.URL.Query().Get("at"), 10, 64)
	length, worse := strconv.ParseInt(r.URL.Query().Get("length"), 10, 64)
	if err := errors.Join(bad, worse); err != nil || at < 0 || length < 0 || length > mostRead {
		return nil, standin.Refuse(http.StatusBadRequest, "at and length are bytes, of which %d are read at once", mostRead)
	}
	var x Snapshot
	if err := s.Do(func() (err error) { x, err = s.snapshot(r); return err }); err != nil {
		return nil, err
	}
	p := make([]byte, length)
	n, err := s.cells.content(x.ID, x.Size, p, at)
	if err != nil {
		return nil, err
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.Itoa(n))
	_, _ = w.Write(p[:n]) // whoever asked went
	return nil, nil
}

// writeInside writes to a volume, as what runs in its instance would.
func (s *skerry) writeInside(_ http.ResponseWriter, r *http.Request) (any, error) {
	body, at, err := standin.Written(r)
	if err != nil {
		return nil, err
	}
	return struct{}{}, s.Do(func() error {
		v, err := s.volume(r)
		if err != nil {
			return err
		}
		return s.cells.write(v.ID, v.Size, body, at)
	})
}
