#!/bin/sh
# guest.sh FOLDER NAME DISKS makes the disks of one small guest in FOLDER, as qcow2 files NAME-vda.qcow2 (and NAME-vdb.qcow2).
# The guest boots by itself: firmware, boot loader, kernel, user space. Its data file system is the second partition of vda
# (DISKS=1) or the first of vdb (DISKS=2). It runs the QEMU guest agent and writes a ledger (docs/ledger.md).
# Nothing is mounted and no loop device is used, so it runs wherever the tools below do.
set -eu
out=$1 name=$2 disks=$3
export LC_ALL=C
work=$(mktemp -d "$out/.make-$name.XXXXXX")
trap 'rm -rf "$work"' EXIT

kernel=$(ls /boot/vmlinuz-*-cloud-amd64 | sort -V | tail -n 1)
version=${kernel#/boot/vmlinuz-}

# The initial user space: loads the drivers of a virtual machine, then hands over to the disk.
mkdir -p "$work/initrd/bin" "$work/initrd/proc" "$work/initrd/dev" "$work/initrd/sys" "$work/initrd/root" "$work/initrd/lib"
cp /bin/busybox "$work/initrd/bin/busybox"
modules=""
for module in virtio_pci virtio_blk virtio_console; do
  for file in $(modprobe -S "$version" -n --show-depends "$module" | awk '$1 == "insmod" { print $2 }'); do
    case " $modules " in *" ${file##*/} "*) continue ;; esac
    modules="$modules ${file##*/}"
    cp "$file" "$work/initrd/lib/"
  done
done
cat > "$work/initrd/init" <<INIT
#!/bin/busybox sh
/bin/busybox mount -t proc proc /proc
/bin/busybox mount -t sysfs sys /sys
/bin/busybox mount -t devtmpfs dev /dev
for m in $modules; do /bin/busybox insmod /lib/\$m; done
until [ -b /dev/vda1 ]; do /bin/busybox usleep 50000; done
/bin/busybox mount -t ext4 -o rw /dev/vda1 /root
for d in proc sys dev; do /bin/busybox mount -o move /\$d /root/\$d; done
exec /bin/busybox switch_root /root /sbin/init
INIT
chmod 755 "$work/initrd/init"

# The root file system.
root=$work/root
mkdir -p "$root/boot/grub" "$root/bin" "$root/sbin" "$root/usr/sbin" "$root/lib64" "$root/lib/x86_64-linux-gnu" "$root/etc" \
  "$root/proc" "$root/sys" "$root/dev" "$root/run" "$root/tmp" "$root/data" "$root/srv"
(cd "$work/initrd" && find . | cpio -o -H newc --quiet | gzip -1) > "$root/boot/initrd"
cp "$kernel" "$root/boot/vmlinuz"
cp /bin/busybox "$root/bin/busybox"
for applet in sh sleep fsfreeze; do ln -s busybox "$root/bin/$applet"; done
mkdir -p "$root/var" && ln -s ../run "$root/var/run"
cp "$(command -v qemu-ga)" "$root/usr/sbin/qemu-ga"
ldd "$root/usr/sbin/qemu-ga" | awk '$2 == "=>" { print $3 }' | xargs -I{} cp -L {} "$root/lib/x86_64-linux-gnu/"
cp -L /lib64/ld-linux-x86-64.so.2 "$root/lib64/"
echo "$name" > "$root/etc/hostname"
printf 'root:x:0:0:root:/:/bin/sh\n' > "$root/etc/passwd"
printf 'NAME="Brindle guest"\nID=brindle\nVERSION_ID="1"\nPRETTY_NAME="Brindle guest 1"\n' > "$root/etc/os-release"
data=/dev/vda2
[ "$disks" = 1 ] || data=/dev/vdb1
cat > "$root/sbin/init" <<INIT
#!/bin/sh
export PATH=/bin:/sbin:/usr/sbin
busybox mount -t tmpfs run /run
busybox hostname "$name"
busybox mount -t ext4 $data /data
port=/dev/\$(busybox basename \$(busybox dirname \$(busybox grep -l org.qemu.guest_agent.0 /sys/class/virtio-ports/*/name)))
qemu-ga -m virtio-serial -p \$port -t /run -f /run/qemu-ga.pid &
# The ledger: number, seconds since 1970, and the SHA-256 of the line before it together with both.
last=\$(busybox tail -n 1 /data/keenlodge.ledger)
n=\${last%% *}; sum=\${last##* }
while :; do
  n=\$((\${n:-0} + 1)); at=\$(busybox date +%s)
  sum=\$(printf '%s %s %s' "\${sum:--}" \$n \$at | busybox sha256sum); sum=\${sum%% *}
  echo "\$n \$at \$sum" >> /data/keenlodge.ledger
  busybox sync -d /data/keenlodge.ledger
  busybox sleep 1
done
INIT
chmod 755 "$root/sbin/init"
cat > "$root/boot/grub/grub.cfg" <<CFG
linux /boot/vmlinuz console=ttyS0 panic=5 quiet
initrd /boot/initrd
boot
CFG

# Something for the data file system to hold.
mkdir -p "$work/data/records"
seq -f "$name sailing %05.0f Brindle Sound" 1 20000 > "$work/data/records/sailings.txt"
head -c 6000000 /dev/urandom > "$work/data/records/scans.bin"
: > "$work/data/keenlodge.ledger"

# partition FILE START SIZE FOLDER LABEL makes an ext4 file system in a partition; START and SIZE are in MiB.
partition() {
  mkfs.ext4 -q -F -b 4096 -L "$5" -E "offset=$(($2 * 1048576)),root_owner=0:0" -d "$4" "$1" "$3M"
}
raw=$work/vda.raw
if [ "$disks" = 1 ]; then
  truncate -s 384M "$raw"
  printf '2048,260096,83,*\n262144,,83\n' | sfdisk -q "$raw"
  partition "$raw" 1 127 "$root" system
  partition "$raw" 128 256 "$work/data" data
else
  truncate -s 256M "$raw"
  printf '2048,,83,*\n' | sfdisk -q "$raw"
  partition "$raw" 1 255 "$root" system
  truncate -s 512M "$work/vdb.raw"
  printf '2048,,83\n' | sfdisk -q "$work/vdb.raw"
  partition "$work/vdb.raw" 1 511 "$work/data" data
fi
grub=/usr/lib/grub/i386-pc
grub-mkimage -O i386-pc -p '(hd0,msdos1)/boot/grub' -o "$work/core.img" biosdisk part_msdos ext2 linux normal configfile
dd if=$grub/boot.img of="$raw" bs=440 count=1 conv=notrunc status=none
dd if="$work/core.img" of="$raw" bs=512 seek=1 conv=notrunc status=none
for disk in vda vdb; do
  [ -f "$work/$disk.raw" ] || continue
  qemu-img convert -q -O qcow2 "$work/$disk.raw" "$work/$name-$disk.qcow2"
  mv "$work/$name-$disk.qcow2" "$out/"
done
