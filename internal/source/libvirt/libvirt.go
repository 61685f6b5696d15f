// Package libvirt reaches QEMU guests through libvirt's public protocol.
package libvirt

import (
	"context"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"golang.org/x/sync/errgroup"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

// answerTime is how long libvirt may take to answer an ordinary call.
const answerTime = 20 * time.Second

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
	uri  string
	path string // of the address: /system or /session
	way  way
	once sync.Once

	// mu is held for writing while the connection is made anew, and for reading during each call.
	mu   sync.RWMutex
	conn net.Conn
	l    *golibvirt.Libvirt
	// dead says that the connection can't be used any more: a call took too long, or the daemon went.
	dead atomic.Bool
}

// Dial connects to a libvirt daemon: on this host ("qemu:///system", or "qemu+unix:///session?socket=/path" for one with a socket of its
// own), or on another by SSH ("qemu+ssh://user@host/system") or TLS ("qemu+tls://host/system").
func Dial(ctx context.Context, spec site.Hypervisor) (*Host, error) {
	u, w, err := parse(spec)
	if err != nil {
		return nil, err
	}
	h := &Host{uri: spec.URI, path: u.Path, way: w}
	if err := h.dial(ctx); err != nil {
		w.close()
		return nil, err
	}
	return h, nil
}

// dial makes the connection, or makes it anew.
func (h *Host) dial(ctx context.Context) error {
	conn, err := h.way.daemon(ctx)
	if err != nil {
		return fmt.Errorf("libvirt at %s: %w", h.way.place(), err)
	}
	h.conn, h.l = conn, golibvirt.NewWithDialer(dialed{conn})
	h.dead.Store(false)
	err = h.call(ctx, answerTime, "sign in to libvirt at "+h.way.place(), func() error {
		return h.l.ConnectToURI(golibvirt.ConnectURI("qemu://" + h.path))
	})
	if err != nil {
		conn.Close()
		h.dead.Store(true)
	}
	return err
}

// dialed hands an open connection to the library.
type dialed struct{ net.Conn }

func (d dialed) Dial() (net.Conn, error) { return d.Conn, nil }

// within makes a call that may take so long. The protocol has no way to take a call back, so when the time is up the connection is closed,
// which ends the wait; the daemon may still carry the call out. The next call makes a new connection, so that clearing up is possible after
// any failure, and after the daemon was started anew.
func (h *Host) within(ctx context.Context, limit time.Duration, what string, call func() error) error {
	h.mu.RLock()
	for h.dead.Load() || !h.l.IsConnected() {
		h.mu.RUnlock()
		if err := h.again(ctx); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		h.mu.RLock()
	}
	defer h.mu.RUnlock()
	return h.call(ctx, limit, what, call)
}

// again makes a new connection in place of one that is dead.
func (h *Host) again(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.dead.Load() && h.l.IsConnected() {
		return nil // somebody else has made it
	}
	h.conn.Close()
	return h.dial(ctx)
}

