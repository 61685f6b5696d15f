package trial

import (
	"fmt"
	"image/color"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/source"
)

const definition = `<domain type='kvm'><name>tickets-db</name><uuid>93f26de9-a72c-4a99-b682-1510c9c87e70</uuid>
<memory unit='GiB'>64</memory><vcpu>16</vcpu><cpu mode='host-passthrough'><topology sockets='1' cores='16' threads='1'/><numa><cell id='0' cpus='0-15' memory='64' unit='GiB'/></numa></cpu>
<os><type arch='x86_64' machine='pc-q35-9.2'>hvm</type><boot dev='network'/><boot dev='hd'/></os>
<devices><emulator>/opt/qemu</emulator>
<disk type='file' device='disk'><driver name='qemu' type='qcow2' cache='none'/><source file='/srv/vda.qcow2'/><target dev='vda' bus='virtio'/></disk>
<filesystem type='mount'><source dir='/srv'/><target dir='shared'/></filesystem>
<hostdev mode='subsystem' type='usb'><source><vendor id='0x1'/><product id='0x2'/></source></hostdev>
<interface type='bridge'><mac address='52:54:00:12:34:56'/><source bridge='br0'/><model type='virtio'/></interface>
<graphics type='vnc' port='5900' listen='0.0.0.0'/><sound model='ich9'/>
<watchdog model='itco' action='dump'/>
<channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0'/></channel>
</devices></domain>`

func thrown() source.Throwaway {
	return source.Throwaway{ID: "abcdefgh-1", Definition: definition, Disks: map[string]string{"vda": "/pool/keenlodge-trial-abcdefgh-1-vda.qcow2"}, Memory: 512 << 20,
		Plug: func() (int, int, error) { return 4711, 4712, nil }}
}

// A throwaway guest has nothing of its host, no network but the one that it is given, and its own addresses; what the host can't run is the nearest that it
// can, and told.
func TestADefinitionIsCutDown(t *testing.T) {
	def, adapted, err := cut(thrown(), Abilities{Machines: []string{"q35", "pc"}, CPUs: 4})
	require.NoError(t, err)
	text, err := def.Marshal()
	require.NoError(t, err)
	for _, gone := range []string{"/opt/qemu", "filesystem", "hostdev", "br0", "vnc", "sound", "watchdog", "93f26de9", `dev="network"`, "host-passthrough", "numa", "/srv/vda.qcow2", "5900"} {
		require.NotContains(t, text, gone)
	}
	for _, there := range []string{"<name>keenlodge-trial-abcdefgh-1</name>", `type="qemu"`, "52:54:00:12:34:56", `type="udp"`, `port="4711"`, `<local address="127.0.0.1" port="4712">`, `rom enabled="no"`,
		`machine="q35"`, `mode="maximum"`, `file="/pool/keenlodge-trial-abcdefgh-1-vda.qcow2"`, `cache="unsafe"`, `error_policy="stop"`, `unit="KiB">524288<`, `type="vga"`, `<on_poweroff>destroy`, "org.qemu.guest_agent.0", `<serial type="pty"`} {
		require.Contains(t, text, there)
	}
	said := strings.Join(adapted, "\n")
	for _, want := range []string{"its processor is emulated, for the host has no KVM", "it is a machine of type q35, for the host has no pc-q35-9.2", "it has 512 MiB of memory, not 65536", "it has 4 processors, not 16", "left out: devices.hostdevs"} {
		require.Contains(t, said, want)
	}
	require.NotContains(t, said, "emulator")
	memory, agent := Outline(thrown())
	require.EqualValues(t, 512<<20, memory)
	require.True(t, agent)

	// On a host that can run it as it is, nothing but the network is other; without a network its cards have no link; and its clock is what it is to be.
	free := thrown()
	free.Plug, free.Memory, free.Clock = nil, 0, time.Now().Add(-48*time.Hour)
	def, adapted, err = cut(free, Abilities{KVM: true, Machines: []string{"pc-q35-9.2"}, CPUs: 32})
	require.NoError(t, err)
	text, err = def.Marshal()
	require.NoError(t, err)
	require.Contains(t, text, `<link state="down">`)
	require.Contains(t, text, `machine="pc-q35-9.2"`)
	require.Contains(t, text, "host-passthrough")
	require.Contains(t, text, `offset="variable"`)
	require.Contains(t, text, `adjustment="-172800"`)
	require.Contains(t, strings.Join(adapted, "\n"), "its clock begins at ")
}

