package trial

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/admit"
)

// Abilities are what a host can run.
type Abilities struct {
	// KVM says that guests may have its own processor.
	KVM bool
	// Machines are the types of machine, Firmware the files of UEFI that it has.
	Machines, Firmware []string
	// CPUs is how many processors it has.
	CPUs int
}

// cut makes a definition that of a throwaway guest: as it is, but for what reaches beyond the guest and what the host can't run, which it tells.
func cut(t source.Throwaway, on Abilities) (def *libvirtxml.Domain, adapted []string, err error) {
	say := func(format string, args ...any) { adapted = append(adapted, fmt.Sprintf(format, args...)) }
	def, cards, err := parse(&t)
	if err != nil {
		return nil, nil, err
	}
	left, err := admit.Definition(def, t.Disks, nil)
	if err != nil {
		return nil, nil, err
	}
	for _, what := range left {
		if !slices.ContainsFunc(hostsOwn, func(is *regexp.Regexp) bool { return is.MatchString(what) }) {
			say("left out: %s", what)
		}
	}
	def.Name, def.UUID, def.ID, def.Title, def.Description = source.TrialMark+t.ID, "", nil, "", ""
	def.Metadata = nil
	def.OnPoweroff, def.OnReboot, def.OnCrash = "destroy", "restart", "preserve"
	if err := Fit(def, on, say); err != nil {
		return nil, nil, err
	}
	if t.Variables != "" && def.OS != nil && isUEFI(def) {
		if def.OS.NVRam == nil {
			def.OS.NVRam = &libvirtxml.DomainNVRam{}
		}
		def.OS.NVRam.NVRam = t.Variables
	}
	fitMemory(def, t, say)
	fitProcessor(def, on, say)
	fitDevices(def, t, cards)
	if !t.Clock.IsZero() {
		def.Clock = &libvirtxml.DomainClock{Offset: "variable", Basis: "utc", Adjustment: fmt.Sprint(int64(time.Until(t.Clock).Round(time.Second) / time.Second))}
		say("its clock begins at %s", t.Clock.UTC().Format(time.RFC3339))
	}
	if err := plug(def, t); err != nil {
		return nil, nil, err
	}
	return def, adapted, nil
}

// hostsOwn is what every definition has of its host, and no guest misses.
var hostsOwn = []*regexp.Regexp{regexp.MustCompile(`^devices\.(emulator|audios)$`), regexp.MustCompile(`^input-\d+\.source$`)}

// parse reads a definition, or makes one of a server's layout. cards are the hardware addresses of its network cards, which a throwaway guest keeps: it
// is alone in its network, and knows its cards by them.
func parse(t *source.Throwaway) (def *libvirtxml.Domain, cards []*libvirtxml.DomainInterfaceMAC, err error) {
	layout := admit.IsLayout(t.Definition)
	def, t.Disks, err = admit.Read(t.Definition, t.Disks)
	if err != nil {
		return nil, nil, err
	}
	if layout { // a server's memory is for its load, of which it has none here
		def.Memory = &libvirtxml.DomainMemory{Value: uint(min(bytesOf(def.Memory), serverMemory) >> 10), Unit: "KiB"}
	}
	if def.Devices != nil {
		for _, k := range def.Devices.Interfaces {
			cards = append(cards, k.MAC)
		}
	}
	return def, cards, nil
}

// serverMemory is how much memory a server gets at the most when it is tried, in bytes.
const serverMemory = 2 << 30

// Fit makes a definition one that a host can run: where it can't be as it is, the nearest that works is taken, and told.
func Fit(def *libvirtxml.Domain, on Abilities, say func(format string, args ...any)) error {
	if def.Type == "kvm" && !on.KVM {
		def.Type = "qemu"
		say("its processor is emulated, for the host has no KVM: it is slower than it was")
		if def.CPU != nil && (def.CPU.Mode == "host-passthrough" || def.CPU.Mode == "host-model") {
			generic(def)
		}
	}
	fitMachine(def, on, say)
	return fitFirmware(def, on, say)
}

