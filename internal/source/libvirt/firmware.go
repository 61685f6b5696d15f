package libvirt

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

// systemTPMs is where the system's libvirt daemon has the states of its guests' TPMs, a folder for each UUID.
const systemTPMs = "/var/lib/libvirt/swtpm"

// readFirmware reads what the guest's firmware keeps beside its disks. What can't be read is a warning: the disks are worth having without it.
func (c *capture) readFirmware(ctx context.Context, def *libvirtxml.Domain, secrets bool) error {
	read := func(kind image.FirmwareKind, what, file string, err error) error {
		var content []byte
		if err == nil {
			content, err = c.h.readFile(ctx, file)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			c.warnings = append(c.warnings, fmt.Sprintf("%s not in the image: %v", what, err))
			c.firmware = append(c.firmware, image.Firmware{Kind: kind, Left: err.Error()})
			return nil
		}
		c.firmware = append(c.firmware, image.NewFirmware(kind, content))
		return nil
	}
	if file, ok, err := variablesOf(def); ok {
		if err := read(image.UEFIVariables, "its UEFI variables are", file, err); err != nil {
			return err
		}
	}
	if t := tpmOf(def); t != nil && !secrets {
		c.firmware = append(c.firmware, image.Firmware{Kind: image.TPMState, Left: image.NotSealed})
	} else if t != nil {
		file, err := c.h.tpmFile(ctx, def, t)
		return read(image.TPMState, "the state of its TPM is", file, err)
	}
	return nil
}

// variablesOf is the file in which a guest that was started has its UEFI variables; ok is false for a guest that has none.
func variablesOf(def *libvirtxml.Domain) (file string, ok bool, err error) {
	if def.OS == nil || def.OS.NVRam == nil {
		return "", false, nil
	}
	n := def.OS.NVRam
	file = n.NVRam
	if n.Source != nil && n.Source.File != nil {
		file = n.Source.File.File
	}
	if file == "" || n.Format != "" && n.Format != "raw" {
		return "", true, errors.New("they are not in a raw file of the hypervisor's host")
	}
	return file, true, nil
}

// tpmOf is a guest's emulated TPM, nil where it has none.
func tpmOf(def *libvirtxml.Domain) *libvirtxml.DomainTPMBackendEmulator {
	if def.Devices == nil {
		return nil
	}
	for _, t := range def.Devices.TPMs {
		if t.Backend != nil && t.Backend.Emulator != nil {
			return t.Backend.Emulator
		}
	}
	return nil
}

// tpmFile is the file in which the emulator of a guest's TPM keeps its state (swtpm_setup(8)). The protocol tells no daemon's folders, but those of a
// daemon that is not the system's show in other paths.
func (h *Host) tpmFile(ctx context.Context, def *libvirtxml.Domain, t *libvirtxml.DomainTPMBackendEmulator) (string, error) {
	if t.Encryption != nil {
		return "", errors.New("a secret of the hypervisor encrypts it, without which it is of no use")
	}
	folder := systemTPMs
	if h.path != "/system" {
		root, err := h.sessionFolder(ctx, def)
		if err != nil {
			return "", err
		}
		folder = path.Join(root, "swtpm")
	}
	if t.Version == "1.2" {
		return path.Join(folder, def.UUID, "tpm1.2", "tpm-00.permall"), nil
	}
	return path.Join(folder, def.UUID, "tpm2", "tpm2-00.permall"), nil
}

// sessionFolder is the folder in which a session's daemon has what belongs to its guests. The guest itself tells it, or another one.
func (h *Host) sessionFolder(ctx context.Context, def *libvirtxml.Domain) (string, error) {
	if root, ok := folderIn(def); ok {
		return root, nil
	}
	var all []golibvirt.Domain
	err := h.within(ctx, answerTime, "list guests", func() (err error) {
		all, _, err = h.l.ConnectListAllDomains(1, 0)
		return err
	})
	if err != nil {
		return "", err
	}
	for _, d := range all {
		_, other, err := h.definition(ctx, d, false)
		if err != nil {
			return "", err
		}
		if root, ok := folderIn(other); ok {
			return root, nil
		}
	}
	return "", errors.New("no guest of this libvirt daemon, which is not the system's, tells where it has it")
}

func folderIn(def *libvirtxml.Domain) (string, bool) {
	var paths []string
	if def.OS != nil && def.OS.NVRam != nil {
		paths = append(paths, def.OS.NVRam.NVRam)
	}
	if def.Devices != nil {
		for _, c := range def.Devices.Channels {
			if c.Source != nil && c.Source.UNIX != nil {
				paths = append(paths, c.Source.UNIX.Path)
			}
		}
	}
	for _, p := range paths {
		for _, of := range []string{"/nvram/", "/channel/"} {
			if root, _, ok := strings.Cut(p, "/libvirt/qemu"+of); ok {
				return root + "/libvirt/qemu", true
			}
		}
	}
	return "", false
}

// restoreTPM gives a guest that was just defined what its TPM kept. libvirt gives the file to the emulator's account when the guest is started.
func (h *Host) restoreTPM(ctx context.Context, g source.NewGuest) error {
	d, err := h.domain(ctx, g.Name)
	if err != nil {
		return err
	}
	_, def, err := h.definition(ctx, d, true)
	if err != nil {
		return err
	}
	t := tpmOf(def)
	if t == nil {
		return nil // it was left out, which the caller was told
	}
	file, err := h.tpmFile(ctx, def, t)
	if err == nil {
		err = h.writeFile(ctx, file, g.TPM)
	}
	if err != nil {
		return fmt.Errorf("guest %s is defined, but the state of its TPM is not back: %w; what its keys guard stays closed, so mend that and restore it again over itself (--replace)", g.Name, err)
	}
	return nil
}

