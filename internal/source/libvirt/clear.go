package libvirt

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// makeRoom clears what a dead process left on the guest: a backup job, of which there can be one, or a guest that it started paused. What
// belongs to somebody else is never touched.
func (c *capture) makeRoom(ctx context.Context, r source.Request, state golibvirt.DomainState) error {
	id := ""
	if state == golibvirt.DomainPaused {
		by, err := c.h.startedBy(ctx, c.domain)
		if err != nil {
			return err
		}
		id = by
	}
	started := id != ""
	text, err := c.h.job(ctx, c.domain)
	if err != nil || text == "" && !started {
		return err
	}
	if !started {
		id = markIn(text)
	}
	busy := func(format string, args ...any) error {
		return fmt.Errorf("guest %s: %w: "+format, append([]any{r.Machine, source.ErrBusy}, args...)...)
	}
	if id == "" {
		return busy("another program's backup job is open on it; it has to end first (virsh domjobinfo %s)", r.Machine)
	}
	if r.Alive == nil {
		return busy("the capture of image %s is open on it", id)
	}
	alive, known, err := r.Alive(ctx, id)
	switch {
	case err != nil:
		return err
	case alive:
		return busy("another run captures it just now, for image %s", id)
	case !known:
		return busy("another lodge captures it, for image %s, or did and died; once that is sure, end its job (virsh domjobabort %s)", id, r.Machine)
	}
	found, err := c.h.Clear(ctx, r.Machine, id, started)
	for _, f := range found {
		c.cleared = append(c.cleared, "a service that died had left something behind: "+f)
	}
	return err
}

// marks finds our marks in a job's description: they begin the names of its socket and its scratch files.
var marks = regexp.MustCompile(marked + `([0-9a-z]{10})[.-]`)

func markIn(text string) string {
	if m := marks.FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return ""
}

// job describes the backup job that is open on a guest, "" if none is.
func (h *Host) job(ctx context.Context, d golibvirt.Domain) (text string, err error) {
	err = h.Within(ctx, daemon.AnswerTime, "look for a backup job on guest "+d.Name, func() (err error) {
		text, err = h.L.DomainBackupGetXMLDesc(d, 0)
		return err
	})
	if daemon.IsCode(err, golibvirt.ErrNoDomainBackup, golibvirt.ErrNoDomain, golibvirt.ErrOperationInvalid) {
		return "", nil
	}
	return text, err
}

func (h *Host) markStarted(ctx context.Context, d golibvirt.Domain, mark string) error {
	return h.Within(ctx, daemon.AnswerTime, "mark guest "+d.Name+" as started paused", func() error {
		return h.L.DomainSetMetadata(d, int32(golibvirt.DomainMetadataElement), golibvirt.OptString{"<capture id='" + mark + "'/>"}, golibvirt.OptString{"keenlodge"}, golibvirt.OptString{markedBy}, golibvirt.DomainAffectLive)
	})
}

// startedBy tells for which capture a guest was started paused, "" for none.
func (h *Host) startedBy(ctx context.Context, d golibvirt.Domain) (mark string, err error) {
	var text string
	err = h.Within(ctx, daemon.AnswerTime, "ask who started guest "+d.Name, func() (err error) {
		text, err = h.L.DomainGetMetadata(d, int32(golibvirt.DomainMetadataElement), golibvirt.OptString{markedBy}, golibvirt.DomainAffectLive)
		return err
	})
	if daemon.IsCode(err, golibvirt.ErrNoDomainMetadata, golibvirt.ErrOperationInvalid, golibvirt.ErrNoDomain) {
		return "", nil
	}
	if _, rest, ok := strings.Cut(text, "id="); ok && len(rest) > 11 {
		mark = rest[1:11]
	}
	return mark, err
}

// endJob ends our backup job and tells whether there was one; another's job is left alone.
func (h *Host) endJob(ctx context.Context, d golibvirt.Domain, mark string) (found bool, err error) {
	text, err := h.job(ctx, d)
	if err != nil || !strings.Contains(text, marked+mark) {
		return false, err
	}
	err = h.Within(ctx, daemon.AnswerTime, "end the backup job on guest "+d.Name, func() error { return h.L.DomainAbortJob(d) })
	if daemon.IsCode(err, golibvirt.ErrOperationInvalid) {
		return false, nil // it ended by itself
	}
	// The call returns before the job is gone, and the next one could not begin.
	for err == nil {
		if text, err = h.job(ctx, d); err != nil || !strings.Contains(text, marked+mark) {
			break
		}
		select {
		case <-ctx.Done():
			err = fmt.Errorf("guest %s: its backup job was told to end and is still there: %w", d.Name, context.Cause(ctx))
		case <-time.After(20 * time.Millisecond):
		}
	}
	return true, err
}

