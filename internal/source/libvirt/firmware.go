package libvirt

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/image"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

// systemTPMs is where the system's libvirt daemon has the states of its guests' TPMs, a folder for each UUID.
const systemTPMs = "/var/lib/libvirt/swtpm"

// readFirmware reads what the guest's firmware keeps beside its disks. What can't be read is a warning: the disks are worth having without it.
func (c *capture) readFirmware(ctx context.Context, def *libvirtxml.Domain, secrets bool) error {
	read := func(kind image.FirmwareKind, what, file string, err error) error {
		var content []byte
		if err == nil {
			content, err = c.h.ReadFile(ctx, file)
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
	if !h.IsSystem() {
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
	err := h.Within(ctx, daemon.AnswerTime, "list guests", func() (err error) {
		all, _, err = h.L.ConnectListAllDomains(1, 0)
		return err
	})
	if err != nil {
		return "", err
	}
	for _, d := range all {
		_, other, err := h.Definition(ctx, d, false)
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
	d, err := h.Domain(ctx, g.Name)
	if err != nil {
		return err
	}
	_, def, err := h.Definition(ctx, d, true)
	if err != nil {
		return err
	}
	t := tpmOf(def)
	if t == nil {
		return nil // it was left out, which the caller was told
	}
	file, err := h.tpmFile(ctx, def, t)
	if err == nil {
		err = h.WriteFile(ctx, file, g.TPM)
	}
	if err != nil {
		return fmt.Errorf("guest %s is defined, but the state of its TPM is not back: %w; what its keys guard stays closed, so mend that and restore it again over itself (--replace)", g.Name, err)
	}
	return nil
}
