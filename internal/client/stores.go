package client

import (
	"context"
	"net/http"
	"net/url"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/store"
	"keenlodge/internal/wire"
)

func storePath(name, rest string) string { return "/api/v1/stores/" + url.PathEscape(name) + rest }

// AddStore makes a store in an empty place, or takes the one that is there, and adds it to the site.
func (c *Client) AddStore(ctx context.Context, name string, n wire.StoreAddition) (out wire.AddedStore, err error) {
	return out, c.call(ctx, http.MethodPut, storePath(name, ""), n, &out)
}

// ProbeStore tries a place; without a spec that of the site's store.
func (c *Client) ProbeStore(ctx context.Context, name string, n wire.ProbeRequest) (out []probe.Step, err error) {
	return out, c.call(ctx, http.MethodPost, storePath(name, "/probes"), n, &out)
}

// ShowStore describes a store.
func (c *Client) ShowStore(ctx context.Context, name string) (out store.Summary, err error) {
	return out, c.call(ctx, http.MethodGet, storePath(name, ""), nil, &out)
}

// SetAccess keeps what signs in to a store's medium.
func (c *Client) SetAccess(ctx context.Context, name string, a wire.Credentials) error {
	return c.call(ctx, http.MethodPut, storePath(name, "/access"), a, nil)
}

// UnlockStore gives the lodge a key to a sealed store.
func (c *Client) UnlockStore(ctx context.Context, name string, with chunk.Opener) error {
	return c.call(ctx, http.MethodPost, storePath(name, "/unlock"), with, nil)
}

// ProveKey tries whether a key opens a store, and has it noted.
func (c *Client) ProveKey(ctx context.Context, store string, with chunk.Opener) (out wire.KeyProof, err error) {
	return out, c.call(ctx, http.MethodPost, storePath(store, "/keys/proofs"), with, &out)
}

// StoreKeys lists a sealed store's keys.
func (c *Client) StoreKeys(ctx context.Context, name string) (out []store.Key, err error) {
	return out, c.call(ctx, http.MethodGet, storePath(name, "/keys"), nil, &out)
}

// AddStoreKey gives a sealed store another key.
func (c *Client) AddStoreKey(ctx context.Context, name string, k store.NewKey) (out store.Key, err error) {
	return out, c.call(ctx, http.MethodPost, storePath(name, "/keys"), k, &out)
}

// RemoveStoreKey takes a key away.
func (c *Client) RemoveStoreKey(ctx context.Context, name, id string) error {
	return c.call(ctx, http.MethodDelete, storePath(name, "/keys/"+url.PathEscape(id)), nil, nil)
}

// CheckStore starts a check or a repair.
func (c *Client) CheckStore(ctx context.Context, name string, b wire.CheckBody) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, storePath(name, "/checks"), b, &out)
}

// PlanSweep tells what a sweep would give back.
func (c *Client) PlanSweep(ctx context.Context, name string) (out wire.SweepResult, err error) {
	return out, c.call(ctx, http.MethodGet, storePath(name, "/sweep"), nil, &out)
}

// SweepStore starts a sweep.
func (c *Client) SweepStore(ctx context.Context, name string) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, storePath(name, "/sweeps"), nil, &out)
}

// AdoptStore takes over the images that a store holds; rotate says that they are this lodge's from now on.
func (c *Client) AdoptStore(ctx context.Context, name string, rotate bool) (out wire.Adopted, err error) {
	path := storePath(name, "/adoptions")
	if rotate {
		path += "?rotate=true"
	}
	return out, c.call(ctx, http.MethodPost, path, nil, &out)
}

// ReleaseStore lets the disk of a removable store go, or takes it back.
func (c *Client) ReleaseStore(ctx context.Context, name string, undo bool) (out wire.Released, err error) {
	rest := "/release"
	if undo {
		rest += "?undo=true"
	}
	return out, c.call(ctx, http.MethodPost, storePath(name, rest), nil, &out)
}

// MoveStore starts a move of a store to another place.
func (c *Client) MoveStore(ctx context.Context, name string, m wire.Move) (out wire.Run, err error) {
	return out, c.call(ctx, http.MethodPost, storePath(name, "/moves"), m, &out)
}
