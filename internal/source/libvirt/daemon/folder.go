package daemon

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"path"
	"strings"
	"sync"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/image"
	"keenlodge/internal/source"
)

// folders has a lock for each daemon's address: one process's pieces of work on a host's folders are held apart, between processes they are tried
// again.
var folders sync.Map

func (c *Conn) lockFolders() (unlock func()) {
	held, _ := folders.LoadOrStore(c.uri, new(sync.Mutex))
	held.(*sync.Mutex).Lock()
	return held.(*sync.Mutex).Unlock
}

// inFolder opens a folder of the hypervisor's host as a storage pool, for libvirt moves the files of pools only. A pool of ours goes afterwards;
// its name tells one that a dead process left, for [Conn.ClearFolders].
func (c *Conn) inFolder(ctx context.Context, folder string, do func(p golibvirt.StoragePool) error) (err error) {
	defer c.lockFolders()()
	name := fmt.Sprintf("%s%08x", StatePools, crc32.ChecksumIEEE([]byte(folder)))
	for range 5 { // another process may take its pool away just now
		if err = c.tryFolder(ctx, folder, name, do); err == nil || ctx.Err() != nil || errors.Is(err, source.ErrUnreachable) {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
	return err
}

// StatePools begins the names of the pools that are made for a moment.
const StatePools = Marked + "state-"

func (c *Conn) tryFolder(ctx context.Context, folder, name string, do func(p golibvirt.StoragePool) error) error {
	p, found, err := c.poolOf(ctx, folder)
	if err != nil {
		return err
	}
	if !found {
		def := libvirtxml.StoragePool{Type: "dir", Name: name, Target: &libvirtxml.StoragePoolTarget{Path: folder}}
		text, err := def.Marshal()
		if err != nil {
			return err
		}
		err = c.Within(ctx, AnswerTime, "open folder "+folder+" as a storage pool", func() (err error) {
			p, err = c.L.StoragePoolCreateXML(text, golibvirt.StoragePoolCreateWithBuild)
			return err
		})
		if err != nil {
			return err
		}
	}
	err = do(p)
	if p.Name == name {
		err = errors.Join(err, c.Within(context.WithoutCancel(ctx), AnswerTime, "close storage pool "+name, func() error { return c.L.StoragePoolDestroy(p) }))
	}
	return err
}

// poolOf finds the active pool of a folder, read anew.
func (c *Conn) poolOf(ctx context.Context, folder string) (p golibvirt.StoragePool, found bool, err error) {
	err = c.Within(ctx, AnswerTime, "look for a storage pool of folder "+folder, func() error {
		pools, _, err := c.L.ConnectListAllStoragePools(1, golibvirt.ConnectListStoragePoolsActive)
		if err != nil {
			return err
		}
		for _, one := range pools {
			text, err := c.L.StoragePoolGetXMLDesc(one, 0)
			var def libvirtxml.StoragePool
			if err == nil {
				err = def.Unmarshal(text)
			}
			if err != nil {
				return err
			}
			if def.Type == "dir" && def.Target != nil && path.Clean(def.Target.Path) == folder {
				p, found = one, true
				return c.L.StoragePoolRefresh(one, 0)
			}
		}
		return nil
	})
	return p, found, err
}

// ReadFile reads a small file of the hypervisor's host.
func (c *Conn) ReadFile(ctx context.Context, file string) ([]byte, error) {
	return c.read(ctx, file, 0, func(v golibvirt.StorageVol) error {
		_, _, length, err := c.L.StorageVolGetInfo(v)
		if err == nil && length > image.MaxFirmware {
			err = fmt.Errorf("it has %d bytes; what a guest keeps beside its disks has %d at most", length, image.MaxFirmware)
		}
		return err
	})
}

// ReadHead reads the first bytes of a file of the hypervisor's host.
func (c *Conn) ReadHead(ctx context.Context, file string, length int64) ([]byte, error) {
	return c.read(ctx, file, length, func(golibvirt.StorageVol) error { return nil })
}

// read reads so many bytes of a file, 0 for all of it, if it is fit.
func (c *Conn) read(ctx context.Context, file string, length int64, fit func(golibvirt.StorageVol) error) ([]byte, error) {
	var out bytes.Buffer
	err := c.inFolder(ctx, path.Dir(file), func(p golibvirt.StoragePool) error {
		out.Reset()
		return c.Within(ctx, AnswerTime, "read "+file, func() error {
			v, err := c.L.StorageVolLookupByName(p, path.Base(file))
			if err == nil {
				err = fit(v)
			}
			if err != nil {
				return err
			}
			return c.L.StorageVolDownload(v, &out, 0, uint64(length), 0)
		})
	})
	return out.Bytes(), err
}

// WriteFile makes a small file on the hypervisor's host; one that is there goes.
func (c *Conn) WriteFile(ctx context.Context, file string, content []byte) error {
	return c.inFolder(ctx, path.Dir(file), func(p golibvirt.StoragePool) error {
		return c.Within(ctx, AnswerTime, "write "+file, func() error {
			old, err := c.L.StorageVolLookupByName(p, path.Base(file))
			if err == nil {
				err = c.L.StorageVolDelete(old, 0)
			}
			if err != nil && !IsCode(err, golibvirt.ErrNoStorageVol) {
				return err
			}
			v, err := c.CreateVolume(p, path.Base(file), int64(len(content)))
			if err != nil {
				return err
			}
			return c.L.StorageVolUpload(v, bytes.NewReader(content), 0, uint64(len(content)), 0)
		})
	})
}

// ClearFolders removes the pools of ours that a dead process left; one that is at work tries again.
func (c *Conn) ClearFolders(ctx context.Context) (found []string, err error) {
	defer c.lockFolders()()
	err = c.Within(ctx, AnswerTime, "look for storage pools of ours", func() error {
		pools, _, err := c.L.ConnectListAllStoragePools(1, golibvirt.ConnectListStoragePoolsActive)
		if err != nil {
			return err
		}
		for _, p := range pools {
			if !strings.HasPrefix(p.Name, StatePools) {
				continue
			}
			if err := c.L.StoragePoolDestroy(p); err == nil {
				found = append(found, "closed storage pool "+p.Name)
			} else if !IsCode(err, golibvirt.ErrNoStoragePool, golibvirt.ErrOperationInvalid) {
				return fmt.Errorf("close storage pool %s: %w", p.Name, err)
			}
		}
		return nil
	})
	return found, err
}

// CreateVolume makes an empty volume. It is a plain file to libvirt while it is filled: what comes is a finished file, be it of qcow2.
func (c *Conn) CreateVolume(p golibvirt.StoragePool, name string, length int64) (v golibvirt.StorageVol, err error) {
	def := libvirtxml.StorageVolume{
		Name:       name,
		Capacity:   &libvirtxml.StorageVolumeSize{Unit: "B", Value: uint64(length)},
		Allocation: &libvirtxml.StorageVolumeSize{Unit: "B", Value: 0},
		Target:     &libvirtxml.StorageVolumeTarget{Format: &libvirtxml.StorageVolumeTargetFormat{Type: "raw"}},
	}
	text, err := def.Marshal()
	if err != nil {
		return v, err
	}
	return c.L.StorageVolCreateXML(p, text, 0)
}

// RemoveFile removes a file of the hypervisor's host; one that is not there is no error.
func (c *Conn) RemoveFile(ctx context.Context, file string) error {
	return c.inFolder(ctx, path.Dir(file), func(p golibvirt.StoragePool) error {
		return c.Within(ctx, AnswerTime, "remove "+file, func() error {
			if err := c.L.StoragePoolRefresh(p, 0); err != nil {
				return err
			}
			v, err := c.L.StorageVolLookupByName(p, path.Base(file))
			if err == nil {
				err = c.L.StorageVolDelete(v, 0)
			}
			if IsCode(err, golibvirt.ErrNoStorageVol) {
				return nil
			}
			return err
		})
	})
}

// LayOver makes a qcow2 file that holds nothing yet, over another one.
func (c *Conn) LayOver(ctx context.Context, file, base string) error {
	return c.inFolder(ctx, path.Dir(file), func(p golibvirt.StoragePool) error {
		return c.Within(ctx, AnswerTime, "make "+file, func() error {
			if err := c.L.StoragePoolRefresh(p, 0); err != nil {
				return err
			}
			below, err := c.L.StorageVolLookupByPath(base)
			if err != nil {
				return err
			}
			_, size, _, err := c.L.StorageVolGetInfo(below)
			if err != nil {
				return err
			}
			def := libvirtxml.StorageVolume{Name: path.Base(file), Capacity: &libvirtxml.StorageVolumeSize{Unit: "B", Value: size},
				Target:       &libvirtxml.StorageVolumeTarget{Format: &libvirtxml.StorageVolumeTargetFormat{Type: "qcow2"}, Compat: "1.1"}, // version 3: others carry no bitmaps
				BackingStore: &libvirtxml.StorageVolumeBackingStore{Path: base, Format: &libvirtxml.StorageVolumeTargetFormat{Type: "qcow2"}}}
			text, err := def.Marshal()
			if err != nil {
				return err
			}
			_, err = c.L.StorageVolCreateXML(p, text, 0)
			return err
		})
	})
}
