package open

import (
	"io/fs"
	"syscall"

	"github.com/dustin/go-humanize"
)

const rootText = `This folder keeps images of machines, in formats that common tools read.

Each machine has a folder, and in it each image has these files, which begin with the moment (UTC) and the image's name:

  …-vda.qcow2   a disk (vda, vdb …), in QEMU's format
  ….xml         the machine's definition, as libvirt has it
  …-uefi-variables.fd   the variables of its UEFI firmware, if it has any
  …-server.json the same of a server: its disks, partitions and mounts
  …-files.tar.zst   files of a server, as a pax archive that is compressed by Zstandard
  …-files.mtree     a list of these, as mtree(5) has it, with what could not be read
  ….json        what the image is: when and how it was taken, its files and what they lean on
  ….b2          digests of these files (BLAKE2b, as b2sum writes them)

Let nobody rename or remove a file on which another leans: a qcow2 file with a "backing file" is only whole with it.
`

func machineText(machine string) string {
	return "Images of machine " + machine + `.

Is a file whole?          b2sum -c NAME.b2
What is in it?            qemu-img info --backing-chain NAME-vda.qcow2
Is its structure sound?   qemu-img check NAME-vda.qcow2
As a raw disk             qemu-img convert -O raw NAME-vda.qcow2 disk.raw
Look at its files         qemu-nbd --read-only --connect=/dev/nbd0 NAME-vda.qcow2 && mount -o ro /dev/nbd0p1 /mnt
                          (or: guestmount --ro -a NAME-vda.qcow2 -i /mnt)
Start it as it is         qemu-img create -f qcow2 -F qcow2 -b $PWD/NAME-vda.qcow2 /tmp/try.qcow2
                          and give /tmp/try.qcow2 to a virtual machine: what it writes goes there, and not in here
Files of a server         tar --zstd --xattrs --xattrs-include='*' -xpf NAME-files.tar.zst -C /into/here
Are they what they were?  bsdtar -tf NAME-files.mtree lists them; mtree -f NAME-files.mtree -p /into/here compares
Define the machine anew   virsh define NAME.xml, after its disks' paths, and that of its nvram, were changed to copies

A file that says "backing file" holds only what changed since that one; never write to either.
`
}

func show(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

// onDisk is what a file takes, in bytes.
func onDisk(i fs.FileInfo) int64 {
	n := i.Size()
	if s, ok := i.Sys().(*syscall.Stat_t); ok {
		n = min(n, s.Blocks*512)
	}
	return n
}
