// Package admit says what of a guest's definition is taken over when the guest is made anew: the definition is the word of whoever could write
// to a store, and most of what libvirt knows reaches the host.
package admit

import (
	"fmt"
	"path"
	"reflect"
	"slices"
	"strings"

	"libvirt.org/go/libvirtxml"
)

// admitted are the elements of a definition that a restored guest gets as they are, by the names of their fields. All else could reach the
// host: whoever could write to a store wrote the definition. What is admitted in part, [admission] sees to.
var admitted = map[reflect.Type][]string{
	reflect.TypeFor[libvirtxml.Domain](): {"XMLName", "Type", "Name", "Title", "Description", "Metadata", "MaximumMemory", "Memory", "CurrentMemory", "VCPU", "VCPUs", "IOThreads", "IOThreadIDs", "OS", "Features", "CPU",
		"Clock", "OnPoweroff", "OnReboot", "OnCrash", "PM", "SysInfo", "Devices"},
	reflect.TypeFor[libvirtxml.DomainOS](): {"Type", "Firmware", "FirmwareInfo", "Loader", "NVRam", "BootDevices", "BootMenu", "BIOS", "SMBios"},
	reflect.TypeFor[libvirtxml.DomainDeviceList](): {"Disks", "Controllers", "Interfaces", "Serials", "Consoles", "Channels", "Inputs", "TPMs", "Graphics", "Sounds", "Videos", "Hubs", "Watchdogs", "MemBalloon", "RNGs",
		"Panics", "IOMMUs"},
	reflect.TypeFor[libvirtxml.DomainDisk]():      {"XMLName", "Device", "Model", "Driver", "Source", "Target", "IOTune", "ReadOnly", "Serial", "WWN", "Vendor", "Product", "Boot", "Address", "BlockIO"},
	reflect.TypeFor[libvirtxml.DomainInterface](): {"XMLName", "MAC", "Source", "Boot", "VLan", "Model", "Link", "MTU", "Bandwidth", "Address"},
	reflect.TypeFor[libvirtxml.DomainSerial]():    {"XMLName", "Source", "Target", "Address"},
	reflect.TypeFor[libvirtxml.DomainConsole]():   {"XMLName", "Source", "Target", "Address"},
	reflect.TypeFor[libvirtxml.DomainChannel]():   {"XMLName", "Source", "Target", "Address"},
	reflect.TypeFor[libvirtxml.DomainInput]():     {"XMLName", "Type", "Bus", "Model", "Address"},
	reflect.TypeFor[libvirtxml.DomainVideo]():     {"XMLName", "Model", "Address"},
	reflect.TypeFor[libvirtxml.DomainSound]():     {"XMLName", "Model", "Codec", "Address"},
	reflect.TypeFor[libvirtxml.DomainTPM]():       {"XMLName", "Model", "Backend", "Address"},
	reflect.TypeFor[libvirtxml.DomainRNG]():       {"XMLName", "Model", "Rate", "Backend", "Address"},
}

// silent are what every definition has and no restored guest misses: identities, names of this start, what libvirt draws anew.
var silent = []string{"ID", "UUID", "Alias", "Target of interface", "SecLabel", "Resource", "NVRam", "BackingStore", "TTY", "OnLockFailure", "Snapshot"}

// firmware are the folders in which a host has its firmware, which a guest may name.
var firmware = []string{"/usr/share/OVMF/", "/usr/share/AAVMF/", "/usr/share/qemu/", "/usr/share/edk2/", "/usr/share/seabios/", "/usr/share/qemu-efi-aarch64/"}

// admission takes of a definition what a restored guest gets. What else there is it leaves out, by name, but for what is taken item by item.
type admission struct {
	take, left []string
	taken      map[string]bool
}

// keeps reports whether something that is not admitted by itself stays, for somebody has named it; otherwise it is noted as left out.
func (a *admission) keeps(name, what string) bool {
	if slices.Contains(a.take, name) {
		a.taken[name] = true
		return true
	}
	a.left = append(a.left, strings.TrimSpace(name+" "+what))
	return false
}

// fields empties the fields of a struct that are not admitted.
func (a *admission) fields(in any, of string) {
	v := reflect.ValueOf(in).Elem()
	for i := range v.NumField() {
		name, f := v.Type().Field(i).Name, v.Field(i)
		if f.IsZero() || slices.Contains(admitted[v.Type()], name) {
			continue
		}
		quiet := slices.Contains(silent, name) || slices.Contains(silent, name+" of "+of)
		if !quiet && a.keeps(strings.TrimSuffix(of+"."+strings.ToLower(name), "."), "") {
			continue
		}
		f.SetZero()
	}
}

