package image

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"

	"keenlodge/internal/core/chunk"
)

// FirmwareKind says what a machine's firmware keeps beside the disks.
type FirmwareKind string

const (
	// UEFIVariables are the variables of a machine's firmware (UEFI 2.10, 8.2), among them what it boots, as the file of its flash memory.
	UEFIVariables FirmwareKind = "uefi-variables"
	// TPMState is what an emulated TPM keeps, as its emulator's file. It holds keys, so that it is in images of sealed stores only.
	TPMState FirmwareKind = "tpm-state"
)

const (
	// MaxFirmware bounds what a machine keeps of one kind beside its disks, in bytes.
	MaxFirmware  = 4 << 20
	mostFirmware = 16
)

// Firmware is something of a machine's firmware.
type Firmware struct {
	Kind FirmwareKind `json:"kind"`
	// Size is its length in bytes, Content the same compressed by gzip (RFC 1952).
	Size    int64  `json:"size"`
	Content []byte `json:"content,omitempty"`
	// Left says why the image does not have it; "" where it does.
	Left string `json:"left,omitempty"`
}

// NewFirmware makes one of a content, which has at most [MaxFirmware] bytes.
func NewFirmware(kind FirmwareKind, content []byte) Firmware {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Write(content) // a buffer takes all
	w.Close()
	return Firmware{Kind: kind, Size: int64(len(content)), Content: out.Bytes()}
}

// Bytes is the content. Errors wrap [chunk.ErrDamaged].
func (s Firmware) Bytes() ([]byte, error) {
	damaged := func(why any) ([]byte, error) {
		return nil, fmt.Errorf("%s in the manifest: %w: %v", s.Kind, chunk.ErrDamaged, why)
	}
	r, err := gzip.NewReader(bytes.NewReader(s.Content))
	if err != nil {
		return damaged(err)
	}
	out, err := io.ReadAll(io.LimitReader(r, MaxFirmware+1))
	if err != nil {
		return damaged(err)
	}
	if int64(len(out)) != s.Size || s.Size > MaxFirmware {
		return damaged(fmt.Sprintf("it has other than its %d bytes", s.Size))
	}
	return out, nil
}

// NotSealed is why an image has no [TPMState].
const NotSealed = "it holds keys, and the store is not sealed"

// Unsealed is what of a machine's firmware may lie in a store that is not sealed: keys are left out, with the reason.
func Unsealed(all []Firmware) (out []Firmware) {
	for _, f := range all {
		if f.Kind == TPMState {
			f = Firmware{Kind: f.Kind, Left: NotSealed}
		}
		out = append(out, f)
	}
	return out
}

// FirmwareOf is what the machine's firmware kept of a kind, nil where the image has none.
func (m *Manifest) FirmwareOf(kind FirmwareKind) ([]byte, error) {
	for _, s := range m.Firmware {
		if s.Kind == kind && s.Left == "" {
			return s.Bytes()
		}
	}
	return nil, nil
}
