package pooled

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
)

const (
	// beatEvery is how often a visit gives a sign of life. The objects are small; one a minute costs nothing anywhere.
	beatEvery = time.Minute
	// deadAfter is how long a visit may stay without one, by the clock of the process that looks and nobody else's. It is long
	// enough for a line that is down for a while; too short a time would cost a run, never an image.
	deadAfter = 15 * time.Minute
)

// ErrTakenForDead marks a visit that gave no sign of life for so long that a sweep went on without it.
var ErrTakenForDead = errors.New("it was silent for so long that it was taken for dead")

// Visit announces that somebody is at the store: writes an image, or reads one for long. What a sweep condemns while it lasts
// is not deleted before it ends. The object visit/ID.start says which condemnations the visitor knew when it began: it leans
// on nothing that they name.
type Visit struct {
	s    *Store
	id   string
	stop context.CancelFunc
	done chan struct{}
	once sync.Once
}

// visitFile is the payload of visit/ID.start.
type visitFile struct {
	Knows   []string  `json:"knows"` // names of condemned/… objects
	Began   time.Time `json:"began"`
	Program string    `json:"program"`
}

func visitStart(id string) string { return "visit/" + id + ".start" }

func visitBeat(id string, n int) string { return fmt.Sprintf("visit/%s.beat-%06d", id, n) }

// VisitToWrite begins the visit of who makes an image. id is its name, for who clears up after a dead process: the image's, or
// one of [image.NewID]. Cancelling ctx does not end it.
func (s *Store) VisitToWrite(ctx context.Context, id, program string) (*Visit, error) {
	for {
		if err := s.condemning.look(ctx, s.readCondemned); err != nil {
			return nil, err
		}
		knows := s.condemnations()
		v, err := s.begin(ctx, id, visitFile{knows, time.Now().UTC(), program})
		if err != nil {
			return nil, err
		}
		// What was condemned between the two looks was not known: if there is such, begin anew.
		if isSubset(s.condemnations(), knows) {
			return v, nil
		}
		if err := v.End(ctx); err != nil {
			return nil, err
		}
	}
}

// VisitToRead begins the visit of who reads images for long. It knows no condemnation, so all wait for it, and images that are
// dropped meanwhile can be read to the end.
func (s *Store) VisitToRead(ctx context.Context, program string) (*Visit, error) {
	return s.begin(ctx, image.NewID(), visitFile{[]string{}, time.Now().UTC(), program})
}

// begin announces a visit and looks at the store after that: packs that went before it began are forgotten.
func (s *Store) begin(ctx context.Context, id string, f visitFile) (*Visit, error) {
	body, err := json.Marshal(f)
	if err != nil {
		return nil, err
	}
	if err := s.putObject(ctx, chunk.VisitObject, visitStart(id), body); err != nil {
		return nil, err
	}
	if err := s.Refresh(ctx); err != nil {
		return nil, errors.Join(err, s.medium.Delete(context.WithoutCancel(ctx), visitStart(id)))
	}
	beating, stop := context.WithCancel(context.WithoutCancel(ctx))
	v := &Visit{s: s, id: id, stop: stop, done: make(chan struct{})}
	go v.beat(beating)
	return v, nil
}

func isSubset(a, b []string) bool {
	for _, x := range a {
		if !slices.Contains(b, x) {
			return false
		}
	}
	return true
}

// beat gives signs of life until the visit ends. One that can't be given is not lost for long: the next follows, and if none
// does the visit is fenced, which Finish finds out.
func (v *Visit) beat(ctx context.Context) {
	defer close(v.done)
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if v.s.medium.Put(ctx, visitBeat(v.id, n), []byte{'.'}) == nil && n > 1 {
			v.s.medium.Delete(ctx, visitBeat(v.id, n-1)) // End deletes what is left
		}
	}
}

// End ends the visit. It may be called more than once.
func (v *Visit) End(ctx context.Context) error {
	var err error
	v.once.Do(func() {
		v.stop()
		<-v.done
		err = v.s.EndVisit(context.WithoutCancel(ctx), v.id)
	})
	return err
}