func (h *Host) call(ctx context.Context, limit time.Duration, what string, call func() error) error {
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("%w within %s", source.ErrUnreachable, limit))
	defer cancel()
	stop := context.AfterFunc(ctx, func() { h.conn.Close() })
	defer stop()
	err := call()
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		err = context.Cause(ctx)
		h.dead.Store(true)
	} else if cut(err) {
		h.dead.Store(true)
		err = fmt.Errorf("%w: the connection to libvirt broke (was its daemon started anew?): %w", source.ErrUnreachable, err)
	}
	if isCode(err, golibvirt.ErrOperationTimeout, golibvirt.ErrAgentUnresponsive, golibvirt.ErrResourceBusy) {
		return fmt.Errorf("%s: %w: %w", what, source.ErrBusy, err)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// cut reports whether an error is the connection's. The library tells of one that is closed already by EINVAL.
func cut(err error) bool {
	for _, e := range []error{io.EOF, io.ErrUnexpectedEOF, net.ErrClosed, os.ErrClosed, syscall.EINVAL, syscall.EPIPE, syscall.ECONNRESET, golibvirt.ErrInterrupted} {
		if errors.Is(err, e) {
			return !errors.As(err, new(golibvirt.Error))
		}
	}
	return errors.As(err, new(*net.OpError))
}

// Close ends the connection.
func (h *Host) Close() error {
	h.once.Do(func() {
		h.mu.RLock()
		defer h.mu.RUnlock()
		stop := time.AfterFunc(2*time.Second, func() { h.conn.Close(); h.way.close() })
		defer stop.Stop()
		h.l.Disconnect()
		h.conn.Close()
		h.way.close()
	})
	return nil
}

// isCode reports whether libvirt answered with one of its error numbers.
func isCode(err error, codes ...golibvirt.ErrorNumber) bool {
	var e golibvirt.Error
	return errors.As(err, &e) && slices.Contains(codes, golibvirt.ErrorNumber(e.Code))
}

func (h *Host) domain(ctx context.Context, name string) (golibvirt.Domain, error) {
	var d golibvirt.Domain
	err := h.within(ctx, answerTime, "look up guest "+name, func() (err error) {
		d, err = h.l.DomainLookupByName(name)
		return err
	})
	if isCode(err, golibvirt.ErrNoDomain) {
		err = fmt.Errorf("guest %s: %w on this hypervisor", name, source.ErrNoMachine)
	}
	return d, err
}

func (h *Host) state(ctx context.Context, d golibvirt.Domain) (golibvirt.DomainState, error) {
	var state int32
	err := h.within(ctx, answerTime, "ask for the state of guest "+d.Name, func() (err error) {
		state, _, err = h.l.DomainGetState(d, 0)
		return err
	})
	return golibvirt.DomainState(state), err
}

// definition is the guest's description; inactive is the one that the next start will use.
func (h *Host) definition(ctx context.Context, d golibvirt.Domain, inactive bool) (string, *libvirtxml.Domain, error) {
	var flags golibvirt.DomainXMLFlags // without the one that would tell passwords
	if inactive {
		flags = golibvirt.DomainXMLInactive
	}
	var text string
	err := h.within(ctx, answerTime, "read the definition of guest "+d.Name, func() (err error) {
		text, err = h.l.DomainGetXMLDesc(d, flags)
		return err
	})
	if err != nil {
		return "", nil, err
	}
	def := new(libvirtxml.Domain)
	if err := def.Unmarshal(text); err != nil {
		return "", nil, fmt.Errorf("definition of guest %s: %w", d.Name, err)
	}
	return text, def, nil
}

// Machines implements [source.Source].
func (h *Host) Machines(ctx context.Context) ([]source.Machine, error) {
	var domains []golibvirt.Domain
	err := h.within(ctx, answerTime, "list guests", func() (err error) {
		domains, _, err = h.l.ConnectListAllDomains(1, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	machines := make([]source.Machine, len(domains))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(callsAtOnce) // for the line may be long
	for i, d := range domains {
		group.Go(func() error {
			m, err := h.machine(ctx, d)
			if isCode(err, golibvirt.ErrNoDomain) {
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
	state, err := h.state(ctx, d)
	if err != nil {
		return m, err
	}
	switch state {
	case golibvirt.DomainRunning, golibvirt.DomainBlocked:
		m.State = "running"
	case golibvirt.DomainPaused, golibvirt.DomainPmsuspended:
		m.State = "paused"
	}
	_, def, err := h.definition(ctx, d, false)
	if err != nil {
		return m, err
	}
	m.Tags = tags(def)
	disks, _ := captured(def)
	for _, k := range disks {
		var size uint64
		err := h.within(ctx, answerTime, "size of disk "+k.Target.Dev, func() (err error) {
			_, size, _, err = h.l.DomainGetBlockInfo(d, k.Target.Dev, 0)
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
	d, err := h.domain(ctx, machine)
	if err != nil {
		return err
	}
	return h.within(ctx, time.Minute, "start guest "+machine, func() error { return h.l.DomainCreate(d) })
}

// WriteTimes implements [source.WriteTimer] by the counters that QEMU keeps of each disk.
func (h *Host) WriteTimes(ctx context.Context, name string) (writes int64, took time.Duration, err error) {
	d, err := h.domain(ctx, name)
	if err != nil {
		return 0, 0, err
	}
	var list []golibvirt.TypedParam
	err = h.within(ctx, answerTime, "ask for the disks' counters of guest "+name, func() (err error) {
		// No path is all disks together. Asked for none, it tells how many there are.
		_, n, err := h.l.DomainBlockStatsFlags(d, "", 0, uint32(golibvirt.TypedParamStringOkay))
		if err == nil {
			list, _, err = h.l.DomainBlockStatsFlags(d, "", n, uint32(golibvirt.TypedParamStringOkay))
		}
		return err
	})
	if isCode(err, golibvirt.ErrOperationInvalid) {
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
