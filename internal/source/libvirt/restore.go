package libvirt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/admit"
	"keenlodge/internal/source/libvirt/daemon"
	"keenlodge/internal/source/libvirt/trial"
)

// CreateDisk implements [source.Source]. The content travels through libvirt's storage upload.
func (h *Host) CreateDisk(ctx context.Context, pool, name string, length int64, content io.Reader) (string, error) {
	p, err := h.pool(ctx, pool)
	if err != nil {
		return "", err
	}
	var v golibvirt.StorageVol
	err = h.Within(ctx, daemon.AnswerTime, fmt.Sprintf("create volume %s in pool %s", name, p.Name), func() (err error) {
		v, err = h.CreateVolume(p, name, length)
		return err
	})
	if daemon.IsCode(err, golibvirt.ErrStorageVolExist) {
		return "", fmt.Errorf("volume %s in pool %s: %w", name, p.Name, source.ErrExists)
	}
	if err != nil {
		return "", err
	}
	var place string
	// A day is no limit for the copy, only for a connection that hangs.
	err = h.Within(ctx, 24*time.Hour, fmt.Sprintf("fill volume %s in pool %s", name, p.Name), func() (err error) {
		if err = h.L.StorageVolUpload(v, content, 0, uint64(length), 0); err != nil {
			return err
		}
		if err = h.L.StoragePoolRefresh(p, 0); err != nil {
			return err
		}
		place, err = h.L.StorageVolGetPath(v)
		return err
	})
	if err != nil {
		_, undone := h.RemoveDisk(context.WithoutCancel(ctx), pool, name)
		return "", errors.Join(err, undone)
	}
	return place, nil
}

// pool finds a storage pool; an empty name means the first active one.
func (h *Host) pool(ctx context.Context, name string) (golibvirt.StoragePool, error) {
	var p golibvirt.StoragePool
	err := h.Within(ctx, daemon.AnswerTime, "find storage pool "+name, func() error {
		if name != "" {
			var err error
			p, err = h.L.StoragePoolLookupByName(name)
			return err
		}
		pools, _, err := h.L.ConnectListAllStoragePools(1, golibvirt.ConnectListStoragePoolsActive)
		pools = slices.DeleteFunc(pools, func(p golibvirt.StoragePool) bool { return strings.HasPrefix(p.Name, daemon.StatePools) })
		if err == nil && len(pools) == 0 {
			err = errors.New("the hypervisor has no active storage pool; make one, or start one")
		}
		if err == nil {
			p = pools[0]
		}
		return err
	})
	return p, err
}

// RemoveDisk implements [source.Restorer].
func (h *Host) RemoveDisk(ctx context.Context, pool, name string) (removed bool, err error) {
	p, err := h.pool(ctx, pool)
	if err != nil {
		return false, err
	}
	// A minute, for the pool is read anew: a daemon that was started again may not know the volume yet.
	err = h.Within(ctx, time.Minute, fmt.Sprintf("remove volume %s of pool %s", name, p.Name), func() error {
		if err := h.L.StoragePoolRefresh(p, 0); err != nil {
			return err
		}
		v, err := h.L.StorageVolLookupByName(p, name)
		if daemon.IsCode(err, golibvirt.ErrNoStorageVol) {
			return nil
		}
		if err != nil {
			return err
		}
		place, err := h.L.StorageVolGetPath(v)
		if err != nil {
			return err
		}
		if used, err := h.uses(place); err != nil || used {
			return err
		}
		removed = true
		return h.L.StorageVolDelete(v, 0)
	})
	return removed && err == nil, err
}

// uses reports whether a guest is defined with a file.
func (h *Host) uses(file string) (bool, error) {
	all, _, err := h.L.ConnectListAllDomains(1, 0)
	if err != nil {
		return false, err
	}
	for _, d := range all {
		text, err := h.L.DomainGetXMLDesc(d, golibvirt.DomainXMLInactive)
		if daemon.IsCode(err, golibvirt.ErrNoDomain) {
			continue
		}
		if err != nil {
			return false, err
		}
		if strings.Contains(text, xmlText(file)) {
			return true, nil
		}
	}
	return false, nil
}

// xmlText is a text as libvirt writes it in an attribute or an element.
func xmlText(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "'", "&apos;", `"`, "&quot;").Replace(s)
}

// Define implements [source.Source].
func (h *Host) Define(ctx context.Context, g source.NewGuest) (left []string, err error) {
	on, err := trial.AbilitiesOf(ctx, h.Conn)
	if err != nil {
		return nil, err
	}
	say := g.Say
	if say == nil {
		say = func(string, ...any) {}
	}
	def, left, err := admit.NewGuest(g, func(def *libvirtxml.Domain) error { return trial.Fit(def, on, say) })
	if err != nil {
		return nil, err
	}
	if err := h.define(ctx, g, def); err != nil || g.TPM == nil {
		return left, err
	}
	return left, h.restoreTPM(ctx, g)
}

// Admit implements [source.Restorer].
func (h *Host) Admit(g source.NewGuest) (left []string, err error) {
	_, left, err = admit.NewGuest(g, nil)
	return left, err
}

func (h *Host) define(ctx context.Context, g source.NewGuest, def *libvirtxml.Domain) error {
	old, err := h.Domain(ctx, g.Name)
	switch {
	case err == nil && !g.Replace:
		return fmt.Errorf("guest %s: %w on this hypervisor; choose another, or allow it to be replaced", g.Name, source.ErrExists)
	case err == nil:
		if err := h.makeWay(ctx, old, def); err != nil {
			return err
		}
	case !errors.Is(err, source.ErrNoMachine):
		return err
	}
	text, err := def.Marshal()
	if err != nil {
		return err
	}
	return h.Within(ctx, daemon.AnswerTime, "define guest "+g.Name, func() error {
		_, err := h.L.DomainDefineXMLFlags(text, golibvirt.DomainDefineValidate)
		return err
	})
}

// makeWay readies a guest that is off for being defined anew; it keeps its identity, and its old disks stay where they are.
func (h *Host) makeWay(ctx context.Context, old golibvirt.Domain, def *libvirtxml.Domain) error {
	state, err := h.State(ctx, old)
	if err != nil {
		return err
	}
	if state != golibvirt.DomainShutoff && state != golibvirt.DomainCrashed {
		return fmt.Errorf("guest %s is not off; shut it down before it is replaced", old.Name)
	}
	points, err := h.checkpoints(ctx, old)
	if err != nil {
		return err
	}
	for _, p := range points { // they speak of the old disks, and a guest that is off can lose no more than the knowledge of them
		err := h.removeCheckpoint(ctx, p, golibvirt.DomainCheckpointDeleteMetadataOnly)
		if err != nil {
			return err
		}
	}
	_, was, err := h.Definition(ctx, old, true)
	if err != nil {
		return err
	}
	def.UUID = was.UUID
	return nil
}
