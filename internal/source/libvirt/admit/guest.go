package admit

import (
	"encoding/json"
	"fmt"
	"strings"

	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
)

// NewGuest makes a guest's definition that of another machine: name, UUID, MAC addresses and the files that bear the old one's name are new, its disks lie
// where the restore wrote them, and what could reach the host is left out, but for what is taken by name. fit makes it one that the host can run, nil leaves
// it as it is.
func NewGuest(g source.NewGuest, fit func(*libvirtxml.Domain) error) (def *libvirtxml.Domain, left []string, err error) {
	def, disks, err := Read(g.Definition, g.Disks)
	if err != nil {
		return nil, nil, fmt.Errorf("definition of guest %s: %w", g.Name, err)
	}
	if def.Devices != nil {
		for i := range def.Devices.Interfaces {
			k := &def.Devices.Interfaces[i]
			if k.MAC == nil {
				continue
			}
			if card := g.Cards[strings.ToLower(k.MAC.Address)]; card != "" {
				k.MAC = &libvirtxml.DomainInterfaceMAC{Address: card}
			} else {
				k.MAC = nil // libvirt draws one
			}
		}
	}
	if left, err = Definition(def, disks, g.Take); err != nil {
		return nil, nil, fmt.Errorf("definition of guest %s: %w", g.Name, err)
	}
	def.Name, def.UUID, def.ID = g.Name, "", nil
	if fit != nil {
		if err := fit(def); err != nil {
			return nil, nil, fmt.Errorf("definition of guest %s: %w", g.Name, err)
		}
	}
	if g.Pausing {
		for _, k := range def.Devices.Disks {
			if _, ours := disks[k.Target.Dev]; ours && k.Driver != nil {
				k.Driver.ErrorPolicy, k.Driver.RErrorPolicy = "stop", "stop"
			}
		}
	}
	if g.Unplugged {
		for i := range def.Devices.Interfaces {
			def.Devices.Interfaces[i].Link = &libvirtxml.DomainInterfaceLink{State: "down"}
		}
	}
	if g.Variables != "" && def.OS != nil { // the definition is anybody's word
		if def.OS.NVRam == nil {
			def.OS.NVRam = &libvirtxml.DomainNVRam{}
		}
		def.OS.NVRam.NVRam = g.Variables
	}
	return def, left, nil
}

// Read reads a definition, or makes one of a server's layout; places are those of its disks, by their names as the definition returned has them.
func Read(definition string, disks map[string]string) (def *libvirtxml.Domain, places map[string]string, err error) {
	if IsLayout(definition) {
		return ofLayout(definition, disks)
	}
	def = new(libvirtxml.Domain)
	return def, disks, def.Unmarshal(definition)
}

// IsLayout reports whether a definition is a server's layout, and no guest's.
func IsLayout(definition string) bool { return strings.HasPrefix(strings.TrimSpace(definition), "{") }

const (
	// mostCPUs is how many processors a guest of QEMU's usual types of machine has at the most; leastMemory and mostMemory bound its memory, in bytes.
	mostCPUs                = 255
	leastMemory, mostMemory = 256 << 20, 4 << 40
)

// ofLayout makes the definition of a guest that has a server's disks: by their names at the same kind of controller, and started as the server was, with
// its processors and memory where these are known. Where no guest can have such a name, the disk has another one.
func ofLayout(layout string, places map[string]string) (_ *libvirtxml.Domain, named map[string]string, err error) {
	var l struct {
		Kind, Boot string
		CPUs       uint
		Memory     int64
		Disks      []struct{ Target, Serial string }
	}
	if err := json.Unmarshal([]byte(layout), &l); err != nil || l.Kind != "server" {
		return nil, nil, fmt.Errorf("it is neither a guest's nor a server's layout")
	}
	def := &libvirtxml.Domain{Type: "kvm", Memory: &libvirtxml.DomainMemory{Value: 1024, Unit: "MiB"}, VCPU: &libvirtxml.DomainVCPU{Value: 2},
		OS: &libvirtxml.DomainOS{Type: &libvirtxml.DomainOSType{Type: "hvm", Arch: "x86_64", Machine: "q35"}}, Features: &libvirtxml.DomainFeatureList{ACPI: &libvirtxml.DomainFeature{}},
		CPU: &libvirtxml.DomainCPU{Mode: "maximum"},
		Devices: &libvirtxml.DomainDeviceList{Serials: []libvirtxml.DomainSerial{{}}, Channels: []libvirtxml.DomainChannel{agentChannel()},
			Interfaces: []libvirtxml.DomainInterface{{Model: &libvirtxml.DomainInterfaceModel{Type: "virtio"}, Source: &libvirtxml.DomainInterfaceSource{User: &libvirtxml.DomainInterfaceSourceUser{}}}}}}
	if l.CPUs > 0 {
		def.VCPU.Value = min(l.CPUs, mostCPUs)
	}
	if l.Memory > 0 {
		def.Memory = &libvirtxml.DomainMemory{Value: uint(min(max(l.Memory, leastMemory), mostMemory) >> 10), Unit: "KiB"}
	}
	if l.Boot == "uefi" {
		def.OS.Firmware = "efi"
	}
	named = map[string]string{}
	for i, d := range l.Disks {
		k := libvirtxml.DomainDisk{Device: "disk", Target: &libvirtxml.DomainDiskTarget{Dev: d.Target, Bus: "virtio"}}
		if strings.HasPrefix(d.Target, "sd") {
			k.Target.Bus = "sata"
		} else if !strings.HasPrefix(d.Target, "vd") {
			k.Target.Dev = fmt.Sprintf("vdz%c", 'a'+i%26)
		}
		if place, ok := places[d.Target]; ok {
			named[k.Target.Dev] = place
		}
		def.Devices.Disks = append(def.Devices.Disks, k)
	}
	return def, named, nil
}

// agentChannel is where QEMU's guest agent is spoken to.
func agentChannel() libvirtxml.DomainChannel {
	return libvirtxml.DomainChannel{Source: &libvirtxml.DomainChardevSource{UNIX: &libvirtxml.DomainChardevSourceUNIX{Mode: "bind"}},
		Target: &libvirtxml.DomainChannelTarget{VirtIO: &libvirtxml.DomainChannelTargetVirtIO{Name: AgentPort}}}
}

// AgentPort is by what QEMU's guest agent is found.
const AgentPort = "org.qemu.guest_agent.0"
