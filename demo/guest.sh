#!/bin/sh
# guest.sh FOLDER NAME DISKS makes the disks of one small guest in FOLDER, as qcow2 files NAME-vda.qcow2 (and NAME-vdb.qcow2).
# The guest boots by itself: firmware, boot loader, kernel, user space. Its data file system is the second partition of vda
# (DISKS=1) or the first of vdb (DISKS=2). It runs the QEMU guest agent, writes a ledger (docs/ledger.md), and gives its records away by HTTP.
# Nothing is mounted and no loop device is used, so it runs wherever the tools below do.
set -eu
out=$1 name=$2 disks=$3
export LC_ALL=C
. "${0%/*}/boot.sh"
work=$(mktemp -d "$out/.make-$name.XXXXXX")
trap 'rm -rf "$work"' EXIT

# The root file system.
root=$work/root
mkdir -p "$root/bin" "$root/sbin" "$root/usr/sbin" "$root/lib64" "$root/lib/x86_64-linux-gnu" "$root/etc" \
  "$root/proc" "$root/sys" "$root/dev" "$root/run" "$root/tmp" "$root/data" "$root/srv"
kernel "$root" virtio_pci virtio_blk virtio_console virtio_net
cp /bin/busybox "$root/bin/busybox"
for applet in sh sleep fsfreeze; do ln -s busybox "$root/bin/$applet"; done
mkdir -p "$root/var" && ln -s ../run "$root/var/run"
cp "$(command -v qemu-ga)" "$root/usr/sbin/qemu-ga"
ldd "$root/usr/sbin/qemu-ga" | awk '$2 == "=>" { print $3 }' | xargs -I{} cp -L {} "$root/lib/x86_64-linux-gnu/"
cp -L /lib64/ld-linux-x86-64.so.2 "$root/lib64/"
echo "$name" > "$root/etc/hostname"
printf 'root:x:0:0:root:/:/bin/sh\n' > "$root/etc/passwd"
printf 'NAME="Brindle guest"\nID=brindle\nVERSION_ID="1"\nPRETTY_NAME="Brindle guest 1"\n' > "$root/etc/os-release"
case $name in
  tickets-db) address=192.0.2.21 ;;
  timetable) address=192.0.2.22 ;;
  *) address=192.0.2.23 ;;
esac
data=/dev/vda2
[ "$disks" = 1 ] || data=/dev/vdb1
printf '/dev/vda1 / ext4 defaults 0 1\n%s /data ext4 defaults 0 2\n' $data > "$root/etc/fstab"
cat > "$root/sbin/init" <<INIT
#!/bin/sh
export PATH=/bin:/sbin:/usr/sbin
busybox mount -t tmpfs run /run
busybox hostname "$name"
busybox mount -t ext4 $data /data
port=/dev/\$(busybox basename \$(busybox dirname \$(busybox grep -l org.qemu.guest_agent.0 /sys/class/virtio-ports/*/name)))
busybox ip link set lo up
busybox ip link set eth0 up
busybox ip address add $address/24 dev eth0
busybox ip route add default via 192.0.2.1
busybox httpd -p 8080 -h /data/records
qemu-ga -m virtio-serial -p \$port -t /run -f /run/qemu-ga.pid &
for line in /dev/tty0 /dev/ttyS0; do echo "$name of Brindle Sound Ferries is up" > \$line; done
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
bootloader "$raw"
for disk in vda vdb; do
  [ -f "$work/$disk.raw" ] || continue
  qemu-img convert -q -O qcow2 "$work/$disk.raw" "$work/$name-$disk.qcow2"
  mv "$work/$name-$disk.qcow2" "$out/"
done
