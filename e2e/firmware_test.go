package e2e

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/wire"
)

// A guest that only its firmware's variables know how to boot, with a TPM: its image in a sealed store brings all of it back.
func TestAGuestWithFirmware(t *testing.T) {
	forFaults(t, "UEFI takes its time three times")
	folder := sealedStore(t, "strongroom")
	makeLockGate(t)
	t.Cleanup(func() {
		for _, name := range []string{"lock-gate", "lock-gate-two"} {
			place.Quay.Virsh(context.Background(), "destroy", name)
			place.Quay.Virsh(context.Background(), "undefine", "--nvram", "--checkpoints-metadata", name)
		}
	})
	require.NoError(t, place.Quay.AwaitGuest(t.Context(), "lock-gate"), "it boots by its variables")
	withPolicy(t, "monthly-whole", policyText("lock-gate", "strongroom", ""), storeText("strongroom", folder)+"    sealed: true\n")
	backUp(t, "monthly-whole")
	m := keenJSON[[]wire.Image](t, "image", "list", "--store", "strongroom")[0]
	// A trial boots by the variables of the image, too.
	require.Contains(t, keenOK(t, "image", "prove", m.ID, "--level", "boot", "--wait"), "agent after")
	requireNoTrial(t)
	require.Regexp(t, `firmware +uefi-variables 528 KiB, tpm-state \d\.\d KiB`, keenOK(t, "image", "show", m.ID))
	requireClean(t, "lock-gate")
	require.NotContains(t, virsh(t, "pool-list"), "keenlodge")
	virsh(t, "destroy", "lock-gate")
	state := tpmState(t, "lock-gate")

	keenOK(t, "image", "restore", m.ID, "--as", "lock-gate-two", "--wait")
	require.Equal(t, state, tpmState(t, "lock-gate-two"))
	require.NotContains(t, virsh(t, "pool-list", "--all"), "keenlodge")
	virsh(t, "start", "lock-gate-two")
	require.NoError(t, place.Quay.AwaitGuest(t.Context(), "lock-gate-two"))

	var things []wire.Thing
	require.Eventually(t, func() bool { // a service asks within its first minute
		things = keenJSON[[]wire.Thing](t, "hypervisor", "around", "quay-1")
		return len(things) == 1
	}, 2*time.Minute, time.Second)
	require.Contains(t, things[0].Definition, "<path>"+filepath.Join(place.Folder, "pool")+"</path>")
	require.NotContains(t, things[0].Definition, "available")
}

