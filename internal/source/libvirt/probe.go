package libvirt

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	golibvirt "github.com/digitalocean/go-libvirt"
	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
	"keenlodge/internal/reach"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// oldest is the first version that fully takes incremental backups (libvirt, NEWS of 7.6.0), as libvirt counts versions.
const oldest = 7_006_000

// callsAtOnce is how many calls are under way on a connection: a daemon takes five of one client by default (max_client_requests).
const callsAtOnce = 5

// Probe tries a hypervisor: that it is reached, shows the key that is known, takes the account in, lets it speak to libvirt, lets it do what a
// backup and a restore need, and that the guests' agents answer.
func Probe(ctx context.Context, spec site.Hypervisor) []probe.Step {
	var steps probe.Steps
	_, w, err := daemon.Parse(spec)
	if err != nil {
		steps.Tell("address", probe.Failed, "%v", err)
		return steps
	}
	h, err := Dial(ctx, spec)
	before := []string{} // what went well before libvirt was spoken to, of a host elsewhere
	switch w.(type) {
	case *daemon.SSH:
		before = []string{"reach", "host key", "sign in"}
	case *daemon.TLS:
		before = []string{"reach", "certificate", "sign in"}
	}
	at := len(before)
	if at > 0 {
		switch {
		case err == nil || errors.Is(err, reach.ErrNoSocket):
		case errors.Is(err, reach.ErrHostKey):
			at = 1
		case errors.Is(err, reach.ErrRefused):
			at = 2
		case errors.Is(err, reach.ErrUnreachable):
			at = 0
		}
	}
	for n, name := range append(before, "libvirt") {
		if err != nil && n == at {
			steps.Tell(name, probe.Failed, "%v", err)
			return steps
		}
		if n < len(before) {
			steps.Tell(name, probe.OK, "%s", w.Said(name))
		}
	}
	defer h.Close()
	facts, number, err := h.describe(ctx)
	switch {
	case err != nil:
		steps.Tell("libvirt", probe.Failed, "%v", err)
		return steps
	case number < oldest:
		steps.Tell("libvirt", probe.Failed, "%s on %s can't back up what changed on guests that run: that begins with libvirt %s; bring it up to date there", facts.Version, facts.Host, version(oldest))
		return steps
	}
	steps.Tell("libvirt", probe.OK, "%s on host %s", facts.Version, facts.Host)
	found, err := h.Machines(ctx)
	if err == nil {
		err = h.mayWrite(ctx)
	}
	if err != nil {
		steps.Tell("rights", probe.Failed, "%v; the account needs all of libvirt's rights, as the members of its group libvirt have", err)
		return steps
	}
	steps.Tell("rights", probe.OK, "it shows %d guests, and lets them be managed", len(found))
	if p, err := h.pool(ctx, spec.Pool); err != nil {
		steps.Tell("storage", probe.Warning, "%v; without a pool nothing can be restored there", err)
	} else if free, total, err := h.roomOf(ctx, p); err != nil {
		steps.Tell("storage", probe.Warning, "%v", err)
	} else {
		steps.Tell("storage", probe.OK, "pool %s has %s free of %s", p.Name, humanize.IBytes(uint64(free)), humanize.IBytes(uint64(total)))
	}
	running, silent := h.agents(ctx, found)
	switch {
	case running == 0:
		steps.Tell("guest agents", probe.OK, "no guest runs just now")
	case len(silent) > 0:
		steps.Tell("guest agents", probe.Warning, "%d of %d running guests have none that answers, and can't be frozen for a backup: %s; install qemu-guest-agent in them, with a channel org.qemu.guest_agent.0",
			len(silent), running, brief(silent))
	default:
		steps.Tell("guest agents", probe.OK, "%d of %d running guests answer", running, running)
	}
	return steps
}

// Describe implements [source.Describer].
func (h *Host) Describe(ctx context.Context) (source.Facts, error) {
	f, _, err := h.describe(ctx)
	if err != nil {
		return f, err
	}
	p, err := h.pool(ctx, "")
	if err == nil {
		f.Pool = p.Name
		f.Free, f.Total, err = h.roomOf(ctx, p)
	}
	return f, err
}

// describe tells what is spoken to, and libvirt's version as it counts it.
func (h *Host) describe(ctx context.Context) (f source.Facts, number uint64, err error) {
	err = h.Within(ctx, daemon.AnswerTime, "ask libvirt for its version", func() error {
		var emulator uint64
		if number, err = h.L.ConnectGetLibVersion(); err != nil {
			return err
		}
		if emulator, err = h.L.ConnectGetVersion(); err != nil {
			return err
		}
		f.Version = fmt.Sprintf("libvirt %s, QEMU %s", version(number), version(emulator))
		f.Host, err = h.L.ConnectGetHostname()
		return err
	})
	return f, number, err
}

// version writes a version as libvirt counts it: 1,000,000 × major + 1,000 × minor + release.
func version(n uint64) string { return fmt.Sprintf("%d.%d.%d", n/1_000_000, n/1000%1000, n%1000) }

// mayWrite finds out whether the connection may change anything: libvirt shows some definitions' secrets to such ones alone. What it shows is
// not kept.
func (h *Host) mayWrite(ctx context.Context) error {
	return h.Within(ctx, daemon.AnswerTime, "ask for the rights of the account", func() error {
		all, _, err := h.L.ConnectListAllDomains(1, 0)
		if err != nil || len(all) == 0 {
			return err
		}
		_, err = h.L.DomainGetXMLDesc(all[0], golibvirt.DomainXMLSecure)
		if daemon.IsCode(err, golibvirt.ErrNoDomain) {
			return nil
		}
		return err
	})
}

// roomOf is the room of a storage pool, in bytes.
func (h *Host) roomOf(ctx context.Context, p golibvirt.StoragePool) (free, total int64, err error) {
	err = h.Within(ctx, daemon.AnswerTime, "ask for the room of storage pool "+p.Name, func() error {
		_, capacity, _, available, err := h.L.StoragePoolGetInfo(p)
		free, total = int64(available), int64(capacity)
		return err
	})
	return free, total, err
}

// agents asks the running guests for a sign of life, and tells whose agents gave none.
func (h *Host) agents(ctx context.Context, found []source.Machine) (running int, silent []string) {
	var group errgroup.Group
	group.SetLimit(callsAtOnce)
	answered := make([]bool, len(found))
	for i, m := range found {
		if m.State != machine.Running {
			continue
		}
		running++
		group.Go(func() error {
			answered[i] = h.Ping(ctx, m.Name) == nil
			return nil
		})
	}
	group.Wait()
	for i, m := range found {
		if m.State == machine.Running && !answered[i] {
			silent = append(silent, m.Name)
		}
	}
	return running, silent
}

// brief lists some names.
func brief(names []string) string {
	const most = 8
	slices.Sort(names)
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}