// EndVisit clears the visit of a process that is known to be dead.
func (s *Store) EndVisit(ctx context.Context, id string) error {
	objects, err := s.list(ctx, "visit/")
	if err != nil {
		return err
	}
	// The start goes first: who still acts for this visit finds out by it.
	errs := []error{s.medium.Delete(ctx, visitStart(id))}
	for _, o := range objects {
		if strings.HasPrefix(o.Name, "visit/"+id+".") {
			errs = append(errs, s.medium.Delete(ctx, o.Name))
		}
	}
	return errors.Join(errs...)
}

// Finish makes an image exist. Its pieces must have been flushed before. If the visit was taken for dead meanwhile, the image
// exists only if all that it needs is still there; otherwise it is [ErrTakenForDead], and the image does not.
func (v *Visit) Finish(ctx context.Context, m *image.Manifest) error {
	body, err := m.Encode()
	if err != nil {
		return err
	}
	if err := v.s.putObject(ctx, chunk.ImageObject, imageName(m.ID), body); err != nil {
		return err
	}
	_, err = v.s.medium.Stat(ctx, visitStart(v.id))
	// A sweep that goes on without this visit looks for images after it has deleted the start.
	if errors.Is(err, medium.ErrNotFound) {
		err = v.s.Secure(ctx, m)
	}
	if err == nil {
		err = v.s.lockManifest(ctx, m)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("image %s: %w", m.ID, err), v.s.medium.Delete(context.WithoutCancel(ctx), imageName(m.ID)))
	}
	return nil
}

// Secure makes sure that an image whose writer died, or was taken for dead, has all that it needs, and that no sweep is about
// to take it away. If not, it is [ErrTakenForDead].
func (s *Store) Secure(ctx context.Context, m *image.Manifest) error {
	v, err := s.VisitToWrite(ctx, image.NewID(), m.Program)
	if err != nil {
		return err
	}
	defer v.End(ctx)
	trees, err := m.Trees()
	if err != nil {
		return err
	}
	for _, tree := range trees {
		err := tree.Walk(ctx, s, func(v image.Visit) error {
			if p, ok := s.find(v.Name); !ok || p.condemned {
				return fmt.Errorf("%w, and piece %s of %s is going or gone; run it again", ErrTakenForDead, v.Name, tree.What)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// sighting is when a visit's sign of life was first seen, by this process's clock.
type sighting struct {
	beat  string
	since time.Time
}

// present is a visit that is under way.
type present struct {
	id    string
	knows []string
}

// visits lists the visits that are under way. One that has been silent for too long is ended.
func (s *Store) visits(ctx context.Context) ([]present, error) {
	objects, err := s.list(ctx, "visit/")
	if err != nil {
		return nil, err
	}
	beats, started := map[string]string{}, map[string]bool{}
	for _, o := range objects {
		id, what, ok := strings.Cut(strings.TrimPrefix(o.Name, "visit/"), ".")
		if !ok || !image.IsID(id) {
			continue
		}
		started[id] = started[id] || what == "start"
		beats[id] = max(beats[id], what)
	}
	var out []present
	for _, id := range slices.Sorted(maps.Keys(beats)) {
		if !started[id] || s.silent(id, beats[id]) {
			if err := s.EndVisit(ctx, id); err != nil {
				return nil, err
			}
			continue
		}
		p := present{id: id}
		body, err := s.readObject(ctx, chunk.VisitObject, visitStart(id))
		switch {
		case errors.Is(err, medium.ErrNotFound):
			continue // ended meanwhile
		case err == nil:
			var f visitFile
			if json.Unmarshal(body, &f) == nil {
				p.knows = f.Knows
			}
		case !errors.Is(err, chunk.ErrDamaged): // a damaged one knows nothing, and is waited for
			return nil, err
		}
		out = append(out, p)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for id := range s.sightings {
		if _, ok := beats[id]; !ok {
			delete(s.sightings, id)
		}
	}
	return out, nil
}

// silent notes a visit's newest sign of life and reports whether it is too old.
func (s *Store) silent(id, beat string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	seen, ok := s.sightings[id]
	if !ok || seen.beat != beat {
		s.sightings[id] = sighting{beat, time.Now()}
		return false
	}
	return time.Since(seen.since) > deadAfter
}
