// Package ovf describes machines as OVF packages do (DMTF DSP0243, Open Virtualization Format 1.1.0), and writes and reads them as one file: OVA.
package ovf

import (
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Machine is what a package holds. Sizes are in bytes.
type Machine struct {
	Name string
	// System is what runs on it, in words.
	System string
	CPUs   int
	Memory int64
	// UEFI says that it boots by that.
	UEFI  bool
	Disks []Disk
	// Cards are the hardware addresses of its network cards; one may be "".
	Cards []string
}

// Disk is one of its disks.
type Disk struct {
	// File is the name of its file in the package, of Length bytes; Size is the disk's.
	File         string
	Length, Size int64
}

// Names of XML that the format uses.
const (
	nsOVF      = "http://schemas.dmtf.org/ovf/envelope/1"
	nsRASD     = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
	nsVSSD     = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData"
	nsVMware   = "http://www.vmware.com/schema/ovf"
	diskFormat = "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"
)

// Types of resources (DMTF CIM_ResourceAllocationSettingData, ResourceType).
const (
	processors, memory, controllerSCSI, card, hardDisk = 3, 4, 6, 10, 17
)

// disksOfController is how many disks one controller takes; place 7 is its own.
const disksOfController = 15

// Describe makes the descriptor of a package.
func Describe(m Machine) []byte {
	var b strings.Builder
	text := func(s string) string {
		var out strings.Builder
		xml.EscapeText(&out, []byte(s)) // a Builder takes all
		return out.String()
	}
	fmt.Fprintf(&b, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Envelope xmlns=%q xmlns:ovf=%q xmlns:rasd=%q xmlns:vssd=%q xmlns:vmw=%q>\n  <References>\n", nsOVF, nsOVF, nsRASD, nsVSSD, nsVMware)
	for i, d := range m.Disks {
		fmt.Fprintf(&b, "    <File ovf:href=\"%s\" ovf:id=\"file%d\" ovf:size=\"%d\"/>\n", text(d.File), i+1, d.Length)
	}
	b.WriteString("  </References>\n  <DiskSection>\n    <Info>Its disks</Info>\n")
	for i, d := range m.Disks {
		fmt.Fprintf(&b, "    <Disk ovf:diskId=\"disk%d\" ovf:fileRef=\"file%d\" ovf:capacity=\"%d\" ovf:capacityAllocationUnits=\"byte\" ovf:format=%q/>\n", i+1, i+1, d.Size, diskFormat)
	}
	b.WriteString("  </DiskSection>\n")
	if len(m.Cards) > 0 {
		b.WriteString("  <NetworkSection>\n    <Info>Its networks</Info>\n    <Network ovf:name=\"network\"/>\n  </NetworkSection>\n")
	}
	fmt.Fprintf(&b, "  <VirtualSystem ovf:id=\"%s\">\n    <Info>A machine, as it was when its image was taken</Info>\n    <Name>%s</Name>\n", text(m.Name), text(m.Name))
	// 101 is Linux of 64 bits, 1 another system (CIM_OperatingSystem, OSType).
	kind := 101
	if strings.Contains(m.System, "Windows") {
		kind = 1
	}
	fmt.Fprintf(&b, "    <OperatingSystemSection ovf:id=\"%d\">\n      <Info>What runs on it</Info>\n      <Description>%s</Description>\n    </OperatingSystemSection>\n", kind, text(cmp.Or(m.System, "unknown")))
	b.WriteString("    <VirtualHardwareSection>\n      <Info>What it needs</Info>\n")
	id := 0
	item := func(kind int, name string, rest ...string) {
		id++
		elements := append([]string{"ElementName", name, "InstanceID", strconv.Itoa(id), "ResourceType", strconv.Itoa(kind)}, rest...)
		b.WriteString("      <Item>\n")
		order := []int{}
		for i := 0; i < len(elements); i += 2 {
			order = append(order, i)
		}
		slices.SortFunc(order, func(a, b int) int { return strings.Compare(elements[a], elements[b]) }) // as the schema has them
		for _, i := range order {
			fmt.Fprintf(&b, "        <rasd:%s>%s</rasd:%s>\n", elements[i], text(elements[i+1]), elements[i])
		}
		b.WriteString("      </Item>\n")
	}
	item(processors, "processors", "VirtualQuantity", strconv.Itoa(max(m.CPUs, 1)), "AllocationUnits", "hertz * 10^6")
	item(memory, "memory", "VirtualQuantity", strconv.FormatInt(max(m.Memory>>20, 1), 10), "AllocationUnits", "byte * 2^20")
	controller := 0
	for i := range m.Disks {
		if i%disksOfController == 0 {
			item(controllerSCSI, fmt.Sprintf("SCSI controller %d", i/disksOfController), "Address", strconv.Itoa(i/disksOfController), "ResourceSubType", "lsilogic")
			controller = id
		}
		place := i % disksOfController
		if place >= 7 {
			place++
		}
		item(hardDisk, fmt.Sprintf("disk %d", i+1), "AddressOnParent", strconv.Itoa(place), "HostResource", fmt.Sprintf("ovf:/disk/disk%d", i+1), "Parent", strconv.Itoa(controller))
	}
	for i, address := range m.Cards {
		rest := []string{"AutomaticAllocation", "true", "Connection", "network", "ResourceSubType", "E1000"}
		if address != "" {
			rest = append(rest, "Address", address)
		}
		item(card, fmt.Sprintf("network card %d", i+1), rest...)
	}
	if m.UEFI {
		b.WriteString("      <vmw:Config ovf:required=\"false\" vmw:key=\"firmware\" vmw:value=\"efi\"/>\n")
	}
	b.WriteString("    </VirtualHardwareSection>\n  </VirtualSystem>\n</Envelope>\n")
	return []byte(b.String())
}

// mostDisks bounds the disks of a package.
const mostDisks = 256

// What is read of a descriptor.
type (
	envelope struct {
		XMLName xml.Name
		Files   []struct {
			ID          string `xml:"id,attr"`
			Href        string `xml:"href,attr"`
			Size        int64  `xml:"size,attr"`
			Compression string `xml:"compression,attr"`
		} `xml:"References>File"`
		Disks   []diskElement `xml:"DiskSection>Disk"`
		Systems []struct {
			ID     string        `xml:"id,attr"`
			Name   string        `xml:"Name"`
			System string        `xml:"OperatingSystemSection>Description"`
			Items  []itemElement `xml:"VirtualHardwareSection>Item"`
			Config []struct {
				Key   string `xml:"key,attr"`
				Value string `xml:"value,attr"`
			} `xml:"VirtualHardwareSection>Config"`
		} `xml:"VirtualSystem"`
		Several []struct{} `xml:"VirtualSystemCollection"`
	}
	diskElement struct {
		ID       string `xml:"diskId,attr"`
		File     string `xml:"fileRef,attr"`
		Parent   string `xml:"parentRef,attr"`
		Capacity int64  `xml:"capacity,attr"`
		Units    string `xml:"capacityAllocationUnits,attr"`
	}
	itemElement struct {
		Kind     int      `xml:"ResourceType"`
		Quantity int64    `xml:"VirtualQuantity"`
		Units    string   `xml:"AllocationUnits"`
		Hosts    []string `xml:"HostResource"`
		Address  string   `xml:"Address"`
	}
)

// Parse reads the descriptor of a package of one machine. Names of files that lead out of the package are refused.
func Parse(descriptor []byte) (m Machine, err error) {
	var e envelope
	if err := xml.Unmarshal(descriptor, &e); err != nil {
		return m, fmt.Errorf("its descriptor can't be read: %w", err)
	}
	if e.XMLName.Local != "Envelope" || len(e.Systems) != 1 || len(e.Several) > 0 {
		return m, errors.New("its descriptor is not that of one machine")
	}
	v := e.Systems[0]
	m.Name, m.System = cmp.Or(strings.TrimSpace(v.Name), v.ID), strings.TrimSpace(v.System)
	for _, c := range v.Config {
		m.UEFI = m.UEFI || c.Key == "firmware" && c.Value == "efi"
	}
	for _, item := range v.Items {
		switch item.Kind {
		case processors:
			m.CPUs = int(min(max(item.Quantity, 0), 4096))
		case memory:
			if m.Memory, err = bytesOf(item.Quantity, cmp.Or(item.Units, "byte * 2^20")); err != nil {
				return m, fmt.Errorf("its memory: %w", err)
			}
		case card:
			m.Cards = append(m.Cards, item.Address)
		case hardDisk:
			for _, host := range item.Hosts {
				d, err := e.disk(path.Base(host))
				if err == nil && len(m.Disks) == mostDisks {
					err = errors.New("no machine has so many")
				}
				if err != nil {
					return m, fmt.Errorf("disk %.80q: %w", host, err)
				}
				m.Disks = append(m.Disks, d)
			}
		}
	}
	if len(m.Disks) == 0 {
		return m, errors.New("its machine has no disks")
	}
	return m, nil
}

// disk is what is said of a disk.
func (e *envelope) disk(id string) (d Disk, err error) {
	at := slices.IndexFunc(e.Disks, func(d diskElement) bool { return d.ID == id })
	if at < 0 {
		return d, errors.New("the descriptor says nothing of it")
	}
	of := e.Disks[at]
	if of.Parent != "" {
		return d, errors.New("it leans on another")
	}
	if d.Size, err = bytesOf(of.Capacity, cmp.Or(of.Units, "byte")); err != nil {
		return d, err
	}
	for _, f := range e.Files {
		if f.ID != of.File {
			continue
		}
		if f.Compression != "" && f.Compression != "identity" {
			return d, fmt.Errorf("its file is compressed by %.40q, which is not known here", f.Compression)
		}
		if !plainName(f.Href) {
			return d, fmt.Errorf("it lies in %.80q, which leads out of the package", f.Href)
		}
		d.File, d.Length = f.Href, f.Size
		return d, nil
	}
	return d, errors.New("it has no file")
}

// plainName reports whether a file is in the package's own folder.
func plainName(name string) bool {
	return name != "" && name != "." && name != ".." && len(name) < 256 && !strings.ContainsAny(name, "/\\:\x00")
}

// bytesOf is a number of units such as "byte * 2^20" (DMTF DSP0004, annex C), in bytes.
func bytesOf(n int64, units string) (int64, error) {
	shift := 0
	base, factor, found := strings.Cut(strings.ReplaceAll(units, " ", ""), "*")
	switch {
	case strings.EqualFold(units, "megabytes"): // as packages of version 0.9 have it
		shift = 20
	case base == "byte" && !found:
	case base == "byte":
		power, ok := strings.CutPrefix(factor, "2^")
		var err error
		if shift, err = strconv.Atoi(power); !ok || err != nil || shift < 0 || shift > 50 {
			return 0, fmt.Errorf("units of %.40q are not known here", units)
		}
	default:
		return 0, fmt.Errorf("units of %.40q are not known here", units)
	}
	if n < 0 || n > 1<<50>>shift {
		return 0, fmt.Errorf("%d times %s can't be", n, units)
	}
	return n << shift, nil
}