// sendToSleep switches a guest off that we started paused for a capture, unless somebody let it run meanwhile, or started it anew.
func (h *Host) sendToSleep(ctx context.Context, d golibvirt.Domain, mark string) (off bool, err error) {
	state, err := h.State(ctx, d)
	if err != nil || state != golibvirt.DomainPaused {
		return false, err
	}
	by, err := h.startedBy(ctx, d)
	mine := by == mark
	if err == nil && by == "" {
		mine, err = h.neverRan(ctx, d) // we may have died between its start and the mark
	}
	if err != nil || !mine {
		return false, err
	}
	err = h.Within(ctx, daemon.AnswerTime, "switch guest "+d.Name+" off again", func() error { return h.L.DomainDestroy(d) })
	return err == nil, err
}

// unfreeze thaws a guest that is frozen. An agent that is busy may be the one that freezes, so its silence is an error; a guest without one
// can't have been frozen.
func (h *Host) unfreeze(ctx context.Context, d golibvirt.Domain) (thawed bool, err error) {
	frozen, err := h.IsFrozen(ctx, d)
	if err == nil && !frozen || daemon.IsCode(err, golibvirt.ErrConfigUnsupported, golibvirt.ErrArgumentUnsupported, golibvirt.ErrOperationInvalid, golibvirt.ErrNoDomain) {
		return false, nil
	}
	if err != nil {
		connected, asked := h.hasAgent(ctx, d)
		if asked == nil && !connected {
			return false, nil
		}
	}
	// Where it did not tell, a thaw does no harm.
	n, err := h.ThawDomain(ctx, d)
	return err == nil && n > 0, err
}

// hasAgent reports whether a guest's agent is connected.
func (h *Host) hasAgent(ctx context.Context, d golibvirt.Domain) (bool, error) {
	_, def, err := h.Definition(ctx, d, false)
	if err != nil || def.Devices == nil {
		return false, err
	}
	return slices.ContainsFunc(def.Devices.Channels, func(c libvirtxml.DomainChannel) bool {
		return c.Target != nil && c.Target.VirtIO != nil && c.Target.VirtIO.Name == "org.qemu.guest_agent.0" && c.Target.VirtIO.State == "connected"
	}), nil
}

// Clear implements [source.Source].
func (h *Host) Clear(ctx context.Context, machine, mark string, woken bool) (found []string, err error) {
	d, err := h.Domain(ctx, machine)
	if errors.Is(err, source.ErrNoMachine) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	state, err := h.State(ctx, d)
	if err != nil {
		return nil, err
	}
	var errs []error
	if state == golibvirt.DomainRunning && !woken {
		thawed, err := h.unfreeze(ctx, d)
		if errs = append(errs, err); thawed {
			found = append(found, "thawed guest "+machine)
		}
	}
	ended, err := h.endJob(ctx, d, mark)
	if errs = append(errs, err); ended {
		found = append(found, "ended the backup job on guest "+machine)
	}
	removed, err := h.removeCheckpoints(ctx, d, []string{mark})
	errs = append(errs, err)
	for range removed {
		found = append(found, "removed checkpoint "+marked+mark+" of guest "+machine)
	}
	closed, err := h.ClearFolders(ctx)
	found, errs = append(found, closed...), append(errs, err)
	if woken {
		off, err := h.sendToSleep(ctx, d, mark)
		if errs = append(errs, err); off {
			found = append(found, "switched guest "+machine+" off again")
		}
	}
	return found, errors.Join(errs...)
}

// atRest is the time that a guest's processors have used at most that never ran.
const atRest = 20 * time.Millisecond

// neverRan reports whether a guest's processors have run no instruction since its start.
func (h *Host) neverRan(ctx context.Context, d golibvirt.Domain) (bool, error) {
	var used time.Duration
	err := h.Within(ctx, daemon.AnswerTime, "ask how long guest "+d.Name+" has run", func() error {
		infos, _, err := h.L.DomainGetVcpus(d, 64, 0)
		for _, i := range infos {
			used += time.Duration(i.CPUTime)
		}
		return err
	})
	return err == nil && used <= atRest, err
}

// markedBy is the name of the metadata with which a guest that we started paused says so. It lives as long as that QEMU process does: a guest
// that somebody started anew, and paused, has none.
const markedBy = "urn:keenlodge:started-paused"
