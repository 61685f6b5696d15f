package sound

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"strings"

	"filippo.io/age"

	"keenlodge/internal/standin"
)

// imported is where the file lies that a caller names by its mark.
func (s *sound) imported(r *http.Request) string {
	return s.path("imports", path.Base("/"+standin.Param(r, "mark")))
}

// bringPart takes what a part holds, as an appliance that works would gather it.
func (s *sound) bringPart(_ http.ResponseWriter, r *http.Request) (any, error) {
	q := r.URL.Query()
	p := keptPart{Part: Part{Name: standin.Param(r, "name"), About: q.Get("about"), Mandatory: q.Get("mandatory") == "true"}, Lies: standin.NewID()}
	sum := sha256.New()
	var err error
	if p.Bytes, err = s.take(s.path("parts", p.Lies), io.TeeReader(r.Body, sum)); err != nil {
		return nil, err
	}
	p.SHA256 = hexOf(sum)
	return p.Part, s.Do(func() error { return s.replace([]keptPart{p}, false) })
}

// take writes a file of what is read. If it fails, nothing stays.
func (s *sound) take(at string, in io.Reader) (n int64, err error) {
	file, err := os.Create(at)
	if err != nil {
		return 0, err
	}
	n, err = io.Copy(file, in)
	if err = errors.Join(err, file.Close()); err != nil {
		err = errors.Join(err, os.Remove(at))
	}
	return n, err
}

// replace has these parts be what they are now, and all others go where asked. Files that nothing has any more go with the next start.
func (s *sound) replace(with []keptPart, all bool) error {
	if all {
		for _, p := range s.parts.All() {
			if err := s.parts.Delete(p.Name); err != nil {
				return err
			}
		}
	}
	for _, p := range with {
		if err := s.parts.Put(p.Name, p); err != nil {
			return err
		}
	}
	return nil
}

// bringImport takes the file of an export, which changes nothing yet.
func (s *sound) bringImport(_ http.ResponseWriter, r *http.Request) (any, error) {
	if err := s.Do(func() error { return s.active(r) }); err != nil {
		return nil, err
	}
	n, err := s.take(s.imported(r), r.Body)
	return map[string]int64{"bytes": n}, err
}

// applyImport has the appliance be what it was in an export that was brought: all of it, or nothing.
func (s *sound) applyImport(r *http.Request) (func(context.Context) (any, error), error) {
	if err := s.active(r); err != nil {
		return nil, err
	}
	asked, err := standin.Body[struct {
		Passphrase string `json:"passphrase"`
	}](r)
	if err != nil {
		return nil, err
	}
	mark, at := standin.Param(r, "mark"), s.imported(r)
	return func(context.Context) (any, error) {
		parts, err := s.unpack(at, asked.Passphrase)
		if err == nil {
			err = s.Do(func() error {
				v := s.is()
				v.Imported = mark
				return errors.Join(s.replace(parts, true), s.set(v))
			})
		}
		if err != nil {
			for _, p := range parts {
				err = errors.Join(err, os.Remove(s.path("parts", p.Lies)))
			}
			return nil, err
		}
		return nil, os.Remove(at)
	}, nil
}

// unpack opens the file of an export and returns what parts it has; their files lie there, also where it fails.
func (s *sound) unpack(at, passphrase string) (parts []keptPart, err error) {
	file, err := os.Open(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, standin.Refuse(http.StatusNotFound, "no export was brought by this mark")
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	key, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, err
	}
	opened, err := age.Decrypt(file, key)
	if err != nil {
		return nil, standin.Refuse(http.StatusForbidden, "the passphrase is wrong, or this is no export: %v", err)
	}
	var about struct {
		Release string
		Build   int
		Parts   []Part
	}
	packed := tar.NewReader(opened)
	h, err := packed.Next()
	if err == nil && h.Name == aboutFile {
		err = json.NewDecoder(io.LimitReader(packed, 1<<20)).Decode(&about)
	}
	if err != nil {
		return nil, standin.Refuse(http.StatusConflict, "it begins with nothing that is known: %v", err)
	}
	v := s.now()
	if about.Release != v.Release || about.Build != v.Build {
		return nil, standin.Refuse(http.StatusConflict, "it is of %s build %d, and this is %s build %d", about.Release, about.Build, v.Release, v.Build)
	}
	for _, told := range about.Parts {
		p := keptPart{Part: told, Lies: standin.NewID()}
		h, err := packed.Next()
		if err == nil && strings.TrimPrefix(h.Name, partsFolder) != told.Name {
			err = fmt.Errorf("there is %q in its place", h.Name)
		}
		sum := sha256.New()
		if err == nil {
			_, err = s.take(s.path("parts", p.Lies), io.TeeReader(packed, sum))
			parts = append(parts, p)
		}
		if err == nil && hexOf(sum) != told.SHA256 {
			err = errors.New("it is not what was written")
		}
		if err != nil {
			return parts, standin.Refuse(http.StatusConflict, "part %s: %v", told.Name, err)
		}
	}
	return parts, nil
}

// reset makes it as it came from its maker, if the export that it took back is the one of that mark.
func (s *sound) reset(r *http.Request) (func(context.Context) (any, error), error) {
	asked, err := standin.Body[struct {
		If string `json:"if"`
	}](r)
	if err == nil {
		err = s.active(r)
	}
	if v := s.is(); err == nil && (asked.If == "" || v.Imported != asked.If) {
		err = standin.Refuse(http.StatusPreconditionFailed, "what it took back is %q", v.Imported)
	}
	return func(context.Context) (any, error) {
		return nil, s.Do(func() error {
			v := s.is()
			v.Imported = ""
			return errors.Join(s.replace(nil, true), s.set(v))
		})
	}, err
}
