// Package libvirt reaches QEMU guests through libvirt's public protocol.
package libvirt

import (
	"context"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"golang.org/x/sync/errgroup"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
	"keenlodge/internal/source/libvirt/inplace"
	"keenlodge/internal/source/libvirt/inside"
)

func init() {
	source.Register(site.Libvirt, func(ctx context.Context, spec site.Hypervisor) (source.Source, error) {
		h, err := Dial(ctx, spec)
		if err != nil {
			return nil, err // not h: a nil host in an interface is not nil
		}
		return h, nil
	}, Probe)
}

// Host is a libvirt daemon. It implements [source.Source]. Calls may be made at the same time.
type Host struct {
	inside.Agent
	source.Snapshotter
}

// Dial connects to a libvirt daemon, as [daemon.Dial] does.
func Dial(ctx context.Context, spec site.Hypervisor) (*Host, error) {
	c, err := daemon.Dial(ctx, spec)
	if err != nil {
		return nil, err
	}
	h := &Host{Agent: inside.Of(c)}
	h.Snapshotter = inplace.Host{Conn: c, Freezer: func(d golibvirt.Domain) source.Freezer { return freezer{h, d} }, Below: h.Below, Checkpoints: h.Checkpoints, DropCheckpoints: h.DropCheckpoints}
	return h, nil
}

// Machines implements [source.Source].
func (h *Host) Machines(ctx context.Context) ([]source.Machine, error) {
	var domains []golibvirt.Domain
	err := h.Within(ctx, daemon.AnswerTime, "list guests", func() (err error) {
		domains, _, err = h.L.ConnectListAllDomains(1, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	domains = slices.DeleteFunc(domains, func(d golibvirt.Domain) bool { return strings.HasPrefix(d.Name, source.TrialMark) }) // they are nobody's machines
	machines := make([]source.Machine, len(domains))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(callsAtOnce) // for the line may be long
	for i, d := range domains {
		group.Go(func() error {
			m, err := h.machine(ctx, d)
			if daemon.IsCode(err, golibvirt.ErrNoDomain) {
				return nil // it went while we looked
			}
			machines[i] = m
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	machines = slices.DeleteFunc(machines, func(m source.Machine) bool { return m.Name == "" })
	slices.SortFunc(machines, func(a, b source.Machine) int { return strings.Compare(a.Name, b.Name) })
	return machines, nil
}

func (h *Host) machine(ctx context.Context, d golibvirt.Domain) (source.Machine, error) {
	m := source.Machine{Name: d.Name, UUID: hex.EncodeToString(d.UUID[:]), State: "off", Disks: []source.Disk{}}
	state, err := h.State(ctx, d)
	if err != nil {
		return m, err
	}
	switch state {
	case golibvirt.DomainRunning, golibvirt.DomainBlocked:
		m.State = "running"
	case golibvirt.DomainPaused, golibvirt.DomainPmsuspended:
		m.State = "paused"
	}
	_, def, err := h.Definition(ctx, d, false)
	if err != nil {
		return m, err
	}
	m.Tags = tags(def)
	disks, _ := captured(def)
	for _, k := range disks {
		var size uint64
		err := h.Within(ctx, daemon.AnswerTime, "size of disk "+k.Target.Dev, func() (err error) {
			_, size, _, err = h.L.DomainGetBlockInfo(d, k.Target.Dev, 0)
			return err
		})
		if err != nil {
			size = 0 // a disk whose file is gone still belongs in the list; capturing it will say what is wrong
		}
		m.Disks = append(m.Disks, source.Disk{Target: k.Target.Dev, Format: format(k), Size: int64(size)})
	}
	return m, nil
}

// tags reads our tags in a guest's metadata:
//
//	<lodge:tags xmlns:lodge="urn:keenlodge:tags"><lodge:tag key="role">database</lodge:tag></lodge:tags>
func tags(def *libvirtxml.Domain) map[string]string {
	found := map[string]string{}
	if def.Metadata == nil {
		return found
	}
	var list struct {
		Tags []struct {
			Tags []struct {
				Key   string `xml:"key,attr"`
				Value string `xml:",chardata"`
			} `xml:"tag"`
		} `xml:"urn:keenlodge:tags tags"`
	}
	// Other people's metadata is none of our business, so what can't be read is no tag.
	if err := xml.Unmarshal([]byte("<metadata>"+def.Metadata.XML+"</metadata>"), &list); err != nil {
		return found
	}
	for _, l := range list.Tags {
		for _, t := range l.Tags {
			found[t.Key] = t.Value
		}
	}
	return found
}

// captured sorts a guest's disks into those that a capture covers and the reasons for those that it leaves out.
func captured(def *libvirtxml.Domain) (disks []libvirtxml.DomainDisk, left []string) {
	if def.Devices == nil {
		return nil, nil
	}
	for _, k := range def.Devices.Disks {
		switch {
		case k.Target == nil:
		case k.Device != "" && k.Device != "disk" && k.Device != "lun":
			// A drive's medium is not the machine's.
		case k.Source == nil:
			left = append(left, fmt.Sprintf("disk %s is left out: it has no source", k.Target.Dev))
		case k.ReadOnly != nil:
			left = append(left, fmt.Sprintf("disk %s is left out: it is read-only, the machine can't have changed it", k.Target.Dev))
		default:
			disks = append(disks, k)
		}
	}
	return disks, left
}

func format(k libvirtxml.DomainDisk) string {
	if k.Driver != nil && k.Driver.Type != "" {
		return k.Driver.Type
	}
	return "raw"
}

// Start implements [source.Source].
func (h *Host) Start(ctx context.Context, machine string) error {
	d, err := h.Domain(ctx, machine)
	if err != nil {
		return err
	}
	return h.Within(ctx, time.Minute, "start guest "+machine, func() error { return h.L.DomainCreate(d) })
}

// WriteTimes implements [source.WriteTimer] by the counters that QEMU keeps of each disk.
func (h *Host) WriteTimes(ctx context.Context, name string) (writes int64, took time.Duration, err error) {
	d, err := h.Domain(ctx, name)
	if err != nil {
		return 0, 0, err
	}
	var list []golibvirt.TypedParam
	err = h.Within(ctx, daemon.AnswerTime, "ask for the disks' counters of guest "+name, func() (err error) {
		// No path is all disks together. Asked for none, it tells how many there are.
		_, n, err := h.L.DomainBlockStatsFlags(d, "", 0, uint32(golibvirt.TypedParamStringOkay))
		if err == nil {
			list, _, err = h.L.DomainBlockStatsFlags(d, "", n, uint32(golibvirt.TypedParamStringOkay))
		}
		return err
	})
	if daemon.IsCode(err, golibvirt.ErrOperationInvalid) {
		return 0, 0, fmt.Errorf("guest %s: %w", name, source.ErrNotRunning)
	}
	for _, p := range list {
		n, _ := p.Value.I.(int64)
		switch p.Field {
		case "wr_operations", "flush_operations":
			writes += n
		case "wr_total_times", "flush_total_times":
			took += time.Duration(n)
		}
	}
	return writes, took, err
}
