package pooled

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

var noteFolders = map[string]chunk.ObjectKind{"proof/": chunk.ProofObject, "pin/": chunk.PinObject, exhibits: chunk.ExhibitObject}

// exhibits is the folder of files that belong to proofs.
const exhibits = "exhibit/"

// AddProof keeps the outcome of a proof beside its image.
func (s *Store) AddProof(ctx context.Context, id string, p store.Proof) error {
	return s.putNote(ctx, "proof/", id, p)
}

// KeepExhibit implements [store.Store].
func (s *Store) KeepExhibit(ctx context.Context, id, end string, body []byte) (name string, err error) {
	if len(body) > store.MaxExhibit {
		return "", fmt.Errorf("what belongs to a proof of image %s has %d bytes; it may have %d", id, len(body), store.MaxExhibit)
	}
	name = image.NewID() + end
	return name, s.putObject(ctx, chunk.ExhibitObject, exhibits+id+"."+name, body)
}

// Exhibit implements [store.Store].
func (s *Store) Exhibit(ctx context.Context, id, name string) ([]byte, error) {
	if !image.IsID(id) || !store.IsExhibit(name) {
		return nil, fmt.Errorf("exhibit %.40q of image %.40q: %w", name, id, medium.ErrNotFound)
	}
	return s.readObject(ctx, chunk.ExhibitObject, exhibits+id+"."+name)
}

// SetPin pins an image, or with nil lets it go.
func (s *Store) SetPin(ctx context.Context, id string, p *store.Pin) error {
	old, err := s.notes(ctx, "pin/", id)
	if err != nil {
		return err
	}
	if p != nil {
		if err := s.putNote(ctx, "pin/", id, p); err != nil {
			return err
		}
	}
	for _, name := range old {
		if err := s.medium.Delete(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) putNote(ctx context.Context, folder, id string, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return s.putObject(ctx, noteFolders[folder], folder+id+"."+image.NewID(), body)
}

// notes lists the objects in a folder that belong to an image, or all if it is "".
func (s *Store) notes(ctx context.Context, folder, id string) ([]string, error) {
	objects, err := s.list(ctx, folder)
	var names []string
	for _, o := range objects {
		of, _, ok := strings.Cut(strings.TrimPrefix(o.Name, folder), ".")
		if ok && image.IsID(of) && (id == "" || of == id) {
			names = append(names, o.Name)
		}
	}
	slices.Sort(names)
	return names, err
}

// AllNotes reads the notes of all images. One that is damaged is left out; a check tells of it.
func (s *Store) AllNotes(ctx context.Context) (map[string]store.Notes, error) {
	out := map[string]store.Notes{}
	for folder, kind := range noteFolders {
		if kind == chunk.ExhibitObject {
			continue // they are read one by one, when somebody wants to see them
		}
		names, err := s.notes(ctx, folder, "")
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			body, err := s.readObject(ctx, kind, name)
			if errors.Is(err, medium.ErrNotFound) || errors.Is(err, chunk.ErrDamaged) {
				continue
			}
			if err != nil {
				return nil, err
			}
			id, _, _ := strings.Cut(strings.TrimPrefix(name, folder), ".")
			n := out[id]
			if kind == chunk.PinObject {
				n.Pin = new(store.Pin)
				err = json.Unmarshal(body, n.Pin)
			} else {
				var p store.Proof
				err = json.Unmarshal(body, &p)
				n.Proofs = append(n.Proofs, p)
			}
			if err != nil {
				continue
			}
			slices.SortFunc(n.Proofs, func(a, b store.Proof) int { return a.Began.Compare(b.Began) })
			out[id] = n
		}
	}
	return out, nil
}

// dropNotes takes an image's notes away.
func (s *Store) dropNotes(ctx context.Context, id string) error {
	for folder := range noteFolders {
		names, err := s.notes(ctx, folder, id)
		if err != nil {
			return err
		}
		for _, name := range names {
			if err := s.medium.Delete(ctx, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropStrayNotes takes the notes of images away that a process was dropping when it died.
func (s *Store) dropStrayNotes(ctx context.Context) error {
	for folder := range noteFolders {
		names, err := s.notes(ctx, folder, "")
		if err != nil || len(names) == 0 {
			return err
		}
		ids, err := s.ImageIDs(ctx) // after the notes: an image is there before what is noted of it
		if err != nil {
			return err
		}
		for _, name := range names {
			id, _, _ := strings.Cut(strings.TrimPrefix(name, folder), ".")
			if _, found := slices.BinarySearch(ids, id); found {
				continue
			}
			if err := s.medium.Delete(ctx, name); err != nil {
				return err
			}
		}
	}
	return nil
}
