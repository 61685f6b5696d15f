#!/bin/sh
# server.sh FOLDER NAME UNIT DROP-IN makes the disk of a server in FOLDER, as NAME.qcow2: a Debian that debootstrap installs from where this host's own
# packages come, with systemd, a boot loader of its own, our agent's unit, and something that writes a ledger (docs/ledger.md) all the time. Where the
# agent finds its lodge, and the program itself, comes from outside when it is started: by QEMU's fw_cfg, and on a second disk with the label
# "program". Nothing is mounted but what debootstrap mounts in a folder of its own, and no loop device is used.
set -eu
out=$1 name=$2 unit=$3 writable=$4
export LC_ALL=C
. "${0%/*}/boot.sh"
work=$(mktemp -d "$out/.make-$name.XXXXXX")
root=$work/root
tidy() {
  for m in proc sys dev; do umount -l "$root/$m" 2> /dev/null || true; done
  rm -rf --one-file-system "$work"
}
trap tidy EXIT
# Who ends it ends all that it started: it is the first of its process group.
trap 'trap "" TERM; kill 0; exit 1' HUP INT TERM

site=$(apt-get indextargets --format '$(SITE)' 'Created-By: Packages' 'Codename: bookworm' | head -n 1)
[ -n "$site" ] || { echo "this host has no source of Debian 12's packages (apt-get indextargets)" >&2; exit 1; }
# Documents, translations and syncs of each file take longer than all the rest, and nobody misses them here.
debootstrap --foreign --variant=minbase --include=systemd,systemd-sysv,udev,kmod,iproute2,e2fsprogs,fdisk,cron,qemu-guest-agent bookworm "$root" "$site" &
wait $! # a shell hears of no signal while something goes on in front of it
mkdir -p "$root/etc/dpkg/dpkg.cfg.d"
printf 'force-unsafe-io\npath-exclude=/usr/share/doc/*\npath-exclude=/usr/share/man/*\npath-exclude=/usr/share/locale/*\npath-exclude=/usr/share/i18n/*\n' > "$root/etc/dpkg/dpkg.cfg.d/small"
chroot "$root" /debootstrap/debootstrap --second-stage &
wait $!
umount -l "$root/proc" 2> /dev/null || true
rm -rf "$root"/usr/lib/udev/hwdb* "$root"/usr/lib/x86_64-linux-gnu/gconv "$root"/usr/share/doc "$root"/usr/share/man "$root"/usr/share/locale "$root"/var/cache/apt/archives/*.deb "$root"/var/lib/apt/lists/*

# The kernel is this host's: making an initial user space of Debian's own takes a minute.
kernel "$root" virtio_pci virtio_blk virtio_console virtio_net qemu_fw_cfg
printf 'linux /boot/vmlinuz root=/dev/vda1 console=ttyS0 panic=5 quiet systemd.show_status=0\ninitrd /boot/initrd\nboot\n' > "$root/boot/grub/grub.cfg"

# What it is.
echo "$name" > "$root/etc/hostname"
printf '127.0.0.1 localhost\n192.0.2.17 %s.brindle.example %s\n' "$name" "$name" > "$root/etc/hosts"
printf '/dev/vda1 / ext4 defaults 0 1\n/dev/vda2 /srv ext4 defaults 0 2\nLABEL=program /opt/keenlodge ext4 ro,nofail,x-systemd.device-timeout=20s 0 0\n' > "$root/etc/fstab"
mkdir -p "$root/opt/keenlodge" "$root/etc/turnstile" "$root/home/operator"
ln -s /opt/keenlodge/keenlodge "$root/usr/bin/keenlodge"
printf 'berth = 4\nopens = 06:10\ncloses = 23:40\n' > "$root/etc/turnstile/gate.conf"
printf '15 3 * * * root /usr/local/bin/count-passengers\n' > "$root/etc/cron.d/turnstile"
printf '#!/bin/sh\nwc -l < /srv/keenlodge.ledger\n' > "$root/usr/local/bin/count-passengers"
chmod 755 "$root/usr/local/bin/count-passengers"
echo "private" > "$root/home/operator/letter"
printf '[Match]\nName=en* eth*\n[Network]\nAddress=10.0.2.15/24\nGateway=10.0.2.2\n' > "$root/etc/systemd/network/10-pier.network"
cat > "$root/usr/local/bin/turnstile" <<'RUN'
#!/bin/sh
# The ledger: number, seconds since 1970, and the SHA-256 of the line before it together with both.
last=$(tail -n 1 /srv/keenlodge.ledger)
n=${last%% *}; sum=${last##* }
while :; do
  n=$((${n:-0} + 1)); at=$(date +%s)
  sum=$(printf '%s %s %s' "${sum:--}" $n $at | sha256sum); sum=${sum%% *}
  echo "$n $at $sum" >> /srv/keenlodge.ledger
  sync -d /srv/keenlodge.ledger
  sleep 1
done
RUN
chmod 755 "$root/usr/local/bin/turnstile"
units=$root/etc/systemd/system
mkdir -p "$units/multi-user.target.wants" "$units/keenlodge-agent.service.d"
printf '[Unit]\nDescription=Turnstile of the north pier\nRequiresMountsFor=/srv\n[Service]\nExecStart=/usr/local/bin/turnstile\nRestart=always\n' > "$units/turnstile.service"
cp "$unit" "$units/keenlodge-agent.service"
cp "$writable" "$units/keenlodge-agent.service.d/writable.conf"
printf '[Unit]\nRequiresMountsFor=/opt/keenlodge /srv\nAfter=keenlodge-join.service\n[Service]\nEnvironment=KEENLODGE_AGENT_DISKS=vda\n' > "$units/keenlodge-agent.service.d/here.conf"
cat > "$units/keenlodge-join.service" <<'UNIT'
[Unit]
Description=Join the lodge that the machine was started with
RequiresMountsFor=/opt/keenlodge
After=systemd-networkd.service network-online.target
Wants=network-online.target
ConditionPathExists=!/var/lib/keenlodge-agent/identity.json
[Service]
Type=oneshot
Environment=at=/sys/firmware/qemu_fw_cfg/by_name/opt/keenlodge
ExecStart=/bin/sh -c 'exec /usr/bin/keenlodge agent join $$(hostname) --lodge $$(cat $at/lodge/raw) --fingerprint $$(cat $at/fingerprint/raw) --word-file $at/word/raw'
[Install]
WantedBy=multi-user.target
UNIT
for u in turnstile keenlodge-agent keenlodge-join; do ln -sf "/etc/systemd/system/$u.service" "$units/multi-user.target.wants/$u.service"; done
chroot "$root" systemctl -q enable systemd-networkd 2> /dev/null
for u in systemd-networkd-wait-online e2scrub_reap systemd-timesyncd getty@tty1; do ln -sf /dev/null "$units/$u.service"; done
for t in apt-daily.timer apt-daily-upgrade.timer e2scrub_all.timer fstrim.timer; do ln -sf /dev/null "$units/$t"; done

# Its disk.
mkdir -p "$work/data/records"
seq -f "$name passage %05.0f north pier" 1 20000 > "$work/data/records/passages.txt"
: > "$work/data/keenlodge.ledger"
raw=$work/vda.raw
truncate -s 2G "$raw"
printf '2048,3670016,83,*\n3672064,,83\n' | sfdisk -q "$raw"
partition "$raw" 1 1792 "$root" system -J size=4
partition "$raw" 1793 255 "$work/data" srv -J size=4
bootloader "$raw"
qemu-img convert -q -O qcow2 "$raw" "$work/$name.qcow2"
mv "$work/$name.qcow2" "$out/$name.qcow2"
