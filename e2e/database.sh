#!/bin/sh
# database.sh FOLDER makes the disks of berth-db in FOLDER: a Debian that debootstrap installs, with PostgreSQL under load, its data on vdb and its
# write-ahead log on vdc, all checksummed, and QEMU's guest agent.
set -eu
out=$1
export LC_ALL=C
. "$2/boot.sh"
work=$(mktemp -d "$out/.make-berth-db.XXXXXX")
root=$work/root
tidy() {
  for m in proc sys dev; do umount -l "$root/$m" 2> /dev/null || true; done
  rm -rf --one-file-system "$work"
}
trap tidy EXIT
site=$(apt-get indextargets --format '$(SITE)' 'Created-By: Packages' 'Codename: bookworm' | head -n 1)
debootstrap --foreign --variant=minbase --include=systemd,systemd-sysv,udev,kmod,iproute2,e2fsprogs,qemu-guest-agent,postgresql bookworm "$root" "$site"
mkdir -p "$root/etc/dpkg/dpkg.cfg.d" "$root/etc/postgresql-common"
printf 'force-unsafe-io\npath-exclude=/usr/share/doc/*\npath-exclude=/usr/share/man/*\npath-exclude=/usr/share/locale/*\n' > "$root/etc/dpkg/dpkg.cfg.d/small"
printf '#!/bin/sh\nexit 101\n' > "$root/usr/sbin/policy-rc.d"
chmod 755 "$root/usr/sbin/policy-rc.d"
chroot "$root" /debootstrap/debootstrap --second-stage
umount -l "$root/proc" 2> /dev/null || true
rm -rf "$root"/usr/lib/udev/hwdb* "$root"/usr/share/doc "$root"/usr/share/man "$root"/usr/share/locale "$root"/var/cache/apt/archives/*.deb "$root"/var/lib/apt/lists/* "$root/usr/sbin/policy-rc.d"
kernel "$root" virtio_pci virtio_blk virtio_console virtio_net
printf 'linux /boot/vmlinuz root=/dev/vda1 console=ttyS0 panic=5 quiet systemd.show_status=0\ninitrd /boot/initrd\nboot\n' > "$root/boot/grub/grub.cfg"
echo berth-db > "$root/etc/hostname"
echo '127.0.0.1 localhost berth-db' > "$root/etc/hosts"
printf '/dev/vda1 / ext4 defaults 0 1\n/dev/vdb /var/lib/postgresql ext4 defaults 0 2\n/dev/vdc /srv/wal ext4 defaults 0 2\n' > "$root/etc/fstab"
units=$root/etc/systemd/system
mkdir -p "$units/multi-user.target.wants" "$root/srv/wal"
# The cluster is made anew, with checksums, where it will lie; each booking is one of a pair that one transaction makes.
cluster=/var/lib/postgresql/15/main
chroot "$root" sh -ec "rm -rf $cluster; mkdir -p /srv/wal/log; chown postgres:postgres /srv/wal/log
  chmod 700 /srv/wal/log; runuser -u postgres -- /usr/lib/postgresql/15/bin/initdb -D $cluster -X /srv/wal/log --data-checksums --locale=C --encoding=UTF8 >/dev/null"
printf 'max_wal_size = 64MB\nshared_buffers = 32MB\ncheckpoint_timeout = 30s\n' >> "$root/etc/postgresql/15/main/postgresql.conf"
cat > "$root/usr/local/bin/bookings" <<'RUN'
#!/bin/sh
psql -qc 'create extension if not exists amcheck' -c 'create table if not exists bookings (n serial primary key, pair bigint not null, half int not null, note text)' -c 'create index if not exists pairs on bookings (pair)'
while :; do
  for i in 1 2 3 4 5 6 7 8; do
    echo "begin; with p as (select coalesce(max(pair), 0) + 1 as pair from bookings) insert into bookings (pair, half, note) select pair, 1, repeat(md5(random()::text), 40) from p; insert into bookings (pair, half, note) select max(pair), 2, repeat(md5(random()::text), 40) from bookings; delete from bookings where pair < (select max(pair) - 5000 from bookings); commit;"
  done | psql -q
  sleep 0.3
done
RUN
# What has to hold of it, whenever it is looked at.
cat > "$root/usr/local/bin/check-bookings" <<'RUN'
#!/bin/sh
set -e
cd /
as() { if [ "$(id -u)" = 0 ]; then runuser -u postgres -- "$@"; else "$@"; fi; }
as /usr/lib/postgresql/15/bin/pg_amcheck --database=postgres --heapallindexed --parent-check
as psql -Atqc "select case when count(*) = 0 then 'every booking is a pair' else 'torn: ' || min(pair) end from (select pair from bookings group by pair having count(*) <> 2) torn"
as psql -Atqc "select count(*) || ' bookings, checksum failures: ' || (select coalesce(sum(checksum_failures), 0) from pg_stat_database) from bookings"
RUN
chmod 755 "$root/usr/local/bin/bookings" "$root/usr/local/bin/check-bookings"
printf '[Unit]\nDescription=Bookings\nAfter=postgresql@15-main.service\nRequires=postgresql@15-main.service\n[Service]\nUser=postgres\nExecStart=/usr/local/bin/bookings\nRestart=always\nRestartSec=1\n' > "$units/bookings.service"
ln -sf /etc/systemd/system/bookings.service "$units/multi-user.target.wants/bookings.service"
for u in e2scrub_reap systemd-timesyncd getty@tty1 apt-daily.timer apt-daily-upgrade.timer e2scrub_all.timer fstrim.timer; do
  case $u in *.timer) ;; *) u=$u.service ;; esac
  ln -sf /dev/null "$units/$u"
done
mv "$root/var/lib/postgresql" "$work/data"
mkdir "$root/var/lib/postgresql"
mv "$root/srv/wal" "$work/wal"
mkdir "$root/srv/wal"
truncate -s 1200M "$work/vda.raw"
printf '2048,,83,*\n' | sfdisk -q "$work/vda.raw"
partition "$work/vda.raw" 1 1199 "$root" system
bootloader "$work/vda.raw"
truncate -s 512M "$work/vdb.raw"
partition "$work/vdb.raw" 0 512 "$work/data" bookings
truncate -s 256M "$work/vdc.raw"
partition "$work/vdc.raw" 0 256 "$work/wal" log
for disk in vda vdb vdc; do
  qemu-img convert -q -O qcow2 "$work/$disk.raw" "$out/berth-db-$disk.qcow2"
done
