package demo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"

	"keenlodge/packaging"
)

// Gate is the server of the demonstration, on the north pier: a Debian with our agent in it, which no hypervisor of the site knows.
const Gate = "gate-07"

// kept is the folder in which what takes long to make is kept for the next start.
func (p *Place) kept() string { return p.Folder + "-kept" }

// MakeServer makes the disk of gate-07, or takes the one that was made before of the same script, and returns its place.
func (p *Place) MakeServer(ctx context.Context) (string, error) {
	script, unit, writable, folder := p.Path(serverScript), p.Path("keenlodge-agent.service"), p.Path("keenlodge-agent-writable.conf"), p.Path("server")
	if err := errors.Join(os.WriteFile(unit, packaging.AgentUnit, 0o644), os.WriteFile(writable, packaging.AgentWritable, 0o644)); err != nil {
		return "", err
	}
	sum := sha256.New()
	for _, file := range []string{script, p.Path("boot.sh"), unit, writable} {
		body, err := os.ReadFile(file)
		if err != nil {
			return "", err
		}
		sum.Write(body)
	}
	kept := filepath.Join(p.kept(), hex.EncodeToString(sum.Sum(nil))[:16])
	disk := filepath.Join(kept, Gate+".qcow2")
	if _, err := os.Stat(disk); err == nil {
		return disk, nil
	}
	// It is made in the place's folder: whatever is mounted for it goes with that.
	if err := os.Mkdir(folder, 0o755); err != nil {
		return "", err
	}
	const making = "make-" + Gate
	made, err := p.start(making, exec.Command(script, folder, Gate, unit, writable), syscall.SIGTERM)
	if err != nil {
		return "", err
	}
	select {
	case <-made.done:
	case <-ctx.Done():
		made.Signal(syscall.SIGTERM)
	}
	if state := made.cmd.ProcessState; !state.Success() {
		return "", fmt.Errorf("make server %s: %s: %s; what it said is in %s", Gate, serverScript, state, p.Path(making+".log"))
	}
	if err := os.RemoveAll(p.kept()); err != nil { // one of another script
		return "", err
	}
	if err := os.MkdirAll(kept, 0o755); err != nil {
		return "", err
	}
	return disk, os.Rename(filepath.Join(folder, Gate+".qcow2"), disk)
}

// programDisk makes a disk with this program on it.
func (p *Place) programDisk(ctx context.Context) (string, error) {
	folder, disk := p.Path("program"), p.Path("program.raw")
	if err := os.Mkdir(folder, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	_, err := as(ctx, nil, "sh", "-ec", `cp "$0" "$1/keenlodge"; rm -f "$2"; truncate -s $(( $(stat -c %s "$0") + (24 << 20) )) "$2"; mkfs.ext4 -q -F -L program -E root_owner=0:0 -d "$1" "$2"`, p.Program, folder, disk)
	return disk, err
}

// StartServer starts gate-07 over a disk, which stays as it is. Its agent joins by what is in the files lodge, fingerprint and word of a folder.
func (p *Place) StartServer(ctx context.Context, base, knows string) (*Process, error) {
	program, err := p.programDisk(ctx)
	if err != nil {
		return nil, err
	}
	over := p.Path(Gate + ".qcow2")
	if _, err := as(ctx, nil, "qemu-img", "create", "-q", "-f", "qcow2", "-F", "qcow2", "-b", base, over); err != nil {
		return nil, err
	}
	who, err := account(guestAccount)
	if err != nil {
		return nil, err
	}
	files := []string{over, knows}
	accel := []string{"-accel", "tcg,thread=multi", "-cpu", "max"}
	if p.Quay.KVM() {
		accel = []string{"-accel", "kvm", "-cpu", "host"}
	}
	args := append(accel, "-name", Gate, "-m", "512", "-nodefaults", "-display", "none", "-serial", "file:"+p.Path(Gate+".console"),
		"-drive", "if=virtio,format=qcow2,file="+over, "-drive", "if=virtio,format=raw,readonly=on,file="+program,
		"-netdev", "user,id=pier", "-device", "virtio-net-pci,netdev=pier,romfile=")
	for _, name := range []string{"lodge", "fingerprint", "word"} {
		file := filepath.Join(knows, name)
		args = append(args, "-fw_cfg", "name=opt/keenlodge/"+name+",file="+file)
		files = append(files, file)
	}
	console := p.Path(Gate + ".console")
	if err := os.WriteFile(console, nil, 0o644); err != nil {
		return nil, err
	}
	for _, f := range append(files, console) {
		if err := os.Chown(f, int(who.Uid), int(who.Gid)); err != nil {
			return nil, err
		}
	}
	cmd := exec.Command("qemu-system-x86_64", args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	return p.start(Gate, cmd, syscall.SIGTERM)
}

// LoopbackInside is where a guest on QEMU's user network finds the host's loopback.
const LoopbackInside = "10.0.2.2"
