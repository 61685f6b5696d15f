package disk

// Boots tells by a disk's own bytes how a machine starts from it: "uefi" where firmware finds a FAT file system in a partition and no boot loader stands in the
// first sector, "bios" where one does, "" where neither.
func Boots(d Disk) (string, error) {
	code := make([]byte, 440) // of a boot loader (UEFI specification 2.10, 5.2.1: unused by UEFI)
	if n, err := d.ReadAt(code, 0); n < len(code) {
		return "", err
	}
	if !IsZero(code) {
		return "bios", nil
	}
	parts, err := Parts(d)
	if err != nil {
		return "", err
	}
	for _, p := range parts {
		if p.Number > 0 && p.Format == "vfat" {
			return "uefi", nil
		}
	}
	return "", nil
}
