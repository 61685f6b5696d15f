package trials

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
)

// telling is what of a guest's definition says how it boots: its machine, firmware, processor and disks. What is drawn anew at each start says nothing.
var telling = regexp.MustCompile(`(?s)<(type|loader|nvram template|cpu|target|model)\b[^>]*>`)

// Changed says what of how a machine boots is another in an image than in an earlier one, as far as their manifests tell; "" is nothing.
func Changed(was, is *image.Manifest) string {
	if was.System != is.System && was.System != "" && is.System != "" {
		return "its system: " + is.System
	}
	return changed(was.Definition, is.Definition)
}

// BootChanged says what of where a disk boots from is another than on an earlier one: what boot loaders have before the first partition, and the partitions
// that firmware reads (UEFI specification 2.10, 13.3: FAT); "" is nothing. What lies in other file systems it does not look at.
func BootChanged(ctx context.Context, was, is disk.Disk) (string, error) {
	parts, err := disk.Parts(is)
	if err != nil || len(parts) == 0 || parts[0].Number == 0 {
		return "", nil // it has no partitions, or what can't be any: a trial finds that
	}
	before := firstPartition
	for _, p := range parts {
		before = min(before, p.Offset)
	}
	places := []disk.Part{{Length: min(before, is.Size())}}
	for _, p := range parts {
		if p.Format == "vfat" && p.Length <= mostFirmware {
			places = append(places, p)
		}
	}
	for _, p := range places {
		if p.Offset+p.Length > was.Size() {
			return "its partitions", nil
		}
		at, err := disk.FirstDifferenceIn(ctx, was, is, p.Offset, p.Length)
		switch {
		case err != nil:
			return "", err
		case at >= 0 && p.Number == 0:
			return "its boot loader or its partitions", nil
		case at >= 0:
			return fmt.Sprintf("partition %d, from which its firmware boots", p.Number), nil
		}
	}
	return "", nil
}

const (
	// firstPartition is where the first partition of a disk begins by custom, in bytes: boot loaders lie before it.
	firstPartition int64 = 1 << 20
	// mostFirmware is how large a partition may be that firmware boots from and is looked at, in bytes.
	mostFirmware = 2 << 30
)

// changed says what of how a machine boots is another in one definition than in an earlier one, "" for nothing.
func changed(was, is string) string {
	if was == is {
		return ""
	}
	var old, now struct{ System, Kernel, Boot string }
	if json.Unmarshal([]byte(was), &old) == nil && json.Unmarshal([]byte(is), &now) == nil {
		switch {
		case old.Kernel != now.Kernel:
			return "its kernel: " + now.Kernel
		case old.Boot != now.Boot:
			return "how it boots: " + now.Boot
		case old.System != now.System:
			return "its system: " + now.System
		}
		return ""
	}
	parts := func(text string) []string {
		found := telling.FindAllString(text, -1)
		for i, f := range found {
			found[i] = strings.Join(strings.Fields(f), " ")
		}
		return found
	}
	if !slices.Equal(parts(was), parts(is)) {
		return "its definition"
	}
	return ""
}
