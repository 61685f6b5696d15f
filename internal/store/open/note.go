package open

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/open/plainfile"
)

const (
	proofPart   = ".proof-"
	exhibitPart = ".exhibit-"
	pinEnd      = ".pin"
)

// AddProof keeps the outcome of a proof beside its image.
func (s *Store) AddProof(_ context.Context, id string, p store.Proof) error {
	return s.putNote(id, proofPart+strings.ToLower(rand.Text()[:10]), p)
}

// KeepExhibit implements [store.Store].
func (s *Store) KeepExhibit(_ context.Context, id, end string, body []byte) (name string, err error) {
	if len(body) > store.MaxExhibit {
		return "", fmt.Errorf("what belongs to a proof of image %s has %d bytes; it may have %d", id, len(body), store.MaxExhibit)
	}
	path, err := s.manifestPath(id)
	if err != nil {
		return "", err
	}
	name = image.NewID() + end
	return name, plainfile.Put(strings.TrimSuffix(path, manifestEnd)+exhibitPart+name, body)
}

// Exhibit implements [store.Store].
func (s *Store) Exhibit(_ context.Context, id, name string) ([]byte, error) {
	path, err := s.manifestPath(id)
	if err != nil {
		return nil, err
	}
	if !store.IsExhibit(name) {
		return nil, fmt.Errorf("exhibit %.40q of image %s: %w", name, id, medium.ErrNotFound)
	}
	body, err := plainfile.ReadSmall(strings.TrimSuffix(path, manifestEnd) + exhibitPart + name)
	if errors.Is(err, fs.ErrNotExist) {
		err = fmt.Errorf("exhibit %s of image %s: %w", name, id, medium.ErrNotFound)
	}
	return body, err
}

// SetPin pins an image, or with nil lets it go.
func (s *Store) SetPin(_ context.Context, id string, p *store.Pin) error {
	if p != nil {
		return s.putNote(id, pinEnd, p)
	}
	path, err := s.manifestPath(id)
	if err != nil {
		return err
	}
	err = os.Remove(strings.TrimSuffix(path, manifestEnd) + pinEnd)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func (s *Store) putNote(id, end string, v any) error {
	path, err := s.manifestPath(id)
	if err != nil {
		return err
	}
	body, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return plainfile.Put(strings.TrimSuffix(path, manifestEnd)+end, append(body, '\n'))
}

// AllNotes reads the notes of all images. One that can't be understood is left out.
func (s *Store) AllNotes(context.Context) (map[string]store.Notes, error) {
	files, err := s.files("")
	if err != nil {
		return nil, err
	}
	out := map[string]store.Notes{}
	for _, f := range files {
		name := filepath.Base(f)
		isPin := strings.HasSuffix(name, pinEnd)
		if strings.HasPrefix(name, ".") || !isPin && !strings.Contains(name, proofPart) {
			continue
		}
		body, err := plainfile.ReadSmall(f)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		n := out[idOf(name)]
		var p store.Proof
		var pin store.Pin
		switch {
		case isPin && json.Unmarshal(body, &pin) == nil:
			n.Pin = &pin
		case !isPin && json.Unmarshal(body, &p) == nil:
			n.Proofs = append(n.Proofs, p)
		}
		slices.SortFunc(n.Proofs, func(a, b store.Proof) int { return a.Began.Compare(b.Began) })
		out[idOf(name)] = n
	}
	return out, nil
}
