package inplace

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// merge puts what lies right above each of an external snapshot's files into it: for that the guest has to run.
func (h Host) merge(ctx context.Context, g guest, k kept) error {
	if !g.runs {
		return fmt.Errorf("%w: its guest is off, and what was written since can be merged only while it runs; it is tried again", source.ErrBusy)
	}
	disks, err := g.disks()
	if err != nil {
		return err
	}
	for target, base := range k.bases() {
		i := slices.IndexFunc(disks, func(d libvirtxml.DomainDisk) bool { return d.Target.Dev == target })
		if i < 0 {
			continue // the disk went
		}
		files, err := h.chain(ctx, disks[i].Source.File.File)
		if err != nil {
			return err
		}
		at := slices.Index(files, base)
		if at < 1 {
			continue // it is merged, or the disk is another one
		}
		if err := h.commit(ctx, g, target, base, files[at-1], at == 1); err != nil {
			return fmt.Errorf("merge %s into %s: %w", files[at-1], base, err)
		}
		if err := h.RemoveFile(ctx, files[at-1]); err != nil {
			return err
		}
	}
	return nil
}

// commit has a guest that runs put a file of a disk into the one below it; top says that it is the one that is written to.
func (h Host) commit(ctx context.Context, g guest, target, base, above string, top bool) error {
	var flags golibvirt.DomainBlockCommitFlags
	from := golibvirt.OptString{above}
	if top {
		flags, from = golibvirt.DomainBlockCommitActive, nil
	}
	err := h.Within(ctx, daemon.AnswerTime, "merge disk "+target+" of guest "+g.Name, func() error {
		return h.L.DomainBlockCommit(g.Domain, target, golibvirt.OptString{base}, from, 0, flags)
	})
	if err != nil {
		return err
	}
	end := func(how golibvirt.DomainBlockJobAbortFlags) error {
		return h.Within(context.WithoutCancel(ctx), time.Minute, "end the merging of disk "+target, func() error { return h.L.DomainBlockJobAbort(g.Domain, target, how) })
	}
	for begun := time.Now(); ; {
		var found int32
		var at, all uint64
		err := h.Within(ctx, daemon.AnswerTime, "ask how far disk "+target+" is merged", func() (err error) {
			found, _, _, at, all, err = h.L.DomainGetBlockJobInfo(g.Domain, target, 0)
			return err
		})
		switch {
		case err != nil:
			return errors.Join(err, end(0))
		case found == 0 && !top:
			return nil
		case found == 0:
			return errors.New("the hypervisor has ended it before all was merged")
		case top && at == all && all > 0:
			if err := end(golibvirt.DomainBlockJobAbortPivot); err == nil {
				return nil
			} else if !daemon.IsCode(err, golibvirt.ErrBlockCopyActive, golibvirt.ErrOperationInvalid) || time.Since(begun) > mergeTime {
				return errors.Join(err, end(0))
			} // it is not ready quite yet
		case time.Since(begun) > mergeTime:
			return errors.Join(fmt.Errorf("%w: it is not merged within %s", source.ErrBusy, mergeTime), end(0))
		}
		select {
		case <-ctx.Done():
			return errors.Join(context.Cause(ctx), end(0))
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// GoBack implements [source.Snapshotter]. Checkpoints go before: libvirt 9 otherwise ends a guest that goes back to an older moment.
func (h Host) GoBack(ctx context.Context, name, id, ref string, off bool) (told []string, err error) {
	g, err := h.guest(ctx, name, "")
	if err != nil {
		return nil, err
	}
	all, err := h.of(ctx, g)
	k := ours(all, id, ref)
	if err == nil && k == nil {
		err = fmt.Errorf("guest %s has no snapshot %s any more", name, id)
	}
	if err != nil {
		return nil, err
	}
	if g.runs && !off {
		return nil, fmt.Errorf("guest %s: %w: it runs, and would have to be powered off", name, source.ErrBusy)
	}
	for _, o := range later(all, *k) {
		if o.told.ID == "" && (k.external() || o.external()) {
			return nil, fmt.Errorf("guest %s: snapshot %s, which somebody else made, was taken later and would be lost; remove it first, with the hypervisor's own means", name, o.told.Name)
		}
		if o.external() && !k.external() {
			return nil, fmt.Errorf("guest %s: snapshot %s was taken later, on top of this one's disks; go back to that, or remove it first", name, o.told.Name)
		}
	}
	ids, err := h.Checkpoints(ctx, name)
	if err == nil && len(ids) > 0 {
		_, err = h.DropCheckpoints(ctx, name, ids)
	}
	if err != nil {
		return nil, err
	}
	if len(ids) > 0 {
		told = append(told, "what later backups would have built on is removed, so the next one is full")
	}
	if k.external() {
		err = h.putBack(ctx, g, *k, all, &told)
	} else {
		err = h.Within(ctx, memoryTime, "have guest "+name+" go back to snapshot "+k.snap.Name, func() error {
			return h.L.DomainRevertToSnapshot(k.snap, uint32(golibvirt.DomainSnapshotRevertForce))
		})
	}
	if err != nil || !g.runs {
		return told, err
	}
	if now, err := h.guest(ctx, name, ""); err != nil || now.runs {
		return told, err // it went on with its memory
	}
	err = h.Within(ctx, time.Minute, "start guest "+name, func() error { return h.L.DomainCreate(g.Domain) })
	return append(told, "powered on"), err
}

// putBack gives a guest new files on top of those that an external snapshot holds, in place of all that lay on them.
func (h Host) putBack(ctx context.Context, g guest, k kept, all []kept, told *[]string) error {
	bases := k.bases()
	if g.runs {
		if err := h.Within(ctx, time.Minute, "power guest "+g.Name+" off", func() error { return h.L.DomainDestroy(g.Domain) }); err != nil {
			return err
		}
		*told = append(*told, "powered off")
	}
	_, def, err := h.Definition(ctx, g.Domain, true)
	if err != nil {
		return err
	}
	var gone, made []string
	undo := func(err error) error {
		for _, file := range made {
			err = errors.Join(err, h.RemoveFile(context.WithoutCancel(ctx), file))
		}
		return err
	}
	for i := range def.Devices.Disks {
		d := &def.Devices.Disks[i]
		base, ok := bases[targetOf(*d)]
		if !ok || d.Source == nil || d.Source.File == nil {
			continue
		}
		files, err := h.chain(ctx, d.Source.File.File)
		if err != nil {
			return undo(err)
		}
		at := slices.Index(files, base)
		if at < 0 {
			return undo(fmt.Errorf("guest %s: its disk %s does not lie on %s any more, which snapshot %s holds", g.Name, d.Target.Dev, base, k.snap.Name))
		}
		fresh := path.Join(path.Dir(base), fmt.Sprintf("%s-%s-%d.qcow2", k.snap.Name, d.Target.Dev, time.Now().Unix()))
		if err := h.LayOver(ctx, fresh, base); err != nil {
			return undo(err)
		}
		made, gone = append(made, fresh), append(gone, files[:at]...)
		d.Source.File.File, d.BackingStore = fresh, nil
	}
	text, err := def.Marshal()
	if err != nil {
		return undo(err)
	}
	err = h.Within(ctx, daemon.AnswerTime, "define guest "+g.Name+" with its disks of then", func() error {
		_, err := h.L.DomainDefineXML(text)
		return err
	})
	if err != nil {
		return undo(err)
	}
	// From here on it is as it was; what is left over is not.
	var errs []error
	for _, file := range gone {
		errs = append(errs, h.RemoveFile(ctx, file))
	}
	for _, o := range later(all, k) {
		errs = append(errs, h.forget(ctx, g, o.snap, golibvirt.DomainSnapshotDeleteMetadataOnly))
	}
	return errors.Join(errs...)
}

func targetOf(d libvirtxml.DomainDisk) string {
	if d.Target == nil {
		return ""
	}
	return d.Target.Dev
}