// tpmState is what a guest's TPM emulator has in its file.
func tpmState(t *testing.T, guest string) []byte {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(place.Folder, "v", "c", "libvirt", "qemu", "swtpm", strings.TrimSpace(virsh(t, "domuuid", guest)), "tpm2", "tpm2-00.permall"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	body, err := os.ReadFile(found[0])
	require.NoError(t, err)
	return body
}

// makeLockGate makes guest lock-gate of berth-sim's disk and one with its kernel where no firmware looks by itself, and starts it.
func makeLockGate(t *testing.T) {
	t.Helper()
	work := t.TempDir()
	pool := filepath.Join(place.Folder, "pool")
	run := func(name string, args ...string) {
		t.Helper()
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
	}
	raw, esp, variables := filepath.Join(work, "vda.raw"), filepath.Join(work, "vdb.raw"), filepath.Join(work, "variables.fd")
	run("qemu-img", "convert", "-O", "raw", filepath.Join(pool, "berth-sim-vda.qcow2"), raw)
	for _, file := range []string{"vmlinuz", "initrd"} {
		run("debugfs", "-R", "dump /boot/"+file+" "+filepath.Join(work, file), raw+"?offset=1048576")
	}
	const first, sectors = uint64(2048), uint64(60 << 11)
	require.NoError(t, os.WriteFile(esp, nil, 0o600))
	require.NoError(t, os.Truncate(esp, 64<<20))
	run("sh", "-c", fmt.Sprintf("echo %d,%d,ef | sfdisk -q %s", first, sectors, esp))
	run("mkfs.vfat", "-F", "32", "--offset", fmt.Sprint(first), esp, fmt.Sprint(sectors/2))
	fat := esp + "@@1M"
	run("mmd", "-i", fat, "::brindle")
	run("mcopy", "-i", fat, filepath.Join(work, "vmlinuz"), "::brindle/linux.efi")
	run("mcopy", "-i", fat, filepath.Join(work, "initrd"), "::brindle/initrd")
	head := make([]byte, 512)
	f, err := os.Open(esp)
	require.NoError(t, err)
	_, err = f.Read(head)
	require.NoError(t, err)
	require.NoError(t, f.Close())

	store, err := os.ReadFile("/usr/share/OVMF/OVMF_VARS_4M.fd")
	require.NoError(t, err)
	at := 0x64 // after the headers of the volume and of the store
	at += copy(store[at:], variable("Boot0000", loadOption(head[440:444], first, sectors, `\brindle\linux.efi`, `initrd=\brindle\initrd console=ttyS0 quiet`)))
	copy(store[at:], variable("BootOrder", []byte{0, 0}))
	require.NoError(t, os.WriteFile(variables, store, 0o600))

	var disks strings.Builder
	for target, file := range map[string]string{"vda": raw, "vdb": esp} {
		first := map[string]string{"vdb": "<boot order='1'/>"}[target]
		to := filepath.Join(pool, "lock-gate-"+target+".qcow2")
		run("qemu-img", "convert", "-O", "qcow2", file, to)
		run("chown", "--reference="+pool, to)
		fmt.Fprintf(&disks, "<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='%s'/><target dev='%s' bus='virtio'/>%s</disk>", to, target, first)
	}
	// The variables are put where libvirt has them, and it is none of the test's business where that is.
	folder := filepath.Join(place.Folder, "v", "c", "libvirt", "qemu", "nvram")
	run("install", "-d", folder)
	run("install", "-m", "600", variables, filepath.Join(folder, "lock-gate_VARS.fd"))
	run("chown", "-R", "--reference="+pool, folder)
	kind, cpu := "qemu", ""
	if place.Quay.KVM() {
		kind, cpu = "kvm", "<cpu mode='host-passthrough'/>"
	}
	definition := filepath.Join(work, "lock-gate.xml")
	text := fmt.Sprintf(`<domain type='%s'><name>lock-gate</name><memory unit='MiB'>256</memory><vcpu>1</vcpu>%s
<os><type arch='x86_64' machine='q35'>hvm</type><loader readonly='yes' type='pflash'>/usr/share/OVMF/OVMF_CODE_4M.fd</loader><nvram template='/usr/share/OVMF/OVMF_VARS_4M.fd'/></os>
<features><acpi/></features><devices><emulator>/usr/bin/qemu-system-x86_64</emulator>%s<tpm model='tpm-crb'><backend type='emulator' version='2.0'/></tpm>
<channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0'/></channel><memballoon model='none'/></devices></domain>`, kind, cpu, disks.String())
	require.NoError(t, os.WriteFile(definition, []byte(text), 0o600))
	virsh(t, "define", definition)
	virsh(t, "start", "lock-gate")
}

// variable is an authenticated variable as EDK II keeps it (MdeModulePkg/Include/Guid/VariableFormat.h), of the global vendor, non-volatile.
func variable(name string, data []byte) []byte {
	var b bytes.Buffer
	wide := ucs2(name)
	put := func(v any) { binary.Write(&b, binary.LittleEndian, v) }
	put(uint16(0x55aa))
	put([]byte{0x3f, 0})
	put(uint32(7))
	put(make([]byte, 8+16+4)) // count, time, key
	put(uint32(len(wide)))
	put(uint32(len(data)))
	put([]byte{0x61, 0xdf, 0xe4, 0x8b, 0xca, 0x93, 0xd2, 0x11, 0xaa, 0x0d, 0x00, 0xe0, 0x98, 0x03, 0x2b, 0x8c})
	put(wide)
	put(data)
	put(make([]byte, -b.Len()&3))
	return b.Bytes()
}

// loadOption is what to boot (UEFI 2.10, 3.1.3 and 10.3): a file of a partition, and the text that is handed to it.
func loadOption(signature []byte, first, sectors uint64, file, arguments string) []byte {
	var path, b bytes.Buffer
	put := func(to *bytes.Buffer, v ...any) {
		for _, one := range v {
			binary.Write(to, binary.LittleEndian, one)
		}
	}
	put(&path, []byte{4, 1}, uint16(42), uint32(1), first, sectors, append(bytes.Clone(signature), make([]byte, 12)...), []byte{1, 1})
	wide := ucs2(file)
	put(&path, []byte{4, 4}, uint16(4+len(wide)), wide, []byte{0x7f, 0xff, 4, 0})
	put(&b, uint32(1), uint16(path.Len()), ucs2("Lock gate"), path.Bytes(), ucs2(arguments))
	return b.Bytes()
}

func ucs2(s string) (out []byte) {
	for _, u := range append(utf16.Encode([]rune(s)), 0) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}
