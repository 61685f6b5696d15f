package libvirt

import (
	"context"
	"errors"
	"fmt"
	"slices"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// PoolFolder implements [source.Puller].
func (h *Host) PoolFolder(ctx context.Context, pool string) (string, error) {
	if !h.IsHere() {
		return "", fmt.Errorf("%w: hypervisor %s is on another host than this lodge, and disks are lent on its own host only; restore the machine whole", fault.ErrConflict, h.URI())
	}
	p, err := h.pool(ctx, pool)
	if err != nil {
		return "", err
	}
	var text string
	err = h.Within(ctx, daemon.AnswerTime, "read the definition of pool "+p.Name, func() (err error) {
		text, err = h.L.StoragePoolGetXMLDesc(p, 0)
		return err
	})
	if err != nil {
		return "", err
	}
	var def libvirtxml.StoragePool
	if err := def.Unmarshal(text); err != nil {
		return "", fmt.Errorf("definition of pool %s: %w", p.Name, err)
	}
	if def.Target == nil || def.Target.Path == "" || !slices.Contains([]string{"dir", "fs", "netfs"}, def.Type) {
		return "", fmt.Errorf("%w: pool %s is no folder (%s), and a disk that lies over a lent one is a file; name another pool", fault.ErrConflict, p.Name, def.Type)
	}
	return def.Target.Path, nil
}

// Pull implements [source.Puller].
func (h *Host) Pull(ctx context.Context, name, target string) error {
	d, err := h.Domain(ctx, name)
	if err != nil {
		return err
	}
	return h.Within(ctx, daemon.AnswerTime, fmt.Sprintf("pull disk %s of guest %s", target, name), func() error {
		found, _, _, _, _, err := h.L.DomainGetBlockJobInfo(d, target, 0)
		if err != nil || found > 0 {
			return err
		}
		return h.L.DomainBlockPull(d, target, 0, 0)
	})
}

// Pulled implements [source.Puller].
func (h *Host) Pulled(ctx context.Context, name string, targets []string) (out []source.Pulling, err error) {
	d, err := h.Domain(ctx, name)
	if err != nil {
		return nil, err
	}
	state, err := h.State(ctx, d)
	if err != nil {
		return nil, err
	}
	if state == golibvirt.DomainShutoff || state == golibvirt.DomainCrashed {
		return nil, fmt.Errorf("guest %s: %w", name, source.ErrNotRunning)
	}
	err = h.Within(ctx, daemon.AnswerTime, "ask how far guest "+name+" has pulled", func() error {
		for _, t := range targets {
			found, _, _, at, end, err := h.L.DomainGetBlockJobInfo(d, t, 0)
			if err != nil {
				return err
			}
			out = append(out, source.Pulling{Target: t, Going: found > 0, Done: int64(at), Total: int64(end)})
		}
		return nil
	})
	return out, err
}

// GoOn implements [source.Puller].
func (h *Host) GoOn(ctx context.Context, name string) (stopped bool, err error) {
	d, err := h.Domain(ctx, name)
	if err != nil {
		return false, err
	}
	err = h.Within(ctx, daemon.AnswerTime, "have guest "+name+" go on", func() error {
		state, reason, err := h.L.DomainGetState(d, 0)
		if err != nil || golibvirt.DomainState(state) != golibvirt.DomainPaused || golibvirt.DomainPausedReason(reason) != golibvirt.DomainPausedIoerror {
			return err
		}
		stopped = true
		return h.L.DomainResume(d)
	})
	return stopped, err
}

// Discard implements [source.Puller].
func (h *Host) Discard(ctx context.Context, name string, places []string) error {
	d, err := h.Domain(ctx, name)
	if errors.Is(err, source.ErrNoMachine) {
		return nil
	}
	if err != nil {
		return err
	}
	state, err := h.State(ctx, d)
	if err != nil {
		return err
	}
	if state != golibvirt.DomainShutoff && state != golibvirt.DomainCrashed {
		return fmt.Errorf("guest %s: %w: it runs", name, source.ErrBusy)
	}
	_, def, err := h.Definition(ctx, d, true)
	if err != nil {
		return err
	}
	for _, k := range def.Devices.Disks {
		if k.Source != nil && (k.Source.File == nil || !slices.Contains(places, k.Source.File.File)) {
			return fmt.Errorf("%w: guest %s has other disks by now than it was made with, and stays", fault.ErrConflict, name)
		}
	}
	return h.Within(ctx, daemon.AnswerTime, "remove guest "+name, func() error {
		return h.L.DomainUndefineFlags(d, golibvirt.DomainUndefineNvram|golibvirt.DomainUndefineCheckpointsMetadata|golibvirt.DomainUndefineSnapshotsMetadata)
	})
}