// fitMachine takes the newest type of machine of the same family where the host does not have the one of the definition.
func fitMachine(def *libvirtxml.Domain, on Abilities, say func(string, ...any)) {
	if def.OS == nil || def.OS.Type == nil || def.OS.Type.Machine == "" || len(on.Machines) == 0 || slices.Contains(on.Machines, def.OS.Type.Machine) {
		return
	}
	was := def.OS.Type.Machine
	def.OS.Type.Machine = "pc"
	if strings.Contains(was, "q35") {
		def.OS.Type.Machine = "q35"
	}
	say("it is a machine of type %s, for the host has no %s", def.OS.Type.Machine, was)
}

// isUEFI reports whether a definition is started by UEFI.
func isUEFI(def *libvirtxml.Domain) bool {
	return def.OS != nil && (def.OS.Firmware == "efi" || def.OS.Loader != nil && def.OS.Loader.Type == "pflash")
}

// fitFirmware takes the host's UEFI where the definition's is not there.
func fitFirmware(def *libvirtxml.Domain, on Abilities, say func(string, ...any)) error {
	if !isUEFI(def) {
		return nil
	}
	if len(on.Firmware) == 0 {
		return fmt.Errorf("it is started by UEFI, and the host has no firmware of that kind; install ovmf there")
	}
	if def.OS.Loader != nil && def.OS.Loader.Path != "" && !slices.Contains(on.Firmware, def.OS.Loader.Path) {
		say("its firmware is the host's, for there is no %s", def.OS.Loader.Path)
		def.OS.Firmware, def.OS.FirmwareInfo, def.OS.Loader, def.OS.NVRam = "efi", nil, nil, nil
	}
	return nil
}

// fitMemory gives it no more memory than it may have.
func fitMemory(def *libvirtxml.Domain, t source.Throwaway, say func(string, ...any)) {
	has := bytesOf(def.Memory)
	def.MaximumMemory, def.CurrentMemory = nil, nil
	if def.CPU != nil {
		def.CPU.Numa = nil
	}
	if t.Memory > 0 && has > t.Memory {
		say("it has %d MiB of memory, not %d", t.Memory>>20, has>>20)
		has = t.Memory
	}
	def.Memory = &libvirtxml.DomainMemory{Value: uint(has >> 10), Unit: "KiB"}
}

// bytesOf is a size of memory (libvirt's scaled integers: KiB unless said otherwise).
func bytesOf(m *libvirtxml.DomainMemory) int64 {
	if m == nil {
		return 1 << 30
	}
	factor := map[string]int64{"b": 1, "bytes": 1, "KB": 1000, "k": 1 << 10, "KiB": 1 << 10, "": 1 << 10, "MB": 1e6, "M": 1 << 20, "MiB": 1 << 20, "GB": 1e9, "G": 1 << 30, "GiB": 1 << 30, "T": 1 << 40, "TiB": 1 << 40}[m.Unit]
	if factor == 0 || int64(m.Value) > 1<<50/factor {
		return 1 << 30
	}
	return max(int64(m.Value)*factor, 64<<20)
}

// Outline is how much memory a guest would have, in bytes, and whether it has a place for QEMU's guest agent.
func Outline(t source.Throwaway) (memory int64, agent bool) {
	def, _, err := parse(&t)
	if err != nil {
		return 0, false
	}
	memory = bytesOf(def.Memory)
	if t.Memory > 0 {
		memory = min(memory, t.Memory)
	}
	return memory, def.Devices != nil && slices.ContainsFunc(def.Devices.Channels, func(c libvirtxml.DomainChannel) bool {
		return c.Target != nil && c.Target.VirtIO != nil && c.Target.VirtIO.Name == admit.AgentPort
	})
}