// Definition makes a definition fit to be defined again, with its disks at new places; it returns what was left out.
func Definition(def *libvirtxml.Domain, disks map[string]string, take []string) (left []string, err error) {
	a := &admission{take: take, taken: map[string]bool{}}
	if def.Type != "kvm" && def.Type != "qemu" {
		return nil, fmt.Errorf("it is for a hypervisor of type %.20q, which this one is not", def.Type)
	}
	a.fields(def, "domain")
	for _, on := range []*string{&def.OnPoweroff, &def.OnReboot, &def.OnCrash} {
		if !slices.Contains([]string{"", "destroy", "restart", "preserve"}, *on) {
			*on = "" // others write a dump on the host
		}
	}
	if def.VCPU != nil {
		def.VCPU.CPUSet = ""
	}
	def.SysInfo = slices.DeleteFunc(def.SysInfo, func(s libvirtxml.DomainSysInfo) bool {
		return s.FWCfg != nil && !a.keeps("domain.fwcfg", "(files of the host, for its firmware)")
	})
	if def.OS != nil {
		a.fields(def.OS, "os")
		a.boot(def.OS)
	}
	if def.Devices != nil {
		a.fields(def.Devices, "devices")
		a.disks(def.Devices, disks)
		a.devices(def.Devices)
	}
	for _, t := range take {
		if !a.taken[t] {
			return nil, fmt.Errorf("nothing of the definition that could be taken over is called %q; left out would be: %s", t, strings.Join(a.left, ", "))
		}
	}
	return a.left, nil
}

// boot admits firmware of the host's own folders.
func (a *admission) boot(os *libvirtxml.DomainOS) {
	known := func(file string) bool {
		return file == "" || path.Clean(file) == file && slices.ContainsFunc(firmware, func(f string) bool { return strings.HasPrefix(file, f) })
	}
	if os.Loader != nil && !known(os.Loader.Path) && !a.keeps("os.loader", "("+os.Loader.Path+")") {
		os.Loader = nil
	}
	if os.NVRam != nil {
		os.NVRam.NVRam, os.NVRam.Source = "", nil // libvirt makes one from the template
		if !known(os.NVRam.Template) && !a.keeps("os.nvram-template", "("+os.NVRam.Template+")") {
			os.NVRam = nil
		}
	}
}

// disks admits those that were restored, at their new places, and empty drives.
func (a *admission) disks(d *libvirtxml.DomainDeviceList, places map[string]string) {
	var out []libvirtxml.DomainDisk
	for _, k := range d.Disks {
		if k.Target == nil {
			continue
		}
		place, restored := places[k.Target.Dev]
		drive := k.Device == "cdrom" || k.Device == "floppy"
		switch {
		case restored:
			k.Device = "disk"
			k.Source = &libvirtxml.DomainDiskSource{File: &libvirtxml.DomainDiskSourceFile{File: place}}
			if k.Driver == nil {
				k.Driver = &libvirtxml.DomainDiskDriver{Name: "qemu"}
			}
			k.Driver.Type = "qcow2"
			a.fields(&k, "disk-"+k.Target.Dev)
		case !drive:
			continue // it is not in the image, which says so
		default:
			name := k.Device + "-" + k.Target.Dev
			if k.Source != nil && !a.keeps(name, "(what is in the drive)") {
				k.Source, k.Driver = nil, nil
			}
			a.fields(&k, name)
		}
		out = append(out, k)
	}
	d.Disks = out
}

