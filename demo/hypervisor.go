package demo

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"keenlodge/internal/core/site"
)

// guestAccount is the account under which guests' processes run. It owns nothing else.
const guestAccount = "nobody"

// Hypervisor is a private libvirt of the place, under an account that has no rights, with a storage pool.
type Hypervisor struct {
	Name   string
	Pool   string // its storage pool's name
	Guests []Guest

	p            *Place
	folder, pool string // in the place's: of the daemon, of disks
	process      *Process
	kvm          bool
	ssh          *sshd
	tls          *certificates
}

// Start starts the daemon, and makes the storage pool.
func (h *Hypervisor) Start(ctx context.Context) error {
	who, err := account(guestAccount)
	if err != nil {
		return err
	}
	virt := h.p.Path(h.folder)
	config := filepath.Join(virt, "c", "libvirt")
	for _, d := range []string{config, filepath.Join(virt, "run"), filepath.Join(virt, "cache"), filepath.Join(virt, "data"), h.p.Path(h.pool)} {
		if err := os.MkdirAll(d, 0o711); err != nil {
			return err
		}
	}
	qemu, daemon := "stdio_handler = \"file\"\nsecurity_driver = \"none\"\n", fmt.Sprintf("auth_unix_rw = \"none\"\nhost_uuid = %q\n", h.uuid())
	if h.tls != nil {
		q, d := h.tls.settings()
		qemu, daemon = qemu+q, daemon+d
	}
	for name, text := range map[string]string{"qemu.conf": qemu, "libvirtd.conf": daemon} {
		if err := os.WriteFile(filepath.Join(config, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	for _, d := range []string{virt, h.p.Path(h.pool)} {
		err := filepath.WalkDir(d, func(path string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return os.Chown(path, int(who.Uid), int(who.Gid))
		})
		if err != nil {
			return err
		}
	}
	if err := h.p.reapOrphans(); err != nil {
		return err
	}
	if err := h.startDaemon(ctx, who); err != nil {
		return err
	}
	if _, err := h.Virsh(ctx, "pool-create-as", h.Pool, "dir", "--target", h.p.Path(h.pool)); err != nil {
		return err
	}
	h.kvm = kvmWorks(ctx, who)
	return nil
}

func (h *Hypervisor) startDaemon(ctx context.Context, who *syscall.Credential) error {
	virt := h.p.Path(h.folder)
	// It has a host name of its own, for libvirt moves no guest to the host that it is on.
	cmd := exec.Command("unshare", "--uts", "sh", "-c", `hostname "$0" && exec "$@"`, h.Name+".brindle.example",
		"setpriv", fmt.Sprint("--reuid=", who.Uid), fmt.Sprint("--regid=", who.Gid), "--clear-groups", "libvirtd", "-f", filepath.Join(virt, "c", "libvirt", "libvirtd.conf"))
	if h.tls != nil {
		cmd.Args = append(cmd.Args, "--listen")
	}
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + virt, "XDG_RUNTIME_DIR=" + filepath.Join(virt, "run"),
		"XDG_CONFIG_HOME=" + filepath.Join(virt, "c"), "XDG_CACHE_HOME=" + filepath.Join(virt, "cache"), "XDG_DATA_HOME=" + filepath.Join(virt, "data")}
	var err error
	if h.process, err = h.p.start("libvirt-"+h.Name, cmd, syscall.SIGTERM); err != nil {
		return err
	}
	return Until(ctx, 30*time.Second, "libvirt of "+h.Name, func() error { _, err := h.Virsh(ctx, "version"); return err })
}

// uuid tells its host from others that are this one, too.
func (h *Hypervisor) uuid() string {
	sum := sha256.Sum256([]byte(h.Name))
	return fmt.Sprintf("%x-%x-%x-%x-%x", sum[0:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
}

// Move moves a guest that runs to another host, with all that it is doing; its disks lie where both have them.
func (h *Hypervisor) Move(ctx context.Context, guest string, to *Hypervisor) error {
	socket := to.p.Path(to.folder, guest+".migrate")
	_, err := h.Virsh(ctx, "migrate", "--live", "--persistent", "--undefinesource", "--unsafe", guest, to.URI(), "--migrateuri", "unix://"+socket)
	return err
}

// Kill kills the daemon (SIGKILL), waits for a while, and starts it anew. Guests run on meanwhile.
func (h *Hypervisor) Kill(ctx context.Context, away time.Duration) error {
	who, err := account(guestAccount)
	if err != nil {
		return err
	}
	first := h.process
	first.Signal(syscall.SIGKILL)
	time.Sleep(away)
	err = h.startDaemon(ctx, who)
	h.p.mu.Lock()
	defer h.p.mu.Unlock()
	if i := slices.Index(h.p.started, first); i >= 0 && h.process != first { // it is stopped when the first one would have been
		h.p.started[i] = h.process
		h.p.started = h.p.started[:len(h.p.started)-1]
	}
	return err
}

// Ended reports whether the daemon died by itself.
func (h *Hypervisor) Ended() bool { return h.process == nil || h.process.Ended() }

// Socket is the daemon's.
func (h *Hypervisor) Socket() string { return h.p.Path(h.folder, "run", "libvirt", "libvirt-sock") }

// URI is the daemon's address on this host.
func (h *Hypervisor) URI() string { return "qemu+unix:///session?socket=" + h.Socket() }

// Disk is the file of a guest's disk.
func (h *Hypervisor) Disk(guest, target string) string {
	return h.p.Path(h.pool, guest+"-"+target+".qcow2")
}

// Spec is the hypervisor as a site of this host has it.
func (h *Hypervisor) Spec() site.Hypervisor { return site.Hypervisor{URI: h.URI(), Pool: h.Pool} }

// OverSSH is the hypervisor as it is reached by SSH, for which OpenSSH has started a server.
func (h *Hypervisor) OverSSH() site.Hypervisor {
	uri := fmt.Sprintf("qemu+ssh://%s@127.0.0.1:%d/session?socket=%s", guestAccount, h.ssh.port, url.QueryEscape(h.Socket()))
	return site.Hypervisor{URI: uri, Pool: h.Pool, HostKey: h.ssh.hostKey, KeyFile: h.ssh.keyFile}
}

// OverTLS is the hypervisor as it is reached over TLS, which OpenTLS has made possible.
func (h *Hypervisor) OverTLS() site.Hypervisor {
	file := func(name string) string { return filepath.Join(h.tls.folder, name+".pem") }
	return site.Hypervisor{URI: fmt.Sprintf("qemu+tls://127.0.0.1:%d/session", h.tls.port), Pool: h.Pool,
		CAFile: file("ca-cert"), CertFile: file("client-cert"), KeyFile: file("client-key")}
}

// KVM reports whether guests run with hardware support.
func (h *Hypervisor) KVM() bool { return h.kvm }

// Virsh runs libvirt's own client, the judge that is not ours.
func (h *Hypervisor) Virsh(ctx context.Context, args ...string) (string, error) {
	return as(ctx, nil, "virsh", append([]string{"-q", "-c", h.URI()}, args...)...)
}

// kvmWorks finds out by running a kernel: /dev/kvm may open and answer, and guests hang all the same.
func kvmWorks(ctx context.Context, who *syscall.Credential) bool {
	device, err := os.Stat("/dev/kvm")
	if err != nil {
		return false
	}
	if st, ok := device.Sys().(*syscall.Stat_t); ok && st.Mode&0o006 != 0o006 && (st.Gid != who.Gid || st.Mode&0o060 != 0o060) {
		return false // guests' account may not open it
	}
	kernels, err := filepath.Glob("/boot/vmlinuz-*-cloud-amd64")
	if err != nil || len(kernels) == 0 {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, 6*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "qemu-system-x86_64", "-accel", "kvm", "-cpu", "host", "-m", "256", "-nodefaults", "-display", "none", "-no-reboot",
		"-serial", "stdio", "-kernel", kernels[len(kernels)-1], "-append", "console=ttyS0 panic=-1")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	out, _ := cmd.Output() // it panics for want of a root file system, or hangs; what it printed decides
	return bytes.Contains(out, []byte("Linux version"))
}

// Guest describes a guest to make.
type Guest struct {
	Name  string
	Disks int
	Tags  map[string]string
	Off   bool
	// Memory is in MiB, 0 for what the small guests need.
	Memory int
}

// smallMemory is what the small guests need, in MiB.
const smallMemory = 160

// MakeDisks makes a guest's disks.
func (h *Hypervisor) MakeDisks(ctx context.Context, g Guest) error {
	if _, err := as(ctx, nil, h.p.Path(guestScript), h.p.Path(h.pool), g.Name, fmt.Sprint(g.Disks)); err != nil {
		return fmt.Errorf("make guest %s: %w", g.Name, err)
	}
	who, err := account(guestAccount)
	if err != nil {
		return err
	}
	for _, target := range []string{"vda", "vdb"}[:g.Disks] {
		if err := os.Chown(h.Disk(g.Name, target), int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	return nil
}

// MakeGuest makes a guest's disks, defines it, and starts it unless it is to be off.
func (h *Hypervisor) MakeGuest(ctx context.Context, g Guest) error {
	if err := h.MakeDisks(ctx, g); err != nil {
		return err
	}
	var disks strings.Builder
	for _, target := range []string{"vda", "vdb"}[:g.Disks] {
		fmt.Fprintf(&disks, "<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='%s'/><target dev='%s' bus='virtio'/></disk>", h.Disk(g.Name, target), target)
	}
	return h.Define(ctx, g, disks.String())
}

// Define defines a guest over disks that exist already, given as libvirt's XML.
func (h *Hypervisor) Define(ctx context.Context, g Guest, disks string) error {
	kind, cpu := "qemu", ""
	if h.kvm {
		kind, cpu = "kvm", "<cpu mode='host-passthrough'/>"
	}
	var tags strings.Builder
	for _, k := range slices.Sorted(mapKeys(g.Tags)) {
		fmt.Fprintf(&tags, "<lodge:tag key='%s'>%s</lodge:tag>", k, g.Tags[k])
	}
	text := fmt.Sprintf(`<domain type='%s'><name>%s</name>
<metadata><lodge:tags xmlns:lodge='urn:keenlodge:tags'>%s</lodge:tags></metadata>
<memory unit='MiB'>%d</memory><vcpu>1</vcpu>%s<os><type arch='x86_64' machine='pc'>hvm</type><boot dev='hd'/></os><features><acpi/></features>
<devices><emulator>/usr/bin/qemu-system-x86_64</emulator>%s
<interface type='user'><model type='virtio'/></interface>
<channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0'/></channel><memballoon model='none'/></devices></domain>`, kind, g.Name, tags.String(), cmp.Or(g.Memory, smallMemory), cpu, disks)
	file := h.p.Path(g.Name + ".xml")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return err
	}
	if _, err := h.Virsh(ctx, "define", file); err != nil {
		return err
	}
	if g.Off {
		return nil
	}
	_, err := h.Virsh(ctx, "start", g.Name)
	return err
}

func mapKeys(m map[string]string) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// AwaitGuest waits until a guest's agent answers and it has begun its ledger.
func (h *Hypervisor) AwaitGuest(ctx context.Context, name string) error {
	return Until(ctx, 4*time.Minute, "guest "+name, func() error {
		_, err := h.Virsh(ctx, "qemu-agent-command", "--timeout", "5", name, `{"execute":"guest-ping"}`)
		return err
	})
}