// fitProcessor gives it no more processors than the host has, and such as can be emulated where they must.
func fitProcessor(def *libvirtxml.Domain, on Abilities, say func(string, ...any)) {
	def.VCPUs = nil
	if def.VCPU == nil {
		def.VCPU = &libvirtxml.DomainVCPU{Value: 1}
	}
	def.VCPU.Current, def.VCPU.CPUSet = 0, ""
	if on.CPUs > 0 && int(def.VCPU.Value) > on.CPUs {
		say("it has %d processors, not %d", on.CPUs, def.VCPU.Value)
		def.VCPU.Value = uint(on.CPUs)
		if def.CPU != nil {
			def.CPU.Topology = nil
		}
	}
	if def.CPU != nil && def.CPU.Check != "" {
		def.CPU.Check = "none"
	}
	if def.Type == "qemu" && def.CPU != nil && (def.CPU.Mode == "host-passthrough" || def.CPU.Mode == "host-model") {
		generic(def)
	}
}

// generic gives it a processor with all that its host can give it.
func generic(def *libvirtxml.Domain) {
	was := def.CPU
	def.CPU = &libvirtxml.DomainCPU{Mode: "maximum"}
	if was != nil {
		def.CPU.Topology = was.Topology
	}
}

// fitDevices has it write where nothing has to last, start from its disks alone, and show what it does. Nobody looks at it but the trial.
func fitDevices(def *libvirtxml.Domain, t source.Throwaway, cards []*libvirtxml.DomainInterfaceMAC) {
	d := def.Devices
	if d == nil {
		d = &libvirtxml.DomainDeviceList{}
		def.Devices = d
	}
	if def.OS != nil {
		def.OS.BootDevices = slices.DeleteFunc(def.OS.BootDevices, func(b libvirtxml.DomainBootDevice) bool { return b.Dev == "network" || b.Dev == "cdrom" })
	}
	for i := range d.Disks {
		k := &d.Disks[i]
		k.IOTune = nil
		if _, ours := t.Disks[k.Target.Dev]; ours {
			k.Driver = &libvirtxml.DomainDiskDriver{Name: "qemu", Type: "qcow2", Cache: "unsafe", Discard: "unmap", ErrorPolicy: "stop", RErrorPolicy: "stop"}
		}
	}
	for i := range d.Interfaces {
		k := &d.Interfaces[i]
		k.Source, k.VLan, k.Bandwidth, k.Boot, k.ROM = nil, nil, nil, nil, &libvirtxml.DomainROM{Enabled: "no"}
		if i < len(cards) {
			k.MAC = cards[i]
		}
	}
	d.Graphics, d.Sounds, d.Watchdogs = nil, nil, nil
	d.Channels = slices.DeleteFunc(d.Channels, func(c libvirtxml.DomainChannel) bool { return c.Source == nil || c.Source.UNIX == nil })
	if len(d.Videos) == 0 {
		d.Videos = []libvirtxml.DomainVideo{{Model: libvirtxml.DomainVideoModel{Type: "vga"}}}
	}
	for i := range d.Videos {
		if d.Videos[i].Model.Type == "qxl" { // which is of use with a viewer only
			d.Videos[i].Model = libvirtxml.DomainVideoModel{Type: "vga"}
		}
	}
	if len(d.Serials) == 0 {
		d.Serials, d.Consoles = []libvirtxml.DomainSerial{{Source: &libvirtxml.DomainChardevSource{Pty: &libvirtxml.DomainChardevSourcePty{}}}}, nil
	}
}

// plug connects its cards.
func plug(def *libvirtxml.Domain, t source.Throwaway) error {
	for i := range def.Devices.Interfaces {
		k := &def.Devices.Interfaces[i]
		k.Link = nil
		if t.Plug == nil {
			k.Source, k.Link = &libvirtxml.DomainInterfaceSource{User: &libvirtxml.DomainInterfaceSourceUser{}}, &libvirtxml.DomainInterfaceLink{State: "down"}
			continue
		}
		here, there, err := t.Plug()
		if err != nil {
			return err
		}
		const loopback = "127.0.0.1"
		k.Source = &libvirtxml.DomainInterfaceSource{UDP: &libvirtxml.DomainInterfaceSourceUDP{Address: loopback, Port: uint(here), Local: &libvirtxml.DomainInterfaceSourceLocal{Address: loopback, Port: uint(there)}}}
	}
	return nil
}