// A guest that is started by UEFI needs a host that has it, and gets the host's where its own is not there.
func TestFirmware(t *testing.T) {
	uefi := thrown()
	uefi.Definition = strings.Replace(definition, "<boot dev='hd'/>", "<loader readonly='yes' type='pflash'>/usr/share/OVMF/OVMF_CODE_2M.fd</loader><nvram>/var/x_VARS.fd</nvram>", 1)
	uefi.Variables = "/pool/variables.fd"
	_, _, err := cut(uefi, Abilities{})
	require.ErrorContains(t, err, "the host has no firmware of that kind; install ovmf")
	def, adapted, err := cut(uefi, Abilities{Firmware: []string{"/usr/share/OVMF/OVMF_CODE_4M.fd"}})
	require.NoError(t, err)
	text, err := def.Marshal()
	require.NoError(t, err)
	require.Contains(t, text, `firmware="efi"`)
	require.Contains(t, text, "/pool/variables.fd")
	require.Contains(t, strings.Join(adapted, "\n"), "its firmware is the host's, for there is no /usr/share/OVMF/OVMF_CODE_2M.fd")
	def, _, err = cut(uefi, Abilities{Firmware: []string{"/usr/share/OVMF/OVMF_CODE_2M.fd"}})
	require.NoError(t, err)
	require.Equal(t, "/usr/share/OVMF/OVMF_CODE_2M.fd", def.OS.Loader.Path)
}

// Of a server's layout a guest is made: its disks at the same kind of controller, started as the server was.
func TestAServerAsAGuest(t *testing.T) {
	s := source.Throwaway{ID: "abcdefgh-1", Definition: `{"kind": "server", "boot": "uefi", "disks": [{"target": "sda"}, {"target": "vdb"}, {"target": "nvme0n1"}]}`,
		Disks: map[string]string{"sda": "/pool/a", "vdb": "/pool/b", "nvme0n1": "/pool/c"}}
	def, _, err := cut(s, Abilities{KVM: true, Machines: []string{"q35"}, Firmware: []string{"x"}, CPUs: 8})
	require.NoError(t, err)
	require.Equal(t, "efi", def.OS.Firmware)
	require.Equal(t, "sata", def.Devices.Disks[0].Target.Bus)
	require.Equal(t, "virtio", def.Devices.Disks[1].Target.Bus)
	require.Equal(t, "/pool/c", def.Devices.Disks[2].Source.File.File)
	require.Equal(t, "virtio", def.Devices.Disks[2].Target.Bus)
	for _, bad := range []string{`{"kind": "guest"}`, `{`, "<torn", "<domain type='xen'/>"} {
		s.Definition = bad
		_, _, err := cut(s, Abilities{})
		require.Error(t, err, bad)
	}
}

func TestScreens(t *testing.T) {
	memory := make([]byte, columns*rows*2)
	for i, c := range []byte("Welcome to GRUB!") {
		memory[i*2] = c
	}
	for i, c := range []byte("grub>") {
		memory[(3*columns+i)*2] = c
	}
	require.Equal(t, "Welcome to GRUB!\n\n\ngrub>", screen(memory))
	for i := range memory {
		memory[i] = byte(i * 7)
	}
	require.Empty(t, screen(memory), "that is no text")
	require.Empty(t, screen(nil))

	shown, err := portable(fmt.Appendf(nil, "P6\n2 1\n255\n\x01\x02\x03\xff\x00\x80"))
	require.NoError(t, err)
	require.Equal(t, color.NRGBA{0xff, 0, 0x80, 0xff}, shown.At(1, 0))
	for _, bad := range []string{"", "P6\n", "P5\n2 1\n255\n123456", "P6\n2 2\n255\n123456", "P6\n99999 1\n255\n123456", "P6\n2 1\n65535\n123456"} {
		_, err := portable([]byte(bad))
		require.Error(t, err, "%q", bad)
	}
}