// devices admits what stays within the guest, or ends at networks that the host has anyway.
func (a *admission) devices(d *libvirtxml.DomainDeviceList) {
	d.Interfaces = each(d.Interfaces, func(n int, k *libvirtxml.DomainInterface) bool {
		name := fmt.Sprintf("interface-%d", n)
		a.fields(k, name)
		if s := k.Source; s != nil && s.Network == nil && s.Bridge == nil && s.User == nil && s.Null == nil {
			return a.keeps(name, "(it is on no network or bridge)")
		}
		if k.Source != nil && k.Source.Network != nil {
			k.Source.Network.Bridge, k.Source.Network.PortID = "", "" // of its last start
		}
		return true
	})
	pty := func(name string, s *libvirtxml.DomainChardevSource) *libvirtxml.DomainChardevSource {
		if s != nil && s.Pty == nil && s.Null == nil && a.keeps(name, "(it leads to a file, a socket or a device of the host; a terminal of its own is in its place)") {
			return s
		}
		return &libvirtxml.DomainChardevSource{Pty: &libvirtxml.DomainChardevSourcePty{}}
	}
	d.Serials = each(d.Serials, func(n int, k *libvirtxml.DomainSerial) bool {
		name := fmt.Sprintf("serial-%d", n)
		a.fields(k, name)
		k.Source = pty(name, k.Source)
		return true
	})
	d.Consoles = each(d.Consoles, func(n int, k *libvirtxml.DomainConsole) bool {
		name := fmt.Sprintf("console-%d", n)
		a.fields(k, name)
		k.Source = pty(name, k.Source)
		return true
	})
	d.Channels = each(d.Channels, func(n int, k *libvirtxml.DomainChannel) bool {
		name := fmt.Sprintf("channel-%d", n)
		a.fields(k, name)
		switch agent := k.Target != nil && k.Target.VirtIO != nil && k.Target.VirtIO.Name == "org.qemu.guest_agent.0"; {
		case agent:
			k.Source = &libvirtxml.DomainChardevSource{UNIX: &libvirtxml.DomainChardevSourceUNIX{Mode: "bind"}}
			k.Target.VirtIO.State = ""
		case k.Source != nil && k.Source.SpiceVMC != nil:
		default:
			return a.keeps(name, "(it leads to the host)")
		}
		return true
	})
	d.Inputs = each(d.Inputs, func(n int, k *libvirtxml.DomainInput) bool {
		a.fields(k, fmt.Sprintf("input-%d", n))
		return slices.Contains([]string{"mouse", "tablet", "keyboard"}, k.Type)
	})
	d.Graphics = each(d.Graphics, func(n int, k *libvirtxml.DomainGraphic) bool {
		switch {
		case k.VNC != nil: // on loopback, at a port that libvirt draws
			*k = libvirtxml.DomainGraphic{XMLName: k.XMLName, VNC: &libvirtxml.DomainGraphicVNC{AutoPort: "yes", Port: -1, Keymap: k.VNC.Keymap}}
		case k.Spice != nil:
			*k = libvirtxml.DomainGraphic{XMLName: k.XMLName, Spice: &libvirtxml.DomainGraphicSpice{AutoPort: "yes", Keymap: k.Spice.Keymap}}
		default:
			return a.keeps(fmt.Sprintf("graphics-%d", n), "")
		}
		return true
	})
	d.Videos = each(d.Videos, func(n int, k *libvirtxml.DomainVideo) bool {
		a.fields(k, fmt.Sprintf("video-%d", n))
		k.Model.Accel = nil
		return true
	})
	d.Sounds = each(d.Sounds, func(n int, k *libvirtxml.DomainSound) bool {
		a.fields(k, fmt.Sprintf("sound-%d", n))
		return true
	})
	d.RNGs = each(d.RNGs, func(n int, k *libvirtxml.DomainRNG) bool {
		name := fmt.Sprintf("rng-%d", n)
		a.fields(k, name)
		if b := k.Backend; b != nil && (b.BuiltIn != nil || b.Random != nil && slices.Contains([]string{"", "/dev/random", "/dev/urandom"}, b.Random.Device)) {
			return true
		}
		return a.keeps(name, "(it draws from a file or a socket of the host)")
	})
	d.TPMs = each(d.TPMs, func(n int, k *libvirtxml.DomainTPM) bool {
		name := fmt.Sprintf("tpm-%d", n)
		a.fields(k, name)
		if k.Backend != nil && k.Backend.Emulator != nil {
			k.Backend = &libvirtxml.DomainTPMBackend{Emulator: &libvirtxml.DomainTPMBackendEmulator{Version: k.Backend.Emulator.Version}}
			return true
		}
		return a.keeps(name, "(it is the host's)")
	})
}

// each shows the elements, counted from one, and keeps those that keep says.
func each[T any](in []T, keep func(n int, v *T) bool) (out []T) {
	for i := range in {
		if v := in[i]; keep(i+1, &v) {
			out = append(out, v)
		}
	}
	return out
}
