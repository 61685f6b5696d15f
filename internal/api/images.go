package api

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/browse"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/right"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/restore"
	"keenlodge/internal/wire"
)

// byID asks for something by its name.
type byID struct {
	ID string `path:"id"`
}

// registerImages has what is about images.
func (s *server) registerImages(a huma.API) {
	type filter struct {
		paging.Query
		ID       string `query:"id" doc:"how the images' IDs begin"`
		Machine  string `query:"machine" doc:"label, name or identity"`
		Policy   string `query:"policy"`
		Store    string `query:"store"`
		Gone     bool   `query:"gone" doc:"those that rotation dropped, too"`
		OnlyGone bool   `query:"only_gone" doc:"those that rotation dropped, and no others"`
	}
	paging.Register(s.log, a, "list-images", "/api/v1/images", "Images, newest first", func(ctx context.Context, in *filter) ([]wire.Image, string, error) {
		f := records.ImageFilter{ID: in.ID, Policy: in.Policy, Store: in.Store, Gone: in.Gone, OnlyGone: in.OnlyGone, Within: reach(ctx), Page: in.Page()}
		if in.Machine != "" {
			m, err := s.seenMachine(ctx, in.Machine)
			if err != nil {
				return nil, "", err
			}
			f.MachineID = m.ID
		}
		found, next, err := s.l.Stores.Images(ctx, f)
		if err != nil {
			return nil, "", err
		}
		out, err := s.l.Copies.Elsewhere(ctx, shape.Each(found, shape.Image))
		return out, in.Link(next), err
	})
	get(s, a, "get-image", "/api/v1/images/{id}", "An image with its proofs", func(ctx context.Context, in *byID) (wire.ProvenImage, error) {
		m, proofs, err := s.l.Proofs.Of(ctx, in.ID)
		if err != nil {
			return wire.ProvenImage{}, err
		}
		status, good, changed, err := s.l.Proofs.Status(ctx, m, proofs)
		if err != nil {
			return wire.ProvenImage{}, err
		}
		odd, err := s.l.Proofs.Unusual(ctx, in.ID)
		if err != nil {
			return wire.ProvenImage{}, err
		}
		told, err := s.l.Copies.Elsewhere(ctx, []wire.Image{shape.Image(m)})
		return wire.ProvenImage{Image: told[0], Status: status, LastGood: good, Changed: changed, Unusual: shape.Each(odd, shape.Oddity), Looked: shape.Looked(m), Proofs: shape.Each(proofs, shape.Proof)}, err
	})
	get(s, a, "get-image-hardware", "/api/v1/images/{id}/hardware", "What the machine of an image needs to run, as far as its definition tells", func(ctx context.Context, in *byID) (machine.Hardware, error) {
		return s.l.Stores.Hardware(ctx, in.ID)
	})
	type prove struct {
		ID   string `path:"id"`
		Body struct {
			Level image.Level `json:"level"`
		}
	}
	do(s, a, huma.Operation{OperationID: "prove-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/proofs", DefaultStatus: http.StatusAccepted, Summary: "Start a proof of an image"},
		func(ctx context.Context, in *prove) (wire.Run, error) {
			return started(s.l.Proofs.Start(ctx, who(ctx), proof.Request{Image: in.ID, Level: in.Body.Level}))
		})
	type exhibit struct {
		ID   string `path:"id"`
		Name string `path:"name"`
	}
	huma.Register(a, huma.Operation{OperationID: "read-exhibit", Method: http.MethodGet, Path: "/api/v1/images/{id}/exhibits/{name}", Summary: "A picture, or another file, that belongs to a proof of an image"},
		func(ctx context.Context, in *exhibit) (*huma.StreamResponse, error) {
			kind := ""
			body, err := look(s, ctx, "", func(browse.Place) (_ io.ReadCloser, err error) {
				var body []byte
				body, kind, err = s.l.Proofs.Exhibit(ctx, in.ID, in.Name)
				return io.NopCloser(bytes.NewReader(body)), err
			})
			if err != nil {
				return nil, err
			}
			return s.stream(in.ID, body, kind, nil), nil
		})
	type look struct {
		ID   string `path:"id"`
		Body struct {
			Note string `json:"note,omitempty" doc:"what was seen"`
		}
	}
	do(s, a, huma.Operation{OperationID: "look-at-image", Method: http.MethodPut, Path: "/api/v1/images/{id}/looked", Summary: "Say that you have looked at what is unusual in an image: rotation goes on"},
		func(ctx context.Context, in *look) (wire.Image, error) {
			m, err := s.l.Proofs.Look(ctx, in.ID, who(ctx), in.Body.Note)
			return shape.Image(m), err
		})
	type pin struct {
		ID   string `path:"id"`
		Body wire.PinBody
	}
	do(s, a, huma.Operation{OperationID: "pin-image", Method: http.MethodPut, Path: "/api/v1/images/{id}/pin", Summary: "Pin an image, so that rotation never touches it"},
		func(ctx context.Context, in *pin) (wire.Image, error) {
			m, err := s.l.Stores.Pin(ctx, in.ID, true, in.Body.Note)
			return shape.Image(m), err
		})
	do(s, a, huma.Operation{OperationID: "unpin-image", Method: http.MethodDelete, Path: "/api/v1/images/{id}/pin", Summary: "Let a pinned image go"},
		func(ctx context.Context, in *byID) (wire.Image, error) {
			m, err := s.l.Stores.Pin(ctx, in.ID, false, "")
			return shape.Image(m), err
		})
	do(s, a, huma.Operation{OperationID: "undrop-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/undrop", Summary: "Bring a dropped image back, and all that it leans on"},
		func(ctx context.Context, in *byID) ([]string, error) { return s.l.Retention.Undrop(ctx, in.ID) })
	do(s, a, huma.Operation{OperationID: "fold-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/folds", DefaultStatus: http.StatusAccepted, Summary: "Join an image with the full one that it leans on"},
		func(ctx context.Context, in *byID) (wire.Run, error) {
			return started(s.l.Retention.Fold(ctx, who(ctx), in.ID))
		})
	type makeOf struct {
		ID   string `path:"id"`
		Body wire.RestoreBody
	}
	wanted := func(ctx context.Context, in *makeOf) (restore.Request, error) {
		b := in.Body
		if b.Replace || b.Into {
			if _, err := s.allow(ctx, right.ReplaceMachine, func(string) string { return in.ID }); err != nil {
				return restore.Request{}, err
			}
		}
		if seen := within(ctx); !seen.All && b.Hypervisor != "" && !seen.SeenSources[b.Hypervisor] {
			return restore.Request{}, fmt.Errorf("%w: no hypervisor is called %q among what this token is for", fault.ErrNotFound, b.Hypervisor)
		}
		return restore.Request{Image: in.ID, As: b.As, Hypervisor: b.Hypervisor, Pool: b.Pool, Start: b.Start, Replace: b.Replace, Take: b.Take, AtOnce: b.AtOnce, Boot: b.Boot, Connected: b.Connected, Clones: b.Clones, Sizes: b.Sizes, Identity: b.Identity, Only: b.Only, Into: b.Into}, nil
	}
	do(s, a, huma.Operation{OperationID: "preview-restore", Method: http.MethodPost, Path: "/api/v1/images/{id}/restores/preview", Summary: "How long a restore of an image as a new guest would take, and what limits it; nothing is made"},
		func(ctx context.Context, in *makeOf) (wire.RestorePreview, error) {
			q, err := wanted(ctx, in)
			if err != nil {
				return wire.RestorePreview{}, err
			}
			p, err := s.l.Restores.Preview(ctx, q)
			return wire.RestorePreview{Takes: shape.Takes(p.Estimate), Left: shape.Each(p.Left, shape.Same[string]), Disks: shape.Each(p.Disks, shape.Refit)}, err
		})
	do(s, a, huma.Operation{OperationID: "restore-image", Method: http.MethodPost, Path: "/api/v1/images/{id}/restores", DefaultStatus: http.StatusAccepted, Summary: "Start a restore of an image as a new guest"},
		func(ctx context.Context, in *makeOf) (wire.Run, error) {
			q, err := wanted(ctx, in)
			if err != nil {
				return wire.Run{}, err
			}
			return started(s.l.Restores.Start(ctx, who(ctx), q))
		})
}
