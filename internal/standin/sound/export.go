package sound

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"time"

	"filippo.io/age"

	"keenlodge/internal/standin"
)

const (
	// effort is that of deriving a key from a passphrase, as a power of two: scrypt's N.
	effort = 14
	// aboutFile is what an export begins with: what it is of, as JSON. partsFolder is where its parts lie after it.
	aboutFile   = "export.json"
	partsFolder = "parts/"
)

// NewExport asks for an export.
type NewExport struct {
	By         string   `json:"by"`
	About      string   `json:"about"`
	Parts      []string `json:"parts"` // those that are mandatory come in any case
	Passphrase string   `json:"passphrase"`
}

func (s *sound) export(r *http.Request) (Export, error) {
	e, err := s.exports.Get(standin.Param(r, "id"))
	if err == nil && e.Node != standin.Node(r) {
		err = standin.Refuse(http.StatusNotFound, "it lies on node %s", e.Node)
	}
	return e, err
}

// makeExport writes what an appliance keeps into a file of the active node: a pax archive, encrypted with a passphrase (age-encryption.org/v1).
func (s *sound) makeExport(r *http.Request) (func(context.Context) (any, error), error) {
	if err := s.active(r); err != nil {
		return nil, err
	}
	asked, err := standin.Body[NewExport](r)
	if err != nil {
		return nil, err
	}
	if asked.Passphrase == "" || asked.By != "hand" && asked.By != "schedule" {
		return nil, standin.Refuse(http.StatusBadRequest, "an export has a passphrase, and is by hand or by schedule")
	}
	for _, name := range asked.Parts {
		if _, err := s.parts.Get(name); err != nil {
			return nil, err
		}
	}
	node, mark := standin.Node(r), standin.Param(r, "mark")
	return func(context.Context) (any, error) {
		var e Export
		var lie []keptPart
		_ = s.Do(func() error { // it only looks
			v := s.is()
			e = Export{ID: standin.NewID(), Node: node, Mark: mark, By: asked.By, About: asked.About, Made: time.Now().UTC().Truncate(time.Second), Release: v.Release, Build: v.Build}
			for _, p := range s.parts.All() {
				if p.Mandatory || slices.Contains(asked.Parts, p.Name) {
					e.Parts = append(e.Parts, p.Part)
					lie = append(lie, p)
				}
			}
			return nil
		})
		err := s.write(&e, lie, asked.Passphrase)
		if err == nil {
			err = s.Do(func() error {
				v := s.is()
				if v.Turns {
					v.Active, v.Turns = Nodes[1-slices.Index(Nodes, v.Active)], false
					if err := s.set(v); err != nil {
						return err
					}
				}
				return s.exports.Put(e.ID, e)
			})
		}
		if err != nil {
			return nil, errors.Join(err, os.Remove(s.path("exports", e.ID)))
		}
		return e, nil
	}, nil
}

// limited writes as long as there is room.
type limited struct {
	to   io.Writer
	left int64
}

func (l *limited) Write(p []byte) (int, error) {
	if l.left -= int64(len(p)); l.left < 0 {
		return 0, standin.Refuse(http.StatusInsufficientStorage, "the disk of this node is full; exports that are not needed any more have to go")
	}
	return l.to.Write(p)
}

// write writes an export's file.
func (s *sound) write(e *Export, parts []keptPart, passphrase string) (err error) {
	v := s.now()
	file, err := os.Create(s.path("exports", e.ID))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, file.Close()) }()
	to, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return err
	}
	to.SetWorkFactor(effort)
	sealed, err := age.Encrypt(&limited{file, s.free(v)}, to)
	if err != nil {
		return err
	}
	about, err := json.MarshalIndent(map[string]any{"system": "sound", "id": v.ID, "name": v.Name, "release": e.Release, "build": e.Build, "made": e.Made, "parts": e.Parts}, "", "  ")
	if err != nil {
		return err
	}
	packed := tar.NewWriter(sealed)
	add := func(name string, size int64, content io.Reader) error {
		if err := packed.WriteHeader(&tar.Header{Format: tar.FormatPAX, Name: name, Mode: 0o600, Size: size, ModTime: e.Made}); err != nil {
			return err
		}
		_, err := io.Copy(packed, content)
		return err
	}
	if err := add(aboutFile, int64(len(about)), bytes.NewReader(about)); err != nil {
		return err
	}
	for _, p := range parts {
		in, err := os.Open(s.path("parts", p.Lies))
		if err == nil {
			err = errors.Join(add(partsFolder+p.Name, p.Bytes, in), in.Close())
		}
		if err != nil {
			return fmt.Errorf("part %s: %w", p.Name, err)
		}
	}
	if err := errors.Join(packed.Close(), sealed.Close()); err != nil {
		return err
	}
	if v.Cut > 0 {
		info, err := file.Stat()
		if err == nil {
			err = file.Truncate(max(0, info.Size()-v.Cut))
		}
		if err != nil {
			return err
		}
	}
	sum := sha256.New()
	if _, err = file.Seek(0, io.SeekStart); err == nil {
		e.Bytes, err = io.Copy(sum, file)
	}
	e.SHA256 = hexOf(sum)
	return err
}

func hexOf(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

// opened is the content of an export from a byte on, and how much is sent of it.
func (s *sound) opened(e Export, from int64) (*os.File, io.Reader, int64, error) {
	v := s.now()
	file, err := os.Open(s.path("exports", e.ID))
	if err == nil {
		_, err = file.Seek(from, io.SeekStart)
	}
	n := max(0, e.Bytes-v.CutSent-from)
	return file, io.LimitReader(file, n), n, err
}

func (s *sound) readExport(w http.ResponseWriter, r *http.Request) (any, error) {
	var e Export
	err := s.Do(func() (err error) {
		if err = s.active(r); err == nil {
			e, err = s.export(r)
		}
		return err
	})
	from := int64(0)
	if text := r.URL.Query().Get("from"); text != "" && err == nil {
		from, err = strconv.ParseInt(text, 10, 64)
	}
	if err == nil && (from < 0 || from > e.Bytes) {
		err = standin.Refuse(http.StatusBadRequest, "it has %d bytes", e.Bytes)
	}
	if err != nil {
		return nil, err
	}
	file, in, n, err := s.opened(e, from)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.FormatInt(n, 10))
	_, _ = io.Copy(w, in) // whoever reads it sees where it breaks off
	return nil, nil
}

// sendExport pushes an export to an address that it is given.
func (s *sound) sendExport(r *http.Request) (func(context.Context) (any, error), error) {
	if err := s.active(r); err != nil {
		return nil, err
	}
	e, err := s.export(r)
	if err != nil {
		return nil, err
	}
	to, err := standin.Body[Destination](r)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) (any, error) {
		file, in, n, err := s.opened(e, 0)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		return nil, to.push(ctx, in, n)
	}, nil
}
