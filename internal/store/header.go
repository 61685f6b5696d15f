package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium"
)

const (
	HeaderName = "store.json"
	HeaderCopy = "store.copy.json"
	openFormat = 1 // of the open layout
)

// Header describes a store. It is the object store.json, which anyone may read; store.copy.json is the same.
type Header struct {
	Format int         `json:"format"`
	Layout site.Layout `json:"layout"`
	ID     string      `json:"id"`
	// PlainCuts are by what a pooled store's pieces are cut, SealedCuts the same in a sealed one. [Header.Cuts] reads either.
	PlainCuts  *cut.Cuts `json:"cuts,omitempty"`
	SealedCuts []byte    `json:"sealed_cuts,omitempty"`
	// BlockSize is 0; it was a pooled store's until format 2, and is in headers of open ones.
	BlockSize *int      `json:"block_size,omitempty"`
	Made      time.Time `json:"made"`
	Sealed    bool      `json:"sealed"`
	// Check is a value that only the store's secret gives; empty where the store is not sealed.
	Check string `json:"check"`
	// Digest is the BLAKE3 of this object without white space and with an empty digest.
	Digest string `json:"digest"`
}

func (h Header) digest() (string, error) {
	h.Digest = ""
	body, err := json.Marshal(h)
	var plain *chunk.Seal
	return plain.Name(body).String(), err
}

// OpenLayout is the header of a new store of the open layout, which docs/store-format.md describes, too.
func OpenLayout(now time.Time) Header {
	return Header{Format: openFormat, Layout: site.Open, ID: uuid.NewString(), BlockSize: new(int), Made: now.UTC().Truncate(time.Second)}
}

// PutHeader writes the header of a new store. The store exists once it does; its copy is for the day on which it is damaged.
func PutHeader(ctx context.Context, m medium.Medium, h Header) error {
	body, err := h.Encode()
	if err != nil {
		return err
	}
	for _, name := range []string{HeaderCopy, HeaderName} {
		if err := m.Put(ctx, name, body); err != nil {
			return err
		}
	}
	return nil
}

func (h Header) Encode() (body []byte, err error) {
	if h.Digest, err = h.digest(); err != nil {
		return nil, err
	}
	body, err = json.MarshalIndent(h, "", "  ")
	return append(body, '\n'), err
}

// errFormat marks a header that this program does not know.
var errFormat = errors.New("it is not known to this program; use the keenlodge that made the store, or a newer one")

// errUnreleased marks a store of a format that no release ever wrote.
var errUnreleased = errors.New("no released keenlodge wrote it, and this one does not read it; make a new store, and back up into that")

// SetCuts puts the cuts of a new store into its header; seal is nil where it is not sealed.
func (h *Header) SetCuts(seal *chunk.Seal, c cut.Cuts) error {
	if seal == nil {
		h.PlainCuts = &c
		return nil
	}
	body, err := json.Marshal(c)
	h.SealedCuts = seal.Close(body, aboutCuts+h.ID)
	return err
}

// Cuts are those by which the store's pieces are cut. Errors wrap [chunk.ErrDamaged].
func (h Header) Cuts(seal *chunk.Seal) (c cut.Cuts, err error) {
	if h.PlainCuts != nil {
		c = *h.PlainCuts
	} else {
		body, err := seal.Open(h.SealedCuts, aboutCuts+h.ID)
		if err == nil {
			err = json.Unmarshal(body, &c)
		}
		if err != nil {
			return c, fmt.Errorf("%s: %w: its cuts can't be read: %v", HeaderName, chunk.ErrDamaged, err)
		}
	}
	if err := c.Check(); err != nil {
		return c, fmt.Errorf("%s: %w: %v", HeaderName, chunk.ErrDamaged, err)
	}
	return c, nil
}

// aboutCuts, and the store's ID, is what cuts are sealed about.
const aboutCuts = "cuts of store "

// decodeHeader reads and checks a header. Errors wrap [chunk.ErrDamaged] or [errFormat].
func DecodeHeader(body []byte) (Header, error) {
	var h Header
	if err := json.Unmarshal(body, &h); err != nil {
		return h, fmt.Errorf("%w: %v", chunk.ErrDamaged, err)
	}
	if h.Format < PooledFormat && h.Layout == site.Pooled {
		return h, fmt.Errorf("format %d of a pooled store: %w", h.Format, errUnreleased)
	}
	isOpen := h.Format == openFormat && h.Layout == site.Open
	if !isOpen && (h.Format != PooledFormat || h.Layout != site.Pooled) {
		return h, fmt.Errorf("format %d, layout %q: %w", h.Format, h.Layout, errFormat)
	}
	// Byte by byte, so that no flipped one passes for another way to write the same.
	if again, err := h.Encode(); err != nil || !bytes.Equal(again, body) {
		return h, fmt.Errorf("%w: its digest does not match", chunk.ErrDamaged)
	}
	if isOpen && h.ID != "" {
		return h, nil
	}
	if h.ID == "" || h.Sealed != (h.PlainCuts == nil) || h.Sealed != (h.SealedCuts != nil) {
		return h, fmt.Errorf("%w: id %q, and no cuts or too many", chunk.ErrDamaged, h.ID)
	}
	return h, nil
}

// ReadHeader reads the header of the store in a place, from its copy if need be. A place without one is [ErrNoStore].
func ReadHeader(ctx context.Context, m medium.Medium) (Header, error) {
	h, err := ReadHeaderAs(ctx, m, HeaderName)
	if err == nil {
		return h, nil
	}
	if IsHeaderGone(err) {
		if again, copied := ReadHeaderAs(ctx, m, HeaderCopy); copied == nil {
			return again, nil
		}
	}
	if errors.Is(err, medium.ErrNotFound) {
		return h, fmt.Errorf("%s: %w (no %s)", m, ErrNoStore, HeaderName)
	}
	return h, err
}

// isHeaderGone reports whether a header is missing, or is not what was once written.
func IsHeaderGone(err error) bool {
	return errors.Is(err, medium.ErrNotFound) || errors.Is(err, chunk.ErrDamaged) || errors.Is(err, errFormat) || errors.Is(err, errUnreleased)
}

func ReadHeaderAs(ctx context.Context, m medium.Medium, name string) (Header, error) {
	body, err := m.Get(ctx, name, 0, -1)
	if err != nil {
		return Header{}, err
	}
	h, err := DecodeHeader(body)
	if err != nil {
		return h, fmt.Errorf("%s in %s: %w", name, m, err)
	}
	return h, nil
}

// isShort reports whether an object ended before what was asked of it.
func IsShort(err error) bool { return errors.Is(err, io.ErrUnexpectedEOF) }

// PooledFormat is the format of pooled stores.
const PooledFormat = 3
