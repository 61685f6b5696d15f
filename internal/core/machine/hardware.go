package machine

import (
	"encoding/json"
	"encoding/xml"
	"strings"
)

// Hardware is what a machine needs to run, as far as its definition tells; what is not told is 0 or "". Memory is in bytes.
type Hardware struct {
	CPUs   int    `json:"cpus"`
	Memory int64  `json:"memory"`
	UEFI   bool   `json:"uefi" doc:"it boots by UEFI"`
	System string `json:"system" doc:"what system it ran, with its kernel"`
	// Cards are the hardware addresses of its network cards.
	Cards []string `json:"cards"`
}

// HardwareOf reads the definition of an image: libvirt's domain XML (https://libvirt.org/formatdomain.html), or a server's layout.
func HardwareOf(definition string) (h Hardware) {
	h.Cards = []string{}
	var server struct {
		System, Kernel, Boot string
		CPUs                 int
		Memory               int64
	}
	if json.Unmarshal([]byte(definition), &server) == nil {
		h.UEFI, h.CPUs, h.Memory = server.Boot == "uefi", max(server.CPUs, 0), max(server.Memory, 0)
		if h.System = server.System; server.Kernel != "" {
			h.System += ", kernel " + server.Kernel
		}
		return h
	}
	var domain struct {
		CPUs   int `xml:"vcpu"`
		Memory struct {
			N    int64  `xml:",chardata"`
			Unit string `xml:"unit,attr"`
		} `xml:"memory"`
		OS struct {
			Firmware string `xml:"firmware,attr"`
			Loader   struct {
				Kind string `xml:"type,attr"`
			} `xml:"loader"`
		} `xml:"os"`
		Cards []struct {
			MAC struct {
				Address string `xml:"address,attr"`
			} `xml:"mac"`
		} `xml:"devices>interface"`
	}
	if xml.Unmarshal([]byte(definition), &domain) != nil {
		return h
	}
	h.CPUs, h.UEFI = domain.CPUs, domain.OS.Firmware == "efi" || domain.OS.Loader.Kind == "pflash"
	shift, known := map[string]int{"b": 0, "bytes": 0, "": 10, "k": 10, "kib": 10, "m": 20, "mib": 20, "g": 30, "gib": 30, "t": 40, "tib": 40}[strings.ToLower(domain.Memory.Unit)]
	if known && domain.Memory.N > 0 && domain.Memory.N <= 1<<50>>shift {
		h.Memory = domain.Memory.N << shift
	}
	for _, c := range domain.Cards {
		h.Cards = append(h.Cards, c.MAC.Address)
	}
	return h
}
