package libvirt

import (
	"context"
	"fmt"
	"strings"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
)

// Around implements [source.Surveyor]. A daemon without networks, say, has none; a secret's definition has no value.
func (h *Host) Around(ctx context.Context) (out []source.Thing, err error) {
	take := func(kind source.ThingKind, what string, list func() error) error {
		err := h.within(ctx, answerTime, "list "+what, list)
		if isCode(err, golibvirt.ErrNoSupport) {
			return nil
		}
		return err
	}
	add := func(kind source.ThingKind, name, definition string, err error) error {
		if err != nil {
			return fmt.Errorf("%s %s: %w", kind, name, err)
		}
		out = append(out, source.Thing{Kind: kind, Name: name, Definition: definition})
		return nil
	}
	err = take(source.Network, "networks", func() error {
		found, _, err := h.l.ConnectListAllNetworks(1, 0)
		for _, n := range found {
			text, failed := h.l.NetworkGetXMLDesc(n, uint32(golibvirt.NetworkXMLInactive))
			if failed != nil { // one that is for this start only
				text, failed = h.l.NetworkGetXMLDesc(n, 0)
			}
			if failed := add(source.Network, n.Name, text, failed); failed != nil {
				return failed
			}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	err = take(source.Pool, "storage pools", func() error {
		found, _, err := h.l.ConnectListAllStoragePools(1, 0)
		for _, p := range found {
			if strings.HasPrefix(p.Name, statePools) {
				continue
			}
			text, failed := h.l.StoragePoolGetXMLDesc(p, golibvirt.StorageXMLInactive)
			if failed == nil {
				text, failed = lasting(text)
			}
			if failed := add(source.Pool, p.Name, text, failed); failed != nil {
				return failed
			}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return out, take(source.Secret, "secrets", func() error {
		found, _, err := h.l.ConnectListAllSecrets(1, 0)
		for _, s := range found {
			text, failed := h.l.SecretGetXMLDesc(s, 0)
			if failed := add(source.Secret, s.UsageID, text, failed); failed != nil {
				return failed
			}
		}
		return err
	})
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
