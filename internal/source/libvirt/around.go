package libvirt

import (
	"context"
	"errors"
	"fmt"
	"strings"

	golibvirt "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// Around implements [source.Surveyor]. A daemon without networks, say, has none; a secret's definition has no value.
func (h *Host) Around(ctx context.Context) (out []source.Thing, err error) {
	err = errors.Join(
		list(ctx, h, &out, source.Network, func() ([]golibvirt.Network, uint32, error) { return h.L.ConnectListAllNetworks(1, 0) },
			func(n golibvirt.Network) (string, string, error) {
				text, err := h.L.NetworkGetXMLDesc(n, uint32(golibvirt.NetworkXMLInactive))
				if err != nil { // one that is for this start only
					text, err = h.L.NetworkGetXMLDesc(n, 0)
				}
				return n.Name, text, err
			}),
		list(ctx, h, &out, source.Pool, func() ([]golibvirt.StoragePool, uint32, error) { return h.L.ConnectListAllStoragePools(1, 0) },
			func(p golibvirt.StoragePool) (string, string, error) {
				if strings.HasPrefix(p.Name, daemon.StatePools) {
					return "", "", nil
				}
				text, err := h.L.StoragePoolGetXMLDesc(p, golibvirt.StorageXMLInactive)
				if err == nil {
					text, err = lasting(text)
				}
				return p.Name, text, err
			}),
		list(ctx, h, &out, source.Secret, func() ([]golibvirt.Secret, uint32, error) { return h.L.ConnectListAllSecrets(1, 0) },
			func(s golibvirt.Secret) (string, string, error) {
				text, err := h.L.SecretGetXMLDesc(s, 0)
				return strings.TrimSpace(s.UsageID + " " + uuid.UUID(s.UUID).String()), text, err // a usage may be empty, or another's too
			}))
	if err != nil {
		return nil, err
	}
	return out, nil
}

// list adds all things of a kind; one whose name is empty is left out.
func list[T any](ctx context.Context, h *Host, out *[]source.Thing, kind source.ThingKind, all func() ([]T, uint32, error), describe func(T) (name, definition string, err error)) error {
	err := h.Within(ctx, daemon.AnswerTime, fmt.Sprintf("list every %s", kind), func() error {
		found, _, err := all()
		if err != nil {
			return err
		}
		for _, one := range found {
			name, definition, err := describe(one)
			if err != nil {
				return fmt.Errorf("%s %s: %w", kind, name, err)
			}
			if name != "" {
				*out = append(*out, source.Thing{Kind: kind, Name: name, Definition: definition})
			}
		}
		return nil
	})
	if daemon.IsCode(err, golibvirt.ErrNoSupport) {
		return nil
	}
	return err
}

// lasting is a pool's definition without how full it is just now.
func lasting(text string) (string, error) {
	var def libvirtxml.StoragePool
	if err := def.Unmarshal(text); err != nil {
		return "", err
	}
	def.Capacity, def.Allocation, def.Available = nil, nil, nil
	return def.Marshal()
}
