package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"slices"
	"strings"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// PoolFolder implements [source.Puller].
func (h *Host) PoolFolder(ctx context.Context, pool string) (folder string, far bool, err error) {
	if !h.Lends() {
		return "", false, fmt.Errorf("%w: hypervisor %s is reached by TLS, and disks are lent on this lodge's own host and by SSH only; restore the machine whole, or reach it by qemu+ssh", fault.ErrConflict, h.URI())
	}
	p, err := h.pool(ctx, pool)
	if err != nil {
		return "", false, err
	}
	var text string
	err = h.Within(ctx, daemon.AnswerTime, "read the definition of pool "+p.Name, func() (err error) {
		text, err = h.L.StoragePoolGetXMLDesc(p, 0)
		return err
	})
	if err != nil {
		return "", false, err
	}
	var def libvirtxml.StoragePool
	if err := def.Unmarshal(text); err != nil {
		return "", false, fmt.Errorf("definition of pool %s: %w", p.Name, err)
	}
	if def.Target == nil || def.Target.Path == "" || !slices.Contains([]string{"dir", "fs", "netfs"}, def.Type) {
		return "", false, fmt.Errorf("%w: pool %s is no folder (%s), and a disk that lies over a lent one is a file; name another pool", fault.ErrConflict, p.Name, def.Type)
	}
	return def.Target.Path, !h.IsHere(), nil
}

// ListenAt implements [source.Puller].
func (h *Host) ListenAt(ctx context.Context, socket, beside string) (net.Listener, error) {
	account, err := h.runsAs(ctx)
	if err != nil {
		return nil, err
	}
	return h.ListenThere(ctx, socket, beside, account)
}

// runsAs is the account as which libvirt runs guests, as "uid:gid"; "" where that is its own.
func (h *Host) runsAs(ctx context.Context) (string, error) {
	var text string
	err := h.Within(ctx, daemon.AnswerTime, "ask what the host can do", func() (err error) {
		text, err = h.L.ConnectGetCapabilities()
		return err
	})
	if err != nil {
		return "", err
	}
	var caps libvirtxml.Caps
	if err := caps.Unmarshal(text); err != nil {
		return "", fmt.Errorf("what the host can do: %w", err)
	}
	for _, m := range caps.Host.SecModel {
		for _, l := range m.Labels {
			if m.Name == "dac" && l.Type == "kvm" {
				return strings.ReplaceAll(l.Value, "+", ""), nil
			}
		}
	}
	return "", nil
}

// headBytes is as much of a file as tells over what it lies: our files have that in their first cluster.
const headBytes = 64 << 10

// Below implements [source.Puller].
func (h *Host) Below(ctx context.Context, place string) (string, error) {
	head, err := h.ReadHead(ctx, place, headBytes)
	if daemon.IsCode(err, golibvirt.ErrNoStorageVol) {
		return "", fmt.Errorf("%s: %w", place, fs.ErrNotExist)
	}
	if err != nil {
		return "", err
	}
	return qcow2.Backing(bytes.NewReader(head))
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