// folders has a lock for each daemon's address: one process's pieces of work on a host's folders are held apart, between processes they are tried
// again.
var folders sync.Map

func (h *Host) lockFolders() (unlock func()) {
	held, _ := folders.LoadOrStore(h.uri, new(sync.Mutex))
	held.(*sync.Mutex).Lock()
	return held.(*sync.Mutex).Unlock
}

// inFolder opens a folder of the hypervisor's host as a storage pool, for libvirt moves the files of pools only. A pool of ours goes afterwards;
// its name tells one that a dead process left, for [Host.Clear].
func (h *Host) inFolder(ctx context.Context, folder string, do func(p golibvirt.StoragePool) error) (err error) {
	defer h.lockFolders()()
	name := fmt.Sprintf("%s%08x", statePools, crc32.ChecksumIEEE([]byte(folder)))
	for range 5 { // another process may take its pool away just now
		if err = h.tryFolder(ctx, folder, name, do); err == nil || ctx.Err() != nil || errors.Is(err, source.ErrUnreachable) {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
	return err
}

// statePools begins the names of the pools that are made for a moment.
const statePools = marked + "state-"

func (h *Host) tryFolder(ctx context.Context, folder, name string, do func(p golibvirt.StoragePool) error) error {
	p, found, err := h.poolOf(ctx, folder)
	if err != nil {
		return err
	}
	if !found {
		def := libvirtxml.StoragePool{Type: "dir", Name: name, Target: &libvirtxml.StoragePoolTarget{Path: folder}}
		text, err := def.Marshal()
		if err != nil {
			return err
		}
		err = h.within(ctx, answerTime, "open folder "+folder+" as a storage pool", func() (err error) {
			p, err = h.l.StoragePoolCreateXML(text, golibvirt.StoragePoolCreateWithBuild)
			return err
		})
		if err != nil {
			return err
		}
	}
	err = do(p)
	if p.Name == name {
		err = errors.Join(err, h.within(context.WithoutCancel(ctx), answerTime, "close storage pool "+name, func() error { return h.l.StoragePoolDestroy(p) }))
	}
	return err
}

// poolOf finds the active pool of a folder, read anew.
func (h *Host) poolOf(ctx context.Context, folder string) (p golibvirt.StoragePool, found bool, err error) {
	err = h.within(ctx, answerTime, "look for a storage pool of folder "+folder, func() error {
		pools, _, err := h.l.ConnectListAllStoragePools(1, golibvirt.ConnectListStoragePoolsActive)
		if err != nil {
			return err
		}
		for _, one := range pools {
			text, err := h.l.StoragePoolGetXMLDesc(one, 0)
			var def libvirtxml.StoragePool
			if err == nil {
				err = def.Unmarshal(text)
			}
			if err != nil {
				return err
			}
			if def.Type == "dir" && def.Target != nil && path.Clean(def.Target.Path) == folder {
				p, found = one, true
				return h.l.StoragePoolRefresh(one, 0)
			}
		}
		return nil
	})
	return p, found, err
}

// readFile reads a small file of the hypervisor's host.
func (h *Host) readFile(ctx context.Context, file string) ([]byte, error) {
	var out bytes.Buffer
	err := h.inFolder(ctx, path.Dir(file), func(p golibvirt.StoragePool) error {
		out.Reset()
		return h.within(ctx, answerTime, "read "+file, func() error {
			v, err := h.l.StorageVolLookupByName(p, path.Base(file))
			if err != nil {
				return err
			}
			_, _, length, err := h.l.StorageVolGetInfo(v)
			if err != nil {
				return err
			}
			if length > image.MaxFirmware {
				return fmt.Errorf("it has %d bytes; what a guest keeps beside its disks has %d at most", length, image.MaxFirmware)
			}
			return h.l.StorageVolDownload(v, &out, 0, 0, 0)
		})
	})
	return out.Bytes(), err
}

// writeFile makes a small file on the hypervisor's host; one that is there goes.
func (h *Host) writeFile(ctx context.Context, file string, content []byte) error {
	return h.inFolder(ctx, path.Dir(file), func(p golibvirt.StoragePool) error {
		return h.within(ctx, answerTime, "write "+file, func() error {
			old, err := h.l.StorageVolLookupByName(p, path.Base(file))
			if err == nil {
				err = h.l.StorageVolDelete(old, 0)
			}
			if err != nil && !isCode(err, golibvirt.ErrNoStorageVol) {
				return err
			}
			v, err := h.createVolume(p, path.Base(file), int64(len(content)))
			if err != nil {
				return err
			}
			return h.l.StorageVolUpload(v, bytes.NewReader(content), 0, uint64(len(content)), 0)
		})
	})
}

// clearFolders removes the pools of ours that a dead process left; one that is at work tries again.
func (h *Host) clearFolders(ctx context.Context) (found []string, err error) {
	defer h.lockFolders()()
	err = h.within(ctx, answerTime, "look for storage pools of ours", func() error {
		pools, _, err := h.l.ConnectListAllStoragePools(1, golibvirt.ConnectListStoragePoolsActive)
		if err != nil {
			return err
		}
		for _, p := range pools {
			if !strings.HasPrefix(p.Name, statePools) {
				continue
			}
			if err := h.l.StoragePoolDestroy(p); err == nil {
				found = append(found, "closed storage pool "+p.Name)
			} else if !isCode(err, golibvirt.ErrNoStoragePool, golibvirt.ErrOperationInvalid) {
				return fmt.Errorf("close storage pool %s: %w", p.Name, err)
			}
		}
		return nil
	})
	return found, err
}
