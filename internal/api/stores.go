package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/sight"
	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/right"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
)

// registerStores has what is done to stores.
func (s *server) registerStores(a huma.API) {
	post := func(id, path, summary string, status int) huma.Operation {
		return huma.Operation{OperationID: id, Method: http.MethodPost, Path: path, Summary: summary, DefaultStatus: status}
	}
	get(s, a, "list-stores", "/api/v1/stores", "Stores, by name", func(ctx context.Context, _ *none) ([]wire.Store, error) {
		all, err := s.l.Stores.All(ctx)
		seen := within(ctx)
		return sight.Only(all, func(st wire.Store) bool { return seen.All || seen.SeenStores[st.Name] }), err
	})
	type named struct {
		Name string `path:"name"`
	}
	type spec struct {
		Name string `path:"name"`
		Body wire.StoreAddition
	}
	do(s, a, huma.Operation{OperationID: "add-store", Method: http.MethodPut, Path: "/api/v1/stores/{name}", Summary: "Make a store in an empty place, or take the one that is there, and add it to the site"},
		func(ctx context.Context, in *spec) (wire.AddedStore, error) {
			made, err := s.l.AddStore(ctx, in.Name, in.Body)
			return wire.AddedStore{Made: made}, err
		})
	type place struct {
		Name string `path:"name"`
		Body wire.ProbeRequest
	}
	do(s, a, post("probe-store", "/api/v1/stores/{name}/probes", "Try a place before it is used; without a spec, that of the site's store", 200),
		func(ctx context.Context, in *place) ([]probe.Step, error) {
			if in.Body.Spec != nil {
				if _, err := s.allow(ctx, right.ProbeElsewhere, nil); err != nil {
					return nil, err
				}
			}
			return s.l.Stores.Probe(ctx, in.Name, in.Body)
		})
	get(s, a, "show-store", "/api/v1/stores/{name}", "What a store holds, and what it saved", func(ctx context.Context, in *named) (store.Summary, error) {
		return s.l.Stores.Show(ctx, in.Name)
	})
	type access struct {
		Name string `path:"name"`
		Body wire.Credentials
	}
	do(s, a, huma.Operation{OperationID: "set-store-access", Method: http.MethodPut, Path: "/api/v1/stores/{name}/access", Summary: "Keep what signs in to a store's medium"},
		func(ctx context.Context, in *access) (done, error) {
			return done{true}, s.l.Stores.SetCredentials(ctx, in.Name, in.Body)
		})
	type opener struct {
		Name string `path:"name"`
		Body chunk.Opener
	}
	do(s, a, post("unlock-store", "/api/v1/stores/{name}/unlock", "Give this lodge a key to a sealed store", 200),
		func(ctx context.Context, in *opener) (done, error) {
			return done{true}, s.l.Stores.Unlock(ctx, in.Name, in.Body)
		})
	do(s, a, post("prove-key", "/api/v1/stores/{name}/keys/proofs", "Try whether a key as it is kept on paper opens a store, and note when", 200),
		func(ctx context.Context, in *opener) (wire.KeyProof, error) {
			p, err := s.l.Stores.ProveKey(ctx, who(ctx), in.Name, in.Body)
			return wire.KeyProof{Store: p.Store, Opened: p.Opened, At: p.At}, err
		})
	get(s, a, "list-store-keys", "/api/v1/stores/{name}/keys", "Keys of a sealed store", func(ctx context.Context, in *named) ([]store.Key, error) {
		return s.l.Stores.Keys(ctx, in.Name)
	})
	type key struct {
		Name string `path:"name"`
		Body store.NewKey
	}
	do(s, a, post("add-store-key", "/api/v1/stores/{name}/keys", "Give a sealed store another key", 201),
		func(ctx context.Context, in *key) (store.Key, error) { return s.l.Stores.AddKey(ctx, in.Name, in.Body) })
	type oneKey struct {
		Name string `path:"name"`
		ID   string `path:"id"`
	}
	do(s, a, huma.Operation{OperationID: "remove-store-key", Method: http.MethodDelete, Path: "/api/v1/stores/{name}/keys/{id}", Summary: "Take a key away from a sealed store"},
		func(ctx context.Context, in *oneKey) (done, error) {
			return done{true}, s.l.Stores.RemoveKey(ctx, in.Name, in.ID)
		})
	type release struct {
		Name string `path:"name"`
		Undo bool   `query:"undo" doc:"take a disk back that was let go and is still here"`
	}
	do(s, a, post("release-store", "/api/v1/stores/{name}/release", "Let the disk of a removable store go, so that it can be unplugged", 200),
		func(ctx context.Context, in *release) (wire.Released, error) {
			if in.Undo {
				return s.l.Disks.TakeBack(ctx, in.Name)
			}
			return s.l.Disks.Release(ctx, in.Name)
		})
	type move struct {
		Name string `path:"name"`
		Body wire.Move
	}
	do(s, a, post("move-store", "/api/v1/stores/{name}/moves", "Bring a store to another place", 202),
		func(ctx context.Context, in *move) (wire.Run, error) {
			return started(s.l.Moving.Start(ctx, who(ctx), in.Name, in.Body))
		})
	type check struct {
		Name string `path:"name"`
		Body wire.CheckBody
	}
	do(s, a, post("check-store", "/api/v1/stores/{name}/checks", "Start a check of a store, or a repair", 202),
		func(ctx context.Context, in *check) (wire.Run, error) {
			if in.Body.Repair {
				if _, err := s.allow(ctx, right.RepairStore, func(string) string { return in.Name }); err != nil {
					return wire.Run{}, err
				}
			}
			return started(s.l.Stores.Check(ctx, who(ctx), stores.CheckRequest{Store: in.Name, Read: in.Body.Read, Repair: in.Body.Repair, From: in.Body.From}))
		})
	get(s, a, "plan-sweep", "/api/v1/stores/{name}/sweep", "What a sweep would give back", func(ctx context.Context, in *named) (wire.SweepResult, error) {
		return s.l.Retention.PlanSweep(ctx, in.Name)
	})
	do(s, a, post("sweep-store", "/api/v1/stores/{name}/sweeps", "Start a sweep of a store", 202),
		func(ctx context.Context, in *named) (wire.Run, error) {
			return started(s.l.Retention.Sweep(ctx, who(ctx), in.Name))
		})
	do(s, a, post("adopt-store", "/api/v1/stores/{name}/adoptions", "Take over the images that a store holds", 200),
		func(ctx context.Context, in *struct {
			Name   string `path:"name"`
			Rotate bool   `query:"rotate" doc:"these images are this lodge's from now on: rotation may drop them"`
		}) (wire.Adopted, error) {
			return s.l.Stores.Adopt(ctx, in.Name, in.Rotate)
		})
}

// done is the answer to what has nothing else to tell.
type done struct {
	Done bool `json:"done"`
}
