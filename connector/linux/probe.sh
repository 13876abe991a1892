# Prints what a Linux machine tells of itself, for a reader elsewhere. It only looks: nothing is written, not even a temporary file.
# Each line is a name, a NUL, and a text:
#   /PATH   a line of the file          @/PATH  where the symbolic link leads; nothing where it leads nowhere or may not be seen
#   +/PATH  the name is there           !/PATH  it is there and may not be seen
#   $NAME   a line that a command printed    ?NAME  what it said when it failed
#   =WORD   what is said about the probe itself; the last line is =end
LC_ALL=C PATH=$PATH:/usr/sbin:/sbin
export LC_ALL PATH

show() { grep -asZH -d skip '' "$@" </dev/null; }
denied() { for f in "$@"; do [ -e "$f" ] && [ ! -r "$f" ] && printf '!%s\0\n' "$f"; done; }
names() { for f in "$@"; do if [ -e "$f" ] || [ -L "$f" ]; then printf '+%s\0\n' "$f"; fi; done; }
ask() {
	name=$1
	shift
	command -v "$1" >/dev/null 2>&1 || return 0
	if out=$("$@" 2>/dev/null </dev/null); then
		printf '+$%s\0\n' "$name"
		printf '%s\n' "$out" | grep -aZH --label="\$$name" ''
	else
		printf '?%s\0%s\n' "$name" "$("$@" 2>&1 >/dev/null </dev/null | head -n 1)"
	fi
}

printf '=probe\0\n'

show /proc/sys/kernel/osrelease /proc/sys/kernel/random/boot_id /proc/uptime /proc/meminfo /proc/cpuinfo /proc/cmdline \
	/etc/os-release /usr/lib/os-release /etc/resolv.conf /run/systemd/resolve/resolv.conf \
	/etc/chrony/chrony.conf /etc/chrony.conf /etc/ntp.conf /etc/ntpsec/ntp.conf /etc/systemd/timesyncd.conf /etc/chrony/sources.d/*.sources
find /etc/localtime -printf '@%p\0%l\n' 2>/dev/null
names /boot/vmlinuz-* /etc/systemd/system/*.wants/*.service

show /sys/bus/pci/devices/*/uevent /sys/bus/pci/devices/*/vendor /sys/bus/pci/devices/*/device /sys/module/*/version \
	/sys/class/dmi/id/bios_version /sys/class/dmi/id/ec_firmware_release /sys/class/dmi/id/sys_vendor /sys/class/dmi/id/product_name /sys/class/dmi/id/product_serial \
	/sys/class/nvme/*/model /sys/class/nvme/*/firmware_rev /sys/block/sd*/device/model /sys/block/sd*/device/rev \
	/sys/class/infiniband/*/board_id /sys/class/infiniband/*/fw_ver /sys/class/net/*/bridge/bridge_id /sys/class/net/*/device/uevent
for f in /sys/class/net/*/device/uevent; do
	if [ -e "$f" ]; then
		i=${f#/sys/class/net/}
		i=${i%%/*}
		ask "ethtool -i $i" ethtool -i "$i"
	fi
done

grep -asZHE '^(Package|Status|Architecture|Version|Source):|^$' /var/lib/dpkg/status
denied /var/lib/dpkg/status /sys/class/dmi/id/product_serial
ask 'rpm -qa' rpm -qa --qf '%{NAME}\t%{EPOCHNUM}\t%{VERSION}\t%{RELEASE}\t%{ARCH}\n'
ask 'nft list ruleset' nft list ruleset
ask 'iptables -S INPUT' iptables -S INPUT

find /proc -maxdepth 2 -regex '/proc/[0-9]+/exe' -printf '@%p\0%l\n' 2>/dev/null
find /proc -maxdepth 2 -regex '/proc/[0-9]+/exe' -printf '%l' 2>&1 >/dev/null | sed -n "s/^find: '\(.*\)': Permission denied\$/\1/p" |
	while read -r f; do printf '!%s\0\n' "$f"; done
show /proc/[0-9]*/cgroup
grep -asZH '(deleted)$' /proc/[0-9]*/maps
for d in /proc/[0-9]*; do
	read -r comm 2>/dev/null <"$d/comm" || continue
	case $comm in qemu-*) tr '\0' '\n' 2>/dev/null <"$d/cmdline" | grep -asZH --label="$d/cmdline" '' ;; esac
done

gone=$({
	find /proc -maxdepth 2 -regex '/proc/[0-9]+/exe' -printf '%l\n' 2>/dev/null | sed -n 's/ (deleted)$//p'
	grep -ash '(deleted)$' /proc/[0-9]*/maps | awk '$2 ~ /x/ { print $6 }'
} | sort -u)
if [ -n "$gone" ]; then
	printf '%s\n' "$gone" | sed 'p; s|^/usr/|/|; t; s|^|/usr|' | grep -asZHxF -f - /var/lib/dpkg/info/*.list
	printf '%s\n' "$gone" | while read -r f; do ask "rpm -qf $f" rpm -qf --qf '%{NAME}\n' "$f"; done
fi

printf '=end\0\n'
