# boot.sh is read by the scripts that make disks.

# kernel ROOT MODULE… puts this host's kernel into a root file system, with a small initial user space that loads these drivers of a virtual machine
# and hands over to the first partition of vda. It needs $work.
kernel() {
  into=$1/boot
  shift
  image=$(ls /boot/vmlinuz-*-cloud-amd64 | sort -V | tail -n 1)
  initrd=$work/initrd
  mkdir -p "$into/grub" "$initrd/bin" "$initrd/proc" "$initrd/dev" "$initrd/sys" "$initrd/root" "$initrd/lib"
  cp /bin/busybox "$initrd/bin/busybox"
  modules=""
  for module; do
    for file in $(modprobe -S "${image#/boot/vmlinuz-}" -n --show-depends "$module" | awk '$1 == "insmod" { print $2 }'); do
      case " $modules " in *" ${file##*/} "*) continue ;; esac
      modules="$modules ${file##*/}"
      cp "$file" "$initrd/lib/"
    done
  done
  cat > "$initrd/init" <<INIT
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
  chmod 755 "$initrd/init"
  (cd "$initrd" && find . | cpio -o -H newc --quiet | gzip -1) > "$into/initrd"
  cp "$image" "$into/vmlinuz"
}

# partition FILE START SIZE FOLDER LABEL [OPTION…] makes an ext4 file system in a partition; START and SIZE are in MiB, options mkfs's.
partition() {
  disk=$1 start=$2 size=$3 folder=$4 label=$5
  shift 5
  mkfs.ext4 -q -F -b 4096 "$@" -L "$label" -E "offset=$((start * 1048576)),root_owner=0:0" -d "$folder" "$disk" "${size}M"
}

# bootloader FILE has a disk start what is in /boot/grub/grub.cfg of its first partition. It needs $work.
bootloader() {
  grub=/usr/lib/grub/i386-pc
  grub-mkimage -O i386-pc -p '(hd0,msdos1)/boot/grub' -o "$work/core.img" biosdisk part_msdos ext2 linux normal configfile
  dd if=$grub/boot.img of="$1" bs=440 count=1 conv=notrunc status=none
  dd if="$work/core.img" of="$1" bs=512 seek=1 conv=notrunc status=none
}
